// Package rights says who may do what. Every route of the API names one
// permission; every use case is behind a route. Whose objects somebody reaches is decided
// elsewhere, by where they are looked up: rights only know kinds of things.
package rights

import (
	"slices"

	"victualler/internal/hosting/refusal"
)

// Permission names something that can be done.
type Permission string

// The permissions. Public needs no session. Own is a person's own session, and Personal what else
// is theirs alone: password, second factor, sessions, tokens. OwnMailbox is what the holder of a
// mailbox may do with it, who may do nothing else.
const (
	Public             Permission = "public"
	Own                Permission = "own"
	Personal           Permission = "personal"
	OwnMailbox         Permission = "mailbox.own"
	AccountsRead       Permission = "accounts.read"
	AccountsOpen       Permission = "accounts.open"
	AccountsChange     Permission = "accounts.change"
	AccountsSuspend    Permission = "accounts.suspend"
	AccountsClose      Permission = "accounts.close"
	AccountsRepair     Permission = "accounts.repair"
	ExceptionsChange   Permission = "exceptions.change"
	DomainsChange      Permission = "domains.change"
	ZonesChange        Permission = "zones.change"
	LoginsChange       Permission = "logins.change"
	MailChange         Permission = "mail.change"
	DatabasesChange    Permission = "databases.change"
	DatabasesContents  Permission = "databases.contents"
	KitsRead           Permission = "kits.read"
	KitsOffer          Permission = "kits.offer"
	KitsRegister       Permission = "kits.register"
	KitsInstall        Permission = "kits.install"
	MessagesRead       Permission = "messages.read"
	QueueChange        Permission = "queue.change"
	SendingRelease     Permission = "sending.release"
	CertificatesChange Permission = "certificates.change"
	AuthoritiesRead    Permission = "authorities.read"
	AuthoritiesChange  Permission = "authorities.change"
	TemplatesRead      Permission = "templates.read"
	TemplatesChange    Permission = "templates.change"
	PlansRead          Permission = "plans.read"
	PlansChange        Permission = "plans.change"
	CustomersRead      Permission = "customers.read"
	CustomersChange    Permission = "customers.change"
	CustomersNotes     Permission = "customers.notes"
	NotesChange        Permission = "notes.change"
	ResellersRead      Permission = "resellers.read"
	ResellersChange    Permission = "resellers.change"
	BrandChange        Permission = "brand.change"
	PeopleRead         Permission = "people.read"
	PeopleChange       Permission = "people.change"
	PeopleActAs        Permission = "people.act_as"
	ServersRead        Permission = "servers.read"
	ServersChange      Permission = "servers.change"
	OperationsRead     Permission = "operations.read"
	EventsRead         Permission = "events.read"
	SettingsRead       Permission = "settings.read"
	SettingsChange     Permission = "settings.change"
)

// Role is what kind of person somebody is.
type Role string

// The roles.
const (
	Operator Role = "operator"
	Reseller Role = "reseller"
	Customer Role = "customer"
	// Holder is whoever has signed in to a mailbox. It is no role of people's.
	Holder Role = "holder"
)

// Duty narrows what an operator does.
type Duty string

// The duties. All is the duty of people who are not operators, too: it narrows nothing.
const (
	All      Duty = "all"
	Support  Duty = "support"   // customers and their accounts; neither plans nor servers
	Billing  Duty = "billing"   // what orders need, and nothing else
	ReadOnly Duty = "read-only" // looks, and changes nothing
)

// Duties lists every duty, with what it is for.
var Duties = []struct {
	Duty  Duty
	About string
}{
	{All, "everything"},
	{Support, "customers and their accounts; neither plans nor servers"},
	{Billing, "opening, suspending, closing and changing the plan of accounts, as orders ask for it"},
	{ReadOnly, "looking at everything, changing nothing"},
}

// entry is one line of the table of rights.
type entry struct {
	permission Permission
	// looks says that nothing is changed by it.
	looks bool
	// may lists who has it, besides operators with the duty All;
	// operators who only read have all that looks.
	support, billing, reseller, customer bool
	what                                 string
}

var table = []entry{
	{AccountsRead, true, true, true, true, true, "see accounts"},
	{AccountsOpen, false, true, true, true, false, "open accounts"},
	{AccountsChange, false, true, true, true, false, "change the plan of accounts, and freeze their limits"},
	{AccountsSuspend, false, true, true, true, false, "suspend and resume accounts"},
	{AccountsClose, false, true, true, true, false, "close accounts"},
	{AccountsRepair, false, true, false, true, false, "have accounts made right on their servers"},
	{ExceptionsChange, false, true, false, true, false, "set exceptions"},
	{DomainsChange, false, true, false, true, true, "add, change and remove domains and sites"},
	{ZonesChange, false, true, false, true, true, "change where the DNS of zones is hosted, and their records"},
	{LoginsChange, false, true, false, true, true, "add, change and remove sign-ins for file transfer"},
	{MailChange, false, true, false, true, true, "add, change and remove mailboxes and addresses"},
	{DatabasesChange, false, true, false, true, true, "add, change and remove databases and their users"},
	{DatabasesContents, false, true, false, true, true, "look into databases, execute statements, import and export"},
	{KitsInstall, false, true, false, true, true, "install, update and remove kits of sites"},
	{KitsRead, true, true, false, true, false, "see kits, and which plans offer them"},
	{KitsOffer, false, false, false, true, false, "choose which plans offer kits"},
	{KitsRegister, false, false, false, false, false, "register and remove kits"},
	{MessagesRead, true, true, false, true, true, "see what has become of messages, and which wait"},
	{QueueChange, false, true, false, true, true, "try, hold and remove messages that wait"},
	{SendingRelease, false, true, false, true, false, "have accounts send again that were stopped, as mail came back"},
	{CertificatesChange, false, true, false, true, true, "order and change certificates of sites"},
	{AuthoritiesRead, true, true, false, false, false, "see the authorities that issue certificates"},
	{AuthoritiesChange, false, false, false, false, false, "add, change and remove authorities"},
	{TemplatesRead, true, true, false, true, false, "see templates of sites"},
	{TemplatesChange, false, false, false, true, false, "add, change and remove templates of sites"},
	{PlansRead, true, true, true, true, false, "see plans"},
	{PlansChange, false, false, false, true, false, "add, change and remove plans"},
	{CustomersRead, true, true, true, true, true, "see customers"},
	{CustomersChange, false, true, true, true, false, "add, change and remove customers"},
	{CustomersNotes, true, true, false, true, false, "read staff notes about customers"},
	{NotesChange, false, true, false, true, false, "keep staff notes about customers"},
	{ResellersRead, true, true, false, true, false, "see resellers and their shares"},
	{ResellersChange, false, false, false, false, false, "add, change, suspend and remove resellers"},
	{BrandChange, false, false, false, true, false, "change a reseller's brand"},
	{PeopleRead, true, true, false, true, true, "see who can sign in"},
	{PeopleChange, false, true, false, true, true, "add, change and remove who can sign in"},
	{PeopleActAs, false, true, false, true, false, "act as a customer"},
	{ServersRead, true, false, false, false, false, "see servers"},
	{ServersChange, false, false, false, false, false, "join, change, repair and remove servers"},
	{OperationsRead, true, true, true, true, true, "see operations"},
	{EventsRead, true, true, false, true, true, "see the record of who did what"},
	{SettingsRead, true, false, false, false, false, "see the installation's settings"},
	{SettingsChange, false, false, false, false, false, "change the installation's settings"},
}

// Scopes lists every permission that a token can be given, with what it is for.
func Scopes() (permissions []Permission, about map[Permission]string) {
	about = map[Permission]string{}
	for _, e := range table {
		permissions = append(permissions, e.permission)
		about[e.permission] = e.what
	}
	return permissions, about
}

// Subject is what matters for rights about whoever makes a request. The zero value is a stranger.
type Subject struct {
	Role Role
	Duty Duty
	// ReadOnly says that the person may look and not change anything.
	ReadOnly bool
	// MustFirst says that the person has to do something about their sign-in before anything else.
	MustFirst bool
	// Acting says that somebody else is at work on the person's behalf.
	Acting bool
	// Token says that a program makes the request, with a token of the
	// person's; Scopes is what that token allows.
	Token  bool
	Scopes []Permission
}

// Allows reports whether the subject has a permission.
func (s Subject) Allows(p Permission) bool {
	switch {
	case p == Public:
		return true
	case s.Role == "":
		return false
	case s.Role == Holder || p == OwnMailbox:
		return s.Role == Holder && p == OwnMailbox
	case p == Own:
		return true
	case p == Personal:
		return !s.Token && !s.Acting
	case s.MustFirst:
		return false
	case s.Token && !slices.Contains(s.Scopes, p):
		return false
	}
	at := slices.IndexFunc(table, func(e entry) bool { return e.permission == p })
	if at < 0 {
		return false
	}
	e := table[at]
	if s.ReadOnly && !e.looks {
		return false
	}
	switch s.Role {
	case Operator:
		switch s.Duty {
		case All:
			return true
		case Support:
			return e.support
		case Billing:
			return e.billing
		case ReadOnly:
			return e.looks
		}
	case Reseller:
		return e.reseller
	case Customer:
		return e.customer
	}
	return false
}

// Require returns nil if the subject has a permission, and says what is in the way if not.
func (s Subject) Require(p Permission) error {
	if s.Allows(p) {
		return nil
	}
	without := s
	switch {
	case s.Role == "":
		return refusal.New(refusal.NotSignedIn, "sign in first")
	case s.MustFirst && p != Personal:
		return refusal.New(refusal.MustDoFirst,
			"your password or your second factor has to be set first; the console leads you there")
	case s.Token && p == Personal:
		return refusal.New(refusal.NotAllowed, "a token cannot do this (%s); sign in as a person", p)
	case s.Acting && p == Personal:
		return refusal.New(refusal.NotAllowed, "this is the person's own business (%s); stop acting first", p)
	}
	without.Token = false
	if s.Token && without.Allows(p) {
		return refusal.New(refusal.NotAllowed, "this token's scopes do not include %s; make another one that does", p)
	}
	without.ReadOnly = false
	if s.ReadOnly && without.Allows(p) {
		return refusal.New(refusal.NotAllowed,
			"you may look, and not change anything (%s); whoever looks after your sign-in can change that", p)
	}
	return refusal.New(refusal.NotAllowed, "your rights do not include this (%s); ask an operator", p)
}

// MayManage reports whether the subject may look after the sign-ins of people with a role: make and
// remove them, and give them passwords and links.
func (s Subject) MayManage(role Role) bool {
	if !s.Allows(PeopleChange) {
		return false
	}
	switch s.Role {
	case Operator:
		return s.Duty == All || role == Customer
	case Reseller:
		return role == Reseller || role == Customer
	}
	return role == Customer
}

// Beyond lists what somebody else could do, signed in as themselves, that the subject cannot.
func (s Subject) Beyond(other Subject) []Permission {
	permissions, _ := Scopes()
	return slices.DeleteFunc(permissions, func(p Permission) bool { return s.Allows(p) || !other.Allows(p) })
}

// MayLift reports whether the subject may lift what somebody with a role has put on an account, as
// a suspension: a reseller cannot undo what an operator did.
func (s Subject) MayLift(by Role) bool { return s.Role == Operator || s.Role == by }

// MayActAs reports whether the subject may act on behalf of people with a role. Nobody gets more
// rights by it than they have.
func (s Subject) MayActAs(role Role) bool {
	switch {
	case s.Acting || !s.Allows(PeopleActAs):
		return false
	case role == Customer:
		return true
	}
	return role == Reseller && s.Role == Operator && s.Duty == All
}
