package agent_test

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
	_ "modernc.org/sqlite" // the driver of the tables

	"victualler/internal/agentlink"
	"victualler/internal/hosting/names"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// mailServer starts a server with the role mail.
func mailServer(t *testing.T, labName string) (*lab.Server, *agentlink.Client) {
	t.Helper()
	s, c := joined(t, labName, lab.ServerOptions{HomeSize: 256 << 20})
	name, _, err := names.ParseDomain("skua.ternisland.example")
	require.NoError(t, err)
	start := time.Now()
	defer func() { t.Logf("a mail server after %s", time.Since(start).Round(time.Millisecond)) }()
	require.NoError(t, c.ApplyServer(context.Background(), manifest.Server{Mail: &manifest.MailServer{Name: name}}))
	return s, c
}

func hashOf(t *testing.T, password string) string {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	require.NoError(t, err)
	return "{BLF-CRYPT}" + string(hash)
}

// deliver sends a message as another mail server does.
func deliver(s *lab.Server, from, to, text string) error {
	c, err := smtp.Dial(net.JoinHostPort(s.Address.String(), "25"))
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.StartTLS(&tls.Config{InsecureSkipVerify: true}); err != nil {
		return err
	}
	if err := c.Mail(from); err != nil {
		return err
	}
	if err := c.Rcpt(to); err != nil {
		return err
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "From: %s\r\nTo: %s\r\nSubject: a test\r\n\r\n%s\r\n", from, to, text); err != nil {
		return err
	}
	return errors.Join(w.Close(), c.Quit())
}

// imap is a conversation of a few commands (RFC 9051); anything else is beside the point here.
type imap struct {
	conn *tls.Conn
	n    int
}

func dialIMAP(s *lab.Server) (*imap, error) {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp",
		net.JoinHostPort(s.Address.String(), "993"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return nil, err
	}
	return &imap{conn: conn}, conn.SetDeadline(time.Now().Add(20 * time.Second))
}

// ask sends a command and returns the answer, or an error where it is refused.
func (c *imap) ask(command string) (string, error) {
	c.n++
	tag := fmt.Sprintf("a%d", c.n)
	if _, err := fmt.Fprintf(c.conn, "%s %s\r\n", tag, command); err != nil {
		return "", err
	}
	var all strings.Builder
	buffer := make([]byte, 4096)
	for !strings.Contains("\n"+all.String(), "\n"+tag+" ") || !strings.HasSuffix(all.String(), "\n") {
		n, err := c.conn.Read(buffer)
		all.Write(buffer[:n])
		if err != nil {
			return all.String(), err
		}
	}
	if !strings.Contains("\n"+all.String(), "\n"+tag+" OK") {
		return all.String(), fmt.Errorf("refused: %s", all.String())
	}
	return all.String(), nil
}

// inbox signs in and returns the texts of all messages.
func inbox(s *lab.Server, address, password string) (string, error) {
	c, err := dialIMAP(s)
	if err != nil {
		return "", err
	}
	defer c.conn.Close()
	if _, err := c.ask(fmt.Sprintf("LOGIN %q %q", address, password)); err != nil {
		return "", err
	}
	if _, err := c.ask("SELECT INBOX"); err != nil {
		return "", err
	}
	return c.ask("FETCH 1:* (BODY[])")
}

func TestMailboxes(t *testing.T) {
	s, c := mailServer(t, "mail")
	m := account(t, 1, "ferries", "ferries.example")
	ferries := m.Sites[0].Domain
	size := int64(20 << 20)
	m.Mail = &manifest.Mail{Domains: []names.Domain{ferries},
		Mailboxes: []manifest.Mailbox{{Address: "info@ferries.example", Hash: hashOf(t, "first one"), Size: &size}},
		Addresses: []manifest.MailAddress{{Address: "hello@ferries.example",
			Targets: []string{"info@ferries.example"}}}}
	r := applied(t, c, m)
	assert.Contains(t, strings.Join(r.Verified, "; "), "postfix takes mail for info@ferries.example")
	assert.Contains(t, strings.Join(r.Verified, "; "), "dovecot takes mail for info@ferries.example")

	for n, to := range []string{"info@ferries.example", "INFO@Ferries.example", "hello@ferries.example",
		"info+shop@ferries.example"} {
		require.NoError(t, deliver(s, "someone@post.test", to, fmt.Sprintf("message %d", n)), to)
	}
	labtest.Eventually(t, func() bool {
		text, _ := inbox(s, "info@ferries.example", "first one")
		return strings.Count(text, "message ") == 4
	}, "all messages are in the mailbox")
	_, err := inbox(s, "info@ferries.example", "wrong")
	assert.ErrorContains(t, err, "AUTHENTICATIONFAILED")
	err = deliver(s, "someone@post.test", "nobody@ferries.example", "x")
	assert.ErrorContains(t, err, "550", "who is not there is refused at once")
	err = deliver(s, "someone@post.test", "someone@elsewhere.test", "x")
	assert.ErrorContains(t, err, "554", "mail is not passed on for strangers")

	assert.Empty(t, drift(t, c))

	t.Run("mail goes on without the agent", func(t *testing.T) {
		root(t, s, "pkill -STOP -x victualler-agen")
		defer root(t, s, "pkill -CONT -x victualler-agen")
		require.NoError(t, deliver(s, "someone@post.test", "info@ferries.example", "message by night"))
		labtest.Eventually(t, func() bool {
			text, _ := inbox(s, "info@ferries.example", "first one")
			return strings.Contains(text, "by night")
		})
	})
	t.Run("a site reads no mail, and has no way to the tables", func(t *testing.T) {
		for _, path := range []string{m.MailPath(), m.MailPath() + "/ferries.example/info/Maildir/new",
			render.MailRoutes, render.MailSignIns, render.MailKey} {
			_, err := s.Exec(context.Background(), "setpriv", "--reuid", fmt.Sprint(m.UID()), "--regid",
				fmt.Sprint(m.UID()), "--clear-groups", "sh", "-c",
				"if test -d "+path+"; then ls "+path+"; else cat "+path+"; fi")
			assert.Error(t, err, path)
		}
		assert.Equal(t, "640 postfix\n600 root\n",
			root(t, s, "stat -c '%a %G' "+render.MailRoutes+" "+render.MailSignIns),
			"Postfix, which strangers speak to, reads no hashes")
	})
	t.Run("who signs in does so with TLS", func(t *testing.T) {
		plain, err := net.Dial("tcp", net.JoinHostPort(s.Address.String(), "143"))
		require.NoError(t, err)
		defer plain.Close()
		require.NoError(t, plain.SetDeadline(time.Now().Add(5*time.Second)))
		fmt.Fprintf(plain, "a LOGIN info@ferries.example \"first one\"\r\nb LOGOUT\r\n")
		var said strings.Builder
		_, _ = io.Copy(&said, plain)
		assert.Contains(t, said.String(), "PRIVACYREQUIRED")
		assert.NotContains(t, said.String(), "a OK")
	})
	t.Run("holders send as themselves alone", func(t *testing.T) {
		send := func(from, password string) error {
			c, err := smtp.Dial(net.JoinHostPort(s.Address.String(), "587"))
			require.NoError(t, err)
			defer c.Close()
			if has, _ := c.Extension("AUTH"); has {
				t.Error("a password is asked for without TLS")
			}
			require.NoError(t, c.StartTLS(&tls.Config{InsecureSkipVerify: true, ServerName: "skua.ternisland.example"}))
			if password != "" {
				auth := smtp.PlainAuth("", "info@ferries.example", password, s.Address.String())
				if err := c.Auth(auth); err != nil {
					return err
				}
			}
			if err := c.Mail(from); err != nil {
				return err
			}
			return c.Rcpt("someone@elsewhere.test")
		}
		assert.NoError(t, send("info@ferries.example", "first one"))
		assert.NoError(t, send("hello@ferries.example", "first one"), "a further address is theirs, too")
		assert.ErrorContains(t, send("boss@ferries.example", "first one"), "553")
		assert.ErrorContains(t, send("someone@post.test", "first one"), "553")
		assert.ErrorContains(t, send("info@ferries.example", "wrong"), "535")
		assert.Error(t, send("info@ferries.example", ""))
	})
	t.Run("another password ends sessions", func(t *testing.T) {
		open, err := dialIMAP(s)
		require.NoError(t, err)
		defer open.conn.Close()
		_, err = open.ask(`LOGIN info@ferries.example "first one"`)
		require.NoError(t, err)
		m.Revision++
		m.Mail.Mailboxes[0].Hash = hashOf(t, "second one")
		applied(t, c, m)
		labtest.Eventually(t, func() bool { _, err := open.ask("NOOP"); return err != nil }, "the session ends")
		_, err = inbox(s, "info@ferries.example", "first one")
		assert.Error(t, err)
		_, err = inbox(s, "info@ferries.example", "second one")
		assert.NoError(t, err)
	})
	t.Run("a catch-all takes what nobody else does", func(t *testing.T) {
		m.Revision++
		m.Mail.Mailboxes = append(m.Mail.Mailboxes, manifest.Mailbox{Address: "rest@ferries.example",
			Hash: hashOf(t, "the rest")})
		m.Mail.Addresses = append(m.Mail.Addresses, manifest.MailAddress{Address: "*@ferries.example",
			Targets: []string{"rest@ferries.example"}})
		applied(t, c, m)
		require.NoError(t, deliver(s, "someone@post.test", "whoever@ferries.example", "for whoever"))
		require.NoError(t, deliver(s, "someone@post.test", "info@ferries.example", "for info"))
		labtest.Eventually(t, func() bool {
			rest, _ := inbox(s, "rest@ferries.example", "the rest")
			info, _ := inbox(s, "info@ferries.example", "second one")
			return strings.Contains(rest, "for whoever") && strings.Contains(info, "for info") &&
				!strings.Contains(rest, "for info")
		})
	})
	t.Run("what is changed by hand is found, and put right", func(t *testing.T) {
		byHand(t, s, `delete from mailboxes where address = 'rest@ferries.example'`)
		found := drift(t, c)
		require.Len(t, found, 1)
		assert.Equal(t, agentlink.Drift{Part: "mailboxes", Subject: "rest@ferries.example", Detail: "is missing"},
			found[0])
		m.Revision++
		applied(t, c, m)
		assert.Empty(t, drift(t, c))
	})
	t.Run("a mailbox that is removed leaves nothing", func(t *testing.T) {
		m.Revision++
		m.Mail.Mailboxes, m.Mail.Addresses = m.Mail.Mailboxes[:1], m.Mail.Addresses[:1]
		applied(t, c, m)
		_, err := inbox(s, "rest@ferries.example", "the rest")
		assert.Error(t, err)
		assert.ErrorContains(t, deliver(s, "someone@post.test", "rest@ferries.example", "x"), "550")
		assert.Equal(t, "info\n", root(t, s, "ls "+m.MailPath()+"/ferries.example"))
	})
	t.Run("an account whose home is elsewhere", func(t *testing.T) {
		guest := manifest.Manifest{AccountID: 7, SignInName: "visitor", Revision: 1, Wanted: manifest.Present,
			Elsewhere: true, Mail: &manifest.Mail{Domains: []names.Domain{domainOf(t, "guest.example")},
				Mailboxes: []manifest.Mailbox{{Address: "me@guest.example", Hash: hashOf(t, "guest one")}}}}
		applied(t, c, guest)
		require.NoError(t, deliver(s, "someone@post.test", "me@guest.example", "for a guest"))
		labtest.Eventually(t, func() bool {
			text, _ := inbox(s, "me@guest.example", "guest one")
			return strings.Contains(text, "for a guest")
		})
		assert.Empty(t, drift(t, c))
		applied(t, c, closed(guest))
		assert.ErrorContains(t, deliver(s, "someone@post.test", "me@guest.example", "x"), "55")
		assert.Equal(t, "ferries\n", root(t, s, "ls /home/.mail"))
	})
	t.Run("an account that is closed leaves nothing", func(t *testing.T) {
		applied(t, c, closed(m))
		assert.ErrorContains(t, deliver(s, "someone@post.test", "info@ferries.example", "x"), "55")
		assert.Empty(t, root(t, s, "ls /home/.mail"))
		assert.Empty(t, root(t, s, "grep -l ferries "+render.MailRoutes+" "+render.MailSignIns+" || true"))
	})
}

// root runs a command on a server.
func root(t *testing.T, s *lab.Server, command string) string {
	t.Helper()
	out, err := s.Exec(context.Background(), "sh", "-ec", command)
	require.NoError(t, err, command)
	return out
}

func domainOf(t *testing.T, name string) names.Domain {
	d, _, err := names.ParseDomain(name)
	require.NoError(t, err)
	return d
}

// byHand changes the table of addresses as somebody on the server could.
func byHand(t *testing.T, s *lab.Server, statement string) {
	t.Helper()
	ctx := context.Background()
	copied := filepath.Join(t.TempDir(), "routes.db")
	content, err := s.Exec(ctx, "cat", render.MailRoutes)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(copied, []byte(content), 0o600))
	db, err := sql.Open("sqlite", copied)
	require.NoError(t, err)
	_, err = db.Exec(statement)
	require.NoError(t, errors.Join(err, db.Close()))
	changed, err := os.Open(copied)
	require.NoError(t, err)
	defer changed.Close()
	write := s.Command(ctx, "sh", "-c", "cat > "+render.MailRoutes)
	write.Stdin = changed
	require.NoError(t, write.Run())
}
