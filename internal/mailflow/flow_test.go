package mailflow

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/mailflow/definition"
	"victualler/internal/mailflow/submit"
)

// injected is a message that was put into the queue.
type injected struct {
	sender     string
	recipients []string
	text       string
}

// bench is a flow with tables and a queue of its own.
type bench struct {
	*Flow
	rows *sql.DB
	now  time.Time

	mu     sync.Mutex
	queue  []injected
	broken error
}

func newBench(t testing.TB) *bench {
	dir := t.TempDir()
	b := &bench{now: time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)}
	path := filepath.Join(dir, "flow.db")
	var err error
	b.rows, err = sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(delete)")
	require.NoError(t, err)
	t.Cleanup(func() { b.rows.Close() })
	b.write(t, definition.Schema)
	tables, err := OpenTables(path)
	require.NoError(t, err)
	t.Cleanup(func() { tables.Close() })
	b.Flow = &Flow{Tables: tables, Tally: tallyAt(t, filepath.Join(dir, "sent"), &b.now), Scratch: dir,
		Log: slog.New(slog.DiscardHandler), Inject: b.inject,
		Replied: tallyFor(t, filepath.Join(dir, "replied"), &b.now, replyPause),
		Left:    tallyFor(t, filepath.Join(dir, "left"), &b.now, leaveMemory)}
	b.Configure(definition.Config{Name: "skua.ternisland.example", ReturnKey: []byte("0123456789abcdef")})
	b.write(t, `insert into accounts (name, hourly, bounce_share, silent, account) values
		('boats', 10, -1, 0, 7), ('quay', -1, -1, 0, 8);
	insert into mailboxes (address, hourly, account) values ('anna@boats.example', 4, 7), ('info@boats.example', -1, 7);
	insert into senders (address, mailbox, account) values ('anna@boats.example', 'anna@boats.example', 7),
		('sales@boats.example', 'anna@boats.example', 7), ('info@boats.example', 'info@boats.example', 7),
		('@boats.example', 'info@boats.example', 7);
	insert into forwards (address, target, account) values ('crew@boats.example', 'bo@harbourmail.test', 7),
		('crew@boats.example', 'cy@harbourmail.test', 7), ('*@boats.example', 'di@harbourmail.test', 7);
	insert into domains (name, place, account) values ('boats.example', 0, 7), ('quay.example', 0, 8)`)
	return b
}

func (b *bench) write(t testing.TB, statement string, args ...any) {
	t.Helper()
	_, err := b.rows.Exec(statement, args...)
	require.NoError(t, err)
}

func (b *bench) inject(_ context.Context, sender string, recipients []string, message io.Reader) error {
	text, err := io.ReadAll(message)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.broken == nil {
		b.queue = append(b.queue, injected{sender, recipients, string(text)})
	}
	return b.broken
}

// drain returns what is in the queue, and empties it.
func (b *bench) drain() []injected {
	b.mu.Lock()
	defer b.mu.Unlock()
	queue := b.queue
	b.queue = nil
	return queue
}

// listen serves until the test ends, and returns where.
func listen(t testing.TB, serve func(net.Listener) error) string {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	ended := make(chan error)
	go func() { ended <- serve(l) }()
	t.Cleanup(func() {
		l.Close()
		require.NoError(t, <-ended)
	})
	return path
}

func TestPolicy(t *testing.T) {
	b := newBench(t)
	conn, err := net.Dial("unix", listen(t, b.ServePolicy))
	require.NoError(t, err)
	defer conn.Close()
	ask := func(format string, args ...any) string {
		_, err := fmt.Fprintf(conn, "request=smtpd_access_policy\n"+format+"\n\n", args...)
		require.NoError(t, err)
		buffer := make([]byte, 1024)
		n, err := conn.Read(buffer)
		require.NoError(t, err)
		return strings.TrimSpace(strings.TrimPrefix(string(buffer[:n]), "action="))
	}
	send := func(who string, n int) string {
		return ask("protocol_state=END-OF-MESSAGE\nsasl_username=%s\nrecipient_count=%d", who, n)
	}
	assert.Equal(t, "DUNNO", send("anna@boats.example", 3))
	assert.Contains(t, send("anna@boats.example", 2), "450 4.7.1 anna@boats.example may send to 4 recipients "+
		"within an "+
		"hour, and has sent to 3; try again in 61 min")
	assert.Contains(t, send("anna@boats.example", 5), "550 5.7.1")
	assert.Equal(t, "DUNNO", send("info@boats.example", 7), "up to what the account may")
	assert.Contains(t, send("anna@boats.example", 1), "450 4.7.1 this account may send to 10")
	assert.Contains(t, send("nobody@boats.example", 1), "451")
	assert.Contains(t, send("", 1), "451")
	assert.Contains(t, send("anna@boats.example", 0), "451")
	b.write(t, "update accounts set hourly = 20")
	assert.Equal(t, "DUNNO", send("info@boats.example", 1), "what is changed counts at once")
	b.write(t, "insert into stops (account, at, sent, failed) values (7, 1, 20, 12)")
	assert.Contains(t, send("info@boats.example", 1), "HOLD too much of what this account has sent came back")
	b.write(t, "update stops set released = 2")
	assert.Equal(t, "DUNNO", send("info@boats.example", 1), "it was released")
	b.write(t, "update accounts set silent = 1")
	assert.Contains(t, send("info@boats.example", 1), "550 5.7.1 sending is switched off")

	t.Run("what comes back", func(t *testing.T) {
		back := b.returns().Address("anna@harbourmail.test", domainOf(t, "boats.example"), b.now)
		comes := func(recipient, sender string) string {
			return ask("protocol_state=RCPT\nrecipient=%s\nsender=%s", recipient, sender)
		}
		assert.Equal(t, "DUNNO", comes(back, ""))
		assert.Equal(t, "DUNNO", comes("info@boats.example", "a@harbourmail.test"))
		assert.Contains(t, comes(back, "a@harbourmail.test"), "550 5.7.1")
		assert.Contains(t, comes("srs0=aaaaaaaa=aa=victim.example=anna@boats.example", ""), "550 5.1.1")
	})
	t.Run("the tables cannot be read", func(t *testing.T) {
		b.write(t, "drop table mailboxes")
		assert.Contains(t, send("info@boats.example", 1), "451")
	})
}

// deliverTo hands over a message as Postfix does, and returns the answers by recipient.
func deliverTo(t testing.TB, path, sender, text string, recipients ...string) map[string]error {
	t.Helper()
	conn, err := net.Dial("unix", path)
	require.NoError(t, err)
	c := smtp.NewClientLMTP(conn)
	defer c.Close()
	answers := map[string]error{}
	require.NoError(t, c.Mail(sender, nil))
	taken := 0
	for _, r := range recipients {
		if answers[r] = c.Rcpt(r, nil); answers[r] == nil {
			taken++
		}
	}
	if taken == 0 {
		return answers
	}
	w, err := c.Data()
	require.NoError(t, err)
	_, err = io.WriteString(w, text)
	require.NoError(t, err)
	var failures smtp.LMTPDataError
	if err := w.Close(); err != nil {
		require.ErrorAs(t, err, &failures)
	}
	for r, failure := range failures {
		answers[r] = failure
	}
	return answers
}

func TestForwards(t *testing.T) {
	b := newBench(t)
	path := listen(t, b.ServeForwards)
	deliver := func(sender, text string, recipients ...string) map[string]error {
		return deliverTo(t, path, sender, text, recipients...)
	}
	const text = "From: Eve <eve@elsewhere.test>\r\nSubject: hello\r\n\r\n.a dot\r\nbody\r\n"
	crew := definition.ForwardRecipient("crew@boats.example")
	assert.Equal(t, "crew=boats.example@forward.invalid", crew)

	answers := deliver("eve@elsewhere.test", text, crew, "nobody=boats.example@forward.invalid", "x@boats.example",
		definition.ForwardRecipient("*@boats.example"))
	assert.NoError(t, answers[crew])
	assert.ErrorContains(t, answers["nobody=boats.example@forward.invalid"], "no such address")
	assert.ErrorContains(t, answers["x@boats.example"], "not passed on here")
	queue := b.drain()
	require.Len(t, queue, 2)
	assert.Equal(t, []string{"bo@harbourmail.test", "cy@harbourmail.test"}, queue[0].recipients)
	assert.Equal(t, []string{"di@harbourmail.test"}, queue[1].recipients)
	assert.Equal(t, "Delivered-To: crew@boats.example\r\n"+text, queue[0].text)
	local, domain, _ := strings.Cut(queue[0].sender, "@")
	assert.Equal(t, "boats.example", domain)
	sender, err := b.returns().Sender(local, b.now)
	require.NoError(t, err)
	assert.Equal(t, "eve@elsewhere.test", sender)

	t.Run("what comes back goes to the first sender, from nobody", func(t *testing.T) {
		r := local + "@" + definition.ReturnDomain
		assert.NoError(t, deliver("", "Subject: failed\r\n\r\n", r)[r])
		queue := b.drain()
		require.Len(t, queue, 1)
		assert.Equal(t, injected{"", []string{"eve@elsewhere.test"}, "Subject: failed\r\n\r\n"}, queue[0])
		forged := "SRS0=AAAAAAAA=AA=victim.example=eve@" + definition.ReturnDomain
		assert.Error(t, deliver("", "Subject: failed\r\n\r\n", forged)[forged])
		assert.Empty(t, b.drain())
	})
	t.Run("a failure stays one", func(t *testing.T) {
		assert.NoError(t, deliver("", text, crew)[crew])
		assert.Empty(t, b.drain()[0].sender)
	})
	t.Run("a loop ends", func(t *testing.T) {
		assert.ErrorContains(t, deliver("eve@elsewhere.test", "delivered-to: Crew@boats.example\r\n"+text, crew)[crew],
			"loop")
		assert.Empty(t, b.drain())
	})
	t.Run("Postfix does not take it", func(t *testing.T) {
		b.broken = fmt.Errorf("the disk is full")
		assert.ErrorContains(t, deliver("eve@elsewhere.test", text, crew)[crew], "try again later")
		b.broken = nil
	})
	t.Run("somebody is away", func(t *testing.T) {
		b.write(t, `insert into replies (address, subject, text, starts, ends, account) values
			('anna@boats.example', 'Away – bis Montag', 'I am away.'||char(10)||'Grüße', ?, ?, 7)`,
			b.now.Unix(), b.now.Add(48*time.Hour).Unix())
		anna := definition.ForwardRecipient("anna@boats.example")
		letter := "To: anna@boats.example\r\nMessage-ID: <m1@harbourmail.test>\r\n" + text
		assert.NoError(t, deliver("eve@elsewhere.test", letter, anna)[anna])
		queue := b.drain()
		require.Len(t, queue, 1)
		assert.Empty(t, queue[0].sender)
		assert.Equal(t, []string{"eve@elsewhere.test"}, queue[0].recipients)
		for _, want := range []string{"From: anna@boats.example\r\n", "To: eve@elsewhere.test\r\n",
			"Subject: =?utf-8?q?Away_=E2=80=93_bis_Montag?=\r\n", "Auto-Submitted: auto-replied\r\n",
			"In-Reply-To: <m1@harbourmail.test>\r\n", "\r\n\r\nI am away.\r\nGr=C3=BC=C3=9Fe\r\n"} {
			assert.Contains(t, queue[0].text, want)
		}
		for _, c := range [][2]string{{"eve@elsewhere.test", letter}, {"", letter},
			{"fay@elsewhere.test", "List-Id: <x.y>\r\n" + letter}, {"fay@elsewhere.test", text},
			{"fay@elsewhere.test", "Auto-Submitted: auto-replied\r\n" + letter}} {
			assert.NoError(t, deliver(c[0], c[1], anna)[anna])
			assert.Empty(t, b.drain(), c)
		}
		before := b.now
		b.now = before.Add(72 * time.Hour)
		assert.NoError(t, deliver("gus@elsewhere.test", letter, anna)[anna])
		assert.Empty(t, b.drain(), "the absence is over")
		b.now = before
	})
	t.Run("spam stays in the mailbox", func(t *testing.T) {
		b.write(t, `insert into mailboxes (address, hourly, junk_above, account) values ('info@quay.example', -1, 0, 8),
			('anna@quay.example', -1, 90, 8);
		insert into forwards (address, target, account) values ('info@quay.example', 'bo@harbourmail.test', 8),
			('anna@quay.example', 'bo@harbourmail.test', 8), ('crew@quay.example', 'bo@harbourmail.test', 8)`)
		passed := func(address string, tenths int) bool {
			r := definition.ForwardRecipient(address)
			assert.NoError(t, deliver("eve@elsewhere.test", fmt.Sprintf("Spam-Tenths: %d\r\n%s", tenths, text), r)[r])
			return len(b.drain()) > 0
		}
		assert.True(t, passed("info@quay.example", 99), "nothing judges here, so anybody can have written that")
		was := *b.config.Load()
		defer func() { b.Filter = nil; b.Configure(was) }()
		judging := was
		judging.Filter, judging.JunkAbove = true, 60
		b.Filter = &Judge{}
		b.Configure(judging)
		assert.True(t, passed("info@quay.example", 59))
		assert.False(t, passed("info@quay.example", 60))
		assert.True(t, passed("anna@quay.example", 89), "the mailbox has a bound of its own")
		assert.False(t, passed("anna@quay.example", 90))
		assert.True(t, passed("crew@quay.example", 99), "it would be lost: no mailbox stores it")
	})
	t.Run("no more than may be passed on", func(t *testing.T) {
		for range 3 {
			deliver("eve@elsewhere.test", text, crew)
		}
		status := deliver("eve@elsewhere.test", text, crew)[crew]
		var answer *smtp.SMTPError
		require.ErrorAs(t, status, &answer)
		assert.Equal(t, 450, answer.Code)
		assert.LessOrEqual(t, b.Tally.Used()["passed/7"], int64(10))
		assert.Zero(t, b.Tally.Used()["account/7"], "others cannot use up what the account may send")
	})
}

// handOver gives a message to the flow as a program of an account's sandbox does.
func (b *bench) handOver(account int64, r submit.Request, message string) submit.Answer {
	head := fmt.Sprintf(`{"sender":%q,"recipients":[`, r.Sender)
	for i, one := range r.Recipients {
		head += strings.Repeat(",", min(i, 1)) + fmt.Sprintf("%q", one)
	}
	head += fmt.Sprintf(`],"from_fields":%t}`+"\n", r.FromFields)
	return b.takeFromSite(account, strings.NewReader(head+message))
}

// sign gives boats.example a key.
func (b *bench) sign(t testing.TB) *rsa.PrivateKey {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	b.write(t, "insert into keys (domain, selector, key, account) values ('boats.example', 'k1', ?, 7)",
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	return key
}

func TestSites(t *testing.T) {
	b := newBench(t)
	key := b.sign(t)
	const message = "To: Bo <bo@harbourmail.test>\nBcc: di@harbourmail.test\nSubject: order\n\nthanks\n"
	a := b.handOver(7, submit.Request{FromFields: true}, "From: Shop <shop@boats.example>\n"+message)
	require.Equal(t, submit.Answer{}, a)
	queue := b.drain()
	require.Len(t, queue, 1)
	assert.Equal(t, []string{"bo@harbourmail.test", "di@harbourmail.test"}, queue[0].recipients)
	assert.Equal(t, "shop@boats.example", queue[0].sender)
	assert.NotContains(t, queue[0].text, "Bcc")
	assert.Contains(t, queue[0].text, "\r\n\r\nthanks\r\n")
	assert.EqualValues(t, 2, b.Tally.Used()["account/7"])
	assert.EqualValues(t, 2, b.Tally.Used()["sites/7"])
	record, err := mail.SigningRecord(&key.PublicKey)
	require.NoError(t, err)
	found, err := dkim.VerifyWithOptions(strings.NewReader(queue[0].text), &dkim.VerifyOptions{
		LookupTXT: func(name string) ([]string, error) {
			assert.Equal(t, "k1._domainkey.boats.example", name)
			return []string{record}, nil
		}})
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.NoError(t, found[0].Err)
	assert.Equal(t, "boats.example", found[0].Domain)

	for name, c := range map[string]struct {
		account int64
		request submit.Request
		message string
		exit    int
		says    string
	}{
		"as a neighbour": {7, submit.Request{FromFields: true}, "From: a@quay.example\n" + message, submit.Refused,
			"of no domain of this account"},
		"as somebody else": {7, submit.Request{FromFields: true}, "From: a@harbourmail.test\n" + message,
			submit.Refused, "Reply-To"},
		"two authors": {7, submit.Request{FromFields: true}, "From: a@boats.example\nfrom: a@quay.example\n" + message,
			submit.BadData, "has 2"},
		"to nobody": {7, submit.Request{}, "From: a@boats.example\nSubject: x\n\n", submit.BadData, "goes to nobody"},
		"to a program": {7, submit.Request{Recipients: []string{"|/bin/sh@x.test"}}, "From: a@boats.example\n\n",
			submit.BadData, "no address"},
		"to an option": {7, submit.Request{Recipients: []string{"-oi@x.test"}}, "From: a@boats.example\n\n",
			submit.BadData, "no address"},
		"no header": {7, submit.Request{Recipients: []string{"a@x.test"}}, "hello\n\n", submit.BadData, "no field"},
		"a NUL": {7, submit.Request{Recipients: []string{"a@x.test"}}, "From: a@boats.example\nX: a\x00b\n\n",
			submit.BadData, "octets"},
		"an account without mail": {9, submit.Request{Recipients: []string{"a@x.test"}}, "From: a@boats.example\n\n",
			submit.Refused, "has no mail"},
	} {
		t.Run(name, func(t *testing.T) {
			a := b.handOver(c.account, c.request, c.message)
			assert.Equal(t, c.exit, a.Exit, a.Error)
			assert.Contains(t, a.Error, c.says)
			assert.Empty(t, b.drain())
		})
	}
	t.Run("a message that says nothing of its author", func(t *testing.T) {
		a := b.handOver(8, submit.Request{Recipients: []string{"a@x.test, b@x.test"}, Sender: "root@localhost"},
			"Subject: x\n\n")
		require.Equal(t, submit.Answer{}, a)
		queue := b.drain()[0]
		assert.Equal(t, "webmaster@quay.example", queue.sender)
		assert.Contains(t, queue.text, "From: webmaster@quay.example\r\n")
		assert.Contains(t, queue.text, "Message-ID: <")
		assert.Contains(t, queue.text, "Date: Sat, 28 Nov 2026")
	})
	t.Run("as much as the account may", func(t *testing.T) {
		request := submit.Request{Recipients: []string{"a@x.test"}}
		for range 8 {
			require.Zero(t, b.handOver(7, request, "From: a@boats.example\n\n").Exit)
		}
		a := b.handOver(7, request, "From: a@boats.example\n\n")
		assert.Equal(t, submit.NotNow, a.Exit)
		assert.Contains(t, a.Error, "this account may send to 10 recipients within an hour")
		require.Len(t, b.drain(), 8)
	})
	t.Run("an account that was stopped", func(t *testing.T) {
		b.write(t, "insert into stops (account, at, sent, failed) values (8, 1, 20, 12)")
		a := b.handOver(8, submit.Request{Recipients: []string{"a@x.test"}}, "From: a@quay.example\n\n")
		assert.Equal(t, submit.NotNow, a.Exit)
		assert.Contains(t, a.Error, "came back")
	})
	t.Run("an account that is silent", func(t *testing.T) {
		b.write(t, "update accounts set silent = 1")
		a := b.handOver(8, submit.Request{Recipients: []string{"a@x.test"}}, "From: a@quay.example\n\n")
		assert.Equal(t, submit.Refused, a.Exit)
	})
}

func TestSendmailArguments(t *testing.T) {
	for line, want := range map[string]submit.Request{
		"-t -i":                         {FromFields: true},
		"-ti":                           {FromFields: true},
		"-t -i -fshop@boats.example":    {FromFields: true, Sender: "shop@boats.example"},
		"-f <a@b.example> -oi x@y.test": {Sender: "a@b.example", Recipients: []string{"x@y.test"}},
		"-F Shop -B 8BITMIME a@x.test":  {Recipients: []string{"8BITMIME", "a@x.test"}},
		"-- -x@y.test":                  {Recipients: []string{"-x@y.test"}},
	} {
		got, err := submit.Parse(strings.Fields(line))
		require.NoError(t, err, line)
		assert.Equal(t, want, got, line)
	}
	for _, line := range []string{"-bs", "-q", "-f", "-C /etc/passwd", "-X log"} {
		_, err := submit.Parse(strings.Fields(line))
		assert.Error(t, err, line)
	}
}

// Whatever a program in a sandbox hands over, nothing is sent as somebody else.
func FuzzSites(f *testing.F) {
	f.Add("", "bo@x.test", true, "From: a@boats.example\nTo: b@x.test\n\nhello\n")
	f.Add("a@quay.example", "x", false, "From: a@boats.example\n <b@quay.example>\nSender: \n\n.\n")
	b := newBench(f)
	b.write(f, "update accounts set hourly = -1")
	f.Fuzz(func(t *testing.T, sender, recipient string, fields bool, message string) {
		if strings.ContainsAny(sender+recipient, "\"\\") || !isPrintable(sender+recipient) {
			return
		}
		a := b.handOver(7, submit.Request{Sender: sender, Recipients: []string{recipient}, FromFields: fields}, message)
		queue := b.drain()
		if a.Exit != 0 {
			assert.Empty(t, queue)
			return
		}
		require.Len(t, queue, 1)
		assert.True(t, strings.HasSuffix(strings.ToLower(queue[0].sender), "@boats.example"), queue[0].sender)
		header, _, _ := bytes.Cut([]byte(queue[0].text), []byte("\r\n\r\n"))
		froms := 0
		for line := range bytes.SplitSeq(header, []byte("\r\n")) {
			if name, _, has := bytes.Cut(line, []byte(":")); has && strings.EqualFold(string(name), "from") {
				froms++
			}
		}
		assert.Equal(t, 1, froms)
	})
}

func isPrintable(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' })
}

func domainOf(t testing.TB, name string) names.Domain {
	d, _, err := names.ParseDomain(name)
	require.NoError(t, err)
	return d
}

// No account keeps others from sending by messages that never end.
func TestSitesAtOnce(t *testing.T) {
	var b busy[int64]
	enter := func(account int64) bool { return b.enter(account, siteAtOnce, allAtOnce) }
	for range siteAtOnce {
		assert.True(t, enter(7))
	}
	assert.False(t, enter(7))
	for account := range int64(allAtOnce - siteAtOnce) {
		assert.True(t, enter(100+account))
	}
	assert.False(t, enter(8), "the disk has bounds")
	b.leave(7)
	assert.True(t, enter(8))
}
