// Package qr draws QR codes (ISO/IEC 18004), for browsers and for terminals.
package qr

import (
	"fmt"
	"strings"

	"rsc.io/qr"
)

// quiet is the margin that readers need (ISO/IEC 18004, section 6.3.8), in modules.
const quiet = 4

// SVG draws a text as an SVG document of dark modules on a light ground.
func SVG(text string) (string, error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return "", err
	}
	var path strings.Builder
	for y := range code.Size {
		for x := 0; x < code.Size; x++ {
			if !code.Black(x, y) {
				continue
			}
			from := x
			for x+1 < code.Size && code.Black(x+1, y) {
				x++
			}
			fmt.Fprintf(&path, "M%d %dh%dv1h-%dz", from+quiet, y+quiet, x-from+1, x-from+1)
		}
	}
	size := code.Size + 2*quiet
	return fmt.Sprintf(
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" shape-rendering="crispEdges"><rect width="%d" height="%d" fill="#fff"/><path fill="#000" d="%s"/></svg>`,
		size, size, size, size, path.String()), nil
}

// Blocks draws a text with half blocks, two rows of modules to a line,
// light on dark as terminals are.
func Blocks(text string) (string, error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return "", err
	}
	light := func(x, y int) bool { return !code.Black(x, y) } // outside is light, too
	var b strings.Builder
	for y := -2; y < code.Size+2; y += 2 {
		for x := -2; x < code.Size+2; x++ {
			switch top, bottom := light(x, y), light(x, y+1); {
			case top && bottom:
				b.WriteRune('█')
			case top:
				b.WriteRune('▀')
			case bottom:
				b.WriteRune('▄')
			default:
				b.WriteRune(' ')
			}
		}
		b.WriteByte('\n')
	}
	return b.String(), nil
}
