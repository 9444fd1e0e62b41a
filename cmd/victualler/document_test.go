package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// file writes a file and returns its path.
func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "documents.jsonl")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// What was exported is taken in again, and nothing has changed; what is
// changed in it changes there.
func TestDocumentsOutAndIn(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(typed{line: "template add island compression=off --about 'for the island'"},
		typed{line: "plan add skiff --limits disk=500M,domains=2 --features mail=on --template island"})
	code, plans, _ := s.run("plan export", "")
	require.Equal(t, done, code)
	assert.Equal(t, 2, strings.Count(plans, "\n"), "a line for each")
	assert.Contains(t, plans, `"template":"island"`)
	code, templates, _ := s.run("template export island", "")
	require.Equal(t, done, code)
	code, accounts, _ := s.run("account export ternferries.example", "")
	require.Equal(t, done, code)
	assert.Contains(t, accounts, `"domain":"ternferries.example","plan":"harbour","customer":"Tern Ferries"`)

	s.session(
		typed{line: "plan import --yes -", in: plans, says: []string{"skiff: is as the document says",
			"harbour: is as"}},
		typed{line: "template import --yes -", in: templates, says: []string{"island: is as the document says"}},
		typed{line: "plan import --yes " + file(t, strings.ReplaceAll(plans, `"skiff"`, `"yawl"`)),
			says: []string{"yawl: added"}},
		typed{line: "plan show yawl", says: []string{"500M"}},
		typed{line: "plan import --preview -", in: `{"name": "yawl", "limits": {"domains": 7}}`,
			says: []string{"domains", "!yawl: changed"}},
		typed{line: "plan show yawl -o json", says: []string{`"domains": 2`}},
		typed{line: "plan import --yes -", in: `{"name": "yawl", "limits": {"domains": 7}, "template": "island"}`,
			says: []string{"yawl: changed"}},
		typed{line: "plan show yawl -o json", says: []string{`"domains": 7`}},
		typed{line: "template import --yes -", in: `{"name": "island", "about": "new", "settings": {}}`,
			says: []string{"island: changed"}},
		typed{line: "template show island -o json", says: []string{`"about": "new"`, "!compression"}},
	)
	for name, l := range map[string]typed{
		"an unknown field": {in: `{"name": "a1", "colour": "red"}`, says: []string{`no field "colour"`, "line 1"}},
		"another kind": {in: "{\"name\": \"a1\"}\n{\"name\": 7}", says: []string{"name is a number here",
			"line 2"}},
		"nothing":           {in: "", says: []string{"has no plan in it"}},
		"no document":       {in: "skiff", says: []string{"this is no JSON object"}},
		"a limit too many":  {in: `{"name": "a1", "limits": {"boats": 1}}`, code: wrongUse, says: []string{"boats"}},
		"a file that isn't": {line: "plan import --yes /nowhere", says: []string{"cannot be read"}},
	} {
		if l.line == "" {
			l.line = "plan import --yes -"
		}
		if l.code == 0 {
			l.code = wrongUse
		}
		t.Run(name, func(t *testing.T) { s.session(l) })
	}
}

func TestGiveAccount(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "customer add 'Auk Bakery'"},
		typed{line: "account change ternferries.example --customer 'Auk Bakery' --preview",
			says: []string{"give ternferries.example from Tern Ferries to Auk Bakery", "its passwords and keys"}},
		typed{line: "account change ternferries.example --customer 'Auk Bakery'",
			says: []string{"ternferries.example is Auk Bakery’s"}},
		typed{line: "account show ternferries.example", says: []string{"Auk Bakery", "!Tern Ferries"}},
		typed{line: "account list --search auk", says: []string{"ternferries.example"}},
		typed{line: "account change ternferries.example --customer 'Auk Bakery'", code: failed,
			says: []string{"Auk Bakery’s already"}},
		typed{line: "account change ternferries.example --customer Nobody", code: failed, says: []string{`"Nobody"`}},
		typed{line: "event list --action account.give", says: []string{"ternferries"}},
	)
}

func TestSearchAndOverview(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "search ferries", says: []string{"account\tternferries", "domain\tternferries.example",
			"customer\tTern Ferries", "zone\tternferries.example"}},
		typed{line: "search skua", says: []string{"server\tskua"}},
		typed{line: "search nosuchthing", says: []string{`nothing is called anything like "nosuchthing"`}},
		typed{line: "search ferries --limit 1", says: []string{"there are more"}},
		typed{line: "search", code: wrongUse, says: []string{"WORD is missing"}},
		typed{line: "overview", says: []string{"nothing needs anybody now"}},
		typed{line: "overview -o json", says: []string{`"attention": []`, `"figures"`}},
		typed{line: "account list --needs disk", says: []string{"nothing matches --needs disk"}},
		typed{line: "account list --needs boats", code: wrongUse, says: []string{"drift, warning or disk"}},
	)
}
