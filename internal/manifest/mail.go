package manifest

import (
	"errors"
	"fmt"
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
	// Senders are the domains that the account's sites may send for; the first is for messages that
	// do not say.
	Senders []names.Domain `json:"senders,omitempty"`
	// Hourly is to how many recipients the account may send within an hour, in all; nil is
	// unlimited. As many messages again may be passed on.
	Hourly *int64 `json:"hourly,omitempty"`
	// BounceShare is how many percent of what is sent may come back before sending stops; nil is
	// unlimited.
	BounceShare *int64 `json:"bounce_share,omitempty"`
	// Silent says that nothing is sent or passed on for the account.
	Silent bool `json:"silent,omitempty"`
	// Keys are those that the mail of the account's domains is signed with.
	Keys []SigningKey `json:"keys,omitempty"`
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
	// Size is the most it may hold, in bytes; nil is unlimited.
	Size *int64 `json:"size,omitempty"`
	// Hourly is to how many recipients its holder may send within an hour; nil is as many as the
	// account may.
	Hourly *int64 `json:"hourly,omitempty"`
	// Copies are other mailboxes of the account that get its messages as well, and Forwards
	// addresses that are none of the account's.
	Copies   []string `json:"copies,omitempty"`
	Forwards []string `json:"forwards,omitempty"`
	// Reply is told to whoever writes, once in a while; nil is nothing.
	Reply *AbsenceReply `json:"reply,omitempty"`
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
	// Targets are addresses of mailboxes.
	Targets []string `json:"targets,omitempty"`
	// Forwards are addresses that are none of the account's.
	Forwards []string `json:"forwards,omitempty"`
}

// firstMailUID is added to an account's number to get the user of its mail, which nothing else of
// the account runs as: what breaks into a site reads no mail.
const firstMailUID = 1_000_000_000

// MailUID is the number of the user and group that the account's mail belongs to. There is no user
// of that number with a name.
func (m Manifest) MailUID() int { return firstMailUID + int(m.AccountID) }

// MailPath is the directory of the account's mail on every server.
func (m Manifest) MailPath() string { return "/home/.mail/" + m.SignInName }

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
		if b.Size != nil && *b.Size < 0 {
			wrong("%s cannot have a negative size", b.Address)
		}
		forwards(b.Address, b.Forwards)
		if r := b.Reply; r != nil && (r.Text == "" || len(r.Text) > 4*mail.LongestReply ||
			len(r.Subject) > 4*mail.LongestReplySubject) {
			wrong("the absence reply of %s is empty or too long", b.Address)
		}
	}
	for _, b := range m.Mailboxes {
		for _, copy := range b.Copies {
			if !boxes[copy] || copy == b.Address {
				wrong("%s is copied to %q, which is no other mailbox of the account", b.Address, copy)
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
				wrong("%s leads to %q, which is no mailbox of the account", a.Address, target)
			}
		}
		forwards(a.Address, a.Forwards)
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
