package mail

import (
	"bufio"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"path"
	"regexp"
	"slices"
	"strings"
)

// ExtensionForm is what the end of a file's name looks like that attachments must not have.
var ExtensionForm = regexp.MustCompile(`^[a-z0-9_]{1,10}$`)

// deepestPart bounds how deeply parts of a message may lie in each other.
const deepestPart = 20

// ForbiddenAttachment returns the name of the first attachment of a message whose name ends with
// one of the extensions, in lower case and without the dot; empty is none. What cannot be read as a
// message with parts has no attachments.
func ForbiddenAttachment(message io.Reader, extensions []string) string {
	if len(extensions) == 0 {
		return ""
	}
	return forbiddenIn(message, extensions, 0)
}

// forbiddenIn looks into a message, or a message within one.
func forbiddenIn(message io.Reader, extensions []string, depth int) string {
	in := bufio.NewReader(message)
	header, err := textproto.NewReader(in).ReadMIMEHeader()
	if err != nil {
		return ""
	}
	return forbiddenPart(header, in, extensions, depth)
}

func forbiddenPart(header textproto.MIMEHeader, body io.Reader, extensions []string, depth int) string {
	for _, name := range attachmentNames(header) {
		if slices.Contains(extensions, extensionOf(name)) {
			return name
		}
	}
	kind, params, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil || depth == deepestPart {
		return ""
	}
	switch {
	case kind == "message/rfc822":
		return forbiddenIn(body, extensions, depth+1)
	case strings.HasPrefix(kind, "multipart/") && params["boundary"] != "":
		parts := multipart.NewReader(body, params["boundary"])
		for {
			part, err := parts.NextRawPart()
			if err != nil {
				return ""
			}
			if name := forbiddenPart(part.Header, part, extensions, depth+1); name != "" {
				return name
			}
		}
	}
	return ""
}

// attachmentNames are the names that programs may store a part under.
func attachmentNames(header textproto.MIMEHeader) []string {
	var list []string
	for _, f := range []struct{ field, param string }{{"Content-Disposition", "filename"}, {"Content-Type", "name"}} {
		value := header.Get(f.field)
		_, params, err := mime.ParseMediaType(value)
		name := params[f.param]
		if err != nil {
			// Programs make something even of what cannot be read.
			if _, after, has := strings.Cut(strings.ToLower(value), f.param); has {
				name = strings.Trim(strings.TrimLeft(after, "*= \t"), "\"'; \t")
			}
		}
		if decoded, err := new(mime.WordDecoder).DecodeHeader(name); err == nil {
			name = decoded
		}
		if name != "" {
			list = append(list, name)
		}
	}
	return list
}

// extensionOf is what a name ends with, as file systems see it that ignore dots and spaces after
// it.
func extensionOf(name string) string {
	name = strings.TrimRight(strings.ToLower(name), ". \t\x00")
	return strings.TrimPrefix(path.Ext(name), ".")
}
