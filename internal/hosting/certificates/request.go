package certificates

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Subject is what a signing request says of an organization, beside the names. All of it may be
// empty; authorities that check no organization ignore it.
type Subject struct {
	Organization, Unit, Locality, Province string
	// Country is a code of two letters (ISO 3166-1).
	Country string
}

// Check tells what is wrong with a subject. The bounds are those of RFC 5280, appendix A.1.
func (s Subject) Check() error {
	for _, f := range []struct {
		field, text string
		most        int
	}{{"organization", s.Organization, 64}, {"unit", s.Unit, 64}, {"locality", s.Locality, 128},
		{"province", s.Province, 128}} {
		if len([]rune(f.text)) > f.most {
			return refusal.Input(f.field, "%q is too long for a certificate: at most %d characters", f.text, f.most)
		}
	}
	if s.Country != "" && (len(s.Country) != 2 || strings.Trim(s.Country, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != "") {
		return refusal.Input("country", "%q is no code of a country: two capital letters, such as DE", s.Country)
	}
	return nil
}

// String writes a subject for people to read.
func (s Subject) String() string {
	var parts []string
	for _, p := range []string{s.Organization, s.Unit, s.Locality, s.Province, s.Country} {
		if p != "" {
			parts = append(parts, p)
		}
	}
	return strings.Join(parts, ", ")
}

// Request makes a signing request (RFC 2986) in PEM.
func Request(key crypto.Signer, names []string, s Subject) (string, error) {
	one := func(text string) []string {
		if text == "" {
			return nil
		}
		return []string{text}
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: names,
		Subject: pkix.Name{CommonName: commonName(names),
			Organization: one(s.Organization), OrganizationalUnit: one(s.Unit), Locality: one(s.Locality),
			Province: one(s.Province), Country: one(s.Country)}}, key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})), nil
}

// commonName is the first name that is short enough for it; the names
// that count are others (RFC 6125, section 6.4.4).
func commonName(names []string) string {
	for _, n := range names {
		if len(n) <= 64 {
			return n
		}
	}
	return ""
}

// Revocation reasons, with their codes (RFC 5280, section 5.3.1). They
// are the ones that the holder of a certificate may give.
var Reasons = []Reason{{"unspecified", 0, "no reason is given"},
	{"key-compromise", 1, "somebody else may have the key"},
	{"affiliation-changed", 3, "the organization in it is no longer right"},
	{"superseded", 4, "it was replaced by another one"}, {"cessation", 5, "the site is no longer there"}}

// Reason is why a certificate is revoked.
type Reason struct {
	Word  string
	Code  int
	Means string
}

// ParseReason reads a reason; empty is that none is given.
func ParseReason(typed string) (Reason, error) {
	if typed == "" {
		return Reasons[0], nil
	}
	var words []string
	for _, r := range Reasons {
		if r.Word == strings.ToLower(strings.TrimSpace(typed)) {
			return r, nil
		}
		words = append(words, r.Word)
	}
	return Reason{}, refusal.Input("reason", "%q is no reason: say one of %s", typed, strings.Join(words, ", "))
}
