// Package post hands messages to a mail server (RFC 5321, RFC 6409) and
// says in words what became of it.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"net/smtp"
	"net/textproto"
	"strings"
	"time"
)

// Security is how the connection is kept private.
type Security string

// The kinds of security: TLS from the beginning (RFC 8314), STARTTLS (RFC 3207), or none.
const (
	TLS      Security = "tls"
	STARTTLS Security = "starttls"
	None     Security = "none"
)

// Server is a mail server that takes messages for others.
type Server struct {
	// Address is host and port.
	Address  string
	Security Security
	// Name and Password sign in; both are empty where that is not wanted.
	Name, Password string
}

// Message is one message. All of it is text of people: nothing in it can add a header field.
type Message struct {
	// ID makes a message that was sent twice known as one (RFC 5322, section 3.6.4).
	ID       string
	From     mail.Address
	To       string
	Subject  string
	Text     string
	Language string
	Date     time.Time
}

// Bytes writes the message as it goes over the wire (RFC 5322, RFC 2045).
func (m Message) Bytes() []byte {
	var b bytes.Buffer
	field := func(name, value string) {
		fmt.Fprintf(&b, "%s: %s\r\n", name, strings.NewReplacer("\r", " ", "\n", " ").Replace(value))
	}
	field("Date", m.Date.Format(time.RFC1123Z))
	field("From", m.From.String())
	field("To", (&mail.Address{Address: m.To}).String())
	field("Message-ID", "<"+m.ID+"@"+domainOf(m.From.Address)+">")
	field("Subject", mime.QEncoding.Encode("utf-8", m.Subject))
	field("Content-Language", m.Language)
	field("Auto-Submitted", "auto-generated") // RFC 3834, section 5
	field("MIME-Version", "1.0")
	field("Content-Type", "text/plain; charset=utf-8")
	field("Content-Transfer-Encoding", "quoted-printable")
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	// a buffer does not fail
	w.Write([]byte(strings.ReplaceAll(strings.ReplaceAll(m.Text, "\r\n", "\n"), "\n", "\r\n")))
	w.Close()
	return b.Bytes()
}

func domainOf(address string) string {
	_, domain, _ := strings.Cut(address, "@")
	return domain
}

// Refused is the answer of a server that will not take a message, now or later.
type Refused struct{ Reason string }

// Error implements error.
func (r *Refused) Error() string { return "the mail server refuses it: " + r.Reason }

// timeout bounds the whole exchange.
const timeout = 30 * time.Second

// Send hands a message over. A *[Refused] is for good; after any other error it may be tried again.
func (s Server) Send(ctx context.Context, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return &Refused{fmt.Sprintf("%q is not host:port", s.Address)}
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return fmt.Errorf("%s does not answer: %w", s.Address, err)
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	if s.Security == TLS {
		conn = tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
	}
	client, err := smtp.NewClient(conn, host)
	if err != nil {
		return sanitize(err)
	}
	defer client.Close()
	if err := s.exchange(client, host, m); err != nil {
		return sanitize(err)
	}
	return nil
}

func (s Server) exchange(client *smtp.Client, host string, m Message) error {
	if err := client.Hello(domainOf(m.From.Address)); err != nil {
		return err
	}
	if s.Security == STARTTLS {
		if ok, _ := client.Extension("STARTTLS"); !ok {
			return &Refused{"it does not offer STARTTLS, which the settings ask for"}
		}
		if err := client.StartTLS(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
	}
	if s.Name != "" {
		if err := client.Auth(smtp.PlainAuth("", s.Name, s.Password, host)); err != nil {
			return err
		}
	}
	if err := client.Mail(m.From.Address); err != nil {
		return err
	}
	if err := client.Rcpt(m.To); err != nil {
		return err
	}
	w, err := client.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write(m.Bytes()); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	client.Quit() // it has the message already
	return nil
}

// sanitize tells what the server said. Replies of the 5yz kind are for
// good (RFC 5321, section 4.2.1).
func sanitize(err error) error {
	var reply *textproto.Error
	if errors.As(err, &reply) {
		text := fmt.Sprintf("%d %s", reply.Code, strings.Join(strings.Fields(reply.Msg), " "))
		if reply.Code >= 500 {
			return &Refused{text}
		}
		return fmt.Errorf("the mail server cannot take it now: %s", text)
	}
	return err
}
