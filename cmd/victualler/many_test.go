package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
)

func TestManyAccountsAtOnce(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "account open bakery.example --plan harbour --customer Bakery --new-customer"},
		typed{line: "account open surf.example --plan harbour --customer 'Tern Ferries'"},
		typed{line: "account suspend --why x", code: wrongUse,
			says: []string{"name an account, or select some with --search, " +
				"--plan, --customer, --reseller or --server"}},
		typed{line: "account suspend surf --plan harbour --why x", code: wrongUse, says: []string{"but not both"}},
		typed{line: "account suspend --plan harbour --why x", code: wrongUse, says: []string{"surf.example",
			"add --yes"}},
		typed{line: "account suspend --plan nosuch --why x --yes", code: failed, says: []string{"nosuch"}},
		typed{line: "account suspend --search nothing --why x --yes", code: failed,
			says: []string{"no account is selected"}},
		typed{line: "account suspend --customer 'Tern Ferries' --why 'not paid' --preview",
			says: []string{"would suspend", "nothing was done", "!bakery"}},
		typed{line: "account suspend --customer 'Tern Ferries' --why 'not paid' --yes",
			says: []string{"ternferries  done in", "surf  done in", "2 of 2 done", "!bakery"}},
		typed{line: "account list --state suspended", says: []string{"surf", "ternferries", "!bakery"}},
		typed{line: "account suspend ternferries bakery --why x --yes", code: failed,
			says: []string{"ternferries  ternferries is suspended already", "bakery  done in", "1 of 2 done",
				"1 of 2 accounts failed"}},
		typed{line: "account resume --search example --yes", says: []string{"3 of 3 done"}},
		typed{line: "account change --from-plan harbour --freeze --yes", says: []string{"3 of 3 done"}},
		typed{line: "account change --from-plan harbour --unfreeze --yes --no-wait", says: []string{"3 of 3 done"}},
		typed{line: "account close bakery surf --yes", says: []string{"2 of 2 done"}},
		typed{line: "account list", says: []string{"ternferries", "!bakery", "!surf"}},
	)
	code, out, _ := s.run("account repair ternferries bakery --yes -o json", "")
	assert.Equal(t, failed, code, "a closed one cannot be repaired")
	var list listOf[struct {
		Account   string
		Operation *api.Operation
		Problem   *api.Problem
	}]
	require.NoError(t, json.Unmarshal([]byte(out), &list), out)
	require.Len(t, list.Items, 2)
	assert.Equal(t, "done", list.Items[0].Operation.State)
	assert.Contains(t, list.Items[1].Problem.Type, "wrong-state")
}

func TestAccountsAreOpenedFromAFile(t *testing.T) {
	s := newShell(t)
	s.opened()
	file := filepath.Join(t.TempDir(), "accounts.csv")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	open := "account open --plan harbour --file " + file

	write("domain, customer, new_customer, sign_in_name\n" +
		"bakery.example, Bakery, yes,\n" +
		"cakes.example, Bakery, , cakes\n" +
		"\"surf.example\",\"Surf, School\",yes,\n")
	s.session(
		typed{line: open + " --preview", says: []string{"line 2: would open account bakery for bakery.example",
			"line 3: would open account cakes", "line 4: ", "nothing was done; 3 of 3 accounts would be opened"}},
		typed{line: "account list", says: []string{"!bakery"}},
		typed{line: open, says: []string{"bakery.example  done in", "cakes.example  done in", "3 of 3 done"}},
		typed{line: "account list --columns sign-in-name,customer --sort sign-in-name",
			says: []string{"bakery\tBakery\ncakes\tBakery\nsurf\tSurf, School\n"}},
		typed{line: open, says: []string{"3 of 3 done"}},
		typed{line: "account list --search bakery -o csv --columns domain", says: []string{"domain\nbakery.example\n" +
			"cakes.example\n"}},
		typed{line: open + " --sign-in-name x", code: wrongUse, says: []string{"each line has its own"}},
		typed{line: "account open a.example --file " + file, code: wrongUse, says: []string{"but not both"}},
	)
	write(`{"domain": "jetty.example", "customer": "Bakery", "plan": "harbour"}` + "\n\n" +
		`{"domain": "quay.example", "customer": "Nobody", "plan": "harbour"}` + "\n")
	s.session(
		typed{line: open, code: failed, says: []string{"jetty.example  done in", "quay.example  there is no",
			"1 of 2 done"}},
	)
	code, out, errOut := s.run(open+" -o json", "")
	assert.Equal(t, failed, code)
	var list listOf[one]
	require.NoError(t, json.Unmarshal([]byte(out), &list), out)
	assert.Nil(t, list.Items[0].Problem, "what is open is not opened twice")
	assert.NotNil(t, list.Items[1].Problem)
	assert.Contains(t, errOut, `"title": "It failed"`)

	for text, says := range map[string]string{
		"":                             "is empty",
		"domain\n":                     "has no lines",
		"domain,colour\n":              `there is no field "colour"`,
		"domian\nx.example\n":          "did you mean domain?",
		"domain,customer\nx.example\n": "line 2: it has 1 fields, and the first line 2",
		"domain\nx.example\n":          "line 2: there is no customer",
		"domain,customer\na.example,x\nA.example,x\n":         "line 3: A.example is in line 2 already",
		"domain,customer,new_customer\na.example,x,perhaps\n": "line 2: new_customer is yes or no",
		`{"domain": 7, "customer": "x"}`:                      "line 1: domain is a number here and should be a string",
		`{"domain": "a.example"`:                              "line 1: this is no JSON object",
		"domain,customer\n\"a.example,x\n":                    "no CSV",
	} {
		write(text)
		code, _, errOut := s.run(open, "")
		assert.Equal(t, wrongUse, code, text)
		assert.Contains(t, errOut, says, text)
		assert.NotContains(t, errOut, "json:", text)
	}
}

// Everything that is printed for programs has one shape.
func TestDocuments(t *testing.T) {
	s := newShell(t)
	code, out, errOut := s.run("account list -o json", "")
	assert.Equal(t, refused, code)
	assert.Empty(t, out)
	var problem api.Problem
	require.NoError(t, json.Unmarshal([]byte(errOut), &problem), errOut)
	assert.Equal(t, api.ProblemBase+"not-signed-in", problem.Type)
	s.opened()

	for _, c := range allCommands() {
		if !c.list || c.args != "" && !strings.HasPrefix(c.args, "[") {
			continue
		}
		t.Run(c.name(), func(t *testing.T) {
			code, out, errOut := s.run(c.name()+" -o json", "")
			require.Equal(t, done, code, errOut)
			var list listOf[map[string]any]
			d := json.NewDecoder(strings.NewReader(out))
			d.DisallowUnknownFields()
			require.NoError(t, d.Decode(&list), out)
			assert.NotNil(t, list.Items)
			code, out, _ = s.run(c.name()+" -o csv", "")
			assert.Equal(t, done, code)
			assert.NotContains(t, strings.SplitN(out, "\n", 2)[0], " ", "the first line names columns")
		})
	}
	for _, pair := range [][2]string{
		{"account suspend ternferries --why x -o json", `"operation": {`},
		{"account resume ternferries -o json --no-wait", `"operation": null`},
		{"customer add Bakery -o json", `"name": "Bakery"`},
		{"customer change Bakery --phone 1 -o json --preview", `"summary": "`},
		{"customer remove Bakery --yes -o json", `"result": null`},
		{"plan change harbour --limits domains=6 -o json", `"accounts": 1`},
		{"session show -o json", `"name": "maren"`},
		{"account close ternferries --yes -o json", `"state": "done"`},
		{"account list --state closed -o json --columns domain", `"sign_in_name": "ternferries"`},
	} {
		line, want := pair[0], pair[1]
		code, out, errOut := s.run(line, "")
		assert.Equal(t, done, code, "%s: %s", line, errOut)
		assert.Contains(t, out, want, line)
		assert.True(t, json.Valid([]byte(out)), "%s: %s", line, out)
	}
	for line, want := range map[string]int{"account show nobody -o json": failed, "account shw -o json": wrongUse,
		"account open x.example -o json": wrongUse, "plan list --limit 0 -o json": wrongUse} {
		code, out, errOut := s.run(line, "")
		assert.Equal(t, want, code, line)
		assert.Empty(t, out, line)
		require.NoError(t, json.Unmarshal([]byte(errOut), &problem), "%s: %s", line, errOut)
		assert.NotEmpty(t, problem.Title, line)
		assert.NotEmpty(t, problem.Detail, line)
	}
}

func TestListsSayWhenThereIsMore(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "account open bakery.example --plan harbour --customer 'Tern Ferries'"},
		typed{line: "account list --limit 1", says: []string{"bakery", "!ternferries",
			"(the first 1; there are more: " +
				"--limit N)"}},
		typed{line: "account list --limit 2", says: []string{"ternferries", "!there are more"}},
		typed{line: "account list --limit 1 --sort -domain", says: []string{"ternferries", "!bakery",
			"there are more"}},
		typed{line: "account list --limit 0", code: wrongUse,
			says: []string{`--limit takes a number above 0, not "0"`}},
		typed{line: "account list --limit 1 -o json", says: []string{`"more": true`}},
		typed{line: "operation list --limit 1", says: []string{"--limit N or --all"}},
		typed{line: "operation list --all", says: []string{"!there are more"}},
		typed{line: "operation list --all --limit 1", code: wrongUse, says: []string{"exclude each other"}},
		typed{line: "operation list --since 2099-01-01", says: []string{"nothing matches --since 2099-01-01"}},
		typed{line: "operation list --since soon", code: wrongUse, says: []string{"--since: "}},
		typed{line: "server list --drift", says: []string{"no server has drift"}},
		typed{line: "server list --role web", says: []string{"skua"}},
		typed{line: "domain list", says: []string{"bakery.example\tbakery", "ternferries.example"}},
		typed{line: "domain list bakery", says: []string{"!ternferries"}},
		typed{line: "domain list --as redirect", says: []string{"nothing matches --as redirect"}},
	)
}

func TestNamesThatAreNearlyRight(t *testing.T) {
	s := newShell(t)
	s.opened()
	for line, says := range map[string]string{
		"account show ternferrys":                            "did you mean ternferries?",
		"account list --plan harbor":                         "did you mean harbour?",
		"account list --server skuaa":                        "did you mean skua?",
		"zone show ternfery.example":                         "did you mean ternferries.example?",
		"server show fulmer":                                 "did you mean fulmar?",
		"account open x.example --plan harbuor --customer x": "did you mean harbour?",
		"account list --customer 'Tern Ferrys'":              "did you mean Tern Ferries?",
	} {
		code, _, errOut := s.run(line, "")
		assert.Equal(t, failed, code, line)
		assert.Contains(t, errOut, says, line)
	}
}

// The shells ask for words, of which the last one is to be completed.
func TestWordsForShells(t *testing.T) {
	s := newShell(t)
	s.opened()
	for line, want := range map[string]string{
		"se":                                  "search|server|session|settings",
		"server sw":                           "sweep",
		"account open --p":                    "--plan|--password-stdin|--preview",
		"account show te":                     "ternferries",
		"account show nothing":                "",
		"account show ternferries ''":         "",
		"account suspend ternferries te":      "ternferries",
		"account list --plan ha":              "harbour",
		"account list --state su":             "suspended",
		"account list --server ''":            "fulmar|skua",
		"account list -o j":                   "json",
		"account open x.example --customer T": "Tern Ferries",
		"domain show t":                       "ternferries.example",
		"zone show t":                         "ternferries.example",
		"server show s":                       "skua",
		"person show m":                       "maren",
		"help acc":                            "",
		"database user ''":                    "add|change|list|remove",
		"database user add te":                "ternferries",
		"database user add x y --engine p":    "postgresql",
	} {
		code, out, errOut := s.run("completion words -- "+line, "")
		assert.Equal(t, done, code, errOut)
		found := strings.FieldsFunc(out, func(r rune) bool { return r == '\n' })
		assert.ElementsMatch(t, strings.FieldsFunc(want, func(r rune) bool { return r == '|' }), found, line)
	}
}
