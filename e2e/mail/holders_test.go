package mail

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// The holder of a mailbox signs in with its password, and what they change is in force on the
// server.
func TestHolders(t *testing.T) {
	ctx := context.Background()
	i := e2e.Shared(t)
	senders(t, "holders", "holders.example", 100)
	unjudged(t)
	mailbox(t, "holders", "bo@holders.example")
	skua := i.Servers["skua"].Address
	stranger := &client.Client{Base: i.Address()}
	var session api.MailboxSession
	assert.Error(t, stranger.Post(ctx, "/mailbox/session",
		api.MailboxSignIn{Address: "anna@holders.example", Password: "wrong", Token: true}, &session))
	require.NoError(t, stranger.Post(ctx, "/mailbox/session",
		api.MailboxSignIn{Address: "anna@holders.example", Password: password, Token: true}, &session))
	anna := &client.Client{Base: i.Address(), Token: session.Token}
	for _, path := range []string{"/accounts/holders", "/accounts/holders/mailboxes", "/session", "/messages",
		"/accounts"} {
		assert.Error(t, anna.Get(ctx, path, nil, &struct{}{}), path)
	}
	var own api.OwnMailbox
	require.NoError(t, anna.Get(ctx, "/mailbox", nil, &own))
	assert.Equal(t, "anna@holders.example", own.Mailbox.Address)
	change := func(in api.OwnMailboxChange) {
		t.Helper()
		var done api.MailboxChanged
		require.NoError(t, anna.Do(ctx, client.Call{Method: "PATCH", Path: "/mailbox", Body: in}, &done))
		e2e.Watched(t, done.Operation)
	}
	change(api.OwnMailboxChange{Filters: &[]api.MailFilter{
		{All: true, Folder: "Tides/Six o'clock", Read: true, Tests: []api.MailFilterTest{
			{Field: "subject", How: "contains", Value: `tide "now"`}, {Field: "from", How: "is", Value: "eve@harbourmail.test"}}},
		{Drop: true, Tests: []api.MailFilterTest{{Field: "subject", How: "is", Value: "lottery"}}},
	}})
	send := func(subject string) {
		t.Helper()
		require.NoError(t, deliver(t, "eve@harbourmail.test", "anna@holders.example", subject, ""))
	}
	ask := func(command string) string {
		t.Helper()
		c, err := mailtest.DialIMAP(skua)
		require.NoError(t, err)
		defer c.Close()
		_, err = c.Ask(fmt.Sprintf("LOGIN anna@holders.example %s", password))
		require.NoError(t, err)
		_, err = c.Ask(command)
		if err != nil {
			return ""
		}
		found, err := c.Ask("FETCH 1:* (FLAGS BODY.PEEK[HEADER.FIELDS (SUBJECT)])")
		require.NoError(t, err)
		return found
	}
	send("lottery")
	send(`a tide "now" rises`)
	send("other")
	labtest.Eventually(t, func() bool {
		return contains(ask(`SELECT "Tides/Six o'clock"`), `a tide "now" rises`, `\Seen`)
	})
	labtest.Eventually(t, func() bool { return contains(ask("SELECT INBOX"), "Subject: other") })
	assert.NotContains(t, ask("SELECT INBOX"), "lottery")
	assert.NotContains(t, ask("SELECT INBOX"), "tide")

	t.Run("a script that a mail program has put there stays, and goes on after the filters", func(t *testing.T) {
		script := `require ["fileinto", "mailbox"]; fileinto :create "By hand";`
		_, err := i.Servers["skua"].Exec(ctx, "bash", "-c", fmt.Sprintf("printf %%s '%s' | doveadm sieve put -u "+
			"anna@holders.example -a own", script))
		require.NoError(t, err)
		send("third")
		labtest.Eventually(t, func() bool { return contains(ask(`SELECT "By hand"`), "Subject: third") })
		change(api.OwnMailboxChange{Filters: &[]api.MailFilter{}})
		send("lottery")
		labtest.Eventually(t, func() bool { return contains(ask(`SELECT "By hand"`), "Subject: lottery") })
	})
	t.Run("the password", func(t *testing.T) {
		next := "tidal-limpet-9312"
		change(api.OwnMailboxChange{CurrentPassword: password, Password: &next})
		_, err := mailtest.Inbox(skua, "anna@holders.example", next)
		assert.NoError(t, err)
		_, err = mailtest.Inbox(skua, "anna@holders.example", password)
		assert.Error(t, err)
		require.NoError(t, anna.Get(ctx, "/mailbox", nil, &own), "this session stays")
	})
	t.Run("whoever leaves is out", func(t *testing.T) {
		require.NoError(t, anna.Do(ctx, client.Call{Method: "DELETE", Path: "/mailbox/session"}, nil))
		assert.Error(t, anna.Get(ctx, "/mailbox", nil, &own))
	})
}

// contains reports whether a text has all parts.
func contains(text string, parts ...string) bool {
	return !slices.ContainsFunc(parts, func(p string) bool { return !strings.Contains(text, p) })
}
