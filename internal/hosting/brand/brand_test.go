package brand

import (
	"bytes"
	"encoding/xml"
	"image"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/refusal"
)

func TestContrast(t *testing.T) {
	assert.InDelta(t, 21, Contrast(Colour{0, 0, 0}, Colour{255, 255, 255}), 0.001)
	assert.InDelta(t, 4.54, Contrast(Colour{0x76, 0x76, 0x76}, Colour{255, 255, 255}), 0.01)
	assert.NoError(t, CheckColours("", ""))
	assert.NoError(t, CheckColours("#1E2A2B", "#96380f"))
	assert.NoError(t, CheckColours("#ffe9c0", ""), "a light bar gets dark text")
	for field, c := range map[string][2]string{"bar": {"#777777", ""}, "accent": {"", "#f2986a"}} {
		r := refusal.As(CheckColours(c[0], c[1]))
		require.NotNil(t, r, field)
		assert.Equal(t, field, r.Fields[0].Name)
	}
	assert.Len(t, refusal.As(CheckColours("red", "url(x)")).Fields, 2)
	rapid.Check(t, func(t *rapid.T) {
		accent := Colour{rapid.Byte().Draw(t, "r"), rapid.Byte().Draw(t, "g"), rapid.Byte().Draw(t, "b")}
		if c := OnDark(accent); Contrast(c, darkPaper) < readable {
			t.Fatalf("%s cannot be read on dark paper", c)
		}
		back, ok := ParseColour(accent.String())
		assert.True(t, ok)
		assert.Equal(t, accent, back)
	})
}

func TestLogos(t *testing.T) {
	draw := func(w, h int) []byte {
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, w, h))))
		return b.Bytes()
	}
	kept, mediaType, err := Logo(draw(200, 60))
	require.NoError(t, err)
	assert.Equal(t, "image/png", mediaType)
	assert.Equal(t, draw(200, 60), kept)
	webp := []byte(
		"RIFF\x1a\x00\x00\x00WEBPVP8L\x0d\x00\x00\x00\x2f\xc7\x80\x0e\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	_, mediaType, err = Logo(webp)
	require.NoError(t, err)
	assert.Equal(t, "image/webp", mediaType)
	for what, bad := range map[string][]byte{
		"at most 256 KiB":  bytes.Repeat([]byte("a"), MostBytes+1),
		"no image in":      nil,
		"not whole":        draw(20, 20)[:30],
		"at most 2000":     draw(2001, 1),
		"PNG, WebP or SVG": []byte("GIF89a..."),
		"no SVG document":  []byte(`<html xmlns="http://www.w3.org/1999/xhtml"/>`),
		"document type": []byte(
			`<!DOCTYPE svg [<!ENTITY a "aaaa">]><svg xmlns="http://www.w3.org/2000/svg"><title>&a;</title></svg>`),
		"too intricate": []byte(`<svg xmlns="http://www.w3.org/2000/svg">` +
			strings.Repeat("<g>", 60) + strings.Repeat("</g>", 60) + `</svg>`),
	} {
		_, _, err := Logo(bad)
		assert.ErrorContains(t, err, what)
		assert.True(t, refusal.Is(err, refusal.InvalidInput), what)
	}
}

const hostile = `<?xml version="1.0"?><?xml-stylesheet href="http://a.example/x.css"?>
<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 10 10" onload="steal()" style="background:url(http://a.example)">
<script>steal()</script><style>@import "http://a.example"</style><foreignObject><body xmlns="http://www.w3.org/1999/xhtml"><script>steal()</script></body></foreignObject>
<image href="http://a.example/x.png"/><a href="javascript:steal()"><path d="M0 0h9"/></a><animate attributeName="href" to="javascript:steal()"/>
<defs><linearGradient id="g"><stop offset="0" stop-color="#fff"/></linearGradient></defs>
<rect width="4" height="4" fill="url(#g)" onclick="steal()"/><rect width="4" height="4" fill="url(http://a.example/#g)"/><rect width="1" fill="URL(&#x22;//a.example&#x22;)"/>
<use xlink:href="#g"/><use href="http://a.example/x.svg#y"/><text x="1" y="2" transform="rotate(30, 1,2)">5 &lt; 6 &amp; "q"</text><set attributeName="onclick" to="steal()"/></svg>`

func TestSVGIsMadeSafe(t *testing.T) {
	kept, mediaType, err := Logo([]byte(hostile))
	require.NoError(t, err)
	assert.Equal(t, "image/svg+xml", mediaType)
	text := string(kept)
	for _, bad := range []string{"script", "steal", "a.example", "style", "foreign", "image", "javascript", "animate",
		"onload", "onclick", "<set", "<a"} {
		assert.NotContains(t, text, bad)
	}
	for _, good := range []string{`viewBox="0 0 10 10"`, `fill="url(#g)"`, `<stop offset="0" stop-color="#fff">`,
		`<use href="#g">`, `5 &lt; 6 &amp; `, `rotate(30, 1,2)`} {
		assert.Contains(t, text, good)
	}
	again, _, err := Logo(kept)
	require.NoError(t, err)
	assert.Equal(t, text, string(again), "what is clean stays")
}

// Whatever comes in, what comes out is well-formed and holds nothing but what is allowed.
func FuzzSVG(f *testing.F) {
	f.Add(hostile)
	f.Add(`<svg xmlns="http://www.w3.org/2000/svg"><g id="a]]>"><title><![CDATA[<script>]]></title></g></svg>`)
	f.Fuzz(func(t *testing.T, text string) {
		kept, err := cleanSVG([]byte(text))
		if err != nil {
			return
		}
		decoder := xml.NewDecoder(bytes.NewReader(kept))
		for {
			token, err := decoder.Token()
			if err == io.EOF {
				return
			}
			require.NoError(t, err, "%s", kept)
			if start, is := token.(xml.StartElement); is {
				assert.Contains(t, svgElements, start.Name.Local)
				for _, a := range start.Attr {
					if a.Name.Local == "xmlns" {
						continue
					}
					if a.Name.Local == "href" {
						assert.Regexp(t, `^#`, a.Value)
						continue
					}
					assert.Contains(t, svgAttributes, a.Name.Local)
					if a.Name.Local != "aria-label" {
						assert.NotContains(t, strings.ReplaceAll(strings.ToLower(a.Value), "url(#", ""), "url(")
					}
				}
			}
		}
	})
}
