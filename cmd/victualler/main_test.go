package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

func TestParse(t *testing.T) {
	for _, line := range []string{
		"account open ferries.example --plan harbour --customer X --preview",
		"account open --plan harbour --customer X ferries.example --preview",
		"account open --preview --plan=harbour ferries.example --customer=X",
		"account open -preview -plan harbour -customer X -- ferries.example",
	} {
		c, err := parse(strings.Fields(line))
		if assert.NoError(t, err, line) {
			assert.Equal(t, []string{"ferries.example"}, c.args, line)
			assert.Equal(t, "harbour", c.value("plan"))
			assert.Equal(t, "X", c.value("customer"))
			assert.True(t, c.on("preview"))
			assert.False(t, c.on("no-wait"))
		}
	}
	c, err := parse([]string{"customer", "add", "--", "--strange name"})
	require.NoError(t, err)
	assert.Equal(t, []string{"--strange name"}, c.args, "after -- all are arguments")
	for line, says := range map[string]string{
		"account": "say what to do: victualler account",
		"account fly": "account knows open, list, show, repair, change, suspend, " +
			"resume, handover, close",
		"boat list":                                `there is no "boat"; the nouns are account,`,
		"account open":                             "usage: victualler account open DOMAIN",
		"account open a b --plan p --customer c":   "usage:",
		"account open a.example --plan p":          "--customer is needed",
		"account open a.example --colour red":      "not defined: -colour",
		"account list -o xml":                      "-o takes table, json or csv",
		"account open a --plan":                    "needs an argument",
		"server change skua --open --closed extra": "usage:",
	} {
		_, err := parse(strings.Fields(line))
		var usage usageError
		if assert.ErrorAs(t, err, &usage, line) {
			assert.Contains(t, err.Error(), says, line)
		}
	}
}

func TestEveryCommand(t *testing.T) {
	standard := map[string]bool{"add": true, "list": true, "show": true, "change": true, "remove": true}
	own := map[string]bool{"account open": true, "account repair": true, "account close": true, "completion bash": true,
		"operation watch": true,
		"server join":     true, "server sweep": true, "server repair": true, "session start": true,
		"session end": true,
		"session act": true, "account suspend": true,
		"account resume": true, "account handover": true, "reseller suspend": true, "reseller resume": true,
		"plan compare": true, "person password": true,
		"domain trace": true, "zone check": true, "zone signing": true, "zone export": true, "zone import": true,
		"zone reset": true, "site log": true, "certificate rehearse": true, "certificate order": true,
		"certificate take-back": true, "certificate request": true, "certificate remove-request": true,
		"certificate install":  true,
		"certificate download": true, "certificate key": true, "certificate revoke": true, "person link": true,
		"person sign-out": true, "person unlock": true, "password check": true, "domain prove": true,
		"event export":       true,
		"settings test-mail": true}
	looks := map[string]bool{"list": true, "show": true, "compare": true, "check": true, "export": true, "watch": true,
		"bash": true, "sweep": true, "trace": true, "log": true, "signing": true, "rehearse": true, "download": true,
		"key": true}
	// What is one's own sign-in, and the message that is sent to be
	// looked for, has nothing to foresee.
	plain := map[string]bool{"session": true, "password": true, "factor": true}
	for _, c := range allCommands() {
		name := c.noun + " " + c.verb
		assert.True(t, standard[c.verb] || own[name], "%s: is there no verb of the usual ones for it?", name)
		assert.NotEmpty(t, c.short, name)
		assert.True(t, looks[c.verb] || plain[c.noun] || c.preview || c.verb == "test-mail",
			"%s changes something and has no --preview", name)
		if c.verb == "list" || c.verb == "show" {
			assert.True(t, c.output, "%s prints for programs too", name)
		}
		var help bytes.Buffer
		printCommandHelp(&help, c)
		assert.Contains(t, help.String(), "victualler "+name)
		for _, f := range c.allFlags() {
			assert.Contains(t, help.String(), f.usage, name)
		}
	}
	var out bytes.Buffer
	assert.Equal(t, done, run(context.Background(), nil, strings.NewReader(""), &out, &out))
	for _, c := range allCommands() {
		assert.Contains(t, out.String(), strings.TrimSpace(c.noun+" "+c.verb+" "+c.args))
	}
}

func TestExitCodes(t *testing.T) {
	problem := func(kind string) error { return fmt.Errorf("wrapped: %w", &api.Problem{Type: api.ProblemBase + kind}) }
	for _, c := range []struct {
		err  error
		want int
	}{
		{nil, done}, {errors.New("x"), failed}, {usageError{"x"}, wrongUse}, {problem("limit-reached"), refused},
		{problem("not-allowed"), refused},
		{problem("not-signed-in"), refused}, {problem("suspended"), refused}, {problem("needs-decision"), refused},
		{problem("weak-password"), wrongUse}, {problem("server-full"), refused}, {problem("invalid-input"), wrongUse},
		{problem("not-found"), failed},
		{problem("server-unreachable"), unreachable},
		{&client.Unreachable{Base: "x", Err: errors.New("y")}, unreachable},
	} {
		assert.Equal(t, c.want, exitCode(c.err), "%v", c.err)
	}
	assert.Equal(t, "one two", sentence(errors.New("one\n  two\n")), "one paragraph")
}

func TestTable(t *testing.T) {
	rows := table{{"DOMAIN", "PLAN"}, {"møwe-café.example", "skiff"}, {"a-rather-long-domain-name.example", "harbour"}}
	var wide, narrow bytes.Buffer
	rows.write(&wide, 0)
	lines := strings.Split(strings.TrimRight(wide.String(), "\n"), "\n")
	assert.Equal(t, "DOMAIN                             PLAN", lines[0])
	assert.Equal(t, "møwe-café.example                  skiff", lines[1])
	rows.write(&narrow, 30)
	for _, line := range strings.Split(strings.TrimRight(narrow.String(), "\n"), "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 30)
	}
	var figures bytes.Buffer
	table{{"LIMIT", "ALLOWED", "OF"}, {"disk", "500M", "a"}, {"files", "unlimited", "b"}, {"share", "20%", "7"},
		{"none", "", ""}}.write(&figures, 0)
	assert.Equal(t, "LIMIT    ALLOWED  OF\ndisk        500M  a\nfiles  unlimited  b\nshare        20%  7\nnone\n",
		figures.String())
	assert.Contains(t, narrow.String(), "…")
	assert.Contains(t, narrow.String(), "harbour", "only the widest column is cut")
}

func TestOutputForPrograms(t *testing.T) {
	text := ""
	c := &call{command: command{output: true}, values: map[string]*string{"o": &text}}
	for format, want := range map[string]string{"csv": "A,B\n\"x,y\",z\n", "json": "{\n  \"n\": 1\n}\n",
		"": "A    B\nx,y  z\n"} {
		var out bytes.Buffer
		c.out, text = &out, format
		require.NoError(t, c.print(map[string]int{"n": 1}, table{{"A", "B"}, {"x,y", "z"}}))
		assert.Equal(t, want, out.String())
	}
}

func TestParseAmount(t *testing.T) {
	for text, want := range map[string]plans.Amount{"unlimited": plans.Unlimited, "20G": plans.Of(20 << 30),
		"0": plans.Of(0)} {
		got, err := parseAmount(text, plans.Bytes)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := parseAmount("20480", plans.Bytes)
	assert.ErrorContains(t, err, "20480 what?")
	_, err = parseAmount("many", plans.Count)
	assert.ErrorContains(t, err, "write a number or unlimited")
	got, err := parseAmount("20%", plans.Percent)
	require.NoError(t, err)
	assert.Equal(t, plans.Of(20), got)
}

func TestParseLists(t *testing.T) {
	limits, err := parseLimits("disk=20G, domains=5,mailboxes=unlimited,bounce_share=20%")
	require.NoError(t, err)
	assert.Equal(t, plans.Limits{plans.Disk: plans.Of(20 << 30), plans.Domains: plans.Of(5),
		plans.Mailboxes: plans.Unlimited, plans.BounceShare: plans.Of(20)}, limits)
	features, err := parseFeatures("mail,shell=off,dns=on")
	require.NoError(t, err)
	assert.Equal(t, plans.Features{"mail": true, "shell": false, "dns": true}, features)
	for _, bad := range []string{"disk", "colour=1", "disk=20480", "domains=-x"} {
		_, err := parseLimits(bad)
		assert.Error(t, err, bad)
	}
	_, err = parseFeatures("mail=perhaps")
	assert.ErrorContains(t, err, "on or off")
	for text, want := range map[string]string{"2026-12-31T18:00:00Z": "2026-12-31T18:00:00Z",
		"2026-12-31": time.Date(2026, 12, 31, 0, 0, 0, 0, time.Local).UTC().Format(time.RFC3339)} {
		moment, err := parseMoment(text)
		require.NoError(t, err)
		assert.Equal(t, want, moment.UTC().Format(time.RFC3339))
	}
	none, err := parseMoment("")
	assert.NoError(t, err)
	assert.Nil(t, none)
	_, err = parseMoment("tomorrow")
	assert.ErrorContains(t, err, "neither a day")
}

func TestExceptionFlags(t *testing.T) {
	parsed := func(line string) (api.NewException, error) {
		c, err := parse(strings.Fields("exception add trust --reason r " + line))
		require.NoError(t, err)
		return newException(c)
	}
	e, err := parsed("--limit disk=unlimited")
	require.NoError(t, err)
	assert.Equal(t, api.GivenAmount{Amount: plans.Unlimited, Given: true}, e.Amount)
	e, err = parsed("--feature shell=off --until 2027-01-01T00:00:00Z")
	require.NoError(t, err)
	assert.False(t, *e.On)
	assert.NotNil(t, e.EndsAt)
	for _, line := range []string{"", "--limit disk=1G --feature mail", "--limit disk=1G,domains=2",
		"--feature mail,dns", "--limit disk=1G --until soon"} {
		_, err := parsed(line)
		assert.Error(t, err, line)
	}
}

func TestEffectsAreRead(t *testing.T) {
	var out bytes.Buffer
	printEffect(&out, api.Effect{Account: "trust", Name: "lighthousetrust.example",
		Gains: []string{"disk space 1G → 2G"}, Over: []string{"domains 3 of 2, 1 over"},
		Unchanged: "exceptions stay: disk"})
	printEffect(&out, api.Effect{Account: "news1", Name: "ternislandnews.example"})
	assert.Equal(t, "lighthousetrust.example (trust)\n  gains  disk space 1G → 2G\n  over   domains 3 of 2, 1 over\n "+
		" keeps  exceptions stay: disk\nternislandnews.example (news1)\n  nothing changes for it\n", out.String())
	assert.Equal(t, "1G → (none)", beforeAfter(api.Difference{Before: "1G"}))
}

// bash itself completes with what is printed for it.
func TestCompletion(t *testing.T) {
	var script bytes.Buffer
	printCompletion(&script)
	path := filepath.Join(t.TempDir(), "completion")
	require.NoError(t, os.WriteFile(path, script.Bytes(), 0o600))
	complete := func(words ...string) string {
		quoted := "'" + strings.Join(words, "' '") + "'"
		out, err := exec.Command("bash", "-ec",
			fmt.Sprintf("source %s; COMP_WORDS=(%s); COMP_CWORD=%d; _victualler; echo ${COMPREPLY[*]}", path, quoted,
				len(words)-1)).CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	assert.Equal(t, "server session settings", complete("victualler", "se"))
	assert.Equal(t, "sweep", complete("victualler", "server", "sw"))
	assert.Equal(t, "--preview --password-stdin --plan",
		strings.Join(reversed(strings.Fields(complete("victualler", "account", "open", "--p"))), " "))
}

func reversed(list []string) []string {
	for i, j := 0, len(list)-1; i < j; i, j = i+1, j-1 {
		list[i], list[j] = list[j], list[i]
	}
	return list
}

func TestSessionFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "session.json")
	t.Setenv("VICTUALLER_SESSION", path)
	s, err := loadSession()
	require.NoError(t, err)
	s.Service, s.Token = "http://127.0.0.1:1", "secret"
	require.NoError(t, s.save())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, err := loadSession()
	require.NoError(t, err)
	assert.Equal(t, s, again)
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = loadSession()
	assert.ErrorContains(t, err, "remove it and sign in again")
}
