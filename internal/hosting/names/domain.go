// Package names decides about the names customers bring and get: domains and
// sign-in names.
package names

import (
	"net/netip"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Bounds of RFC 1035, section 2.3.4. A domain stays 4 octets below the
// protocol's 253 so that the name with "www." before it fits as well.
const (
	MaxDomain = 253 - len("www.")
	MaxLabel  = 63
)

// Domain is a host name that can be served: lower-case A-labels (RFC 5890,
// section 2.3.2.1) without a trailing dot, at least two labels, below a public
// suffix. The zero value is not a domain; make one with [ParseDomain].
type Domain struct{ ascii string }

// String returns the A-label form, as name servers and web servers know it.
func (d Domain) String() string { return d.ascii }

// Unicode returns the form people read (U-labels).
func (d Domain) Unicode() string {
	u, err := idna.Display.ToUnicode(d.ascii)
	if err != nil {
		return d.ascii
	}
	return u
}

// Registrable returns the name as sold by a registry: one label below the
// public suffix. For shop.ferries.example it is ferries.example.
func (d Domain) Registrable() string {
	r, err := publicsuffix.EffectiveTLDPlusOne(d.ascii)
	if err != nil {
		return d.ascii
	}
	return r
}

// Above returns the names above d, nearest first, up to its registrable name.
func (d Domain) Above() []string {
	var above []string
	registrable := d.Registrable()
	for name := d.ascii; name != registrable; {
		_, rest, found := strings.Cut(name, ".")
		if !found {
			break
		}
		name = rest
		above = append(above, name)
	}
	return above
}

// special are names that are no one's to register (RFC 6761, RFC 6762, RFC 7686, RFC 8375, RFC
// 9476, and arpa with all reverse names, RFC 3172). Those for trying things out, example and test,
// are not among them: they lead nobody anywhere.
var special = []string{"arpa", "localhost", "invalid", "local", "onion", "internal", "alt"}

// Special reports whether a name belongs to nobody: whoever serves it takes it from the network, or
// from what computers take for their own.
func (d Domain) Special() bool {
	return slices.Contains(special, d.ascii[strings.LastIndexByte(d.ascii, '.')+1:])
}

// MarshalText and UnmarshalText keep domains as their A-label form in JSON.
func (d Domain) MarshalText() ([]byte, error) { return []byte(d.ascii), nil }

// UnmarshalText accepts only what [ParseDomain] would leave as it is.
func (d *Domain) UnmarshalText(text []byte) error {
	parsed, corrections, err := ParseDomain(string(text))
	if err != nil {
		return err
	}
	if len(corrections) > 0 {
		return refusal.Input("domain", "%q is not in its final form (%s)", text, parsed)
	}
	*d = parsed
	return nil
}

// ParseDomain reads a domain as people type it and puts right what has only
// one meaning: a scheme, a port, a path, a leading "www.", a trailing dot, capitals,
// full-width characters and international names. Each correction is told in
// words. What cannot be a domain is refused with the reason.
func ParseDomain(typed string) (Domain, []language.Text, error) {
	var corrections []language.Text
	name := strings.TrimSpace(typed)
	refuse := func(format string, args ...any) (Domain, []language.Text, error) {
		return Domain{}, nil, refusal.Input("domain", format, args...)
	}
	if len(name) > 2048 {
		return refuse("that is far too long for a domain; at most %d characters are possible", MaxDomain)
	}
	if !utf8.ValidString(name) || strings.ContainsRune(name, utf8.RuneError) {
		return refuse("the name holds bytes that are no letters; type it again")
	}
	if scheme, rest, found := strings.Cut(name, "://"); found {
		name = rest
		corrections = append(corrections, language.New("left out “%s://”", scheme))
	}
	if i := strings.IndexAny(name, "/?#"); i >= 0 {
		if name[i:] != "/" || len(corrections) == 0 {
			corrections = append(corrections, language.New("left out the path “%s”", name[i:]))
		}
		name = name[:i]
	}
	if strings.Contains(name, "@") {
		return refuse("%q looks like a mail address; give the domain alone, the part after the @", typed)
	}
	if addr, err := netip.ParseAddr(strings.Trim(name, "[]")); err == nil {
		return refuse("%s is an address, not a domain; give a name such as ferries.example", addr)
	}
	if host, port, found := strings.Cut(name, ":"); found {
		if strings.Trim(port, "0123456789") != "" {
			return refuse("%q is not a domain; a colon cannot be part of one", typed)
		}
		name = host
		corrections = append(corrections, language.New("left out the port “:%s”", port))
	}
	if strings.HasSuffix(name, ".") {
		name = strings.TrimSuffix(name, ".")
		corrections = append(corrections, language.New("left out the dot at the end"))
	}
	if name == "" {
		return refuse("a domain is needed, such as ferries.example")
	}
	if i := strings.IndexFunc(name, unicode.IsSpace); i >= 0 {
		return refuse("%q has a space in it; a domain has none", typed)
	}
	if strings.Contains(name, "*") {
		return refuse("%q has a wildcard; give the domain itself", typed)
	}
	if strings.Contains(name, "..") || strings.HasPrefix(name, ".") {
		return refuse("%q has an empty part between two dots", typed)
	}
	for _, r := range name {
		if r < unicode.MaxASCII && r != '-' && r != '.' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return refuse("%q cannot be part of a domain; letters, digits and hyphens can", string(r))
		}
	}
	ascii, err := idna.Lookup.ToASCII(name)
	if err != nil {
		return refuse("%q is not a valid international domain name: %s", typed, idnaReason(err))
	}
	if lower := strings.ToLower(name); lower != name {
		corrections = append(corrections, language.New("written in lower case"))
	}
	if international := ascii != strings.ToLower(name); international {
		corrections = append(corrections, language.New("in DNS it is %s", ascii))
	}
	if rest, found := strings.CutPrefix(ascii, "www."); found && strings.Contains(rest, ".") {
		ascii = rest
		corrections = append(corrections, language.New("left out “www.”: the site answers with and without it"))
	}
	return checkDomain(ascii, corrections)
}

// checkDomain holds a name of A-labels against RFC 1123, section 2.1, and the
// list of public suffixes.
func checkDomain(ascii string, corrections []language.Text) (Domain, []language.Text, error) {
	refuse := func(format string, args ...any) (Domain, []language.Text, error) {
		return Domain{}, nil, refusal.Input("domain", format, args...)
	}
	if len(ascii) > MaxDomain {
		return refuse("the name has %d characters; at most %d are possible", len(ascii), MaxDomain)
	}
	labels := strings.Split(ascii, ".")
	for _, label := range labels {
		switch {
		case len(label) > MaxLabel:
			return refuse("the part “%s…” has %d characters; at most %d are possible between two dots", label[:20],
				len(label), MaxLabel)
		case label == "":
			return refuse("the name has an empty part between two dots")
		case strings.HasPrefix(label, "-") || strings.HasSuffix(label, "-"):
			return refuse("the part “%s” starts or ends with a hyphen", label)
		case strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") != "":
			return refuse("the part “%s” has a character that cannot be in a domain", label)
		}
	}
	if len(labels) < 2 {
		return refuse("“%s” is only one part; a whole domain is needed, such as %s.example", ascii, ascii)
	}
	if strings.Trim(labels[len(labels)-1], "0123456789") == "" {
		return refuse("“%s” ends in a number, which no domain does", ascii)
	}
	if suffix, _ := publicsuffix.PublicSuffix(ascii); suffix == ascii {
		return refuse("“%s” is a suffix under which registries sell names; give a whole domain, such as ferries.%s",
			ascii, ascii)
	}
	return Domain{ascii}, corrections, nil
}

func idnaReason(err error) string {
	reason := err.Error()
	if _, after, found := strings.Cut(reason, "idna: "); found {
		reason = after
	}
	return strings.ReplaceAll(reason, "\"", "“")
}
