package e2e

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/mailsink"
)

const Password = "kittiwake-over-quiet-slipway-41"

// Mailing has mail go out to a sink for the time of a test.
func Mailing(t *testing.T) *mailsink.Sink {
	t.Helper()
	sink, err := mailsink.Listen("127.0.0.1:0", "127.0.0.1:0")
	require.NoError(t, err)
	set := func(console, server, sender string) {
		none := "none"
		Patch(t, "/settings", api.SettingsChange{Console: &console, MailServer: &server, MailSecurity: &none,
			Sender: &sender}, nil)
	}
	set(Inst.Address(), sink.SMTP, "hosting@ternisland.example")
	t.Cleanup(func() {
		set("", "", "")
		assert.NoError(t, sink.Close())
	})
	return sink
}

// Mailed waits for a message.
func Mailed(t *testing.T, sink *mailsink.Sink, to string) mailsink.Message {
	t.Helper()
	labtest.Eventually(t, func() bool { return len(sink.To(to)) > 0 }, "no message to "+to)
	return sink.To(to)[0]
}

// Person adds somebody with a password and signs them in.
func Person(t *testing.T, p api.NewPerson) *client.Client {
	t.Helper()
	p.Activation, p.Password = "password", Password
	require.NoError(t, Inst.Client.Post(context.Background(), "/people", p, nil))
	return SignedIn(t, p.Name)
}

// SignedIn is a client of somebody who has [Password].
func SignedIn(t *testing.T, name string) *client.Client {
	t.Helper()
	c := &client.Client{Base: Inst.Address()}
	_, err := c.SignIn(context.Background(), api.SignIn{Name: name, Password: Password})
	require.NoError(t, err)
	return c
}
