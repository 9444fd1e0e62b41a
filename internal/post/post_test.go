package post_test

import (
	"context"
	"net"
	"net/mail"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/post"
	"victualler/internal/standins/mailsink"
)

func TestSend(t *testing.T) {
	sink, err := mailsink.Listen("127.0.0.1:0", "127.0.0.1:0")
	require.NoError(t, err)
	defer sink.Close()
	ctx := context.Background()
	server := post.Server{Address: sink.SMTP, Security: post.None}
	m := post.Message{ID: "1.7", From: mail.Address{Name: "Tern Island, the “Co-operative”",
		Address: "hosting@ternisland.example"}, To: "keeper@lighthousetrust.example",
		Subject: "Größe\r\nBcc: everybody@b.example", Text: "Guten Tag,\n\n.\n" + strings.Repeat("möwe ", 60) + "\n",
		Language: "de", Date: time.Now()}
	require.NoError(t, server.Send(ctx, m))
	got := sink.To("keeper@lighthousetrust.example")
	require.Len(t, got, 1)
	assert.Equal(t, strings.ReplaceAll(m.Text, "\n", "\r\n"),
		strings.ReplaceAll(strings.ReplaceAll(got[0].Text, "\r\n", "\n"), "\n", "\r\n"))
	assert.Contains(t, got[0].Subject, "Größe")
	parsed, err := mail.ReadMessage(strings.NewReader(got[0].Raw))
	require.NoError(t, err)
	assert.Empty(t, parsed.Header.Get("Bcc"), "text adds no header field")
	assert.Equal(t, "<1.7@ternisland.example>", parsed.Header.Get("Message-ID"))
	from, err := parsed.Header.AddressList("From")
	require.NoError(t, err)
	assert.Equal(t, m.From, *from[0])
	for _, line := range strings.Split(string(m.Bytes()), "\r\n") {
		assert.LessOrEqual(t, len(line), 998, "RFC 5322, section 2.1.1")
	}

	var refused *post.Refused
	m.To = "refused@b.example"
	assert.ErrorAs(t, server.Send(ctx, m), &refused)
	assert.Contains(t, refused.Reason, "550 there is no such mailbox")
	m.To = "later@b.example"
	err = server.Send(ctx, m)
	assert.ErrorContains(t, err, "451 try again later")
	assert.NotErrorAs(t, err, new(*post.Refused))
	server.Security = post.STARTTLS
	assert.ErrorContains(t, server.Send(ctx, m), "does not offer STARTTLS")

	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	short, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	assert.Error(t, post.Server{Address: silent.Addr().String(), Security: post.None}.Send(short, m),
		"a server that says nothing is given up")
	assert.ErrorContains(t, post.Server{Address: "127.0.0.1:1"}.Send(ctx, m), "does not answer")
}
