package manifest

import (
	"errors"
	"fmt"

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
}

// MailAddress delivers to mailboxes of the account.
type MailAddress struct {
	// Address is local@domain, in lower case; *@domain gets what no other address of the domain
	// does.
	Address string `json:"address"`
	// Targets are addresses of mailboxes.
	Targets []string `json:"targets"`
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
	}
	for _, a := range m.Addresses {
		address(a.Address)
		if len(a.Targets) == 0 {
			wrong("%s leads nowhere", a.Address)
		}
		for _, target := range a.Targets {
			if !boxes[target] {
				wrong("%s leads to %q, which is no mailbox of the account", a.Address, target)
			}
		}
	}
	return errors.Join(errs...)
}
