// Package zones decides about DNS: which records can be, what they mean together, and how
// a zone is written down (RFC 1035).
package zones

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Type is a record's type, by its mnemonic.
type Type string

// The types that people can add.
const (
	A     Type = "A"     // RFC 1035, section 3.4.1
	AAAA  Type = "AAAA"  // RFC 3596, section 2
	CNAME Type = "CNAME" // RFC 1035, section 3.3.1
	MX    Type = "MX"    // RFC 1035, section 3.3.9
	TXT   Type = "TXT"   // RFC 1035, section 3.3.14
	SRV   Type = "SRV"   // RFC 2782
	CAA   Type = "CAA"   // RFC 8659, section 4
	NS    Type = "NS"    // RFC 1035, section 3.3.11; a delegation of a name below the zone
	PTR   Type = "PTR"   // RFC 1035, section 3.3.12
	TLSA  Type = "TLSA"  // RFC 6698, section 2
	SSHFP Type = "SSHFP" // RFC 4255, section 3
	SVCB  Type = "SVCB"  // RFC 9460
	HTTPS Type = "HTTPS" // RFC 9460, section 9
)

// TypeInfo describes a type for people.
type TypeInfo struct {
	Type Type
	What string
}

// Types lists the types in the order in which people read them, with what each is for.
var Types = []TypeInfo{
	{A, "IPv4 address"}, {AAAA, "IPv6 address"}, {CNAME, "another name for"}, {MX, "mail server"}, {TXT, "text"},
	{SRV, "server of a service"}, {CAA, "who may issue certificates"},
	{NS, "name server of a name below"}, {PTR, "pointer"}, {TLSA, "certificate of a service"},
	{SSHFP, "fingerprint of a host key"}, {SVCB, "how to reach a service"}, {HTTPS, "how to reach a site"},
}

// Bounds of a time to live, in seconds: below, resolvers ask too often; above, a mistake stays too
// long. RFC 8767, section 4, has resolvers keep nothing for more than 7 days.
const (
	LeastTTL = 60
	MostTTL  = 7 * 24 * 3600
	// UsualTTL is that of records for which none is given.
	UsualTTL = 3600
)

// Record is one record in its final form.
type Record struct {
	// Name is relative to the zone, in lower-case A-labels; "@" is the zone itself.
	Name string `json:"name"`
	Type Type   `json:"type"`
	// TTL is in seconds.
	TTL int64 `json:"ttl"`
	// Data is in presentation form (RFC 1035, section 5.1); names in it
	// are complete and end with a dot.
	Data string `json:"data"`
}

// String writes the record as a line of a zone file.
func (r Record) String() string { return fmt.Sprintf("%s %d IN %s %s", r.Name, r.TTL, r.Type, r.Data) }

// Typed is a record as people type it.
type Typed struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Data string `json:"data"`
	// TTL is in seconds; 0 is the usual one.
	TTL int64 `json:"ttl,omitempty"`
}

// Parse reads a record of a zone as people type it. Zone is the zone's name in A-labels without a
// dot at its end. What has only one meaning is put right and told in words; what has two, such as a
// name of several parts without a dot at its end, is asked about: the refusal is a
// [refusal.NeedsDecision] then, with the forms to choose from.
func Parse(zone string, in Typed) (Record, []language.Text, error) {
	p := parser{zone: zone}
	r := Record{Type: Type(strings.ToUpper(strings.TrimSpace(in.Type))), TTL: in.TTL}
	if r.TTL == 0 {
		r.TTL = UsualTTL
	}
	if r.TTL < LeastTTL || r.TTL > MostTTL {
		return r, nil, refusal.Input("ttl", "a time to live is from %d to %d seconds (7 days), not %d", LeastTTL,
			MostTTL, r.TTL)
	}
	var err error
	if r.Name, err = p.owner(in.Name, r.Type); err != nil {
		return r, nil, err
	}
	read, known := readers[r.Type]
	if !known {
		return r, nil, refusal.Input("type", "%q is no type of record that can be added; possible are %s", in.Type,
			typeNames())
	}
	data := strings.TrimSpace(in.Data)
	if data == "" {
		return r, nil, refusal.Input("data", "what the record says is missing")
	}
	if len(data) > 16<<10 || strings.ContainsFunc(data, func(c rune) bool {
		return c < ' ' && c != '\t' || c == 0x7f
	}) {
		return r, nil, refusal.Input("data", "a record is one line of at most 16384 characters")
	}
	if r.Data, err = read(&p, data); err != nil {
		return r, nil, err
	}
	if r.Name == "@" && (r.Type == CNAME || r.Type == NS) {
		if r.Type == CNAME {
			return r, nil, refusal.Input("name", "%s itself cannot be another name for something, as it has name "+
				"servers (RFC 1034, section 3.6.2); use A and AAAA there, or a redirect of the site", zone)
		}
		return r, nil, refusal.Input("name", "the name servers of %s itself are kept by the service", zone)
	}
	if at := strings.IndexByte(r.Name, '*'); at > 0 || at == 0 && r.Name != "*" && !strings.HasPrefix(r.Name, "*.") {
		return r, nil, refusal.Input("name", "* stands alone at the beginning of a name (RFC 4592, section 2.1.1)")
	}
	return r, p.corrections, nil
}

func typeNames() string {
	var list []string
	for _, t := range Types {
		list = append(list, string(t.Type))
	}
	return strings.Join(list, ", ")
}

// parser reads the parts of one record.
type parser struct {
	zone        string
	corrections []language.Text
}

func (p *parser) correct(format string, args ...any) {
	p.corrections = append(p.corrections, language.New(format, args...))
}

// owner reads the name of a record: relative, "@", complete with a dot, or complete without one.
func (p *parser) owner(typed string, t Type) (string, error) {
	name := strings.ToLower(strings.TrimSpace(typed))
	refuse := func(format string, args ...any) (string, error) { return "", refusal.Input("name", format, args...) }
	if name == "" || name == "@" || name == p.zone || name == p.zone+"." {
		return "@", nil
	}
	ascii, err := hostASCII(strings.TrimSuffix(name, "."))
	if err != nil {
		return refuse("%q cannot be a name: %s", typed, err)
	}
	switch {
	case strings.HasSuffix(name, "."):
		rest, inside := strings.CutSuffix(ascii, "."+p.zone)
		if !inside {
			return refuse("%s is not below %s: a zone holds its own names only", ascii, p.zone)
		}
		ascii = rest
	case ascii == p.zone:
		return "@", nil
	case strings.HasSuffix(ascii, "."+p.zone):
		// The classic: without a dot, a zone file would read it as
		// NAME.ZONE.ZONE, which nobody means.
		ascii = strings.TrimSuffix(ascii, "."+p.zone)
		p.correct("%s is taken for the whole name", typed)
	}
	if err := checkLabels(ascii, t); err != nil {
		return refuse("%q cannot be a name: %s", typed, err)
	}
	if len(ascii)+1+len(p.zone) > 253 {
		return refuse("the whole name would have %d characters; at most 253 are possible", len(ascii)+1+len(p.zone))
	}
	return ascii, nil
}

// hostASCII turns international labels into A-labels, and leaves labels
// with underscores and asterisks as they are.
func hostASCII(name string) (string, error) {
	labels := strings.Split(name, ".")
	for i, label := range labels {
		if label == "" {
			return "", language.Errorf("there is an empty part between two dots")
		}
		plain := !strings.ContainsFunc(label, func(r rune) bool { return r > 0x7f })
		if plain {
			continue
		}
		ascii, err := idna.Lookup.ToASCII(label)
		if err != nil {
			return "", language.Errorf("“%s” is no international label", label)
		}
		labels[i] = ascii
	}
	return strings.Join(labels, "."), nil
}

// checkLabels holds labels against RFC 1035, section 2.3.1, with the
// underscores of RFC 8552 and asterisks.
func checkLabels(name string, t Type) error {
	for i, label := range strings.Split(name, ".") {
		switch {
		case label == "":
			return language.Errorf("there is an empty part between two dots")
		case len(label) > 63:
			return language.Errorf("the part “%s…” has %d characters; at most 63 are possible", label[:20], len(label))
		case label == "*" && i == 0:
		case strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-_") != "":
			return language.Errorf("“%s” has a character that cannot be in it", label)
		case strings.HasPrefix(label, "-") || strings.HasSuffix(label, "-"):
			return language.Errorf("“%s” begins or ends with a hyphen", label)
		case strings.Contains(label, "_") && (t == A || t == AAAA || t == MX):
			return language.Errorf("“%s” has an underscore, which no host has (RFC 952); services have them, in SRV, "+
				"TXT "+
				"and TLSA records", label)
		}
	}
	return nil
}

// target reads a name within a record's data and returns it complete, with a dot at its end.
func (p *parser) target(typed, what string) (string, error) {
	refuse := func(format string, args ...any) (string, error) { return "", refusal.Input("data", format, args...) }
	name := strings.ToLower(strings.TrimSpace(typed))
	if name == "@" {
		return p.zone + ".", nil
	}
	if _, err := netip.ParseAddr(strings.Trim(name, "[]")); err == nil {
		return refuse("%s is an address; %s is a name. Give the name that has this address", typed, what)
	}
	complete := strings.HasSuffix(name, ".")
	ascii, err := hostASCII(strings.TrimSuffix(name, "."))
	if err == nil {
		err = checkLabels(ascii, CNAME)
	}
	if err != nil || strings.Contains(ascii, "*") {
		return refuse("%q cannot be %s", typed, what)
	}
	switch {
	case complete:
	case ascii == p.zone || strings.HasSuffix(ascii, "."+p.zone):
		p.correct("%s is taken for the whole name", typed)
	case !strings.Contains(ascii, "."):
		ascii += "." + p.zone
		p.correct("%s is taken for %s", typed, ascii)
	case isFullName(ascii):
		return "", refusal.New(refusal.NeedsDecision, "is %s the whole name, or a name below %s? Put a dot at the "+
			"end of "+
			"whole names", typed, p.zone).Choose(refusal.Decision("data", ascii+".", "the whole name %s", ascii),
			refusal.Decision("data", ascii+"."+p.zone+".", "the name %s.%s", ascii, p.zone))
	default:
		ascii += "." + p.zone
		p.correct("%s is taken for %s", typed, ascii)
	}
	if len(ascii) > 253 {
		return refuse("%s would have %d characters; at most 253 are possible", what, len(ascii))
	}
	return ascii + ".", nil
}

// isFullName reports whether a name ends as whole names do: in a suffix that registries sell
// under, or one that is set aside for tests and examples (RFC 2606).
func isFullName(name string) bool {
	suffix, icann := publicsuffix.PublicSuffix(name)
	return icann && suffix != name || strings.HasSuffix(name, ".example") || strings.HasSuffix(name, ".test")
}

var readers = map[Type]func(*parser, string) (string, error){
	A: address, AAAA: address6, CNAME: oneName("the other name"), PTR: oneName("what it points to"),
	NS: oneName("a name server"),
	MX: mx, TXT: text, SRV: srv, CAA: caa, TLSA: tlsa, SSHFP: sshfp, SVCB: svcb, HTTPS: svcb,
}

func wrong(format string, args ...any) (string, error) {
	return "", refusal.Input("data", format, args...)
}

func address(_ *parser, data string) (string, error) {
	a, err := netip.ParseAddr(data)
	switch {
	case err != nil:
		return wrong("%q is no IPv4 address; write it as 192.0.2.7", data)
	case !a.Is4():
		return wrong("%s is an IPv6 address: the type for it is AAAA", data)
	}
	return a.String(), nil
}

func address6(_ *parser, data string) (string, error) {
	a, err := netip.ParseAddr(strings.Trim(data, "[]"))
	switch {
	case err != nil || a.Zone() != "":
		return wrong("%q is no IPv6 address; write it as 2001:db8::7", data)
	case a.Is4():
		return wrong("%s is an IPv4 address: the type for it is A", data)
	case a.Is4In6():
		return wrong("%s is an IPv4 address in the form of IPv6, which no visitor could reach", data)
	}
	return a.String(), nil
}

func oneName(what string) func(*parser, string) (string, error) {
	return func(p *parser, data string) (string, error) {
		if strings.ContainsAny(data, " \t") {
			return wrong("%s is one name, without blanks", what)
		}
		return p.target(data, what)
	}
}

// number reads a whole number within bounds.
func number(text, what string, most uint64) (string, error) {
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || n > most {
		return wrong("%s is a number from 0 to %d, not %q", what, most, text)
	}
	return strconv.FormatUint(n, 10), nil
}

// numbers reads the first fields of data as numbers, and returns the rest.
func numbers(data, form string, bounds ...bound) (read []string, rest string, err error) {
	fields := strings.Fields(data)
	if len(fields) <= len(bounds) {
		_, err := wrong("write it as %s", form)
		return nil, "", err
	}
	for i, b := range bounds {
		n, err := number(fields[i], b.what, b.most)
		if err != nil {
			return nil, "", err
		}
		read = append(read, n)
	}
	return read, strings.Join(fields[len(bounds):], " "), nil
}

// bound is what a number says, and how large it can be.
type bound struct {
	what string
	most uint64
}

func mx(p *parser, data string) (string, error) {
	if !strings.ContainsAny(data, " \t") {
		p.correct("preference 10 put before it")
		data = "10 " + data
	}
	n, host, err := numbers(data, "10 mail.ferries.example.", bound{"the preference", 65535})
	if err != nil {
		return "", err
	}
	if host == "." {
		return n[0] + " .", nil // no mail at all (RFC 7505)
	}
	name, err := p.target(host, "a mail server")
	return n[0] + " " + name, err
}

func srv(p *parser, data string) (string, error) {
	n, host, err := numbers(data, "PRIORITY WEIGHT PORT NAME, such as 0 5 5061 sip.ferries.example.",
		bound{"the priority", 65535}, bound{"the weight", 65535}, bound{"the port", 65535})
	if err != nil {
		return "", err
	}
	if host != "." {
		if host, err = p.target(host, "the server"); err != nil {
			return "", err
		}
	}
	return strings.Join(append(n, host), " "), nil
}

// text reads one or more strings. Quotation marks part them; without any, all of it is one text.
// What is longer than a string can be is split (RFC 1035, section 3.3: 255 octets).
func text(p *parser, data string) (string, error) {
	var parts []string
	if !strings.HasPrefix(data, `"`) {
		parts = []string{data}
	} else {
		rest := data
		for rest != "" {
			if rest[0] != '"' {
				return wrong("after a quoted text there can be another one, or nothing")
			}
			part, after, err := quoted(rest)
			if err != nil {
				return "", err
			}
			parts, rest = append(parts, part), strings.TrimLeft(after, " \t")
		}
	}
	if slices.ContainsFunc(parts, func(s string) bool { return len(s) > 255 }) {
		p.correct("long text split into strings of 255 octets")
	}
	for i, part := range parts {
		parts[i] = quoteLong(part)
	}
	return strings.Join(parts, " "), nil
}

// quoteLong is a text as strings that are not too long.
func quoteLong(text string) string {
	var out []string
	for len(text) > 255 {
		out = append(out, quote(text[:255]))
		text = text[255:]
	}
	return strings.Join(append(out, quote(text)), " ")
}

// quoted reads a quoted string with the escapes of RFC 1035, section
// 5.1, and returns what comes after it.
func quoted(text string) (value, after string, err error) {
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			return b.String(), text[i+1:], nil
		case c == '\\' && i+3 < len(text) && isDigits(text[i+1:i+4]):
			n, _ := strconv.Atoi(text[i+1 : i+4])
			if n > 255 {
				_, err := wrong("\\%s is no octet", text[i+1:i+4])
				return "", "", err
			}
			b.WriteByte(byte(n))
			i += 3
		case c == '\\' && i+1 < len(text):
			i++
			b.WriteByte(text[i])
		default:
			b.WriteByte(c)
		}
	}
	_, err = wrong("a quotation mark is not closed")
	return "", "", err
}

func isDigits(s string) bool { return strings.Trim(s, "0123456789") == "" }

// quote writes octets as one quoted string.
func quote(value string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(value) {
		switch c := value[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c > '~':
			fmt.Fprintf(&b, "\\%03d", c)
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

func caa(_ *parser, data string) (string, error) {
	n, rest, err := numbers(data, `FLAGS TAG "VALUE", such as 0 issue "authority.example"`, bound{"the flags", 255})
	if err != nil {
		return "", err
	}
	tag, value, _ := strings.Cut(rest, " ")
	tag = strings.ToLower(tag)
	if tag == "" || len(tag) > 15 || strings.Trim(tag, "abcdefghijklmnopqrstuvwxyz0123456789") != "" {
		return wrong("%q is no tag; the usual ones are issue, issuewild and iodef", tag)
	}
	value = strings.TrimSpace(value)
	if strings.HasPrefix(value, `"`) {
		inner, after, err := quoted(value)
		if err != nil || strings.TrimSpace(after) != "" {
			return wrong("the value is one text in quotation marks")
		}
		value = inner
	}
	return n[0] + " " + tag + " " + quote(value), nil
}

// hexadecimal reads octets, which may have blanks between them.
func hexadecimal(text, what string, lengths map[string]int, kind string) (string, error) {
	value := strings.ToLower(strings.ReplaceAll(text, " ", ""))
	raw, err := hex.DecodeString(value)
	if err != nil || len(raw) == 0 {
		return wrong("%s is written in hexadecimal digits, two for each octet", what)
	}
	if want, known := lengths[kind]; known && len(raw) != want {
		return wrong("%s has %d octets; of this kind, it has %d", what, len(raw), want)
	}
	return value, nil
}

func tlsa(_ *parser, data string) (string, error) {
	n, rest, err := numbers(data, "USAGE SELECTOR MATCHING DATA, such as 3 1 1 and 64 hexadecimal digits",
		bound{"the usage", 3}, bound{"the selector", 1}, bound{"the matching type", 2})
	if err != nil {
		return "", err
	}
	value, err := hexadecimal(rest, "the certificate's data", map[string]int{"1": 32, "2": 64}, n[2])
	return strings.Join(append(n, value), " "), err
}

func sshfp(_ *parser, data string) (string, error) {
	n, rest, err := numbers(data, "ALGORITHM TYPE FINGERPRINT, such as 4 2 and 64 hexadecimal digits",
		bound{"the algorithm", 6}, bound{"the fingerprint's type", 2})
	if err != nil {
		return "", err
	}
	value, err := hexadecimal(rest, "the fingerprint", map[string]int{"1": 20, "2": 32}, n[1])
	return strings.Join(append(n, value), " "), err
}

// svcKeys are the parameters of RFC 9460, section 14.3.2, that are let
// through, with what their values look like.
var svcKeys = []string{"mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ipv6hint"}

func svcb(p *parser, data string) (string, error) {
	n, rest, err := numbers(data, "PRIORITY NAME PARAMETERS, such as 1 . alpn=h2", bound{"the priority", 65535})
	if err != nil {
		return "", err
	}
	fields := strings.Fields(rest)
	host := fields[0]
	if host != "." {
		if host, err = p.target(host, "the server"); err != nil {
			return "", err
		}
	}
	out := []string{n[0], host}
	if n[0] == "0" && len(fields) > 1 {
		return wrong("with priority 0, it is another name for the target, and has no parameters (RFC 9460, section " +
			"2.4.2)")
	}
	seen := map[string]bool{}
	for _, field := range fields[1:] {
		key, value, has := strings.Cut(field, "=")
		value = strings.Trim(value, `"`)
		switch {
		case !slices.Contains(svcKeys, key):
			return wrong("%q is no parameter that can be used; possible are %s", key, strings.Join(svcKeys, ", "))
		case seen[key]:
			return wrong("%s is listed twice", key)
		case has == (key == "no-default-alpn") || has && value == "":
			return wrong("%s: write NAME=VALUE, and no-default-alpn alone", key)
		}
		seen[key] = true
		if err := checkSvcValue(key, value); err != nil {
			return "", err
		}
		if has {
			key += "=" + value
		}
		out = append(out, key)
	}
	if seen["no-default-alpn"] && !seen["alpn"] {
		return wrong("no-default-alpn needs alpn beside it (RFC 9460, section 7.1.1)")
	}
	return strings.Join(out, " "), nil
}

func checkSvcValue(key, value string) error {
	var err error
	for _, item := range strings.Split(value, ",") {
		switch key {
		case "port":
			_, err = number(value, "the port", 65535)
		case "ipv4hint", "ipv6hint":
			a, parseErr := netip.ParseAddr(item)
			if parseErr != nil || a.Is4() != (key == "ipv4hint") || a.Zone() != "" {
				_, err = wrong("%q is no address for %s", item, key)
			}
		case "alpn":
			if item == "" ||
				strings.Trim(item, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-./") != "" {
				_, err = wrong("%q is no protocol; write such as alpn=h2,http/1.1", item)
			}
		case "mandatory":
			if !slices.Contains(svcKeys, item) || item == "mandatory" {
				_, err = wrong("%q cannot be mandatory", item)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}
