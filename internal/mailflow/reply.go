package mailflow

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"mime"
	"mime/quotedprintable"
	"net/textproto"
	"strings"
	"time"

	"victualler/internal/hosting/mail"
)

// Reply is what the holder of a mailbox has others told while they are away.
type Reply struct {
	Subject, Text string
	// From and Until are when it is told; zero is always.
	From, Until time.Time
}

func (r *Reply) inForce(now time.Time) bool {
	return r != nil && (r.From.IsZero() || !now.Before(r.From)) && (r.Until.IsZero() || now.Before(r.Until))
}

// replyPause is how long somebody who was told is not told again (RFC 5230, section 4.2).
const replyPause = 7 * 24 * time.Hour

// reply tells the sender of a message that its reader is away, once in a while.
func (f *Flow) reply(ctx context.Context, to Forward, sender string, header textproto.MIMEHeader) error {
	now := f.Tally.Now()
	if !to.Reply.inForce(now) || to.Account.Silent || to.Account.Stopped {
		return nil
	}
	// Nobody knows who has really sent spam.
	if f.isSpam(header, to.JunkAbove) {
		return nil
	}
	var unknown error
	if !mail.DeservesReply(sender, header, func(address string) bool {
		may, err := f.Tables.MayUse(ctx, to.Address, address)
		unknown = errors.Join(unknown, err)
		return may
	}) {
		return unknown
	}
	sum := sha256.Sum256([]byte(to.Address + " " + strings.ToLower(sender)))
	told, err := f.Replied.Take(1, Bound{hex.EncodeToString(sum[:16]), 1})
	if err != nil || told != nil {
		return err
	}
	over, err := f.takePassed(to.Account, 1)
	if err != nil || over != nil {
		return err
	}
	fields, text, err := composeReply(to.Address, sender, *to.Reply, header, now, f.config.Load().Name)
	if err != nil {
		return err
	}
	// From nobody: a reply to a reply is none (RFC 3834, section 3.3).
	return f.injectSigned(ctx, to.Address, "", []string{sender}, fields, text)
}

// composeReply writes a reply (RFC 3834, section 3.1).
func composeReply(from, to string, r Reply, header textproto.MIMEHeader, now time.Time, server string) ([]field, []byte,
	error) {
	subject := r.Subject
	if subject == "" {
		decoded, err := new(mime.WordDecoder).DecodeHeader(header.Get("Subject"))
		if err != nil {
			decoded = ""
		}
		subject = strings.TrimSpace("Auto: " + decoded)
	}
	subject = strings.Map(func(c rune) rune {
		if c < ' ' {
			return ' '
		}
		return c
	}, subject)
	fields := append(ownHeader(from, to, subject, "auto-replied", now, server),
		field{"Content-Transfer-Encoding", "quoted-printable"})
	if id := header.Get("Message-Id"); id != "" && len(id) < 500 && !strings.ContainsAny(id, "\r\n\x00") {
		fields = append(fields, field{"In-Reply-To", id}, field{"References", id})
	}
	var text bytes.Buffer
	w := quotedprintable.NewWriter(&text)
	_, err := w.Write([]byte(strings.ReplaceAll(strings.ReplaceAll(r.Text, "\r\n", "\n"), "\n", "\r\n") + "\r\n"))
	err = errors.Join(err, w.Close())
	return fields, text.Bytes(), err
}
