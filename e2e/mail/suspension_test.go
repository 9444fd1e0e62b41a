package mail

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

func TestMailSuspension(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "moored", "moored.example", 1000)
	const anna = "anna@moored.example"
	skua := i.Servers["skua"].Address
	send := func() error {
		return mailtest.Submit(skua, anna, password, anna, []string{"bo@harbourmail.test"},
			"From: "+anna+"\r\nSubject: while suspended\r\n\r\nx\r\n")
	}
	command := func(line ...string) string {
		out, stderr, exit := e2e.Command(t, line...)
		require.Zero(t, exit, stderr)
		return out + stderr
	}
	assert.Contains(t, command("account", "suspend-mail", "moored", "--sending", "--why", "a list was bought"),
		"postfix takes mail for "+anna)
	assert.ErrorContains(t, send(), "550")
	require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", anna, "what comes is delivered"))
	assert.Contains(t, command("mailbox", "list", "moored"), "suspended: sending, since")
	assert.Contains(t, command("account", "list"), "active, mail suspended")
	out, _ := i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", "moored", "bash", "-c",
		"printf 'To: bo@harbourmail.test\\nSubject: while suspended\\n\\nx\\n' | /usr/sbin/sendmail -t 2>&1; echo "+
			"exit $?")
	assert.Contains(t, out, "exit 77")

	assert.Contains(t, command("account", "suspend-mail", "moored", "--receiving", "--why", "moves away"),
		"postfix defers mail for moored.example")
	require.NoError(t, send())
	assert.ErrorContains(t, mailtest.Deliver(skua, "eve@harbourmail.test", anna, "x"), "450")
	_, err := mailtest.Inbox(skua, anna, password)
	assert.NoError(t, err, "what is there is read")
	assert.Contains(t, command("server", "sweep", "skua"), "no difference")

	command("account", "resume-mail", "moored")
	require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", anna, "x"))
	_, stderr, exit := e2e.Command(t, "account", "resume-mail", "moored")
	assert.NotZero(t, exit)
	assert.Contains(t, stderr, "is not suspended by itself")
	var list api.MailboxList
	labtest.Eventually(t, func() bool {
		return i.Client.Get(context.Background(), "/accounts/moored/mailboxes", nil, &list) == nil &&
			list.Suspension == nil
	})
}
