package httpapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// checkText refuses requests with control characters, or with what is no text at all, in their
// path, their query or their body: nothing here means anything by them, the database takes no NUL,
// and in a log or on a terminal they would do what they are for. Bodies may have line breaks and
// tabs. A body in JSON has been read when the next handler begins.
func checkText(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if f := wrongAddress(r.URL); f != nil {
			refuseText(w, r, f)
			return
		}
		kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
		if r.Body == nil || r.Body == http.NoBody || kind != "application/json" {
			next.ServeHTTP(w, r)
			return
		}
		body, err := readBody(w, r)
		switch {
		case err != nil:
			writeProblem(w, r, problem(malformed, cutBody))
			return
		case len(body) <= maxBody:
			if f := wrongText(body); f != nil {
				refuseText(w, r, f)
				return
			}
		}
		next.ServeHTTP(allRead{w}, r)
	})
}

const cutBody = "the request ended too early, or took too long"

// readBody reads what there is of a body, in the time that it may take, and puts it back.
func readBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	control := http.NewResponseController(w)
	limited := control.SetReadDeadline(time.Now().Add(bodyTime)) == nil
	body, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err == nil && limited {
		err = control.SetReadDeadline(time.Time{})
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return body, err
}

// endAfterChunks has a connection end with a request whose body came in
// chunks. Where such a request names a length as well, a proxy in front may
// take its body to end elsewhere (RFC 9112, section 6.3): what the proxy
// sends of somebody's request would be read here as one of somebody else's.
func endAfterChunks(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if len(r.TransferEncoding) > 0 {
			w.Header().Set("Connection", "close")
		}
		next.ServeHTTP(w, r)
	})
}

func refuseText(w http.ResponseWriter, r *http.Request, f *refusal.Field) {
	writeProblem(w, r,
		refused(refusal.New(refusal.InvalidInput, "the request has characters in it that cannot be used").
			At([]refusal.Field{*f})))
}

func wrong(name, format string, args ...any) *refusal.Field {
	f := refusal.Wrong(name, format, args...)
	return &f
}

// wrongAddress finds a control character in a path or a query.
func wrongAddress(u *url.URL) *refusal.Field {
	if at := controlIn(u.Path, ""); !at.IsZero() {
		return wrong("path", "%s", at)
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return wrong("query", "cannot be read: %s", err)
	}
	for name, values := range query {
		for _, text := range append(values, name) {
			if at := controlIn(text, ""); !at.IsZero() {
				return wrong(strings.ToValidUTF8(printable(name), "�"), "%s", at)
			}
		}
	}
	return nil
}

// wrongText finds a control character in the texts of a JSON body. What is no JSON is for others to
// refuse.
func wrongText(body []byte) *refusal.Field {
	if !utf8.Valid(body) {
		return wrong("body", "is not in UTF-8")
	}
	var v any
	if json.Unmarshal(body, &v) != nil {
		return nil
	}
	return wrongValue("", v, false)
}

// ofLines are the members of documents whose texts may have more than one line, with all that is in
// them. In others, a line break would make one entry of a list or a log look like two.
var ofLines = []string{"text", "notes", "postal", "footer", "reason", "why", "data", "settings", "certificate", "key",
	"root", "external_key", "keys", "add_keys", "remove_keys", "statement"}

func wrongValue(name string, v any, lines bool) *refusal.Field {
	switch v := v.(type) {
	case string:
		allowed := ""
		if lines {
			allowed = "\n\r\t"
		}
		// What surrounds a pasted text is left out by whoever reads it.
		if at := controlIn(strings.Trim(v, " \n\r\t"), allowed); !at.IsZero() {
			return wrong(name, "%s", at)
		}
	case []any:
		for n, item := range v {
			if f := wrongValue(fmt.Sprintf("%s[%d]", name, n), item, lines); f != nil {
				return f
			}
		}
	case map[string]any:
		for key, item := range v {
			inner := strings.TrimPrefix(name+"."+printable(key), ".")
			if at := controlIn(key, ""); !at.IsZero() {
				return wrong(inner, "%s", at)
			}
			if f := wrongValue(inner, item, lines || slices.Contains(ofLines, key)); f != nil {
				return f
			}
		}
	}
	return nil
}

// controlIn says which control character is in a text, but for those allowed.
func controlIn(text, allowed string) language.Text {
	if !utf8.ValidString(text) {
		return language.New("is not in UTF-8")
	}
	for _, r := range text {
		if (r == '\n' || r == '\r') && allowed == "" {
			return language.New("is one line, and has a line break in it")
		}
		if unicode.IsControl(r) && !strings.ContainsRune(allowed, r) {
			return language.New("has the control character %s in it", fmt.Sprintf("U+%04X", r))
		}
	}
	return language.Text{}
}

// printable shows control characters as what they are.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '�'
		}
		return r
	}, text)
}
