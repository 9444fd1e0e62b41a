package api

import (
	"time"

	"victualler/internal/hosting/certificates"
)

// Authority issues certificates.
type Authority struct {
	Name         string               `json:"name"`
	Directory    string               `json:"directory" doc:"URL of its directory (RFC 8555, section 7.1.1)."`
	Email        string               `json:"email" doc:"Where it writes to."`
	OwnRoot      bool                 `json:"own_root" doc:"A root certificate is trusted for the connection beside the machine's own list."`
	ExternalID   string               `json:"external_id,omitempty" doc:"Number of the external account to which ours is bound."`
	Profile      string               `json:"profile,omitempty" doc:"The kind of certificates that is ordered; empty is the authority's usual one."`
	Account      string               `json:"account" doc:"URL of our account there."`
	Terms        string               `json:"terms,omitempty" doc:"URL of the terms that were agreed to."`
	Identities   []string             `json:"identities" doc:"Names by which CAA records know it."`
	Usual        bool                 `json:"usual" doc:"Asked where a site names none."`
	LimitedUntil *time.Time           `json:"limited_until" doc:"Until then it wants no more orders."`
	Bounds       []certificates.Bound `json:"bounds" doc:"How much is ordered at most, whatever the authority would let be ordered."`
	Certificates int64                `json:"certificates" doc:"How many of its certificates are in use."`
	Version      int64                `json:"version"`
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
	Name        string               `json:"name" minLength:"1" maxLength:"31" doc:"Small letters, digits and hyphens, a letter first."`
	Directory   string               `json:"directory" doc:"URL of its directory."`
	Email       string               `json:"email,omitempty" maxLength:"254" doc:"Where it writes to."`
	Root        string               `json:"root,omitempty" maxLength:"20000" doc:"Certificate, PEM, that is trusted for the connection beside the machine's own list."`
	ExternalID  string               `json:"external_id,omitempty" maxLength:"200" doc:"Number of an external account (RFC 8555, section 7.3.4)."`
	ExternalKey string               `json:"external_key,omitempty" maxLength:"500" doc:"Its key, base64url, as the authority gives it."`
	Profile     string               `json:"profile,omitempty" maxLength:"100"`
	Usual       bool                 `json:"usual,omitempty" doc:"Asked where a site names none; the first one is."`
	AcceptTerms bool                 `json:"accept_terms,omitempty" doc:"The authority's terms are agreed to."`
	Bounds      []certificates.Bound `json:"bounds,omitempty" maxItems:"10" doc:"How much is ordered at most: counted per account, per registered domain, or per set of names."`
}

// AuthorityChange changes an authority.
type AuthorityChange struct {
	Email   *string               `json:"email,omitempty" maxLength:"254" doc:"Where the authority writes to; empty is nowhere."`
	Root    *string               `json:"root,omitempty" maxLength:"20000" doc:"Certificate, PEM, that is trusted for the connection beside the machine's own list; empty is none."`
	Profile *string               `json:"profile,omitempty" maxLength:"100" doc:"Empty is the authority's usual one."`
	Usual   bool                  `json:"usual,omitempty" doc:"Make it the usual one."`
	Bounds  *[]certificates.Bound `json:"bounds,omitempty" maxItems:"10" doc:"How much is ordered at most; in the place of those that are there."`
	NewKey  bool                  `json:"new_key,omitempty" doc:"Give the account there another key (RFC 8555, section 7.3.5)."`
}

// LeftOut is a name that a certificate is not for.
type LeftOut struct {
	Name   string `json:"name"`
	Code   string `json:"code"`
	Reason string `json:"reason"`
	Do     string `json:"do"`
}

// SiteCertificate is how a site is certified, and how well.
type SiteCertificate struct {
	Domain       string               `json:"domain"`
	State        string               `json:"state" enum:"self-signed,ordered,valid,failing,expired,uploaded"`
	Mode         string               `json:"mode" enum:"automatic,uploaded,self-signed" doc:"How it comes by it."`
	Names        []string             `json:"names" doc:"Those that it should be for."`
	MailNames    []string             `json:"mail_names" doc:"Names for the domain's mail that it is for as well, as soon as they lead here."`
	Chosen       bool                 `json:"chosen" doc:"The names were chosen; else they are all of the site that would pass."`
	KeyType      string               `json:"key_type"`
	PinKey       bool                 `json:"pin_key" doc:"The next certificate has the key of this one."`
	Authority    string               `json:"authority,omitempty" doc:"Asked for the next one."`
	Covered      []string             `json:"covered" doc:"Names of the certificate that is shown."`
	LeftOut      []LeftOut            `json:"left_out"`
	Issuer       string               `json:"issuer,omitempty"`
	Serial       string               `json:"serial,omitempty" doc:"Hexadecimal."`
	NotBefore    *time.Time           `json:"not_before"`
	NotAfter     *time.Time           `json:"not_after"`
	RenewAt      *time.Time           `json:"renew_at"`
	InstalledAt  *time.Time           `json:"installed_at"`
	NextTry      *time.Time           `json:"next_try"`
	Failures     int                  `json:"failures" doc:"In a row."`
	FailingSince *time.Time           `json:"failing_since"`
	Code         string               `json:"code,omitempty" doc:"Stable word for the reason of the last failure."`
	Problem      string               `json:"problem,omitempty" doc:"The reason of the last failure."`
	Operation    int64                `json:"operation,omitempty" doc:"The order that is on its way."`
	Records      []ChallengeRecord    `json:"records" doc:"What somebody has to enter by hand for the order that is on its way."`
	Aliases      []ChallengeAlias     `json:"aliases" doc:"Where DNS is hosted elsewhere: entered there once, they prove the names for good."`
	Requests     []SigningRequest     `json:"requests" doc:"Signing requests that wait for their certificates."`
	Earlier      []EarlierCertificate `json:"earlier" doc:"Certificates that the site had, the newest first."`
	Version      int64                `json:"version"`
}

// ChallengeRecord is a record that somebody enters where the zone is (RFC 8555, section 8.4).
type ChallengeRecord struct {
	Name      string     `json:"name" doc:"Complete, without a dot at its end."`
	Type      string     `json:"type" enum:"TXT"`
	Data      string     `json:"data"`
	Visible   bool       `json:"visible" doc:"All name servers of the zone show it."`
	Missing   []string   `json:"missing" doc:"Name servers that did not show it when they were asked last."`
	CheckedAt *time.Time `json:"checked_at"`
}

// ChallengeAlias is a CNAME record that leads the name of a challenge to a zone of ours.
type ChallengeAlias struct {
	Name   string `json:"name" doc:"Where it is entered; complete."`
	Target string `json:"target"`
}

// SigningRequest waits for the certificate that an authority makes of it. Its key stays here.
type SigningRequest struct {
	ID        int64     `json:"id"`
	Names     []string  `json:"names"`
	Subject   string    `json:"subject,omitempty" doc:"In words."`
	KeyType   string    `json:"key_type"`
	Request   string    `json:"request" doc:"PKCS #10, PEM."`
	CreatedAt time.Time `json:"created_at"`
}

// NewSigningRequest makes a key and a signing request.
type NewSigningRequest struct {
	Names        []string `json:"names,omitempty" maxItems:"10" doc:"None takes those of the site."`
	KeyType      string   `json:"key_type,omitempty" doc:"Empty is the usual one."`
	Organization string   `json:"organization,omitempty" maxLength:"64"`
	Unit         string   `json:"unit,omitempty" maxLength:"64" doc:"Of the organization."`
	Locality     string   `json:"locality,omitempty" maxLength:"128" doc:"Town."`
	Province     string   `json:"province,omitempty" maxLength:"128"`
	Country      string   `json:"country,omitempty" maxLength:"100" doc:"Two capital letters (ISO 3166-1)."`
}

// EarlierCertificate is one that a site had.
type EarlierCertificate struct {
	Serial    string    `json:"serial" doc:"Hexadecimal."`
	State     string    `json:"state" enum:"retired,revoked"`
	Names     []string  `json:"names"`
	Issuer    string    `json:"issuer"`
	Authority string    `json:"authority,omitempty" doc:"Of ours; empty for one that was brought."`
	NotBefore time.Time `json:"not_before"`
	NotAfter  time.Time `json:"not_after"`
}

// UploadedCertificate is what somebody has of an authority.
type UploadedCertificate struct {
	Certificate string `json:"certificate" minLength:"1" maxLength:"100000" doc:"PEM, in any order, perhaps with the key; or PKCS #7 or PKCS #12 in base64."`
	Key         string `json:"key,omitempty" maxLength:"20000" doc:"PEM; not needed where the signing request was made here."`
	Password    string `json:"password,omitempty" maxLength:"1000" doc:"Of the PKCS #12."`
}

// InstalledCertificate tells what is to be said of a certificate that was brought.
type InstalledCertificate struct {
	Operation int64     `json:"operation,omitempty" doc:"That brings it to its server."`
	Names     []string  `json:"names"`
	Issuer    string    `json:"issuer"`
	NotAfter  time.Time `json:"not_after"`
	Chain     int       `json:"chain" doc:"How many certificates visitors are shown."`
	Remarks   []string  `json:"remarks" doc:"What somebody should know, though it does not keep it from being installed."`
}

// CertificateText is a certificate with those that signed it.
type CertificateText struct {
	Chain string `json:"chain" doc:"PEM, the site's own first."`
}

// KeyProof proves that it is the owner who wants a key.
type KeyProof struct {
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"Your own."`
	Code     string `json:"code" minLength:"1" maxLength:"100" doc:"Of your second factor."`
}

// CertificateWithKey is a certificate that can be used elsewhere.
type CertificateWithKey struct {
	Chain string `json:"chain" doc:"PEM, the site's own first."`
	Key   string `json:"key" doc:"PEM, PKCS #8."`
}

// Revocation has a certificate revoked.
type Revocation struct {
	Reason string `json:"reason,omitempty" enum:"unspecified,key-compromise,affiliation-changed,superseded,cessation" doc:"RFC 5280, section 5.3.1."`
	Serial string `json:"serial,omitempty" maxLength:"64" doc:"Of an earlier one; empty is the one in use."`
}

// CertificateOrder says how a certificate is ordered.
type CertificateOrder struct {
	LeaveOut bool `json:"leave_out,omitempty" doc:"Order for the names that would pass; the others are added when they pass."`
	ByHand   bool `json:"by_hand,omitempty" doc:"Records that prove the names are entered by hand where the zone is."`
}

// CertificateChange changes how a site comes by its certificate. What is not in it stays.
type CertificateChange struct {
	Mode      string    `json:"mode,omitempty" enum:"automatic,self-signed" doc:"Order it automatically, or do without an authority's."`
	Names     *[]string `json:"names,omitempty" maxItems:"10" doc:"The domain, www before it, *. before it; none takes all that would pass."`
	KeyType   *string   `json:"key_type,omitempty" doc:"ecdsa-p256, ecdsa-p384, rsa-2048, rsa-3072 or rsa-4096; counts from the next certificate on."`
	PinKey    *bool     `json:"pin_key,omitempty" doc:"Keep the key at each renewal, for those who have published it."`
	Authority *string   `json:"authority,omitempty" doc:"Empty is the usual one."`
}

// CertificateChanged is how a site gets its certificate after a change.
type CertificateChanged struct {
	Certificate SiteCertificate `json:"certificate"`
	Operation   int64           `json:"operation,omitempty" doc:"That has the server make one itself again, if so."`
	Version     int64           `json:"version"`
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
	Proof  string `json:"proof,omitempty" enum:"http,zone,alias,hand" doc:"How it is proved: over HTTP, in its zone here, in our zone for challenges, or by hand."`
	Code   string `json:"code,omitempty" doc:"Stable word for the reason."`
	Reason string `json:"reason,omitempty"`
	Fix    string `json:"fix,omitempty" doc:"What to do about it."`
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
