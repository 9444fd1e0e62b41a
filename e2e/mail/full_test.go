package mail

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

func TestFullMailbox(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "packed", "packed.example", 1000)
	const anna = "anna@packed.example"
	_, stderr, exit := e2e.Command(t, "customer", "change", "packed", "--language", "de")
	require.Zero(t, exit, stderr)
	_, stderr, exit = e2e.Command(t, "mailbox", "change", anna, "--size", "1M")
	require.Zero(t, exit, stderr)
	skua := i.Servers["skua"].Address
	inbox := func(has string) {
		t.Helper()
		labtest.Eventually(t, func() bool {
			text, _ := mailtest.Inbox(skua, anna, password)
			return strings.Contains(text, has)
		}, has)
	}
	big := strings.Repeat(strings.Repeat("harbour ", 9)+"\r\n", 12_000)
	require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", anna, big))
	inbox("Subject: Ihr Postfach ist zu 80 % voll")
	for n := range 3 {
		require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", anna, fmt.Sprint("later ", n)+big[:400_000]))
	}
	var page api.MessagePage
	labtest.Eventually(t, func() bool {
		require.NoError(t, i.Client.Get(context.Background(), "/messages?outcome=waiting&recipient="+anna, nil, &page))
		return len(page.Messages) == 3
	}, "what does not fit waits")
	assert.Contains(t, page.Messages[0].Reply, "Quota exceeded")
	_, stderr, exit = e2e.Command(t, "mailbox", "change", anna, "--size", "40M")
	require.Zero(t, exit, stderr)
	for _, m := range page.Messages {
		_, stderr, exit := e2e.Command(t, "queue", "retry", "skua", m.Queue)
		require.Zero(t, exit, stderr)
	}
	for n := range 3 {
		inbox(fmt.Sprint("later ", n))
	}
}
