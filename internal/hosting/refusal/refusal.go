// Package refusal holds the one error type by which the core and the use cases
// say no: what is wrong, why, and what to do about it.
//
// A refusal means that nothing was changed. Its kind is stable: it becomes the
// problem type of the HTTP API (RFC 9457, section 3.1.1) and decides the
// client's exit code.
package refusal

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"victualler/internal/hosting/language"
)

// Kind names a sort of refusal. Kinds are part of the public interface: never
// renamed, only added.
type Kind string

// The kinds.
const (
	InvalidInput      Kind = "invalid-input"      // one or more fields are wrong; see Fields
	NotFound          Kind = "not-found"          // not there, or not for this actor: the same answer on purpose
	NotAllowed        Kind = "not-allowed"        // the actor's rights do not cover it
	NotSignedIn       Kind = "not-signed-in"      // no session, or one that has ended
	WrongSignIn       Kind = "wrong-sign-in"      // wrong name or password
	TooManyTries      Kind = "too-many-tries"     // sign-in is throttled for a while
	NameTaken         Kind = "name-taken"         // a name that must be unique is in use
	DomainTaken       Kind = "domain-taken"       // the domain, one above it or one below it is hosted already
	LimitReached      Kind = "limit-reached"      // an allowance leaves no room; see Limits
	ServerClosed      Kind = "server-closed"      // the server takes no new accounts
	ServerUnreachable Kind = "server-unreachable" // the agent did not answer
	// DatabaseUnreachable is all that can be said while the service's database is restarted, or
	// another machine takes its place: whether a change was made is not known.
	DatabaseUnreachable Kind = "database-unreachable"
	ServerFull          Kind = "server-full" // no disk space left for it
	NoServer            Kind = "no-server"   // no server fits; see Detail for why each did not
	// somebody else changed it since it was read (RFC 9110, section 13.1.1)
	Changed       Kind = "changed-meanwhile"
	WrongState    Kind = "wrong-state"            // not possible in the state the thing is in
	KeyReused     Kind = "idempotency-key-reused" // the same Idempotency-Key with another request
	ApplyFailed   Kind = "apply-failed"           // a server's program refused the result
	InUse         Kind = "in-use"                 // cannot be removed while others depend on it
	NeedsDecision Kind = "needs-decision"         // the request must say what is to become of something; see Decide
	Suspended     Kind = "suspended"              // switched off for a reason that the detail tells
	// the password fits; a code of the second factor is needed as well
	NeedsCode Kind = "needs-code"
	// the person has to set a password or a second factor before anything else
	MustDoFirst  Kind = "must-do-first"
	LinkEnded    Kind = "link-ended"    // a one-time link was used, has ended, or never was
	WeakPassword Kind = "weak-password" // a password that would soon be guessed
	MailFailed   Kind = "mail-failed"   // the mail server did not take a message
)

// Kinds lists every kind.
var Kinds = []Kind{InvalidInput, NotFound, NotAllowed, NotSignedIn, WrongSignIn, TooManyTries, NameTaken, DomainTaken,
	LimitReached, ServerClosed,
	ServerUnreachable, ServerFull, NoServer, Changed, WrongState, KeyReused, ApplyFailed, InUse,
	NeedsDecision, Suspended, NeedsCode, MustDoFirst, LinkEnded, WeakPassword, MailFailed}

// Field is one wrong field of the input.
type Field struct {
	// Name is the JSON name of the field, with dots for nesting.
	Name string `json:"name"`
	// Message says what is wrong with it and what would be right, in English until [Refusal.In].
	Message string `json:"message"`
	text    language.Text
}

// Wrong makes a field with a formatted message.
func Wrong(name, format string, args ...any) Field {
	text := language.New(format, args...)
	return Field{name, text.String(), text}
}

// In returns a copy that is said in a language.
func (f Field) In(tag string) Field {
	f.Message = f.Text().In(tag)
	return f
}

// Text is the message, to be said in any language.
func (f Field) Text() language.Text {
	if f.text.IsZero() {
		return language.Plain(f.Message)
	}
	return f.text
}

// Limit tells how far an allowance reaches.
type Limit struct {
	// Key is the limit's JSON key, such as "domains".
	Key string `json:"key"`
	// Value is what is allowed, in the limit's unit; sizes are bytes.
	Value int64 `json:"value"`
	// Used is what is used or given out now, and Left what remains, at least 0;
	// both in the same unit.
	Used int64 `json:"used"`
	Left int64 `json:"left"`
	// Source says where the value comes from, such as "plan harbour".
	Source string `json:"source"`
	// RaisedBy says who can raise it.
	RaisedBy         string `json:"raised_by"`
	source, raisedBy language.Text
}

// From returns a copy that says where the value comes from.
func (l Limit) From(source language.Text) Limit {
	l.Source, l.source = source.String(), source
	return l
}

// Refusal is the error. Detail is one sentence or two for a person, in English until [Refusal.In].
type Refusal struct {
	Kind   Kind
	Detail string
	text   language.Text
	Fields []Field
	// Limits are those that leave no room, for [LimitReached].
	Limits []Limit
	// Decide are the decisions of which the request must name one, for [NeedsDecision].
	Decide []Choice
	// After is how long to wait before trying again, for [TooManyTries]; whole seconds.
	After time.Duration
	// Remedy is what would let the request through, where that is known; nil otherwise.
	Remedy *Remedy
}

// Helper is who can do something about a refusal. The words are those of roles.
type Helper string

// The helpers. Whatever a reseller can do, an operator can do as well.
const (
	Operator Helper = "operator"
	Reseller Helper = "reseller"
	// Anybody is whoever was refused.
	Anybody Helper = "anybody"
)

// Remedy is what would let a request through, and who can do it. Nobody is sent to somebody else
// for what they can do themselves.
type Remedy struct {
	By Helper
	// Do is what there is to do, such as “choose another plan or set an exception”.
	Do language.Text
	// Command does it with the client, with real names in it; empty where that would be more than
	// one line.
	Command string
}

// For says the remedy to somebody with a role: what to do, or who can do it. The zero role is
// whoever reads it later.
func (m Remedy) For(role string) language.Text {
	switch {
	case m.Do.IsZero():
		return m.Do
	case role == string(Operator) || role == string(m.By) || m.By == Anybody:
		if m.Command != "" {
			return language.New("%s (victualler %s)", m.Do, m.Command)
		}
		return m.Do
	case m.By == Reseller:
		return language.New("the reseller can %s", m.Do)
	}
	return language.New("an operator can %s", m.Do)
}

// Help returns a copy with a remedy.
func (r *Refusal) Help(m Remedy) *Refusal {
	c := *r
	c.Remedy = &m
	return &c
}

// For returns a copy as somebody with a role is told it: with the remedy in the detail, in the
// messages of fields that repeat it, and in the limits.
func (r *Refusal) For(role string) *Refusal {
	if r.Remedy == nil {
		return r
	}
	c := *r
	help := r.Remedy.For(role)
	c.Remedy = nil
	c.say(language.New("%s; %s", r.Text(), help))
	c.Fields, c.Limits = slices.Clone(r.Fields), slices.Clone(r.Limits)
	for i := range c.Fields {
		if c.Fields[i].Message == r.Detail {
			c.Fields[i] = Field{c.Fields[i].Name, c.Detail, c.text}
		}
	}
	for i := range c.Limits {
		c.Limits[i].RaisedBy, c.Limits[i].raisedBy = help.String(), help
	}
	return &c
}

func (r *Refusal) say(text language.Text) { r.Detail, r.text = text.String(), text }

// Text is the detail, to be said in any language.
func (r *Refusal) Text() language.Text {
	if r.text.IsZero() {
		return language.Plain(r.Detail)
	}
	return r.text
}

// In returns a copy that is said in a language.
func (r *Refusal) In(tag string) *Refusal {
	c := *r
	c.Detail = r.Text().In(tag)
	c.Fields, c.Limits, c.Decide = slices.Clone(r.Fields), slices.Clone(r.Limits), slices.Clone(r.Decide)
	for i, f := range c.Fields {
		c.Fields[i] = f.In(tag)
	}
	for i, l := range c.Limits {
		c.Limits[i].Source, c.Limits[i].RaisedBy = l.source.In(tag), l.raisedBy.In(tag)
	}
	for i, d := range c.Decide {
		c.Decide[i].Means = d.means.In(tag)
	}
	return &c
}

// Choice is one way to decide what a request left open.
type Choice struct {
	// Field is the JSON name of the field that takes the decision, Value what to put there.
	Field string `json:"field"`
	Value string `json:"value"`
	// Means says what would then be done.
	Means string `json:"means"`
	means language.Text
}

// Decision makes a choice with a formatted meaning.
func Decision(field, value, format string, args ...any) Choice {
	text := language.New(format, args...)
	return Choice{field, value, text.String(), text}
}

// Error returns the detail, with the remedy and the field messages after it.
func (r *Refusal) Error() string {
	text := r.For("").Detail
	for _, f := range r.Fields {
		if f.Message != r.Detail {
			text += fmt.Sprintf("; %s: %s", f.Name, f.Message)
		}
	}
	return text
}

// New makes a refusal with a formatted detail.
func New(kind Kind, format string, args ...any) *Refusal {
	r := &Refusal{Kind: kind}
	r.say(language.New(format, args...))
	return r
}

// Input makes an [InvalidInput] refusal about one field.
func Input(field, format string, args ...any) *Refusal {
	return New(InvalidInput, format, args...).On(field)
}

// At returns a copy that names the fields at fault.
func (r *Refusal) At(fields []Field) *Refusal {
	c := *r
	c.Fields = fields
	return &c
}

// Choose returns a copy that names the decisions of which the request must take one.
func (r *Refusal) Choose(choices ...Choice) *Refusal {
	c := *r
	c.Decide = choices
	return &c
}

// On returns a copy that names the field at fault.
func (r *Refusal) On(field string) *Refusal {
	c := *r
	c.Fields = []Field{{field, r.Detail, r.Text()}}
	return &c
}

// InLine says of a refusal in which of many lines it is, and of what. Other errors stay as they
// are.
func InLine(line int, of string, err error) error {
	r := As(err)
	if r == nil {
		return err
	}
	c := *r
	c.say(language.New("line %d, %s: %s", line, of, r.Text()))
	c.Fields = nil
	return &c
}

// As returns the refusal in err's chain, or nil.
func As(err error) *Refusal {
	var r *Refusal
	if errors.As(err, &r) {
		return r
	}
	return nil
}

// Is reports whether err is a refusal of that kind.
func Is(err error, kind Kind) bool {
	r := As(err)
	return r != nil && r.Kind == kind
}
