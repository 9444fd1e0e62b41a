package mail

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/smtp"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// dialogue speaks lines with a server, and requires what each answer begins with.
type dialogue struct {
	t    *testing.T
	conn net.Conn
	in   *bufio.Reader
}

func dial(t *testing.T, port string) *dialogue {
	t.Helper()
	skua := e2e.Inst.Servers["skua"].Address.String()
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(skua, port), 5*time.Second)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
	return &dialogue{t: t, conn: conn, in: bufio.NewReader(conn)}
}

// secure goes on with TLS, whoever has signed the certificate.
func (d *dialogue) secure() {
	d.t.Helper()
	secured := tls.Client(d.conn, &tls.Config{InsecureSkipVerify: true})
	require.NoError(d.t, secured.Handshake())
	d.conn, d.in = secured, bufio.NewReader(secured)
}

// until reads up to a line that begins so, and returns all that was read.
func (d *dialogue) until(beginning string) string {
	d.t.Helper()
	all := ""
	for {
		line, err := d.in.ReadString('\n')
		all += line
		if strings.HasPrefix(line, beginning) {
			return all
		}
		require.NoError(d.t, err, "waiting for %q after\n%s", beginning, all)
	}
}

func (d *dialogue) say(line, beginning string) string {
	d.t.Helper()
	_, err := io.WriteString(d.conn, line+"\r\n")
	require.NoError(d.t, err)
	return d.until(beginning)
}

// Mail programs read by POP3 and put scripts by ManageSieve, with TLS alone.
func TestOtherProtocols(t *testing.T) {
	e2e.Shared(t)
	senders(t, "speakers", "speakers.example", 100)
	skua := e2e.Inst.Servers["skua"].Address
	require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", "anna@speakers.example", "a letter to fetch"))
	labtest.Eventually(t, func() bool {
		all, _ := mailtest.Inbox(skua, "anna@speakers.example", password)
		return strings.Contains(all, "a letter to fetch")
	})
	t.Run("POP3", func(t *testing.T) {
		plain := dial(t, "110")
		plain.until("+OK")
		plain.say("USER anna@speakers.example", "-ERR") // no name without TLS
		plain.say("STLS", "+OK")
		plain.secure()
		plain.say("USER anna@speakers.example", "+OK")
		d := dial(t, "995")
		d.secure()
		d.until("+OK")
		d.say("USER anna@speakers.example", "+OK")
		d.say("PASS "+password, "+OK")
		d.say("STAT", "+OK 1 ")
		assert.Contains(t, d.say("RETR 1", ".\r\n"), "a letter to fetch")
		d.say("DELE 1", "+OK")
		d.say("QUIT", "+OK")
		all, _ := mailtest.Inbox(skua, "anna@speakers.example", password)
		assert.NotContains(t, all, "a letter to fetch")
	})
	t.Run("ManageSieve", func(t *testing.T) {
		sign := "AUTHENTICATE \"PLAIN\" \"" + base64.StdEncoding.EncodeToString(
			[]byte("\x00anna@speakers.example\x00"+password)) + "\""
		plain := dial(t, "4190")
		plain.until("OK")
		plain.say(sign, "NO")
		d := dial(t, "4190")
		assert.Contains(t, d.until("OK"), `"STARTTLS"`)
		d.say("STARTTLS", "OK")
		d.secure()
		assert.NotContains(t, d.until("OK"), "vnd.dovecot.pipe", "scripts start no programs")
		d.say(sign, "OK")
		script := "require \"fileinto\"; if header :contains \"subject\" \"a test\" { fileinto \"Archive\"; }"
		d.say(fmt.Sprintf("PUTSCRIPT \"mine\" {%d+}\r\n%s", len(script), script), "OK")
		for _, wrong := range []string{"if nonsense {", `require "reject"; reject "no";`,
			`require "ereject"; ereject "no";`,
			`require "vacation"; vacation "away";`, `require "enotify"; notify "mailto:a@harbourmail.test";`,
			`require "vnd.dovecot.pipe"; pipe "teach";`} {
			d.say(fmt.Sprintf("PUTSCRIPT \"broken\" {%d+}\r\n%s", len(wrong), wrong), "NO")
		}
		d.say("SETACTIVE \"mine\"", "OK")
		assert.Contains(t, d.say("LISTSCRIPTS", "OK"), `"mine" ACTIVE`)
		passing := `redirect "thief@harbourmail.test";`
		d.say(fmt.Sprintf("PUTSCRIPT \"mine\" {%d+}\r\n%s", len(passing), passing), "")
		d.say("LOGOUT", "OK")
		require.NoError(t, mailtest.Deliver(skua, "eve@elsewhere.test", "anna@speakers.example",
			"what scripts pass on"))
		labtest.Eventually(t, func() bool {
			all, _ := mailtest.Inbox(skua, "anna@speakers.example", password)
			return strings.Contains(all, "what scripts pass on")
		})
		e2e.Settled(t)
		assert.Empty(t, e2e.Inst.Outside.To("thief@harbourmail.test"), "it would not be counted")
	})
	t.Run("SMTPUTF8 is not offered, 8-bit text is", func(t *testing.T) {
		d := dial(t, "25")
		d.until("220 ")
		told := d.say("EHLO mx.harbourmail.test", "250 ")
		assert.Contains(t, told, "8BITMIME")
		assert.NotContains(t, told, "SMTPUTF8")
		d.say("MAIL FROM:<grüße@harbourmail.test> SMTPUTF8", "5")
	})
}

// Whatever is in a message that others may send arrives as it was.
func TestLargeAndOddMessages(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "movers", "movers.example", 100)
	unjudged(t)
	mailbox(t, "movers", "both@movers.example", "phone@harbourmail.test")
	skua := i.Servers["skua"].Address
	fetch := func(address, mark string) string {
		t.Helper()
		all := ""
		labtest.Eventually(t, func() bool {
			found, err := mailtest.Inbox(skua, address, password)
			all = found
			return err == nil && strings.Contains(all, mark)
		})
		return all
	}
	head := func(subject string) string {
		return "From: eve@harbourmail.test\r\nTo: anna@movers.example\r\nSubject: " + subject +
			"\r\nMIME-Version: 1.0\r\n" +
			"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\nDate: Sat, 28 Nov 2026 " +
			"10:00:00 " +
			"+0000\r\nMessage-ID: <" + rand.Text() + "@harbourmail.test>\r\n\r\n"
	}
	t.Run("30 MB", func(t *testing.T) {
		raw := make([]byte, 22<<20)
		_, err := rand.Read(raw)
		require.NoError(t, err)
		text := base64.StdEncoding.EncodeToString(raw)
		var lines strings.Builder
		for at := 0; at < len(text); at += 76 {
			lines.WriteString(text[at:min(at+76, len(text))] + "\r\n")
		}
		require.NoError(t, mailtest.DeliverWhole(skua, "eve@harbourmail.test", []string{"both@movers.example"},
			head("large")+lines.String()))
		got := fetch("both@movers.example", "Subject: large")
		assert.True(t, strings.Contains(got, lines.String()), "it is as it was, and %d bytes long", len(got))
		labtest.Eventually(t, func() bool {
			for _, m := range i.Outside.To("phone@harbourmail.test") {
				if m.Subject == "large" {
					return true // it was passed on as well
				}
			}
			return false
		})
	})
	t.Run("a line of 10,000 characters, and text of eight bits", func(t *testing.T) {
		line := strings.Repeat("x", 10_000)
		require.NoError(t, mailtest.DeliverWhole(skua, "eve@harbourmail.test", []string{"anna@movers.example"},
			head("long line")+"Grüße – καλημέρα\r\n"+line+"\r\nend\r\n"))
		got := fetch("anna@movers.example", "Subject: long line")
		assert.Contains(t, got, "Grüße – καλημέρα")
		joined := regexp.MustCompile(`\r\n ?`).ReplaceAllString(got, "")
		assert.Contains(t, joined, line, "broken into lines at most, never cut")
	})
	t.Run("subjects in other letters", func(t *testing.T) {
		require.NoError(t, mailtest.DeliverWhole(skua, "eve@harbourmail.test", []string{"anna@movers.example"},
			head("=?utf-8?q?Gr=C3=BC=C3=9Fe?=")+"encoded\r\n"))
		assert.Contains(t, fetch("anna@movers.example", "encoded"), "=?utf-8?q?Gr=C3=BC=C3=9Fe?=")
		require.NoError(t, mailtest.DeliverWhole(skua, "eve@harbourmail.test", []string{"anna@movers.example"},
			head("Grüße unkodiert")+"as it is\r\n"))
		assert.Contains(t, fetch("anna@movers.example", "as it is"), "Grüße unkodiert")
	})
	t.Run("too large is refused while it still waits for the answer", func(t *testing.T) {
		d := dial(t, "25")
		d.until("220 ")
		assert.Contains(t, d.say("EHLO mx.harbourmail.test", "250 "), fmt.Sprintf("SIZE %d", 70<<20))
		d.say(fmt.Sprintf("MAIL FROM:<eve@harbourmail.test> SIZE=%d", 80<<20), "552")
	})
}

// Whoever writes to somebody who is away is told once; lists, failures and programs are not.
func TestAbsence(t *testing.T) {
	ctx := context.Background()
	i := e2e.Shared(t)
	senders(t, "travellers", "travellers.example", 100)
	unjudged(t)
	skua := i.Servers["skua"].Address
	var done api.MailboxChanged
	require.NoError(t, i.Client.Do(ctx, client.Call{Method: "PATCH", Path: "/accounts/travellers/mailboxes/anna",
		Body: api.MailboxChange{Reply: &api.AbsenceReply{Subject: "Away at sea", Text: "Back in May."}}}, &done))
	e2e.Watched(t, done.Operation)
	write := func(from, subject, more string) {
		t.Helper()
		require.NoError(t, mailtest.DeliverWhole(skua, from, []string{"anna@travellers.example"},
			fmt.Sprintf("From: %s\r\n"+
				"To: anna@travellers.example\r\nSubject: %s\r\nDate: Sat, 28 Nov 2026 10:00:00 +0000\r\nMessage-ID: "+
				"<%s@x.test>\r\n"+
				"%s\r\nhello\r\n", from, subject, rand.Text(), more)))
		labtest.Eventually(t, func() bool {
			all, _ := mailtest.Inbox(skua, "anna@travellers.example", password)
			return strings.Contains(all, "Subject: "+subject)
		})
	}
	write("told@harbourmail.test", "one", "")
	write("told@harbourmail.test", "two", "")
	write("list@harbourmail.test", "three", "List-Id: <x.harbourmail.test>\r\n")
	write("robot@harbourmail.test", "four", "Auto-Submitted: auto-replied\r\n")
	got := arrived(t, "told@harbourmail.test", "Away at sea", 1)[0]
	assert.Empty(t, got.From, "from nobody, so that no reply comes back")
	assert.Contains(t, got.Raw, "Auto-Submitted: auto-replied")
	assert.Equal(t, "travellers.example", signedBy(t, got, "travellers.example"))
	write("last@harbourmail.test", "five", "")
	arrived(t, "last@harbourmail.test", "Away at sea", 1)
	for _, nobody := range []string{"list@harbourmail.test", "robot@harbourmail.test"} {
		assert.Empty(t, i.Outside.To(nobody), nobody)
	}
	assert.Len(t, i.Outside.To("told@harbourmail.test"), 1, "once")
}

// A message to 5,000 people goes to all of them, a thousand at a time: more are refused for the
// moment, so that who sends goes on with the rest, and all are counted.
func TestManyRecipients(t *testing.T) {
	i := e2e.Shared(t)
	const all, most = 5000, 1000
	senders(t, "gazette", "gazette.example", all)
	skua := i.Servers["skua"].Address
	var left []string
	for n := range all {
		left = append(left, fmt.Sprintf("reader%d@harbourmail.test", n))
	}
	rounds := 0
	for ; len(left) > 0 && rounds < 10; rounds++ {
		c, err := smtp.Dial(net.JoinHostPort(skua.String(), "587"))
		require.NoError(t, err)
		require.NoError(t, c.StartTLS(&tls.Config{InsecureSkipVerify: true}))
		require.NoError(t, c.Auth(smtp.PlainAuth("", "anna@gazette.example", password, skua.String())))
		require.NoError(t, c.Mail("anna@gazette.example"))
		var later []string
		for n, to := range left {
			err := c.Rcpt(to)
			if n < most {
				require.NoError(t, err)
				continue
			}
			require.ErrorContains(t, err, "452")
			later = append(later, left[n:]...)
			break
		}
		w, err := c.Data()
		require.NoError(t, err)
		_, err = fmt.Fprint(w, "From: anna@gazette.example\r\nSubject: to all\r\n\r\nx\r\n")
		require.NoError(t, errors.Join(err, w.Close(), c.Quit()))
		left = later
	}
	assert.Equal(t, all/most, rounds)
	got := map[string]int{}
	labtest.Eventually(t, func() bool {
		clear(got)
		for _, m := range i.Outside.Messages() {
			if m.Subject == "to all" {
				for _, to := range m.To {
					got[to]++
				}
			}
		}
		return len(got) == all
	}, "all of them have it")
	for to, n := range got {
		assert.Equal(t, 1, n, to)
	}
	require.ErrorContains(t, mailtest.Submit(skua, "anna@gazette.example", password, "anna@gazette.example",
		[]string{"one-more@harbourmail.test"}, "From: anna@gazette.example\r\nSubject: x\r\n\r\nx\r\n"),
		"may send to 5000 recipients within an hour, and has sent to 5000")
}
