package mail

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// Whoever looks after a mailbox sees that somebody tries passwords of it, and from where.
func TestFailedSignIns(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "vault", "vault.example", 100)
	skua := i.Servers["skua"].Address
	for _, address := range []string{"anna@vault.example", "Anna@Vault.example", "nobody@vault.example"} {
		_, err := mailtest.Inbox(skua, address, "wrong")
		require.Error(t, err)
	}
	labtest.Eventually(t, func() bool {
		err := mailtest.Submit(skua, "anna@vault.example", "wrong", "anna@vault.example",
			[]string{"bo@harbourmail.test"}, "Subject: x\r\n\r\nx\r\n")
		require.Error(t, err)
		return strings.Contains(err.Error(), "535") // Dovecot may read its configuration anew at this moment
	})
	out := ""
	labtest.Eventually(t, func() bool {
		var stderr string
		var exit int
		out, stderr, exit = e2e.Command(t, "mailbox", "show", "anna@vault.example")
		require.Zero(t, exit, stderr)
		time.Sleep(time.Second) // it is told every 15 seconds
		return strings.Contains(out, "3 within a day, from 1 address; the last ")
	})
	assert.Contains(t, out, "from "+i.Lab.Gateway().String())
	_, err := mailtest.Inbox(skua, "anna@vault.example", password)
	require.NoError(t, err, "who knows the password gets in")
}
