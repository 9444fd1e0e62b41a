package brand

import (
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Bounds of a logo.
const (
	MostBytes  = 256 << 10
	mostPixels = 2000
	mostNodes  = 5000
	mostDepth  = 40
)

// Logo checks an image and returns what may be kept of it, with its media
// type. What it is follows from its content, not from what it is called.
// An SVG document is written anew from what is known to be harmless.
func Logo(image []byte) (kept []byte, mediaType string, err error) {
	refuse := func(format string, args ...any) ([]byte, string, error) {
		return nil, "", refusal.Input("logo", format, args...)
	}
	switch {
	case len(image) == 0:
		return refuse("there is no image in the request")
	case len(image) > MostBytes:
		return refuse("a logo has at most 256 KiB; make it smaller, or take an SVG")
	}
	var width, height uint32
	switch {
	case bytes.HasPrefix(image, []byte("\x89PNG\r\n\x1a\n")):
		// PNG (ISO/IEC 15948), section 11.2.2: IHDR comes first.
		if len(image) < 33 || string(image[12:16]) != "IHDR" || !bytes.Contains(image, []byte("IEND")) {
			return refuse("the PNG image is not whole")
		}
		width, height = binary.BigEndian.Uint32(image[16:]), binary.BigEndian.Uint32(image[20:])
		mediaType = "image/png"
	case len(image) > 30 && string(image[:4]) == "RIFF" && string(image[8:12]) == "WEBP":
		var ok bool
		if width, height, ok = webp(image); !ok {
			return refuse("the WebP image is not whole")
		}
		mediaType = "image/webp"
	default:
		clean, err := cleanSVG(image)
		if err != nil {
			return refuse("%s; a logo is a PNG, WebP or SVG image", err)
		}
		return clean, "image/svg+xml", nil
	}
	if width == 0 || height == 0 || width > mostPixels || height > mostPixels {
		return refuse("the image has %d by %d pixels; a logo has at most %d to a side", width, height, mostPixels)
	}
	return image, mediaType, nil
}

// webp reads the size of an image (RFC 9649, sections 2.5 to 2.7).
func webp(image []byte) (width, height uint32, ok bool) {
	if int(binary.LittleEndian.Uint32(image[4:]))+8 > len(image)+1 {
		return 0, 0, false
	}
	switch string(image[12:16]) {
	case "VP8X":
		return 1 + u24(image[24:]), 1 + u24(image[27:]), true
	case "VP8L":
		bits := binary.LittleEndian.Uint32(image[21:])
		return 1 + bits&0x3fff, 1 + bits>>14&0x3fff, image[20] == 0x2f
	case "VP8 ":
		return uint32(binary.LittleEndian.Uint16(image[26:]) & 0x3fff),
			uint32(binary.LittleEndian.Uint16(image[28:]) & 0x3fff), true
	}
	return 0, 0, false
}

func u24(b []byte) uint32 { return uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16 }

// What an SVG logo may hold: shapes, their looks, and nothing that runs, loads or links.
var (
	svgElements = strings.Fields(`svg g defs symbol title desc path rect circle ellipse line polyline polygon text tspan
		linearGradient radialGradient stop clipPath mask use pattern`)
	svgAttributes = strings.Fields(`id viewBox width height x y x1 y1 x2 y2 cx cy r rx ry fx fy d points dx dy transform
		gradientTransform gradientUnits patternUnits patternTransform patternContentUnits clipPathUnits maskUnits spreadMethod offset preserveAspectRatio version
		fill fill-rule fill-opacity clip-rule clip-path mask stroke stroke-width stroke-linecap stroke-linejoin stroke-miterlimit stroke-dasharray
		stroke-dashoffset stroke-opacity opacity stop-color stop-opacity color font-family font-size font-weight font-style text-anchor
		letter-spacing role aria-label pathLength vector-effect`)
	// A value with a reference in it may name a part of the same document, nothing else.
	localReference = regexp.MustCompile(
		`^(url\(#[A-Za-z_][\w.-]*\)( (none|#?[A-Za-z0-9]+))?|[^()\\]*(\([-+0-9eE.,%\s]*\)[^()\\]*)*)$`)
	fragment = regexp.MustCompile(`^#[A-Za-z_][\w.-]*$`)
)

const svgSpace = "http://www.w3.org/2000/svg"

// cleanSVG writes an SVG document anew with what is known to be harmless.
func cleanSVG(text []byte) ([]byte, error) {
	decoder := xml.NewDecoder(bytes.NewReader(text))
	decoder.Strict = true
	var out bytes.Buffer
	var open []string
	nodes, skip, seen := 0, 0, false
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, language.Errorf("this is no image that can be read")
		}
		if nodes++; nodes > mostNodes || len(open) > mostDepth {
			return nil, language.Errorf("the drawing is too intricate for a logo")
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, language.Errorf("an SVG with a document type declaration is not taken; save it as plain SVG")
		case xml.StartElement:
			if len(open) == 0 && (t.Name.Local != "svg" || t.Name.Space != svgSpace || seen) {
				return nil, language.Errorf("this is no SVG document")
			}
			if skip > 0 || t.Name.Space != svgSpace || !slices.Contains(svgElements, t.Name.Local) {
				skip++
				continue
			}
			seen = true
			out.WriteByte('<')
			out.WriteString(t.Name.Local)
			if len(open) == 0 {
				out.WriteString(` xmlns="` + svgSpace + `"`)
			}
			for _, attr := range t.Attr {
				writeAttribute(&out, t.Name.Local, attr)
			}
			out.WriteByte('>')
			open = append(open, t.Name.Local)
		case xml.EndElement:
			if skip > 0 {
				skip--
				continue
			}
			open = open[:len(open)-1]
			out.WriteString("</" + t.Name.Local + ">")
		case xml.CharData:
			if skip == 0 && len(open) > 0 {
				if err := xml.EscapeText(&out, t); err != nil {
					return nil, err
				}
			}
		}
	}
	if !seen {
		return nil, language.Errorf("this is no image that can be read")
	}
	return out.Bytes(), nil
}

func writeAttribute(out *bytes.Buffer, element string, attr xml.Attr) {
	name, value := attr.Name.Local, attr.Value
	switch {
	case element == "use" && name == "href" &&
		(attr.Name.Space == "" || attr.Name.Space == "http://www.w3.org/1999/xlink"):
		if !fragment.MatchString(value) {
			return
		}
	case attr.Name.Space != "" || !slices.Contains(svgAttributes, name):
		return
	case name != "aria-label" && !localReference.MatchString(value):
		return
	}
	out.WriteString(" " + name + `="`)
	xml.EscapeText(out, []byte(value)) // a buffer does not fail
	out.WriteByte('"')
}
