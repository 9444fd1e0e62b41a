package names

import "slices"

// ProofMode is what is asked of domains that others than operators bring.
type ProofMode string

// The modes.
const (
	ProofOff     ProofMode = "off"     // nothing
	ProofWarn    ProofMode = "warn"    // they are served, and people are told that nothing shows whose they are
	ProofRequire ProofMode = "require" // they are served when it is shown that they are theirs
)

// ProofRecord is the name at which a TXT record shows whose a domain is. An underscore keeps it
// apart from hosts (RFC 8552).
func (d Domain) ProofRecord() string { return "_hosting-proof." + d.String() }

// ProofEvidence is what DNS answers about a domain, and what else counts.
type ProofEvidence struct {
	// Wanted is what the TXT record at [Domain.ProofRecord] is to say, Texts what it says.
	Wanted string
	Texts  []string
	// LeadsHere says that all addresses of the domain are those of the account's server, or that
	// the zone above gives it to our name servers.
	LeadsHere bool
	// Claimed says that somebody else brings the domain as well, or had it before: that it leads
	// here does not tell whose it is then.
	Claimed bool
}

// Proof is how a domain was shown to be somebody's.
type Proof string

// The proofs; the empty one is none.
const (
	ProofByRecord   Proof = "record"
	ProofByAddress  Proof = "address"
	ProofByOperator Proof = "operator" // an operator has brought it, or vouched for it
	ProofByAbove    Proof = "above"    // it lies below a domain of the account that is proved
)

// Judge tells how the evidence proves the domain.
func (e ProofEvidence) Judge() Proof {
	switch {
	case e.Wanted != "" && slices.Contains(e.Texts, e.Wanted):
		return ProofByRecord
	case e.LeadsHere && !e.Claimed:
		return ProofByAddress
	}
	return ""
}
