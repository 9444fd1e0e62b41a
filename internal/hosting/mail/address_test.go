package mail_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
)

func domain(t testing.TB, name string) names.Domain {
	d, _, err := names.ParseDomain(name)
	require.NoError(t, err)
	return d
}

func TestParseLocal(t *testing.T) {
	ferries := domain(t, "ternferries.example")
	for typed, want := range map[string]string{
		"info":                        "info",
		" Info ":                      "info",
		"info@ternferries.example":    "info",
		"INFO@TernFerries.example":    "info",
		"first.last":                  "first.last",
		"a-b_c.9":                     "a-b_c.9",
		"*":                           mail.CatchAll,
		strings.Repeat("a", 64):       strings.Repeat("a", 64),
		"postmaster":                  "postmaster",
		"*@ternferries.example":       mail.CatchAll,
		"info@TERNFERRIES.EXAMPLE   ": "info",
	} {
		local, _, err := mail.ParseLocal(typed, ferries)
		if assert.NoError(t, err, typed) {
			assert.Equal(t, want, local)
		}
	}
	for typed, says := range map[string]string{
		"":                        "type what goes before the @",
		"@ternferries.example":    "type what goes before the @",
		"info@other.example":      "not an address of ternferries.example",
		"info@":                   "not an address of ternferries.example",
		"first last":              "write first.last",
		"anna+shop":               "reaches anna@ternferries.example",
		"müller":                  "write mueller",
		"мария":                   "letters from a to z",
		".info":                   "letters from a to z",
		"info.":                   "letters from a to z",
		"a..b":                    "letters from a to z",
		`"in fo"`:                 "no spaces",
		"a/b":                     "letters from a to z",
		"a%b":                     "letters from a to z",
		"a|b":                     "letters from a to z",
		"a\x00b":                  "letters from a to z",
		"a\nb":                    "letters from a to z",
		"-a":                      "letters from a to z",
		strings.Repeat("a", 65):   "too long",
		"a@b@ternferries.example": "not an address of ternferries.example",
	} {
		_, _, err := mail.ParseLocal(typed, ferries)
		r := refusal.As(err)
		if assert.NotNil(t, r, typed) {
			assert.Equal(t, refusal.InvalidInput, r.Kind)
			assert.Contains(t, r.Error(), says, typed)
		}
	}
	_, corrections, err := mail.ParseLocal("Info", ferries)
	require.NoError(t, err)
	require.Len(t, corrections, 1)
	assert.Equal(t, "Info is written in small letters: info", corrections[0].String())
}

// What is accepted is safe in every file and query that is rendered of it.
func FuzzParseLocal(f *testing.F) {
	ferries := domain(f, "ternferries.example")
	f.Add("info")
	f.Add("a'; drop table mailboxes; --")
	f.Fuzz(func(t *testing.T, typed string) {
		local, _, err := mail.ParseLocal(typed, ferries)
		if err != nil {
			return
		}
		assert.LessOrEqual(t, len(local), 64)
		assert.Regexp(t, `^(\*|[a-z0-9]([a-z0-9._-]*[a-z0-9])?)$`, local)
		again, corrections, err := mail.ParseLocal(local, ferries)
		require.NoError(t, err)
		assert.Empty(t, corrections)
		assert.Equal(t, local, again)
	})
}
