package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
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
		"account": "say what to do: victualler account " +
			"open|list|show|change|suspend|resume|suspend-mail|resume-mail|repair|handover|close",
		"account opne": `account cannot "opne"; did you mean open?; it can open, list, show, change, suspend, resume, ` +
			`suspend-mail, resume-mail, repair, handover, close`,
		"acount list":              `there is no "acount"; did you mean account?; “victualler help” lists what there is`,
		"-o json account list":     "begin with what it is about",
		"boat list":                `there is no "boat"; “victualler help” lists what there is`,
		"account show":             "ACCOUNT is missing; usage: victualler account show ACCOUNT",
		"account open a b":         `"b" is too much; usage: victualler account open [DOMAIN]`,
		"reseller add x --title y": "--limits is needed; usage: victualler reseller add NAME --limits LIST --title",
		"account open a.example --custmer x": "account open has no flag --custmer; did you mean --customer?; see " +
			"victualler help account open",
		"account open a.example --colour red": "account open has no flag --colour; see victualler help account open",
		"account list -o xml":                 `-o takes table, json or csv, not "xml"`,
		"account list --state opne":           `--state takes opening, active, suspended, closing or closed, not "opne"`,
		"account open a --plan":               "--plan needs a value: --plan PLAN",
		"server change skua --open extra":     `"extra" is too much`,
	} {
		_, err := parse(strings.Fields(line))
		var usage usageError
		if assert.ErrorAs(t, err, &usage, line) {
			assert.Contains(t, err.Error(), says, line)
		}
	}
	for line, want := range map[string]string{"Accounts list": "account list", "ACCOUNT LIST": "account list",
		"authorities list": "authority list", "people list": "person list", "note show x": "notes show",
		"setting show": "settings show", "zones list": "zone list"} {
		c, err := parse(strings.Fields(line))
		if assert.NoError(t, err, line) {
			assert.Equal(t, want, c.name())
		}
	}
}

func TestEveryCommand(t *testing.T) {
	standard := words("add,list,show,change,remove")
	own := []string{"account open", "account repair", "account close", "operation watch", "server join", "server sweep",
		"server repair", "session start", "session end", "session act", "account suspend", "account " +
			"resume", "account suspend-mail",
		"account resume-mail",
		"account handover", "reseller suspend", "reseller resume", "plan compare", "person password", "domain trace",
		"zone check", "zone signing", "zone export", "zone import", "zone reset", "site log", "certificate rehearse",
		"certificate order", "certificate cancel", "certificate request", "certificate remove-request",
		"plan export", "plan import", "template export", "template import", "account export",
		"certificate install", "certificate download", "certificate key", "certificate revoke", "person link",
		"person sign-out", "person unlock", "password check", "domain prove", "event export", "settings test-mail",
		"address trace", "message rehearse", "message sending", "mailbox import",
		"mailbox add-password", "mailbox remove-password", "mailbox profile", "list members", "list add-members",
		"list remove-members", "list held", "list approve", "list drop", "queue retry", "queue hold",
		"queue release", "queue resume", "database tables", "database structure", "database rows", "database execute",
		"database running", "database slow", "database biggest", "database engines", "database stop",
		"database export", "database import", "database copy", "database imports",
		"database stop-import", "database remove-import", "kit sites", "kit install", "kit update", "kit check",
		"kit pack", "kit register", "kit unregister", "kit offer", "kit withdraw", "kit reinstate"}
	looks := words("list,show,compare,check,export,watch,sweep,trace,log,signing,rehearse,download,key,members," +
		"held,profile,sending,tables,structure,rows,running,slow,biggest,engines,imports,sites,pack")
	// What is one's own sign-in, and the message that is sent to be looked for, has nothing to
	// foresee; what a statement or a file does, the engine alone would know.
	atOnce := words("execute,stop,import,copy,stop-import,remove-import")
	plain := words("session,password,factor,language,help,version,completion,overview,search")
	for _, c := range allCommands() {
		name := strings.TrimSpace(c.name())
		verb := c.verb[strings.LastIndex(c.verb, " ")+1:] // of a part, such as “user add”
		assert.Contains(t, allNouns(), c.noun, "in a group of the help")
		if !slices.Contains(plain[4:], c.noun) {
			assert.True(t, slices.Contains(standard, verb) || slices.Contains(own, name),
				"%s: is there no verb of the usual ones for it?", name)
		}
		assert.NotEmpty(t, c.short, name)
		assert.True(t, slices.Contains(looks, verb) || slices.Contains(plain, c.noun) || c.preview ||
			c.verb == "test-mail" || c.name() == "kit register" || c.noun == "database" && slices.Contains(atOnce,
			verb), "%s changes something and has no --preview", name)
		lists := words("list,members,held,sending,tables,running,slow,biggest,engines,imports,sites")
		assert.Equal(t, slices.Contains(lists, verb) || name == "site show" || name == "search", c.list,
			"%s: lists have the flags of lists", name)
		var help bytes.Buffer
		printHelp(&help, c)
		assert.Contains(t, help.String(), "victualler "+name)
		for _, f := range c.allFlags() {
			assert.Contains(t, help.String(), dashed(f.name), name)
			for _, value := range f.values {
				assert.NotContains(t, value, " ", name)
			}
		}
		for _, line := range strings.Split(help.String(), "\n") {
			assert.LessOrEqual(t, displayWidth(line), helpColumns, name)
		}
	}
}

func TestHelp(t *testing.T) {
	said := func(line string) (code int, text string) {
		var out bytes.Buffer
		return run(t.Context(), strings.Fields(line), piped("", &out, &out)), out.String()
	}
	code, overview := said("")
	assert.Equal(t, done, code)
	for _, g := range nouns {
		assert.Contains(t, overview, "\n"+g.group+"\n")
		for _, noun := range g.nouns {
			assert.NotEmpty(t, verbsOf(noun), noun)
			assert.Contains(t, overview, "\n  "+noun+" ")
		}
	}
	for _, line := range strings.Split(overview, "\n") {
		assert.LessOrEqual(t, displayWidth(line), 80)
	}
	for _, line := range []string{"help", "--help", "-h"} {
		_, text := said(line)
		assert.Equal(t, overview, text, line)
	}
	for _, line := range []string{"help account", "account --help", "account -h", "account help", "help accounts"} {
		code, text := said(line)
		assert.Equal(t, done, code, line)
		assert.Contains(t, text, "victualler account suspend [ACCOUNT]…\n    Show visitors a notice", line)
	}
	for _, line := range []string{"help account open", "account open --help", "account open -h x", "-h account open"} {
		code, text := said(line)
		assert.Equal(t, done, code, line)
		assert.Contains(t, text, "victualler account open [DOMAIN] [flags]", line)
		assert.Contains(t, text, "  --no-wait", line)
	}
	for _, line := range []string{"help nosuch", "help acount", "help account fly"} {
		code, text := said(line)
		assert.Equal(t, wrongUse, code, line)
		assert.Contains(t, text, "victualler: ", line)
	}
	for _, line := range []string{"version", "--version"} {
		code, text := said(line)
		assert.Equal(t, done, code)
		assert.Regexp(t, `^victualler \S+\n$`, text)
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
		{&client.Unreachable{Base: "x", Err: errors.New("y")}, unreachable}, {errInterrupted, interrupted},
		{goesOn{7}, interrupted}, {severalFailed{[]error{usageError{"x"}, usageError{"y"}}, 2}, wrongUse},
		{severalFailed{[]error{usageError{"x"}, errors.New("y")}, 2}, failed},
	} {
		assert.Equal(t, c.want, exitCode(c.err), "%v", c.err)
	}
	assert.Equal(t, "one two", sentence(errors.New("one\n  two\n")), "one paragraph")
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

// A refusal that asks for a decision names the flag of it, on the line after the sentence.
func TestDecisionsNameTheirFlags(t *testing.T) {
	for words, choice := range map[string]refusal.Choice{
		"brand change stall --accept-unresolved": refusal.Decision("accept_unresolved", "true", "so be it"),
		"reseller change stall --keep-over":      refusal.Decision("over", "keep", "so be it"),
		"site change a.test --hsts-accepted":     refusal.Decision("hsts_accepted", "true", "so be it"),
		"authority add a b --accept-terms":       refusal.Decision("accept_terms", "true", "so be it"),
		"certificate order a.test --leave-out":   refusal.Decision("leave_out", "true", "so be it"),
	} {
		args := strings.Fields(words)
		c, err := parse(args)
		require.NoError(t, err, words)
		assert.Equal(t, "\n  "+args[len(args)-1]+": so be it",
			c.decisions(&api.Problem{Decide: []refusal.Choice{choice}}), words)
	}
	c, err := parse(strings.Fields("record add a.test www CNAME b.c"))
	require.NoError(t, err)
	assert.Empty(t, c.decisions(&api.Problem{Decide: []refusal.Choice{refusal.Decision("data", "b.c.", "b.c")}}))
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
	_, err = parseFeatures("mial")
	assert.ErrorContains(t, err, `"mial" is not a feature; there are mail, `)
	assert.ErrorContains(t, err, "did you mean mail?")
	_, err = parseLimits("dsik=1G")
	assert.ErrorContains(t, err, "did you mean disk?")
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
	c := &call{command: command{stream: true}, out: &out}
	c.sayEffect(api.Effect{Account: "trust", Name: "lighthousetrust.example",
		Gains: []string{"disk space 1G → 2G"}, Over: []string{"domains 3 of 2, 1 over"},
		Unchanged: "exceptions stay: disk"})
	c.sayEffect(api.Effect{Account: "news1", Name: "ternislandnews.example"})
	assert.Equal(t, "lighthousetrust.example (trust)\n  gains  disk space 1G → 2G\n  over   domains 3 of 2, 1 over\n "+
		" keeps  exceptions stay: disk\nternislandnews.example (news1)\n  nothing changes for it\n", out.String())
	assert.Equal(t, "1G → (none)", beforeAfter(api.Difference{Before: "1G"}))
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
