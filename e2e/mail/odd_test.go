package mail

import (
	"context"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"mime"
	"net"
	"net/smtp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/hosting/mail"
	"victualler/internal/lab/mailtest"
)

// oddLetters are what breaks out of texts that programs read.
var oddLetters = []string{`"`, `\`, "'", "`", "$", "%", "{", "}", "${subject}", "%{userdb:home}", "#", "/*", "*/", ";",
	"text:", ".", "[", "]", "(", ")", ",", ":", "@", "<", ">", "*", "?", "--", "ü", "雨", "𝄞", "a", "B", "7", " ", "&",
	"|", "~", "_", "=", "+", "!", "^"}

// odd is a text of up to twelve of them.
func odd(random *rand.Rand) string {
	text := ""
	for range 1 + random.IntN(12) {
		text += oddLetters[random.IntN(len(oddLetters))]
	}
	return strings.TrimSpace(text)
}

// Filters of whatever texts are what Dovecot's own programs take them for: each is compiled, and
// finds the message with just that subject.
func TestFiltersOfOddTexts(t *testing.T) {
	i := e2e.Shared(t)
	random := rand.New(rand.NewPCG(7, 14))
	var script strings.Builder
	file := func(name, text string) {
		fmt.Fprintf(&script, "echo %s | base64 -d > %s\n", base64.StdEncoding.EncodeToString([]byte(text)), name)
	}
	script.WriteString("cd $(mktemp -d) && chmod 777 .\n")
	texts := map[string]string{}
	for len(texts) < 80 {
		text := odd(random)
		filters := []mail.Filter{{Folder: "Found", Tests: []mail.FilterTest{{Field: "subject", How: "is",
			Value: text}}}}
		if mail.CheckFilters(filters) != nil || strings.Contains(text, "=?") {
			continue
		}
		name := fmt.Sprint("odd", len(texts))
		texts[name] = text
		file(name+".sieve", mail.Sieve(filters))
		file(name+".eml", "From: a@harbourmail.test\r\nTo: b@boats.example\r\nSubject: "+
			mime.BEncoding.Encode("utf-8", text)+"\r\n\r\nx\r\n")
		fmt.Fprintf(&script, "sievec %s.sieve || echo not compiled: %[1]s\n"+
			"sieve-test -o mail_uid=1000000001 -o mail_gid=1000000001 -o mail_home=$PWD "+
			"-o postmaster_address=postmaster@boats.example %[1]s.sieve %[1]s.eml 2>&1 | "+
			"grep -q 'folder: Found' || echo not found: %[1]s\n", name)
	}
	out, err := i.Servers["skua"].Exec(context.Background(), "bash", "-c", script.String())
	require.NoError(t, err, out)
	for name, text := range texts {
		assert.NotContains(t, out, ": "+name+"\n", "%q", text)
	}
}

// Whatever somebody asks the tables for is a text, and never part of the question.
func TestOddAddresses(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "tables", "tables.example", 100)
	skua := i.Servers["skua"].Address
	random := rand.New(rand.NewPCG(7, 15))
	quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	locals := []string{"x' or '1'='1", "x' union select address, 1 from mailboxes --", "anna'--", "%", "anna%00", "*"}
	for range 60 {
		locals = append(locals, odd(random))
	}
	var c *smtp.Client
	for n, local := range locals {
		if n%8 == 0 { // who makes many mistakes has to wait
			var err error
			c, err = smtp.Dial(net.JoinHostPort(skua.String(), "25"))
			require.NoError(t, err)
			defer c.Close()
			require.NoError(t, c.Hello("mx.harbourmail.test"))
		}
		require.NoError(t, c.Mail("a@harbourmail.test"))
		id, err := c.Text.Cmd("RCPT TO:<\"%s\"@tables.example>", quoted.Replace(local))
		require.NoError(t, err)
		c.Text.StartResponse(id)
		code, says, err := c.Text.ReadResponse(0)
		c.Text.EndResponse(id)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, code, 500, "%q: %s", local, says)
		require.NoError(t, c.Reset())
	}
	for _, local := range locals[:4] {
		_, err := mailtest.Inbox(skua, strings.ReplaceAll(local, " ", "")+"@tables.example", password)
		assert.Error(t, err, local)
	}
	_, err := mailtest.Inbox(skua, "anna@tables.example", password)
	require.NoError(t, err, "the tables are as they were")
}
