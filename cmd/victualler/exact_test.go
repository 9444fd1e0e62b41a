package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// exact are the lines whose outputs are kept in testdata/exact, each as it is printed in a terminal
// of 80 columns, in one of 120, in a pipe, as JSON and as CSV.
var exact = []struct{ name, line string }{
	{"account-list", "account list"},
	{"account-show", "account show ternferries"},
	{"certificate-list", "certificate list"},
	{"customer-list", "customer list"},
	{"domain-list", "domain list"},
	{"event-list", "event list --limit 3"},
	{"operation-list", "operation list --limit 3"},
	{"overview", "overview"},
	{"plan-compare", "plan compare harbour skiff --differing"},
	{"plan-list", "plan list"},
	{"plan-show", "plan show skiff"},
	{"search", "search island"},
	{"server-list", "server list"},
	{"server-show", "server show skua"},
	{"settings-show", "settings show"},
	{"zone-list", "zone list"},
	{"zone-show", "zone show tern-island-surf-school.example"},
}

// differs are what is another one at each run, with what stands for it: as long, so that columns
// stay where they are.
var differs = []struct {
	found *regexp.Regexp
	as    string
}{
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)`), "2026-01-02T03:04:05Z"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d`), "2026-01-02 03:04:05"},
	{regexp.MustCompile(`\d\.\d\d s`), "0.12 s"},
	{regexp.MustCompile(`,\d\.\d+,`), ",0.12,"},
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), "127.0.0.1:00000"},
	{regexp.MustCompile(`"request": "[^"]*"`), `"request": "r"`},
	{regexp.MustCompile(`(?m)^(.*,)[0-9a-zA-Z]{16,}$`), "${1}r"},
	{regexp.MustCompile(`"version": \d+`), `"version": 1`},
	{regexp.MustCompile(`"value": \d+`), `"value": 0`},
	{regexp.MustCompile(`"now": \d+`), `"now": 0`},
}

// in runs a line in a terminal of a width; 0 is a pipe.
func (s *shell) in(columns int, line string) string {
	s.t.Helper()
	var out bytes.Buffer
	term := &terminal{in: bufio.NewReader(strings.NewReader("")), out: &out, err: &out, keyboard: -1,
		columns: func() int { return columns }}
	code := run(s.t.Context(), inWords(line), term)
	s.work()
	require.Equal(s.t, done, code, "%s:\n%s", line, out.String())
	text := out.String()
	for _, d := range differs {
		text = d.found.ReplaceAllString(text, d.as)
	}
	return text
}

// What commands print, to the letter. UPDATE=1 writes it anew, to be read in a review.
func TestExactOutput(t *testing.T) {
	t.Setenv("TZ", "UTC")
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "plan add skiff --limits disk=500M,domains=1,logins=1 --features certificates,dns"},
		typed{line: "account open tern-island-surf-school.example --plan skiff --customer 'Tern Island Surf School' " +
			"--new-customer --sign-in-name surf --server skua"},
		typed{line: "account open møwe-café.example --plan skiff --customer 'Møwe Café' --new-customer " +
			"--sign-in-name mowe --server skua"},
		typed{line: "record add tern-island-surf-school.example @ MX '10 mx.provider.test.'"},
	)
	for _, e := range exact {
		t.Run(e.name, func(t *testing.T) {
			var text strings.Builder
			for _, form := range []struct {
				name    string
				columns int
				flags   string
			}{{"80 columns", 80, ""}, {"120 columns", 120, ""}, {"in a pipe", 0, ""}, {"JSON", 0, " -o json"},
				{"CSV", 0, " -o csv"}} {
				fmt.Fprintf(&text, "--- victualler %s%s (%s)\n%s", e.line, form.flags, form.name,
					s.in(form.columns, e.line+form.flags))
			}
			file := filepath.Join("testdata", "exact", e.name+".txt")
			if os.Getenv("UPDATE") != "" {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), text.String())
			for n, line := range strings.Split(s.in(80, e.line), "\n") {
				// A name or a path that is longer than its place is not cut.
				if word := line[strings.LastIndexByte(line, ' ')+1:]; displayWidth(word) < 30 {
					assert.LessOrEqual(t, displayWidth(line), 80, "line %d", n)
				}
			}
		})
	}
}
