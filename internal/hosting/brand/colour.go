// Package brand decides what a reseller's brand may look like: colours that can be read, and logos
// that do nothing but be seen.
package brand

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Colour is an sRGB colour.
type Colour struct{ R, G, B uint8 }

var hex = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// ParseColour reads #rrggbb.
func ParseColour(text string) (Colour, bool) {
	if !hex.MatchString(text) {
		return Colour{}, false
	}
	n, err := strconv.ParseUint(text[1:], 16, 32)
	return Colour{uint8(n >> 16), uint8(n >> 8), uint8(n)}, err == nil
}

// String writes #rrggbb.
func (c Colour) String() string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// luminance is the relative luminance (WCAG 2.2).
func (c Colour) luminance() float64 {
	linear := func(v uint8) float64 {
		s := float64(v) / 255
		if s <= 0.04045 {
			return s / 12.92
		}
		return math.Pow((s+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(c.R) + 0.7152*linear(c.G) + 0.0722*linear(c.B)
}

// Contrast is the contrast ratio of two colours, from 1 to 21 (WCAG 2.2).
func Contrast(a, b Colour) float64 {
	x, y := a.luminance(), b.luminance()
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// readable is the least contrast of text (WCAG 2.2, success criterion 1.4.3).
const readable = 4.5

// The console's papers and inks.
var (
	paper     = Colour{0xf4, 0xf1, 0xe9}
	darkPaper = Colour{0x14, 0x19, 0x1a}
	lightText = Colour{0xf7, 0xf3, 0xe8}
	darkText  = Colour{0x1c, 0x24, 0x22}
)

// OnBar returns the colour of text that can be read on a bar of that colour; ok is false where
// neither light nor dark text can.
func OnBar(bar Colour) (text Colour, ok bool) {
	text = lightText
	if Contrast(bar, darkText) > Contrast(bar, lightText) {
		text = darkText
	}
	return text, Contrast(bar, text) >= readable
}

// OnDark lightens an accent until it can be read on dark paper.
func OnDark(accent Colour) Colour {
	lighten := func(v uint8, by float64) uint8 { return uint8(math.Round(float64(v) + (255-float64(v))*by)) }
	for by := 0.0; by < 1; by += 0.02 {
		c := Colour{lighten(accent.R, by), lighten(accent.G, by), lighten(accent.B, by)}
		if Contrast(c, darkPaper) >= readable {
			return c
		}
	}
	return lightText
}

// CheckColours refuses colours with which the console could not be
// read. Empty ones are the console's own.
func CheckColours(bar, accent string) error {
	var wrong []refusal.Field
	if bar != "" {
		if c, ok := ParseColour(bar); !ok {
			wrong = append(wrong, refusal.Wrong("bar", "write a colour as #rrggbb, such as #1e2a2b"))
		} else if _, ok := OnBar(c); !ok {
			wrong = append(wrong, refusal.Wrong("bar", "neither light nor dark text can be read on %s; take a darker "+
				"or "+
				"a lighter one", strings.ToLower(bar)))
		}
	}
	if accent != "" {
		if c, ok := ParseColour(accent); !ok {
			wrong = append(wrong, refusal.Wrong("accent", "write a colour as #rrggbb, such as #96380f"))
		} else if ratio := Contrast(c, paper); ratio < readable {
			wrong = append(wrong, refusal.Wrong("accent", "%s on the console's paper has a contrast of %.1f to 1; "+
				"text needs "+
				"%.1f: take a darker one", strings.ToLower(accent), ratio, readable))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return refusal.New(refusal.InvalidInput, "the console could not be read in these colours").At(wrong)
}
