package maillog

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/follow"
	"victualler/internal/hosting/mail"
)

func TestLog(t *testing.T) {
	ctx := t.Context()
	dir := t.TempDir()
	path := filepath.Join(dir, "messages.db")
	l, err := Open(ctx, path, 999, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	offset := int64(0)
	take := func(lines ...string) {
		t.Helper()
		text := ""
		for _, one := range lines {
			text += time.Now().Format("Jan _2 15:04:05") + " skua postfix/" + one + "\n"
		}
		offset += int64(len(text))
		require.NoError(t, l.take(ctx, []byte(text), follow.Position{Inode: 7, Offset: offset}))
	}
	since := func(after int64) []Delivery {
		page, err := l.Since(ctx, after)
		require.NoError(t, err)
		assert.False(t, page.More)
		return page.Deliveries
	}
	const message = "AAAAAAAAAA"
	take("smtpd[1]: "+message+": client=mx.harbourmail.test[192.0.2.7]",
		"cleanup[1]: "+message+": message-id=<m1@harbourmail.test>",
		"qmgr[1]: "+message+": from=<eve@harbourmail.test>, size=267, nrcpt=3 (queue active)",
		"lmtp[1]: "+message+": to=<anna@boats.example>, relay=dovecot, dsn=2.0.0, status=sent (250 Saved)",
		"lmtp[1]: "+message+": to=<crew=boats.example@forward.invalid>, orig_to=<Crew@boats.example>, relay=x, "+
			"dsn=2.0.0, "+
			"status=sent (250 OK: queued)",
		"lmtp[1]: "+message+": to=<bo@boats.example>, orig_to=<sales@boats.example>, relay=dovecot, dsn=4.2.2, "+
			"status=deferred (452 full)")
	first := since(0)
	require.Len(t, first, 3)
	d := first[0]
	assert.Equal(t, "delivered eve@harbourmail.test anna@boats.example m1@harbourmail.test 192.0.2.7 250 Saved",
		strings.Join([]string{d.Outcome, d.Sender, d.Recipient, d.MessageID, d.Client, d.Reply}, " "))
	assert.EqualValues(t, 267, d.Size)
	assert.Equal(t, "forwarded crew@boats.example", first[1].Outcome+" "+first[1].Recipient)
	assert.Equal(t, "crew=boats.example@forward.invalid", first[1].DeliveredTo,
		"beside the mailbox of the same address")
	assert.Equal(t, "waiting sales@boats.example bo@boats.example", first[2].Outcome+" "+first[2].Recipient+" "+
		first[2].DeliveredTo)

	take("lmtp[1]: " + message + ": to=<anna=boats.example@forward.invalid>, orig_to=<anna@boats.example>, relay=x, " +
		"dsn=2.0.0, status=sent (250 2.0.0 <anna=boats.example@forward.invalid> " + mail.SpamAnswer + ")")
	assert.Equal(t, "kept", since(first[2].Change)[0].Outcome)
	first[2].Change++
	take("lmtp[1]: "+message+": to=<bo@boats.example>, orig_to=<sales@boats.example>, relay=dovecot, dsn=2.0.0, "+
		"status=sent (250 Saved)", "qmgr[1]: "+message+": removed")
	second := since(first[2].Change)
	require.Len(t, second, 1, "only what has changed")
	assert.Equal(t, first[2].ID, second[0].ID)
	assert.Equal(t, "delivered", second[0].Outcome)
	assert.EqualValues(t, 2, second[0].Tries)

	take("smtpd[1]: NOQUEUE: reject: RCPT from x[192.0.2.9]: 550 5.1.1 <no@boats.example>: no such; from=<a@b.test> "+
		"to=<no@boats.example> proto=ESMTP",
		"smtpd[1]: NOQUEUE: reject: RCPT from x[192.0.2.9]: 550 5.1.1 <no@boats.example>: no such; from=<a@b.test> "+
			"to=<no@boats.example> proto=ESMTP")
	third := since(second[0].Change)
	require.Len(t, third, 2, "each refusal is one")
	assert.Equal(t, "refused", third[0].Outcome)
	assert.Equal(t, "a@b.test", third[0].Sender)

	t.Run("in which folder a message is, whichever log is read first", func(t *testing.T) {
		filed := func(name string) {
			line := time.Now().Format("Jan _2 15:04:05") + " lmtp(anna@boats.example)<1><" + name + ">: Info: sieve: " +
				"msgid=<m@x.test>: fileinto action: stored mail into mailbox 'Junk'\n"
			require.NoError(t, l.takeFolders(ctx, []byte(line), follow.Position{Inode: 8, Offset: 1}))
		}
		saved := func(queue, name string) {
			take("cleanup[1]: "+queue+": milter-header-info: header Spam-Score: 9.1; A from x[192.0.2.7]; "+
				"from=<a@b.test> "+
				"to=<anna@boats.example> proto=ESMTP helo=<x>: 9.1; A 9.0",
				"lmtp[1]: "+queue+": to=<anna@boats.example>, relay=dovecot, dsn=2.0.0, status=sent (250 2.0.0 "+
					"<anna@boats.example> "+name+" Saved)")
		}
		at := third[1].Change
		saved("CCCCCCCC", "s1")
		filed("s1")
		filed("s2")
		saved("DDDDDDDD", "s2")
		saved("EEEEEEEE", "s3")
		var got []string
		for _, d := range since(at) {
			got = append(got, d.Queue+" "+d.Folder+" "+d.Score)
		}
		assert.Equal(t, []string{"CCCCCCCC Junk 9.1; A 9.0", "DDDDDDDD Junk 9.1; A 9.0", "EEEEEEEE  9.1; A 9.0"}, got)
		third[1].Change = at + 4
	})
	t.Run("an account that is closed leaves nothing", func(t *testing.T) {
		require.NoError(t, l.Forget(ctx, []string{"boats.example"}))
		assert.Empty(t, since(0))
	})
	t.Run("lost rows have greater numbers when they come again", func(t *testing.T) {
		time.Sleep(10 * time.Millisecond)
		again, err := Open(ctx, filepath.Join(dir, "another.db"), 999, slog.Default())
		require.NoError(t, err)
		defer again.Close()
		require.NoError(t, again.take(ctx, []byte(time.Now().Format("Jan _2 15:04:05")+" skua postfix/smtp[1]: "+
			"BBBBBBBB: "+
			"to=<a@b.test>, relay=x, dsn=2.0.0, status=sent (ok)\n"), follow.Position{}))
		page, err := again.Since(ctx, third[1].Change)
		require.NoError(t, err)
		require.Len(t, page.Deliveries, 1)
		assert.Greater(t, page.Deliveries[0].ID, third[1].ID)
	})
	t.Run("it goes on where it was", func(t *testing.T) {
		source := filepath.Join(dir, "postfix.log")
		require.NoError(t, os.WriteFile(source, []byte(time.Now().Format("Jan _2 15:04:05")+" skua postfix/smtp[1]: "+
			"CCCCCCCC: to=<a@b.test>, relay=x, dsn=2.0.0, status=sent (ok)\n"), 0o600))
		for range 2 {
			run, stop := context.WithTimeout(ctx, 500*time.Millisecond)
			require.NoError(t, l.Run(run, source, nil))
			stop()
			require.Len(t, since(0), 1)
			assert.EqualValues(t, 1, since(0)[0].Tries)
		}
	})
}
