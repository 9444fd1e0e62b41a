package databases

import (
	"fmt"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
)

// Statement is one that an engine is given.
type Statement struct {
	// In is the database in which PostgreSQL is given it; empty is any.
	In string
	// SQL is the statement.
	SQL string
	// Shown is what people see of it; empty is all. It hides passwords.
	Shown string
	// Setup says that it is one of many that are the same for every database: people see how many
	// there are.
	Setup bool
}

// String is what people see.
func (s Statement) String() string {
	text := s.SQL
	if s.Shown != "" {
		text = s.Shown
	}
	if s.In != "" {
		return "[" + s.In + "] " + text + ";"
	}
	return text + ";"
}

// Difference is where a catalogue is not as it should be, and what puts it right.
type Difference struct {
	Subject    string
	Detail     language.Text
	Statements []Statement
	// Ends are users who are disconnected afterwards, as what they had is no longer theirs.
	Ends []string
	// Drops says that a database goes for good: it is done when all else has been verified.
	Drops bool
	// Prepares is the database of PostgreSQL that is set up within by it; empty is none.
	Prepares string
}

// Text is the statements of a difference, a line each.
func (d Difference) Text() string {
	var text strings.Builder
	setup := 0
	for _, s := range d.Statements {
		if s.Setup {
			setup++
			continue
		}
		text.WriteString(s.String() + "\n")
	}
	if setup > 0 {
		fmt.Fprintf(&text, "-- and %d statements within the database, so that its users have it to themselves\n", setup)
	}
	return text.String()
}

// Account is what an engine is to hold for one account.
type Account struct {
	Databases []Database
	// Users are with their passwords' verifiers, in the form that the engine keeps.
	Users  []UserWithVerifier
	Growth Growth
	// Suspended has nobody connect.
	Suspended bool
}

// UserWithVerifier is a user with what its password is checked with; empty has nobody sign in.
type UserWithVerifier struct {
	User
	Verifier string
}

// quoteText writes a text as an SQL literal. Those that get here have been checked to need it not;
// a backslash would mean something to one engine alone.
func quoteText(text string) string {
	if strings.ContainsAny(text, "\\\x00") {
		panic(fmt.Sprintf("%q is no text for a statement", text))
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

// sorted returns the keys of a map in order.
func sorted[V any](m map[string]V) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
