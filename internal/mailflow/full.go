package mailflow

import (
	"context"
	"crypto/rand"
	"fmt"
	"mime"
	"strconv"
	"strings"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
)

// TellFull is what Dovecot runs when a mailbox has filled up to a share, in percent: it tells the
// mailbox's holder in a language, by a message into it.
func TellFull(ctx context.Context, percent, address, tag string) error {
	n, err := strconv.Atoi(percent)
	if err != nil || n < 1 || n > 100 || !mail.IsAddress(address) {
		return fmt.Errorf("%q of %q says nothing", percent, address)
	}
	config, err := ReadConfig()
	if err != nil {
		return err
	}
	return Sendmail(ctx, "", []string{address}, strings.NewReader(fullText(n, address, tag, config.Name, time.Now())))
}

// fullText is the message, which no program answers (RFC 3834, section 2).
func fullText(percent int, address, tag, server string, now time.Time) string {
	subject := language.New("Your mailbox is %d %% full", percent).In(tag)
	text := language.New("Messages are still taken. Delete what you no longer need, or ask whoever looks after your "+
		"mail for more room.").In(tag) + "\r\n\r\n" + language.New("Once it is full, new messages wait for some "+
		"days, and go back to their senders then.").In(tag)
	if percent == 100 {
		subject = language.New("Your mailbox is full").In(tag)
		text = language.New("New messages wait now, and go back to their senders after some days. Delete what you no " +
			"longer need, or ask whoever looks after your mail for more room: what waits comes by itself then.").In(tag)
	}
	return fmt.Sprintf("From: Mail server <postmaster@%s>\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
		"<%s@%s>\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; "+
		"charset=utf-8\r\n\r\n%s, %s.\r\n\r\n%s\r\n", server, address, mime.QEncoding.Encode("utf-8", subject),
		now.Format(time.RFC1123Z), rand.Text(), server, subject, address, text)
}
