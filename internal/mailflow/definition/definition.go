// Package definition is what victualler-mail, the agent that writes for it, and the renderer of
// Postfix's configuration agree on: where things are, and how they look.
package definition

import (
	"encoding/base64"
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
	// PIDFile has the number of the process.
	PIDFile = "/run/victualler-mail/pid"
)

// Sockets in [SocketDir].
const (
	PolicySocket  = "policy"
	MilterSocket  = "milter"
	ForwardSocket = "forward"
)

// Config is what the program is told of its server.
type Config struct {
	// Name is the server's, as it greets others.
	Name string `json:"name"`
	// ReturnKey is [mail.Returns]' key.
	ReturnKey []byte `json:"return_key"`
}

// RenderConfig is the text of a configuration with a key in base 64.
func RenderConfig(name, returnKey string) (string, error) {
	key, err := base64.StdEncoding.DecodeString(returnKey)
	if err != nil {
		return "", err
	}
	text, err := json.MarshalIndent(Config{Name: name, ReturnKey: key}, "", "  ")
	return string(text) + "\n", err
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
	account integer not null) without rowid;
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
create table if not exists keys (domain text primary key, selector text not null, key text not null,
	account integer not null) without rowid;
create index if not exists keys_account on keys (account);`

// Unlimited stands for no limit in the tables.
const Unlimited = -1
