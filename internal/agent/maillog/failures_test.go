package maillog

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/follow"
	"victualler/internal/agentlink"
)

func TestFailures(t *testing.T) {
	ctx := t.Context()
	l, err := Open(ctx, filepath.Join(t.TempDir(), "messages.db"), 999, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.Local)
	l.now = func() time.Time { return now }
	l.Whose = func(_ context.Context, mailbox, _ string) (int64, error) {
		if strings.HasSuffix(mailbox, "@boats.example") {
			return 7, nil
		}
		return 0, nil
	}
	stamp := func() string { return now.Format("Jan _2 15:04:05") }
	reading := func(mailbox, client string, n int) {
		t.Helper()
		require.NoError(t, l.takeFolders(ctx, []byte(stamp()+fmt.Sprintf(" imap-login: Info: Disconnected: Connection "+
			"closed (auth failed, %d attempts in 6 secs): user=<%s>, method=PLAIN, rip=%s, lip=10.78.0.21, TLS, "+
			"session=<8wqN>\n", n, mailbox, client)), follow.Position{}))
	}
	sending := func(mailbox, client string) {
		t.Helper()
		require.NoError(t, l.take(ctx, []byte(stamp()+fmt.Sprintf(" skua postfix/submissions/smtpd[551]: warning: "+
			"unknown[%s]: SASL PLAIN authentication failed: (reason unavailable), "+
			"sasl_username=%s\n", client, mailbox)),
			follow.Position{}))
	}
	reading("Anna@boats.example", "192.0.2.7", 3)
	reading("nobody@elsewhere.test", "192.0.2.7", 3)
	reading("", "192.0.2.7", 1)
	now = now.Add(time.Hour)
	sending("anna@boats.example", "2001:db8::5")
	require.NoError(t, l.take(ctx, []byte(stamp()+" skua postfix/submissions/smtpd[551]: warning: unknown[192.0.2.7]: "+
		"SASL PLAIN authentication failed: Connection lost to authentication server, "+
		"sasl_username=anna@boats.example\n"),
		follow.Position{}))
	reading("bo@boats.example", "192.0.2.7", 1)
	require.NoError(t, l.takeFolders(ctx, []byte(stamp()+" imap-login: Info: Login: user=<anna@boats.example>, "+
		"method=PLAIN, rip=192.0.2.9, lip=10.78.0.21, mpid=1, TLS, session=<x>\n"), follow.Position{}))
	list, err := l.Failures(ctx)
	require.NoError(t, err)
	assert.Equal(t, []agentlink.SignInFailures{
		{Mailbox: "anna@boats.example", Count: 4, Clients: 2, LastAt: now.UTC(), LastFrom: "2001:db8::5"},
		{Mailbox: "bo@boats.example", Count: 1, Clients: 1, LastAt: now.UTC(), LastFrom: "192.0.2.7"}}, list)

	for n := range 3 * mostClients {
		reading("bo@boats.example", fmt.Sprintf("198.51.100.%d", n%250+n/250), 1)
	}
	list, err = l.Failures(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 3*mostClients+1, list[0].Count)
	assert.EqualValues(t, mostClients+1, list[0].Clients, "who comes from everywhere fills no disk")

	require.NoError(t, l.Forget(ctx, []string{"boats.example"}))
	list, err = l.Failures(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
	reading("anna@boats.example", "192.0.2.7", 1)
	now = now.Add(25 * time.Hour)
	list, err = l.Failures(ctx)
	require.NoError(t, err)
	assert.Empty(t, list, "a day has passed")
}
