// Package mail tests mail from outside, through the client and with real mail sessions.
package mail

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

func TestMain(m *testing.M) {
	e2e.Mail = true
	e2e.Main(m)
}

// passwordIn finds the password that a command has made.
func passwordIn(t *testing.T, out string) string {
	t.Helper()
	for _, line := range strings.Split(out, "\n") {
		if rest, is := strings.CutPrefix(strings.TrimSpace(line), "password"); is {
			return strings.TrimSpace(strings.TrimPrefix(rest, ":"))
		}
	}
	require.Fail(t, "no password in", out)
	return ""
}

// settingOnSkua changes a setting, and has skua take it over, which otherwise comes with its next
// sweep.
func settingOnSkua(t *testing.T, flag, value string) {
	t.Helper()
	_, stderr, exit := e2e.Command(t, "settings", "change", flag, value)
	require.Zero(t, exit, stderr)
	_, stderr, exit = e2e.Command(t, "server", "sweep", "skua")
	require.Zero(t, exit, stderr)
}

func TestMailboxes(t *testing.T) {
	i := e2e.Shared(t)
	require.NoError(t, i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "post",
		Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB), plans.Domains: plans.Of(3),
			plans.PHPWorkers: plans.Of(1), plans.Mailboxes: plans.Of(3), plans.MailboxSize: plans.Of(50 * plans.MiB),
			plans.SendsPerHour: plans.Of(100)},
		Features: plans.Features{"mail": true}}, nil))
	e2e.Opened(t, api.OpenAccount{Domain: "letters.example", Plan: "post", SignInName: "letters",
		Customer: "Letters", NewCustomer: true, CustomerEmail: "letters@post.test", Server: "skua"})
	skua := i.Servers["skua"].Address

	out, stderr, exit := e2e.Command(t, "mailbox", "add", "Info@letters.example", "--generate", "--preview")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "would add mailbox info@letters.example to account letters")
	assert.Contains(t, out, "note: Info is written in small letters: info")
	assert.Contains(t, out, "steps: ")

	out, stderr, exit = e2e.Command(t, "mailbox", "add", "info@letters.example", "--generate")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "mailbox info@letters.example on skua.ternisland.example")
	assert.Contains(t, out+stderr, "its DNS is hosted elsewhere: enter the records for mail there")
	zone, _, _ := e2e.Command(t, "zone", "show", "letters.example")
	assert.Regexp(t, `@\s+3600\s+MX\s.*10 skua\.ternisland\.example\.`, zone)
	password := passwordIn(t, out+stderr)
	_, err := mailtest.Inbox(skua, "info@letters.example", password)
	require.NoError(t, err, "it can be used as soon as the command ends")
	require.NoError(t, mailtest.Deliver(skua, "someone@elsewhere.test", "info@letters.example", "the ferry is late"))
	labtest.Eventually(t, func() bool {
		text, _ := mailtest.Inbox(skua, "info@letters.example", password)
		return strings.Contains(text, "the ferry is late")
	})

	out, _, exit = e2e.Command(t, "mailboxes", "list", "letters")
	require.Zero(t, exit)
	assert.Regexp(t, `info@letters.example\s+50M\s+yes`, out)
	var list api.MailboxList
	require.NoError(t, i.Client.Get(context.Background(), "/accounts/letters/mailboxes", nil, &list))
	assert.Equal(t, "skua.ternisland.example", list.Server)

	t.Run("passwords for single programs", func(t *testing.T) {
		made := map[string]string{}
		for _, program := range []string{"telephone", "Old laptop"} {
			out, stderr, exit := e2e.Command(t, "mailbox", "add-password", "info@letters.example", program)
			require.Zero(t, exit, stderr)
			made[program] = passwordIn(t, out+stderr)
			_, err := mailtest.Inbox(skua, "info@letters.example", made[program])
			require.NoError(t, err)
		}
		out, _, _ := e2e.Command(t, "mailbox", "show", "info@letters.example")
		assert.Regexp(t, `passwords for programs\s+telephone \(since .*, Old laptop \(since`, out)
		_, stderr, exit := e2e.Command(t, "mailbox", "add-password", "info@letters.example", "Telephone")
		assert.NotZero(t, exit)
		assert.Contains(t, stderr, "has a password for Telephone already")
		phone, err := mailtest.DialIMAP(skua)
		require.NoError(t, err)
		defer phone.Close()
		_, err = phone.Ask("LOGIN info@letters.example " + made["telephone"])
		require.NoError(t, err)
		_, stderr, exit = e2e.Command(t, "mailbox", "remove-password", "info@letters.example", "telephone")
		require.Zero(t, exit, stderr)
		labtest.Eventually(t, func() bool { _, err := phone.Ask("NOOP"); return err != nil }, "its session has ended")
		// Few tries: each one that fails has the next ones wait longer.
		for _, wrong := range []string{made["telephone"], made["Old laptop"][:8] + "' or '1'='1"} {
			_, err = mailtest.Inbox(skua, "info@letters.example", wrong)
			assert.Error(t, err, wrong)
		}
		_, err = mailtest.Inbox(skua, "info@letters.example", made["Old laptop"])
		assert.NoError(t, err)
		_, err = mailtest.Inbox(skua, "info@letters.example", password)
		assert.NoError(t, err, "the mailbox's own is as it was")
	})
	t.Run("what cannot be is refused, with what helps", func(t *testing.T) {
		for line, says := range map[string]string{
			"mailbox add info@letters.example --generate":           "there is a mailbox info@letters.example",
			"mailbox add müller@letters.example --generate":         "write mueller",
			"mailbox add x@other.example --generate":                "there is no domain other.example",
			"mailbox add info --generate":                           "write it with its domain",
			"mailbox add big@letters.example --generate --size 1G":  "holds 50M at most",
			"mailbox change nobody@letters.example --size 20M":      "nobody@letters.example",
			"mailbox change info@letters.example":                   "say what is to change",
			"mailbox remove nobody@letters.example --yes":           "nobody@letters.example",
			"domain remove letters.example --yes":                   "main domain",
			"mailbox add small@letters.example --generate --size 1": "1 what?",
		} {
			_, stderr, exit := e2e.Command(t, strings.Fields(line)...)
			assert.NotZero(t, exit, line)
			assert.Contains(t, stderr, says, line)
		}
	})
	t.Run("a domain with mailboxes stays", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "domain", "add", "letters", "more-letters.example")
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "mailbox", "add", "a@more-letters.example", "--generate")
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "domain", "remove", "more-letters.example", "--yes")
		assert.NotZero(t, exit)
		assert.Contains(t, stderr, "more-letters.example has 1 mailbox")
		_, stderr, exit = e2e.Command(t, "mailbox", "remove", "a@more-letters.example", "--yes")
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "domain", "remove", "more-letters.example", "--yes")
		assert.Zero(t, exit, stderr)
	})
	t.Run("the limit holds, also for many at once", func(t *testing.T) {
		results := make(chan error, 6)
		for n := range cap(results) {
			go func() {
				results <- i.Client.Post(context.Background(), "/accounts/letters/mailboxes",
					api.NewMailbox{Address: fmt.Sprintf("box%d@letters.example", n)}, nil)
			}()
		}
		added := 0
		for range cap(results) {
			if <-results == nil {
				added++
			}
		}
		assert.Equal(t, 2, added, "of 3, one is there")
	})
	t.Run("a name that somebody merely added gets no mail", func(t *testing.T) {
		require.NoError(t, i.Client.Post(context.Background(), "/people", api.NewPerson{Name: "letters-writer",
			Customer: customerOf(t, "letters"), Activation: "password", Password: e2e.Password}, nil))
		as := e2e.SignedIn(t, "letters-writer")
		require.NoError(t, as.Post(context.Background(), "/accounts/letters/domains",
			api.NewDomain{Domain: "bigmailer.example"}, nil))
		err := as.Post(context.Background(), "/accounts/letters/mailboxes",
			api.NewMailbox{Address: "me@bigmailer.example"}, nil)
		var problem *api.Problem
		require.ErrorAs(t, err, &problem)
		assert.Equal(t, http.StatusConflict, problem.Status)
		assert.Contains(t, problem.Detail, "nothing shows yet that bigmailer.example is yours")
		assert.ErrorContains(t, mailtest.Deliver(skua, "someone@elsewhere.test", "me@bigmailer.example", "x"), "55")
	})
	t.Run("suspended, nobody signs in, and mail still arrives", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "account", "suspend", "letters", "--why", "a test")
		require.Zero(t, exit, stderr)
		_, err := mailtest.Inbox(skua, "info@letters.example", password)
		assert.Error(t, err)
		require.NoError(t, mailtest.Deliver(skua, "someone@elsewhere.test", "info@letters.example", "while suspended"))
		_, stderr, exit = e2e.Command(t, "account", "resume", "letters")
		require.Zero(t, exit, stderr)
		labtest.Eventually(t, func() bool {
			text, _ := mailtest.Inbox(skua, "info@letters.example", password)
			return strings.Contains(text, "while suspended")
		})
	})
	t.Run("mail of an account on another server than its sites", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "server", "change", "petrel", "--open")
		require.Zero(t, exit, stderr)
		e2e.Opened(t, api.OpenAccount{Domain: "afar.example", Plan: "post", SignInName: "afar",
			Customer: "Afar", NewCustomer: true, CustomerEmail: "afar@post.test", Server: "petrel"})
		out, stderr, exit := e2e.Command(t, "mailbox", "add", "me@afar.example", "--generate")
		require.Zero(t, exit, stderr)
		assert.Contains(t, out+stderr, "the mail of afar is on fulmar: it holds the mail of the fewest accounts")
		fulmar := i.Servers["fulmar"].Address
		secret := passwordIn(t, out+stderr)
		_, err := mailtest.Inbox(fulmar, "me@afar.example", secret)
		assert.NoError(t, err)
		require.NoError(t, mailtest.Submit(fulmar, "me@afar.example", secret, "me@afar.example",
			[]string{"later@harbourmail.test"}, "From: me@afar.example\r\nSubject: it waits\r\n\r\nx\r\n"))
		traces := func() string {
			t.Helper()
			found, _ := i.Servers["fulmar"].Exec(context.Background(), "bash", "-c",
				"postqueue -j | grep -o afar.example; "+
					"grep -rl afar.example --exclude=sent /etc /home /run /var/lib/victualler "+
					"/var/lib/victualler-mail "+
					"/var/spool/postfix "+
					"/var/lib/dovecot /var/lib/redis")
			return found
		}
		labtest.Eventually(t, func() bool { return strings.Contains(traces(), "flow.db") })
		_, stderr, exit = e2e.Command(t, "account", "close", "afar", "--yes")
		require.Zero(t, exit, stderr)
		assert.ErrorContains(t, mailtest.Deliver(fulmar, "someone@elsewhere.test", "me@afar.example", "x"), "55")
		left, err := i.Servers["fulmar"].Exec(context.Background(), "ls", "/home/.mail")
		require.NoError(t, err)
		assert.NotContains(t, left, "afar")
		assert.Empty(t, traces(), "but in logs, and in what counts for an hour")
	})
	for _, label := range []string{"skua", "fulmar"} {
		out, stderr, exit := e2e.Command(t, "server", "sweep", label)
		require.Zero(t, exit, stderr)
		assert.Contains(t, out, "no difference", label)
	}
}

func customerOf(t *testing.T, account string) int64 {
	t.Helper()
	var detail api.AccountDetail
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/accounts/"+account, nil, &detail))
	return detail.CustomerID
}
