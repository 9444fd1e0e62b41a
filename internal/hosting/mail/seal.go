package mail

import (
	"bufio"
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// HeaderField is a field of a header as it is on its way, its value without the line end.
type HeaderField struct{ Name, Value string }

// Seal is what a server that passes a message on adds to it, so that the next one can see what this
// one found out before it changed the message or its sender: an ARC set (RFC 8617).
type Seal struct {
	// Domain and Selector name the key, as for signatures of messages.
	Domain, Selector string
	Key              *rsa.PrivateKey
	// Server is the name under which results were written into the message.
	Server string
}

// mostSeals is the most sets that a message may have (RFC 8617, section 4.2.1).
const mostSeals = 50

// fields of a set, in the order in which the seal covers them (RFC 8617, section 5.1.1).
const (
	arcResults   = "ARC-Authentication-Results"
	arcSignature = "ARC-Message-Signature"
	arcSeal      = "ARC-Seal"
)

// sealedFields are those that the signature of a set covers, if they are there.
var sealedFields = []string{"From", "To", "Cc", "Subject", "Date", "Message-ID", "Reply-To", "In-Reply-To",
	"References", "MIME-Version", "Content-Type", "Content-Transfer-Encoding", "DKIM-Signature", "List-Id"}

var instanceTag = regexp.MustCompile(`(?:^|;)\s*i\s*=\s*(\d{1,3})\s*(?:;|$)`)

// Fields returns what is to be put before the header of a message, the first one first: nothing
// where the chain of sets that the message has cannot be continued.
func (s Seal) Fields(header []HeaderField, body io.Reader, now time.Time) ([]HeaderField, error) {
	chain, n, whole := arcChain(header)
	if !whole || n >= mostSeals {
		return nil, nil
	}
	results, arc := s.results(header)
	validity := "none"
	if n > 0 {
		if validity = "fail"; arc == "pass" {
			validity = "pass"
		}
	}
	hash, err := relaxedBodyHash(body)
	if err != nil {
		return nil, err
	}
	instance := strconv.Itoa(n + 1)
	set := []HeaderField{{arcResults, "i=" + instance + "; " + results}}

	var names []string
	var signed bytes.Buffer
	used := map[string]int{}
	for _, name := range sealedFields {
		// From the last one on (RFC 6376, section 5.4.2).
		for at := len(header) - 1; at >= 0; at-- {
			if strings.EqualFold(header[at].Name, name) {
				names = append(names, strings.ToLower(name))
				signed.WriteString(relaxedField(header[at]) + "\r\n")
				used[name]++
			}
		}
	}
	signature := HeaderField{arcSignature, fmt.Sprintf("i=%s; a=rsa-sha256; c=relaxed/relaxed; d=%s; s=%s; t=%d;\r\n"+
		"\th=%s;\r\n\tbh=%s;\r\n\tb=", instance, s.Domain, s.Selector, now.Unix(), strings.Join(names, ":"), hash)}
	signed.WriteString(relaxedField(signature))
	if signature.Value, err = s.sign(signature.Value, signed.Bytes()); err != nil {
		return nil, err
	}
	set = append(set, signature)

	seal := HeaderField{arcSeal, fmt.Sprintf("i=%s; a=rsa-sha256; cv=%s; d=%s; s=%s; t=%d;\r\n\tb=", instance, validity,
		s.Domain, s.Selector, now.Unix())}
	var sealed bytes.Buffer
	if validity != "fail" { // else only what this server adds (RFC 8617, section 5.1.2)
		for _, f := range chain {
			sealed.WriteString(relaxedField(f) + "\r\n")
		}
	}
	for _, f := range set {
		sealed.WriteString(relaxedField(f) + "\r\n")
	}
	sealed.WriteString(relaxedField(seal))
	if seal.Value, err = s.sign(seal.Value, sealed.Bytes()); err != nil {
		return nil, err
	}
	return []HeaderField{seal, signature, set[0]}, nil
}

// results are what this server wrote into the message when it came, and what it found of earlier
// sets.
func (s Seal) results(header []HeaderField) (text, arc string) {
	for _, h := range header {
		if !strings.EqualFold(h.Name, ResultsField) {
			continue
		}
		value := strings.Join(strings.Fields(h.Value), " ")
		if !strings.HasPrefix(value, s.Server+"; ") {
			continue
		}
		for part := range strings.SplitSeq(value, "; ") {
			if result, is := strings.CutPrefix(part, "arc="); is {
				arc, _, _ = strings.Cut(result, " ")
			}
		}
		return value, arc
	}
	return s.Server + "; none", ""
}

// sign appends a signature to a field that ends with an empty one.
func (s Seal) sign(value string, text []byte) (string, error) {
	digest := sha256.Sum256(text)
	signature, err := rsa.SignPKCS1v15(nil, s.Key, crypto.SHA256, digest[:])
	if err != nil {
		return "", err
	}
	return value + foldBase64(base64.StdEncoding.EncodeToString(signature)), nil
}

func foldBase64(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i += 72 {
		if i > 0 {
			out.WriteString("\r\n\t ")
		}
		out.WriteString(text[i:min(len(text), i+72)])
	}
	return out.String()
}

// arcChain are the fields of the sets that a message has, in the order in which a seal covers them,
// and how many sets there are; whole is false where one of them is not complete.
func arcChain(header []HeaderField) (chain []HeaderField, n int, whole bool) {
	sets := map[int]map[string]HeaderField{}
	for _, h := range header {
		at := slices.IndexFunc([]string{arcResults, arcSignature, arcSeal},
			func(name string) bool { return strings.EqualFold(h.Name, name) })
		if at < 0 {
			continue
		}
		found := instanceTag.FindStringSubmatch(strings.Join(strings.Fields(h.Value), " "))
		if found == nil {
			return nil, 0, false
		}
		i, err := strconv.Atoi(found[1])
		name := []string{arcResults, arcSignature, arcSeal}[at]
		if sets[i] == nil {
			sets[i] = map[string]HeaderField{}
		}
		if _, twice := sets[i][name]; twice || err != nil || i < 1 {
			return nil, 0, false
		}
		sets[i][name] = h
		n = max(n, i)
	}
	for i := 1; i <= n; i++ {
		for _, name := range []string{arcResults, arcSignature, arcSeal} {
			f, has := sets[i][name]
			if !has {
				return nil, n, false
			}
			chain = append(chain, f)
		}
	}
	return chain, n, true
}

// relaxedField is a field in the form that is signed (RFC 6376, section 3.4.2).
func relaxedField(f HeaderField) string {
	return strings.ToLower(strings.TrimRight(f.Name, " \t")) + ":" + strings.Join(strings.FieldsFunc(f.Value,
		func(r rune) bool { return r == ' ' || r == '\t' || r == '\r' || r == '\n' }), " ")
}

// relaxedBodyHash is the hash of a body, whose lines end with CRLF, in the form that is signed (RFC
// 6376, section 3.4.4), in base 64.
func relaxedBodyHash(body io.Reader) (string, error) {
	hash := sha256.New()
	out := bufio.NewWriter(hash)
	form := relaxedBody{out: out}
	if _, err := io.Copy(&form, body); err != nil {
		return "", err
	}
	if form.begun {
		_, _ = form.Write([]byte{'\n'}) // the last line has no end
	}
	if err := out.Flush(); err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(hash.Sum(nil)), nil
}

// relaxedBody writes a body in relaxed form: spaces within a line become one, those before its end
// and empty lines at the end go.
type relaxedBody struct {
	out   *bufio.Writer
	begun bool // the line has something that is no space
	space bool // a space waits for something that follows it
	empty int  // lines that wait for one that is not empty
}

func (r *relaxedBody) Write(p []byte) (int, error) {
	for _, c := range p {
		switch {
		case c == '\r': // with the \n that follows
		case c == '\n' && r.begun:
			_, _ = r.out.WriteString("\r\n") // errors stay with the writer until it is flushed
			r.begun, r.space = false, false
		case c == '\n':
			r.empty++
			r.space = false
		case c == ' ' || c == '\t':
			r.space = true
		default:
			for ; r.empty > 0; r.empty-- {
				_, _ = r.out.WriteString("\r\n")
			}
			if r.space {
				_ = r.out.WriteByte(' ')
			}
			_ = r.out.WriteByte(c)
			r.begun, r.space = true, false
		}
	}
	return len(p), nil
}
