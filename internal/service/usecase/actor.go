package usecase

import (
	"net/netip"
	"strings"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/rights"
)

// Actor is who makes a request, and from where.
type Actor struct {
	PersonID int64
	Name     string
	// Subject is what the actor's rights follow from.
	rights.Subject
	// ResellerID and CustomerID bound what the actor reaches: a reseller what is theirs, a customer
	// what is theirs. Both are 0 for operators, who reach everything.
	ResellerID, CustomerID int64
	// Reseller is the name of the reseller, for resellers.
	Reseller string
	// OnBehalf is as whom the actor acts, if not as themselves.
	OnBehalf string
	// Language is what the actor reads (RFC 5646); empty is English.
	Language string
	// Address is the network address, Request the number of the
	// request, Program what the browser or client calls itself.
	Address, Request, Program string
	// SessionID is the session, if there is one; SessionEnds when it ends without use,
	// SessionEndsLatest when it ends at all.
	SessionID                      int64
	SessionEnds, SessionEndsLatest time.Time
	// MustFirst lists what has to be done about the sign-in before anything else.
	MustFirst []string
	// TokenNetworks are where the token may be used from, if there are bounds; TokenEnds is when it
	// ends, if it does.
	TokenNetworks []netip.Prefix
	TokenEnds     *time.Time
	// Mailbox is the address of the mailbox whose holder the actor is, if nothing else.
	Mailbox string
	// IdempotencyKey is the request's, if it has one; RequestDigest tells two
	// requests with the same key apart.
	IdempotencyKey string
	RequestDigest  []byte
	// Preview collects what would be done; nothing is. Nil does it.
	Preview *Preview
	// Notes collects what is worth knowing of what is done; nil where nobody reads it.
	Notes *Notes
	// partOf is the operation of which those that the actor starts are a part; 0 for none.
	partOf int64
}

// Within is the actor for operations that are a part of another one: people are not shown them by
// themselves.
func (a Actor) Within(operation int64) Actor {
	a.partOf = operation
	return a
}

// System is the actor of what happens automatically.
func System() Actor { return Actor{Name: "victuallerd", Address: "this machine"} }

// Say says a format with its values in the actor's language.
func (a Actor) Say(format string, args ...any) string {
	return language.New(format, args...).In(a.Language)
}

// SayPlain says a text that is there as a whole, such as a title.
func (a Actor) SayPlain(text string) string { return language.Plain(text).In(a.Language) }

// SayKept says a text that was kept ([language.Text.Encode]).
func (a Actor) SayKept(column string) string { return language.Decode(column).In(a.Language) }

// SaySubject says what an operation or an event is of, which begins
// with a noun: "account 7 ferries".
func (a Actor) SaySubject(text string) string {
	noun, name, _ := strings.Cut(text, " ")
	return strings.TrimSpace(a.SayPlain(noun) + " " + name)
}

// SayAll says texts in the actor's language.
func (a Actor) SayAll(texts []language.Text) []string {
	said := make([]string, len(texts))
	for i, text := range texts {
		said[i] = text.In(a.Language)
	}
	return said
}

// Scope returns the bounds for queries: of two objects named alike, the actor reaches the one that
// is theirs. A scope of 0 is no bound.
func (a Actor) Scope() (reseller, customer int64) {
	if a.Role == rights.Customer {
		return 0, a.CustomerID
	}
	return a.ResellerID, 0
}

// OwnerID is the reseller to whom what the actor adds belongs; nil is the operator.
func (a Actor) OwnerID() *int64 {
	if a.ResellerID == 0 {
		return nil
	}
	return &a.ResellerID
}

// OrZero turns a nullable column into a bound.
func OrZero(column *int64) int64 {
	if column == nil {
		return 0
	}
	return *column
}
