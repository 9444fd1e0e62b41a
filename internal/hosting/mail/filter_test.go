package mail

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/refusal"
)

func test(field, how, value string) FilterTest {
	return FilterTest{Field: field, How: how, Value: value}
}

func TestCheckFilters(t *testing.T) {
	from := []FilterTest{test("from", "contains", "bo@harbourmail.test")}
	for _, good := range []Filter{{Tests: from, Folder: "Suppliers/Paint & Ropes"}, {Tests: from, Read: true},
		{Tests: from, Drop: true}, {Tests: from, Flag: true, Folder: "Übrige"},
		{All: true, Tests: []FilterTest{test("list", "is", `a "b" \ c`), {Field: "size", How: "above", Bytes: 5}}, Read: true}} {
		assert.NoError(t, CheckFilters([]Filter{good}), "%+v", good)
	}
	for _, c := range []struct {
		bad  Filter
		says string
	}{
		{Filter{Folder: "A"}, "say what it looks at"}, {Filter{Tests: from}, "say what it does"},
		{Filter{Tests: from, Drop: true, Folder: "A"}, "no folder"},
		{Filter{Tests: from, Folder: "../A"}, "name of a folder"}, {Filter{Tests: from, Folder: "A//B"},
			"name of a folder"},
		{Filter{Tests: from, Folder: "/A"}, "name of a folder"}, {Filter{Tests: from, Folder: "~other"},
			"name of a folder"},
		{Filter{Tests: from, Folder: "A*"}, "name of a folder"}, {Filter{Tests: from, Folder: "A\nB"},
			"name of a folder"},
		{Filter{Tests: []FilterTest{test("from", "above", "5")}, Read: true}, "cannot look"},
		{Filter{Tests: []FilterTest{test("size", "above", "5")}, Read: true}, "cannot look"},
		{Filter{Tests: []FilterTest{test("body", "contains", "x")}, Read: true}, "cannot look"},
		{Filter{Tests: []FilterTest{test("subject", "contains", "a\r\nb")}, Read: true}, "cannot look"},
		{Filter{Tests: []FilterTest{test("subject", "contains", "")}, Read: true}, "cannot look"},
		{Filter{Tests: make([]FilterTest, 11), Read: true}, "at most"},
	} {
		err := CheckFilters([]Filter{{Tests: from, Read: true}, c.bad})
		var r *refusal.Refusal
		if assert.ErrorAs(t, err, &r, "%+v", c.bad) {
			assert.Contains(t, r.Detail, "filter 2: ")
			assert.Contains(t, r.Detail, c.says)
		}
	}
	assert.Error(t, CheckFilters(make([]Filter, MostFilters+1)))
}

func TestSieve(t *testing.T) {
	assert.Empty(t, Sieve(nil))
	assert.Equal(t, `require ["copy", "fileinto", "imap4flags", "mailbox"];

if allof (address :contains "from" "bo@harbourmail.test",
	size :over 1048576) {
	addflag "\\Seen";
	fileinto :create "Sup\"pliers\\x";
	stop;
}

if anyof (header :is "subject" "tide") {
	addflag "\\Flagged";
}

if anyof (address :contains ["to", "cc"] "crew@") {
	discard;
	stop;
}
`, Sieve([]Filter{
		{All: true, Tests: []FilterTest{test("from", "contains", "bo@harbourmail.test"),
			{Field: "size", How: "above", Bytes: 1 << 20}}, Folder: `Sup"pliers\x`, Read: true},
		{Tests: []FilterTest{test("subject", "is", "tide")}, Flag: true},
		{Tests: []FilterTest{test("to", "contains", "crew@")}, Drop: true}}))
}

// FuzzSieve looks for texts that get out of their quotes: what is left of a script without its
// quoted texts must always be the same.
func FuzzSieve(f *testing.F) {
	f.Add("bo@harbourmail.test", "Suppliers")
	f.Add(`"; discard; #`, `a\"b`)
	f.Fuzz(func(t *testing.T, text, folder string) {
		list := []Filter{{Tests: []FilterTest{test("subject", "contains", text)}, Folder: folder}}
		if CheckFilters(list) != nil {
			return
		}
		assert.Equal(t, unquoted(Sieve([]Filter{{Tests: []FilterTest{test("subject", "contains", "x")}, Folder: "y"}})),
			unquoted(Sieve(list)))
	})
}

// unquoted is a script without what is in quotes (RFC 5228, section 2.4.2).
func unquoted(script string) string {
	var out strings.Builder
	inside := false
	for at := 0; at < len(script); at++ {
		switch c := script[at]; {
		case inside && c == '\\':
			at++
		case c == '"':
			inside = !inside
		case !inside:
			out.WriteByte(c)
		}
	}
	return out.String()
}
