package manifest

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"

	"victualler/internal/hosting/names"
)

// Server is what one server holds for the installation as a whole, beside its accounts.
type Server struct {
	// DNS is set on servers with the role dns.
	DNS *DNSServer `json:"dns,omitempty"`
	// Mail is set on servers with the role mail.
	Mail *MailServer `json:"mail,omitempty"`
}

// MailServer is what all mail on a server has in common.
type MailServer struct {
	// Name is the name by which the server greets others, such as mx1.ternisland.example.
	Name names.Domain `json:"name"`
	// ReturnKey is what senders of messages that are passed on are rewritten with
	// ([mail.Returns]), 32 octets in base 64: the same on all servers.
	ReturnKey Secret `json:"return_key"`
}

// DNSServer is a name server's place among the others: one primary, which has the zones from the
// manifests of accounts and signs them, and secondaries, which learn from its catalog zone (RFC
// 9432) what there is and transfer it, signed with a common key (RFC 8945).
type DNSServer struct {
	// Primary says that this is the primary.
	Primary bool `json:"primary,omitempty"`
	// Peers are the secondaries, for the primary; and the primary, for a secondary.
	Peers []Peer `json:"peers"`
	// Key is the secret of the transfers' key, 32 octets in base 64; its algorithm is hmac-sha256.
	Key string `json:"key"`
}

// Peer is another name server of the installation.
type Peer struct {
	Label     string       `json:"label"`
	Addresses []netip.Addr `json:"addresses"`
}

// Digest identifies the manifest: what two have in common is the same manifest.
func (s Server) Digest() string {
	text, err := json.Marshal(s)
	if err != nil {
		panic(err) // plain data always has a text
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16])
}

// Validate refuses a manifest that must not reach a server's files.
func (s Server) Validate() error {
	var errs []error
	if s.Mail != nil && s.Mail.Name.String() == "" {
		errs = append(errs, errors.New("mail.name is missing"))
	}
	if s.Mail != nil {
		if key, err := base64.StdEncoding.DecodeString(string(s.Mail.ReturnKey)); err != nil || len(key) != 32 {
			errs = append(errs, errors.New("mail.return_key must be 32 octets in base 64"))
		}
	}
	if s.DNS == nil {
		return errors.Join(errs...)
	}
	if key, err := base64.StdEncoding.DecodeString(s.DNS.Key); err != nil || len(key) != 32 {
		errs = append(errs, errors.New("dns.key must be 32 octets in base 64"))
	}
	for _, p := range s.DNS.Peers {
		if !label.MatchString(p.Label) || len(p.Addresses) == 0 {
			errs = append(errs, fmt.Errorf("dns: the peer %q has no good label or no address", p.Label))
		}
		for _, a := range p.Addresses {
			if !a.IsValid() || a.Zone() != "" {
				errs = append(errs, fmt.Errorf("dns: %s is no address of %s", a, p.Label))
			}
		}
	}
	if !s.DNS.Primary && len(s.DNS.Peers) != 1 {
		errs = append(errs, errors.New("dns: a secondary has one primary"))
	}
	return errors.Join(errs...)
}
