package api

import "time"

// Authority issues certificates.
type Authority struct {
	Name         string     `json:"name"`
	Directory    string     `json:"directory" doc:"URL of its directory (RFC 8555, section 7.1.1)."`
	Email        string     `json:"email" doc:"Where it writes to."`
	OwnRoot      bool       `json:"own_root" doc:"A root certificate is trusted for the connection beside the machine's own list."`
	ExternalID   string     `json:"external_id,omitempty" doc:"Number of the external account to which ours is bound."`
	Profile      string     `json:"profile,omitempty" doc:"The kind of certificates that is ordered; empty is the authority's usual one."`
	Account      string     `json:"account" doc:"URL of our account there."`
	Terms        string     `json:"terms,omitempty" doc:"URL of the terms that were agreed to."`
	Identities   []string   `json:"identities" doc:"Names by which CAA records know it."`
	Usual        bool       `json:"usual" doc:"Asked where a site names none."`
	LimitedUntil *time.Time `json:"limited_until" doc:"Until then it wants no more orders."`
	Certificates int64      `json:"certificates" doc:"How many of its certificates are in use."`
	Version      int64      `json:"version"`
}

// AuthorityList lists the authorities.
type AuthorityList struct {
	Authorities []Authority `json:"authorities"`
}

// AuthorityQuestion asks what an authority says of itself.
type AuthorityQuestion struct {
	Directory string `json:"directory" doc:"URL of its directory."`
	Root      string `json:"root,omitempty" maxLength:"20000" doc:"Certificate, PEM, that is trusted for the connection beside the machine's own list."`
}

// AuthorityAnswer is what it says.
type AuthorityAnswer struct {
	Terms         string   `json:"terms,omitempty" doc:"URL of its terms."`
	Identities    []string `json:"identities"`
	NeedsExternal bool     `json:"needs_external" doc:"It needs an external account."`
	Profiles      []string `json:"profiles"`
	Renewal       bool     `json:"renewal" doc:"It tells when certificates should be renewed (RFC 9773)."`
}

// NewAuthority adds an authority.
type NewAuthority struct {
	Name        string `json:"name" minLength:"1" maxLength:"31" doc:"Small letters, digits and hyphens, a letter first."`
	Directory   string `json:"directory" doc:"URL of its directory."`
	Email       string `json:"email,omitempty" maxLength:"254" doc:"Where it writes to."`
	Root        string `json:"root,omitempty" maxLength:"20000" doc:"Certificate, PEM, that is trusted for the connection beside the machine's own list."`
	ExternalID  string `json:"external_id,omitempty" maxLength:"200" doc:"Number of an external account (RFC 8555, section 7.3.4)."`
	ExternalKey string `json:"external_key,omitempty" maxLength:"500" doc:"Its key, base64url, as the authority gives it."`
	Profile     string `json:"profile,omitempty" maxLength:"100"`
	Usual       bool   `json:"usual,omitempty" doc:"Asked where a site names none; the first one is."`
	AcceptTerms bool   `json:"accept_terms,omitempty" doc:"The authority's terms are agreed to."`
}

// AuthorityChange changes an authority.
type AuthorityChange struct {
	Profile *string `json:"profile,omitempty" maxLength:"100" doc:"Empty is the authority's usual one."`
	Usual   bool    `json:"usual,omitempty" doc:"Make it the usual one."`
	NewKey  bool    `json:"new_key,omitempty" doc:"Give the account there another key (RFC 8555, section 7.3.5)."`
}

// LeftOut is a name that a certificate is not for.
type LeftOut struct {
	Name   string `json:"name"`
	Code   string `json:"code"`
	Reason string `json:"reason"`
	Do     string `json:"do"`
}

// SiteCertificate is how a site stands with its certificate.
type SiteCertificate struct {
	Domain       string     `json:"domain"`
	State        string     `json:"state" enum:"self-signed,ordered,valid,failing,expired,uploaded"`
	Mode         string     `json:"mode" enum:"automatic,uploaded,self-signed" doc:"How it comes by it."`
	Names        []string   `json:"names" doc:"Those that it should be for."`
	Chosen       bool       `json:"chosen" doc:"The names were chosen; else they are all of the site that would pass."`
	KeyType      string     `json:"key_type"`
	Authority    string     `json:"authority,omitempty" doc:"Asked for the next one."`
	Covered      []string   `json:"covered" doc:"Names of the certificate that is shown."`
	LeftOut      []LeftOut  `json:"left_out"`
	Issuer       string     `json:"issuer,omitempty"`
	Serial       string     `json:"serial,omitempty" doc:"Hexadecimal."`
	NotBefore    *time.Time `json:"not_before"`
	NotAfter     *time.Time `json:"not_after"`
	RenewAt      *time.Time `json:"renew_at"`
	InstalledAt  *time.Time `json:"installed_at"`
	NextTry      *time.Time `json:"next_try"`
	Failures     int        `json:"failures" doc:"In a row."`
	FailingSince *time.Time `json:"failing_since"`
	Code         string     `json:"code,omitempty" doc:"Stable word for the reason of the last failure."`
	Problem      string     `json:"problem,omitempty" doc:"The reason of the last failure."`
	Operation    int64      `json:"operation,omitempty" doc:"The order that is on its way."`
	Version      int64      `json:"version"`
}

// CertificateChange changes how a site comes by its certificate. What is not in it stays.
type CertificateChange struct {
	Mode      string    `json:"mode,omitempty" enum:"automatic,self-signed" doc:"Have it come by itself, or do without an authority's."`
	Names     *[]string `json:"names,omitempty" maxItems:"10" doc:"The domain, www before it, *. before it; none takes all that would pass."`
	KeyType   *string   `json:"key_type,omitempty" doc:"ecdsa-p256, ecdsa-p384, rsa-2048, rsa-3072 or rsa-4096; counts from the next certificate on."`
	Authority *string   `json:"authority,omitempty" doc:"Empty is the usual one."`
}

// RehearsalQuestion says which names are rehearsed; none takes those of the site.
type RehearsalQuestion struct {
	Names []string `json:"names,omitempty" maxItems:"10"`
}

// Rehearsal is what an authority would do.
type Rehearsal struct {
	Pass  bool            `json:"pass" doc:"All names would pass."`
	Names []RehearsedName `json:"names"`
}

// RehearsedName is one name of a rehearsal.
type RehearsedName struct {
	Name   string `json:"name"`
	Result string `json:"result" enum:"would pass,would fail,cannot know"`
	Code   string `json:"code,omitempty" doc:"Stable word for the reason."`
	Reason string `json:"reason,omitempty"`
	Do     string `json:"do,omitempty"`
}

// CertificateLine is one site in the inventory.
type CertificateLine struct {
	Domain    string     `json:"domain"`
	Unicode   string     `json:"unicode"`
	Account   string     `json:"account"`
	AccountID int64      `json:"account_id"`
	Server    string     `json:"server"`
	State     string     `json:"state" enum:"self-signed,ordered,valid,failing,expired,uploaded"`
	Mode      string     `json:"mode" enum:"automatic,uploaded,self-signed"`
	Authority string     `json:"authority,omitempty"`
	Names     []string   `json:"names"`
	NotAfter  *time.Time `json:"not_after"`
	DaysLeft  *int       `json:"days_left"`
	Code      string     `json:"code,omitempty"`
	Problem   string     `json:"problem,omitempty"`
}

// CertificatePage is a page of the inventory, those with the fewest days left first.
type CertificatePage struct {
	Certificates []CertificateLine `json:"certificates"`
	Next         string            `json:"next,omitempty" doc:"Cursor of the next page; absent on the last."`
}
