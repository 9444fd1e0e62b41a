// Package mailtest speaks with mail servers of the lab as other servers and mail programs do.
package mailtest

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/smtp"
	"strings"
	"time"
)

// Deliver sends a message with a text as another mail server does: one that looks as it should.
func Deliver(server netip.Addr, from, to, text string) error {
	return deliver(server, "mx.harbourmail.test", from, []string{to}, fmt.Sprintf(
		"From: %s\r\nTo: %s\r\nSubject: a test\r\nDate: %s\r\nMessage-ID: "+
			"<%s@harbourmail.test>\r\n\r\n%s\r\n", from, to,
		time.Now().Format(time.RFC1123Z), rand.Text(), text))
}

// DeliverWhole sends a message with its header, by a server that does not know its own name.
func DeliverWhole(server netip.Addr, from string, to []string, message string) error {
	return deliver(server, "localhost", from, to, message)
}

func deliver(server netip.Addr, name, from string, to []string, message string) error {
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(server.String(), "25"), 5*time.Second)
	if err != nil {
		return err
	}
	c, err := newClient(conn, server)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := errors.Join(c.Hello(name), c.StartTLS(&tls.Config{InsecureSkipVerify: true})); err != nil {
		return err
	}
	if err := c.Mail(from); err != nil {
		return err
	}
	for _, one := range to {
		if err := c.Rcpt(one); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := io.WriteString(w, message); err != nil {
		return err
	}
	return errors.Join(w.Close(), c.Quit())
}

// newClient hears the greeting. A conversation that takes longer than a minute is given up.
func newClient(conn net.Conn, server netip.Addr) (*smtp.Client, error) {
	if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	c, err := smtp.NewClient(conn, server.String())
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return c, nil
}

// Submit sends a message as a mail program does whose user has signed in. The text is the whole
// message.
func Submit(server netip.Addr, user, password, sender string, to []string, text string) error {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp",
		net.JoinHostPort(server.String(), "465"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return err
	}
	c, err := newClient(conn, server)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.Auth(smtp.PlainAuth("", user, password, server.String())); err != nil {
		return err
	}
	if err := c.Mail(sender); err != nil {
		return err
	}
	for _, one := range to {
		if err := c.Rcpt(one); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write([]byte(text)); err != nil {
		return err
	}
	return errors.Join(w.Close(), c.Quit())
}

// Talk sends lines to a port as they are, one after the other, and returns all that was answered
// until the server ends the conversation or says nothing for two seconds. An empty line is one;
// what is to be sent without an end of line ends with a NUL, which is not sent.
func Talk(server netip.Addr, port string, lines ...string) (string, error) {
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(server.String(), port), 5*time.Second)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	var all strings.Builder
	read := func(patience time.Duration) bool {
		buffer := make([]byte, 4096)
		if err := conn.SetReadDeadline(time.Now().Add(patience)); err != nil {
			return false
		}
		n, err := conn.Read(buffer)
		all.Write(buffer[:n])
		return err == nil
	}
	read(2 * time.Second)
	for _, line := range lines {
		text, whole := strings.CutSuffix(line, "\x00")
		if !whole {
			text += "\r\n"
		}
		if _, err := conn.Write([]byte(text)); err != nil {
			return all.String(), nil
		}
		if !whole {
			read(300 * time.Millisecond)
		}
	}
	for read(2 * time.Second) {
	}
	return all.String(), nil
}

// IMAP is a conversation of a few commands (RFC 9051); anything else is beside the point here.
type IMAP struct {
	conn *tls.Conn
	n    int
}

// DialIMAP connects with TLS, whoever has signed the certificate.
func DialIMAP(server netip.Addr) (*IMAP, error) {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp",
		net.JoinHostPort(server.String(), "993"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return nil, err
	}
	return &IMAP{conn: conn}, conn.SetDeadline(time.Now().Add(20 * time.Second))
}

// Ask sends a command and returns the answer, or an error where it is refused.
func (c *IMAP) Ask(command string) (string, error) {
	c.n++
	tag := fmt.Sprintf("a%d", c.n)
	if _, err := fmt.Fprintf(c.conn, "%s %s\r\n", tag, command); err != nil {
		return "", err
	}
	all := []byte("\n")
	buffer := make([]byte, 256<<10)
	for {
		n, err := c.conn.Read(buffer)
		all = append(all, buffer[:n]...)
		if err != nil {
			return string(all), err
		}
		// The last line is the one that ends it.
		last := all[bytes.LastIndexByte(all[:len(all)-1], '\n')+1:]
		if !bytes.HasPrefix(last, []byte(tag+" ")) || last[len(last)-1] != '\n' {
			continue
		}
		if !bytes.HasPrefix(last, []byte(tag+" OK")) {
			return string(all), fmt.Errorf("refused: %s", all)
		}
		return string(all), nil
	}
}

// Inbox signs in and returns the texts of all messages.
func Inbox(server netip.Addr, address, password string) (string, error) {
	c, err := DialIMAP(server)
	if err != nil {
		return "", err
	}
	defer c.Close()
	if _, err := c.Ask(fmt.Sprintf("LOGIN %q %q", address, password)); err != nil {
		return "", err
	}
	if _, err := c.Ask("SELECT INBOX"); err != nil {
		return "", err
	}
	return c.Ask("UID FETCH 1:* (BODY[])")
}

// Close ends the conversation without a word.
func (c *IMAP) Close() error { return c.conn.Close() }
