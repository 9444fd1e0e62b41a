// Package definition is what victualler-mail, the agent that writes for it, and the renderer of
// Postfix's configuration agree on: where things are, and how they look.
package definition

import (
	"encoding/json"
	"strings"

	"victualler/internal/hosting/mail"
)

// User is the user, and the group, that the program runs as.
const User = "victualler-mail"

// Where the program keeps and finds things.
const (
	// ConfigFile is a [Config], written by the agent.
	ConfigFile = "/etc/victualler-mail/config.json"
	// TableFile is what accounts have, written by the agent.
	TableFile = "/var/lib/victualler/mail/flow.db"
	// SocketDir is where Postfix asks; Postfix's processes are shut into the directory above it.
	SocketDir = "/var/spool/postfix/victualler"
	// ControlSocket is where the agent asks, in a directory of root's.
	ControlSocket = "/run/victualler-mail/control/socket"
	// SitesDir has a file for each account whose sites' mail goes through another server, a
	// [SendsBy], named after the account.
	SitesDir = "/etc/victualler-mail/sites"
	// LinkPort is where mail servers take what sites on other servers send (TCP).
	LinkPort = 7678
	// PIDFile has the number of the process.
	PIDFile = "/run/victualler-mail/pid"
)

// Sockets in [SocketDir].
const (
	PolicySocket  = "policy"
	MilterSocket  = "milter"
	ForwardSocket = "forward"
	// IncomingSocket is the milter for what others send.
	IncomingSocket = "incoming"
)

// Sockets of the spam filter, in a directory that this program alone may look into.
const (
	FilterDir   = "/var/lib/victualler/filter"
	JudgeSocket = "judge"
	TeachSocket = "teach"
)

// Config is what the program is told of its server.
type Config struct {
	// Name is the server's, as it greets others; empty where it is no mail server, so that all the
	// program does is to hand over what sites send.
	Name string `json:"name,omitempty"`
	// ReturnKey is [mail.Returns]' key.
	ReturnKey []byte `json:"return_key,omitempty"`
	// LinkKey is the seed of the key by which other servers know this one ([mail.LinkKey]).
	LinkKey []byte `json:"link_key,omitempty"`
	// Filter says that there is a spam filter.
	Filter bool `json:"filter"`
	// JunkAbove is the score in tenths from which on a message is no more than spam.
	JunkAbove int `json:"junk_above,omitempty"`
	// Leave is where members of lists leave them, with the list and a code behind it; empty where
	// there is no such place.
	Leave string `json:"leave,omitempty"`
	// Forbidden are what names of attachments must not end with, such as exe.
	Forbidden []string `json:"forbidden,omitempty"`
}

// Render is the text of a configuration.
func (c Config) Render() string { return render(c) }

// SendsBy is where what the sites of an account send goes through.
type SendsBy struct {
	Account int64 `json:"account"`
	// Address is the server's, with the port.
	Address string `json:"address"`
	// Key is what it shows.
	Key []byte `json:"key"`
}

// Render is the text of the account's file.
func (s SendsBy) Render() string { return render(s) }

func render(plain any) string {
	text, err := json.MarshalIndent(plain, "", "  ")
	if err != nil {
		panic(err) // plain data always has a text
	}
	return string(text) + "\n"
}

// Control is what the agent asks: who has left lists (“left”), which messages wait for the owners
// of one (“held”), or to send one on (“approve”) or remove it (“drop”).
type Control struct {
	Do   string `json:"do"`
	List string `json:"list,omitempty"`
	Post string `json:"post,omitempty"`
}

// Controlled is the answer.
type Controlled struct {
	// Gone says that there is no such message; Error what else is wrong.
	Gone  bool   `json:"gone,omitempty"`
	Error string `json:"error,omitempty"`

	Held []mail.HeldPost `json:"held,omitempty"`
	Left []Leave         `json:"left,omitempty"`
}

// Leave says that a member of one of an account's lists has left it by a message.
type Leave struct {
	Account int64 `json:"account"`
	// Code is the member's ([mail.LeaveCode]).
	Code string `json:"code"`
}

// Domains that exist between Postfix and this program alone (RFC 6761, section 6.4): the first for
// addresses that pass messages on, as LOCAL=DOMAIN@; the second for messages that come back.
const (
	ForwardDomain = "forward.invalid"
	ReturnDomain  = "return.invalid"
)

// ForwardRecipient is how Postfix is told to pass on what comes for an address. A catch-all has no
// local part.
func ForwardRecipient(address string) string {
	local, domain, _ := strings.Cut(strings.TrimPrefix(address, mail.CatchAll), "@")
	return local + "=" + domain + "@" + ForwardDomain
}

// Schema of the table file. The agent writes it. What has landed is not changed while programs run.
const Schema = `
create table if not exists accounts (name text primary key, hourly integer not null, bounce_share integer not null,
	silent integer not null, account integer not null) without rowid;
create unique index if not exists accounts_account on accounts (account);
create table if not exists stops (account integer primary key, at integer not null, sent integer not null,
	failed integer not null, released integer) without rowid;
create table if not exists mailboxes (address text primary key, hourly integer not null,
	account integer not null, junk_above integer not null default 0) without rowid;
create index if not exists mailboxes_account on mailboxes (account);
create table if not exists senders (address text not null, mailbox text not null, account integer not null,
	primary key (address, mailbox)) without rowid;
create index if not exists senders_account on senders (account);
create table if not exists forwards (address text not null, target text not null, account integer not null,
	primary key (address, target)) without rowid;
create index if not exists forwards_account on forwards (account);
create table if not exists replies (address text primary key, subject text not null, text text not null,
	starts integer not null, ends integer not null, account integer not null) without rowid;
create index if not exists replies_account on replies (account);
create table if not exists domains (name text primary key, place integer not null,
	account integer not null) without rowid;
create index if not exists domains_account on domains (account, place);
create table if not exists lists (address text primary key, name text not null, posting text not null,
	moderated integer not null, footer text not null, language text not null default '',
	account integer not null) without rowid;
create index if not exists lists_account on lists (account);
create table if not exists list_members (list text not null, address text not null, member integer not null,
	owner integer not null, joined integer not null, account integer not null,
	primary key (list, address)) without rowid;
create index if not exists list_members_account on list_members (account);
create table if not exists homes (name text primary key, home text not null,
	account integer not null) without rowid;
create unique index if not exists homes_account on homes (account);
create table if not exists keys (domain text primary key, selector text not null, key text not null,
	account integer not null) without rowid;
create index if not exists keys_account on keys (account);`

// Unlimited stands for no limit in the tables.
const Unlimited = -1
