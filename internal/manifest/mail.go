package manifest

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
)

// Mail is what a server holds of an account's mail.
type Mail struct {
	// Domains are those that the server takes mail for, in A-labels.
	Domains   []names.Domain `json:"domains"`
	Mailboxes []Mailbox      `json:"mailboxes"`
	// Addresses are those beside the mailboxes' own.
	Addresses []MailAddress `json:"addresses,omitempty"`
	Lists     []MailList    `json:"lists,omitempty"`
	// Senders are the domains that the account's sites may send for; the first is for messages that
	// do not say.
	Senders []names.Domain `json:"senders,omitempty"`
	// Language is that of what the server itself writes to holders of mailboxes and owners of lists
	// (RFC 5646); empty is English.
	Language string `json:"language,omitempty"`
	// Hourly is to how many recipients the account may send within an hour, in all; nil is
	// unlimited. As many messages again may be passed on.
	Hourly *int64 `json:"hourly,omitempty"`
	// BounceShare is how many percent of what is sent may come back before sending stops; nil is
	// unlimited.
	BounceShare *int64 `json:"bounce_share,omitempty"`
	// Silent says that nothing is sent or passed on for the account.
	Silent bool `json:"silent,omitempty"`
	// Certificates are for names of the account's own under which mail programs may ask for the
	// server.
	Certificates []NamedCertificate `json:"certificates,omitempty"`
	// Deferred says that whoever writes to the account is told to try again later.
	Deferred bool `json:"deferred,omitempty"`
	// DiskLimit is how many bytes its messages may take, where they do not count with the home,
	// which is on another server; nil is unlimited.
	DiskLimit *int64 `json:"disk_limit,omitempty"`
	// Home is the public key ([mail.LinkKey]) of the server with the account's sites, where that is
	// another one: what they send comes from there. Empty otherwise.
	Home ed25519.PublicKey `json:"home,omitempty"`
	// Keys are those that the mail of the account's domains is signed with.
	Keys []SigningKey `json:"keys,omitempty"`
}

// SendsBy is a server that what sites send goes through.
type SendsBy struct {
	// Host is its address, or a name that has one.
	Host string `json:"host"`
	// Key is what it shows to whoever connects ([mail.LinkKey]).
	Key ed25519.PublicKey `json:"key"`
}

func (s *SendsBy) check() error {
	if s != nil && (s.Host == "" || strings.ContainsAny(s.Host, " /") || len(s.Key) != ed25519.PublicKeySize) {
		return errors.New("sends_by: a host and a key are wanted")
	}
	return nil
}

// NamedCertificate is shown to whoever asks for a name.
type NamedCertificate struct {
	Name names.Domain `json:"name"`
	Certificate
}

// SigningKey is what the messages of a domain are signed with (RFC 6376).
type SigningKey struct {
	Domain names.Domain `json:"domain"`
	// Selector is the label below which the public half is published.
	Selector string `json:"selector"`
	// Key is an RSA key (PKCS #8) in PEM.
	Key Secret `json:"key"`
}

// Mailbox stores messages.
type Mailbox struct {
	// Address is local@domain, in lower case.
	Address string `json:"address"`
	// Hash is of the password, in a scheme of Dovecot's, such as {BLF-CRYPT}$2a$…; empty lets
	// nobody in.
	Hash string `json:"hash,omitempty"`
	// Programs are further passwords, for one program each.
	Programs []ProgramPassword `json:"programs,omitempty"`
	// Size is the most it may hold, in bytes; nil is unlimited.
	Size *int64 `json:"size,omitempty"`
	// Hourly is to how many recipients its holder may send within an hour; nil is as many as the
	// account may.
	Hourly *int64 `json:"hourly,omitempty"`
	// Copies are other mailboxes and lists of the account that get its messages as well, and
	// Forwards addresses that are none of the account's.
	Copies   []string `json:"copies,omitempty"`
	Forwards []string `json:"forwards,omitempty"`
	// JunkAbove is the score in tenths from which on a message goes to Junk; 0 is the server's.
	JunkAbove int `json:"junk_above,omitempty"`
	// Filters sort its messages.
	Filters []mail.Filter `json:"filters,omitempty"`
	// Reply is told to whoever writes, once in a while; nil is nothing.
	Reply *AbsenceReply `json:"reply,omitempty"`
}

// ProgramPassword lets one program in.
type ProgramPassword struct {
	// Key is what the password begins with ([mail.ProgramKey]).
	Key string `json:"key"`
	// Hash is of all of it, as that of the mailbox's own.
	Hash string `json:"hash"`
}

// AbsenceReply says that the holder of a mailbox is away.
type AbsenceReply struct {
	// Subject is empty for that of the message, with “Auto: ” before it.
	Subject string `json:"subject,omitempty"`
	Text    string `json:"text"`
	// From and Until are when it is told; nil is always.
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// MailAddress delivers to mailboxes of the account, passes on to others, or both. Whatever leads
// there over other addresses is worked out.
type MailAddress struct {
	// Address is local@domain, in lower case; *@domain gets what no other address of the domain
	// does.
	Address string `json:"address"`
	// Targets are addresses of mailboxes and lists.
	Targets []string `json:"targets,omitempty"`
	// Forwards are addresses that are none of the account's.
	Forwards []string `json:"forwards,omitempty"`
}

// MailList passes messages on to its members. Its owners have an address of their own
// ([mail.RequestAddress]).
type MailList struct {
	// Address is local@domain, in lower case.
	Address   string       `json:"address"`
	Name      string       `json:"name,omitempty"`
	Posting   mail.Posting `json:"posting"`
	Moderated bool         `json:"moderated,omitempty"`
	Footer    string       `json:"footer,omitempty"`
	Members   []ListMember `json:"members,omitempty"`
}

// ListMember gets what is sent to a list, or looks after it, or both.
type ListMember struct {
	Address string `json:"address"`
	Member  bool   `json:"member,omitempty"`
	Owner   bool   `json:"owner,omitempty"`
	// Joined is in seconds of Unix.
	Joined int64 `json:"joined"`
}

// firstMailUID is added to an account's number to get the user of its mail, which nothing else of
// the account runs as: what breaks into a site reads no mail.
const firstMailUID = 1_000_000_000

// MailUID is the number of the user and group that the account's mail belongs to. There is no user
// of that number with a name.
func (m Manifest) MailUID() int { return firstMailUID + int(m.AccountID) }

// MailDir is where the mail of accounts is on every server.
const MailDir = "/home/.mail"

// MailPath is the directory of the account's mail.
func (m Manifest) MailPath() string { return MailDir + "/" + m.SignInName }

// HasMail reports whether the account's mail is on this server.
func (m Manifest) HasMail() bool { return m.Wanted == Present && m.Mail != nil }

// check refuses what must not reach a mail server's tables.
func (m *Mail) check() error {
	if m == nil {
		return nil
	}
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf("mail: "+format, args...)) }
	domains := map[string]bool{}
	for _, d := range m.Domains {
		if d.String() == "" || domains[d.String()] {
			wrong("the domain %q is empty or listed twice", d)
		}
		domains[d.String()] = true
	}
	seen := map[string]bool{}
	address := func(text string) {
		local, domain, err := mail.Split(text)
		if err != nil || !domains[domain.String()] || local == "" {
			wrong("%q is no address of the account's domains", text)
		}
		if seen[text] {
			wrong("%s is listed twice", text)
		}
		seen[text] = true
	}
	forwards := func(from string, list []string) {
		for _, to := range list {
			if !mail.IsAddress(to) {
				wrong("%s is passed on to %q, which is no address", from, to)
			}
		}
	}
	boxes := map[string]bool{}
	for _, b := range m.Mailboxes {
		address(b.Address)
		boxes[b.Address] = true
		if b.Hash != "" && !mail.HashForm.MatchString(b.Hash) {
			wrong("%s has a hash in no form that is known", b.Address)
		}
		for _, p := range b.Programs {
			if mail.ProgramKey(p.Key) != p.Key || !mail.HashForm.MatchString(p.Hash) {
				wrong("%s has a password for a program in no form that is known", b.Address)
			}
		}
		if b.Size != nil && *b.Size < 0 {
			wrong("%s cannot have a negative size", b.Address)
		}
		if b.JunkAbove != 0 && (b.JunkAbove < mail.LeastScore || b.JunkAbove > mail.MostScore) {
			wrong("%s cannot have a bound of %d for spam", b.Address, b.JunkAbove)
		}
		forwards(b.Address, b.Forwards)
		if err := mail.CheckFilters(b.Filters); err != nil {
			wrong("%s: %v", b.Address, err)
		}
		if r := b.Reply; r != nil && (r.Text == "" || len(r.Text) > 4*mail.LongestReply ||
			len(r.Subject) > 4*mail.LongestReplySubject) {
			wrong("the absence reply of %s is empty or too long", b.Address)
		}
	}
	for _, l := range m.Lists {
		address(l.Address)
		address(mail.RequestAddress(l.Address))
		boxes[l.Address], boxes[mail.RequestAddress(l.Address)] = true, true
		if err := l.check(); err != nil {
			wrong("the list %s: %w", l.Address, err)
		}
	}
	for _, b := range m.Mailboxes {
		for _, copy := range b.Copies {
			if !boxes[copy] || copy == b.Address {
				wrong("%s is copied to %q, which is no other mailbox or list of the account", b.Address, copy)
			}
		}
	}
	for _, a := range m.Addresses {
		address(a.Address)
		if len(a.Targets)+len(a.Forwards) == 0 {
			wrong("%s leads nowhere", a.Address)
		}
		for _, target := range a.Targets {
			if !boxes[target] {
				wrong("%s leads to %q, which is no mailbox or list of the account", a.Address, target)
			}
		}
		forwards(a.Address, a.Forwards)
	}
	named := map[string]bool{}
	for _, c := range m.Certificates {
		name := c.Name.String()
		if _, below, _ := strings.Cut(name, "."); !domains[below] || named[name] {
			wrong("the certificate for %q is for no name of the account's mail, or one too many", name)
		}
		named[name] = true
		if err := c.Check(); err != nil {
			wrong("the certificate for %s: %v", name, err)
		}
	}
	signed := map[string]bool{}
	for _, k := range m.Keys {
		if !domains[k.Domain.String()] || signed[k.Domain.String()] || !mail.SelectorForm.MatchString(k.Selector) {
			wrong("the key %q of %s has no good selector, or is one too many", k.Selector, k.Domain)
		}
		signed[k.Domain.String()] = true
		if _, err := mail.ParseSigningKey(string(k.Key)); err != nil {
			wrong("the key %q of %s: %v", k.Selector, k.Domain, err)
		}
	}
	return errors.Join(errs...)
}

func (l MailList) check() error {
	if !slices.Contains(mail.Postings, l.Posting) || len(l.Members) > mail.MostMembers+mail.MostOwners ||
		len(l.Name) > 4*mail.LongestListName || len(l.Footer) > 4*mail.LongestFooter ||
		strings.ContainsFunc(l.Name, func(r rune) bool { return r < ' ' }) {
		return errors.New("what it is called, who may send, its footer or the number of its members cannot be")
	}
	seen := map[string]bool{}
	for _, m := range l.Members {
		if !mail.IsAddress(m.Address) || seen[m.Address] || !m.Member && !m.Owner {
			return fmt.Errorf("%q is no member, or is listed twice", m.Address)
		}
		seen[m.Address] = true
	}
	return nil
}
