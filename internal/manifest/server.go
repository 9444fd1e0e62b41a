package manifest

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
)

// Server is what one server holds for the installation as a whole, beside its accounts.
type Server struct {
	// DNS is set on servers with the role dns.
	DNS *DNSServer `json:"dns,omitempty"`
	// Mail is set on servers with the role mail.
	Mail *MailServer `json:"mail,omitempty"`
	// Databases is set on servers with the role database.
	Databases *DatabaseServer `json:"databases,omitempty"`
	// LinkKey is what the server shows to those that its sites' mail goes through, and to those
	// whose sites' mail goes through it: the seed ([mail.LinkKey]) in base 64. Empty is neither.
	LinkKey Secret `json:"link_key,omitempty"`
	// MailboxPage is where holders look after their mailboxes in a browser: where web servers lead
	// those who come by the name for it below their domain ([mail.MailboxLabel]). Empty is nowhere.
	MailboxPage string `json:"mailbox_page,omitempty"`
}

// MailServer is what all mail on a server has in common.
type MailServer struct {
	// Name is the name by which the server greets others, such as mx1.ternisland.example.
	Name names.Domain `json:"name"`
	// ReturnKey is what senders of messages that are passed on are rewritten with
	// ([mail.Returns]), 32 octets in base 64: the same on all servers.
	ReturnKey Secret `json:"return_key"`
	// Certificate is for that name; without, the server makes one that it signs itself.
	Certificate *Certificate `json:"certificate,omitempty"`
	// Filter is how spam is told from other messages; nil is not at all.
	Filter *MailFilter `json:"filter,omitempty"`
	// Leave is where members of lists leave them by a click: the list and a code are put behind it.
	Leave string `json:"leave,omitempty"`
	// Days is how long what cannot be delivered waits; 0 is as long as servers usually do.
	Days int `json:"days,omitempty"`
	// Blocklists are zones of DNS that name addresses which nothing is taken from (RFC 5782).
	Blocklists []names.Domain `json:"blocklists,omitempty"`
}

// MailFilter is how spam is told from other messages.
type MailFilter struct {
	mail.Spam
	// Greylisting has senders whose messages are suspicious send them once more.
	Greylisting bool `json:"greylisting,omitempty"`
	// Forbidden are what names of attachments must not end with, such as exe.
	Forbidden []string `json:"forbidden,omitempty"`
	// Scanner is where a virus scanner listens that speaks clamd's protocol: a path, or host:port.
	// Empty is none.
	Scanner string `json:"scanner,omitempty"`
}

// check refuses what must not reach a filter's configuration.
func (f *MailFilter) check() error {
	if f == nil {
		return nil
	}
	if f.JunkAbove < mail.LeastScore || f.RefuseAbove < f.JunkAbove || f.RefuseAbove > mail.MostScore {
		return errors.New("mail.filter: the scores are not in order")
	}
	for _, e := range f.Forbidden {
		if !mail.ExtensionForm.MatchString(e) {
			return fmt.Errorf("mail.filter: %q is no end of a name", e)
		}
	}
	if f.Scanner != "" && !mail.ScannerForm.MatchString(f.Scanner) {
		return fmt.Errorf("mail.filter: %q is no address of a scanner", f.Scanner)
	}
	return nil
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
	if seed, err := base64.StdEncoding.DecodeString(string(s.LinkKey)); err != nil ||
		s.LinkKey != "" && len(seed) != ed25519.SeedSize {
		errs = append(errs, errors.New("link_key must be 32 octets in base 64"))
	}
	if !isPage(s.MailboxPage) {
		errs = append(errs, fmt.Errorf("%q is no place where mailboxes are looked after", s.MailboxPage))
	}
	if s.Mail != nil && s.Mail.Name.String() == "" {
		errs = append(errs, errors.New("mail.name is missing"))
	}
	if s.Mail != nil {
		if key, err := base64.StdEncoding.DecodeString(string(s.Mail.ReturnKey)); err != nil || len(key) != 32 {
			errs = append(errs, errors.New("mail.return_key must be 32 octets in base 64"))
		}
		errs = append(errs, s.Mail.Filter.check())
		if !isPage(s.Mail.Leave) {
			errs = append(errs, fmt.Errorf("%q is no place where lists are left", s.Mail.Leave))
		}
		if c := s.Mail.Certificate; c != nil {
			errs = append(errs, c.Check())
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

// isPage reports whether a text is empty or the complete address of a page.
func isPage(text string) bool {
	u, err := url.Parse(text)
	return text == "" || err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http")
}
