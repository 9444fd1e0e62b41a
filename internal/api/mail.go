package api

import "time"

// Mailbox stores the messages to its address, and lets its holder read and send them.
type Mailbox struct {
	Address  string    `json:"address" doc:"As programs write it, such as info@ternferries.example; also the name to sign in with."`
	Unicode  string    `json:"unicode" doc:"As people write it."`
	Password bool      `json:"password" doc:"Whether it has a password; without one, nobody can sign in."`
	Size     *int64    `json:"size" doc:"The most it may hold, in bytes; null is as much as the account may give a mailbox."`
	Most     *int64    `json:"most" doc:"What that comes to now, in bytes; null is unlimited."`
	Domain   string    `json:"domain" doc:"In A-labels."`
	AddedAt  time.Time `json:"added_at"`
	Version  int64     `json:"version" doc:"Counts changes; the ETag."`
}

// MailboxList is the mailboxes of an account, and where mail programs find them.
type MailboxList struct {
	Mailboxes []Mailbox `json:"mailboxes"`
	Server    string    `json:"server,omitempty" doc:"The name of the mail server; absent while the account has no mail."`
}

// NewMailbox describes a mailbox to be added.
type NewMailbox struct {
	Address  string `json:"address" minLength:"1" maxLength:"320" doc:"With the domain, or what goes before the @ of the account's main domain."`
	Password string `json:"password,omitempty" maxLength:"72"`
	Size     *int64 `json:"size,omitempty" minimum:"1" doc:"In bytes; as much as the account may give a mailbox where absent."`
}

// MailboxChange changes a mailbox; what is absent stays.
type MailboxChange struct {
	Password *string `json:"password,omitempty" maxLength:"72" doc:"Another one ends all sessions; empty takes the password away."`
	Size     *int64  `json:"size,omitempty" minimum:"0" doc:"In bytes; 0 is as much as the account may give a mailbox."`
}

// MailboxChanged is a mailbox that was added or changed.
type MailboxChanged struct {
	Mailbox   Mailbox `json:"mailbox"`
	Server    string  `json:"server" doc:"The name of the mail server."`
	Operation int64   `json:"operation"`
	Version   int64   `json:"version"`
}
