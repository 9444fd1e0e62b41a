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
	"time"
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
	// Message says what is wrong with it and what would be right.
	Message string `json:"message"`
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
	RaisedBy string `json:"raised_by"`
}

// Refusal is the error. Detail is one sentence or two for a person.
type Refusal struct {
	Kind   Kind
	Detail string
	Fields []Field
	// Limits are those that leave no room, for [LimitReached].
	Limits []Limit
	// Decide are the decisions of which the request must name one, for [NeedsDecision].
	Decide []Choice
	// After is how long to wait before trying again, for [TooManyTries]; whole seconds.
	After time.Duration
}

// Choice is one way to decide what a request left open.
type Choice struct {
	// Field is the JSON name of the field that takes the decision, Value what to put there.
	Field string `json:"field"`
	Value string `json:"value"`
	// Means says what would then be done.
	Means string `json:"means"`
}

// Error returns the detail, with the field messages after it.
func (r *Refusal) Error() string {
	text := r.Detail
	for _, f := range r.Fields {
		if f.Message != r.Detail {
			text += fmt.Sprintf("; %s: %s", f.Name, f.Message)
		}
	}
	return text
}

// New makes a refusal with a formatted detail.
func New(kind Kind, format string, args ...any) *Refusal {
	return &Refusal{Kind: kind, Detail: fmt.Sprintf(format, args...)}
}

// Input makes an [InvalidInput] refusal about one field.
func Input(field, format string, args ...any) *Refusal {
	message := fmt.Sprintf(format, args...)
	return &Refusal{Kind: InvalidInput, Detail: message, Fields: []Field{{field, message}}}
}

// On returns a copy that names the field at fault.
func (r *Refusal) On(field string) *Refusal {
	c := *r
	c.Fields = []Field{{field, r.Detail}}
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
