package agent_test

import (
	"context"
	"crypto/tls"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"sync"
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
	"victualler/internal/lab/mailtest"
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
	key := manifest.Secret(base64.StdEncoding.EncodeToString(make([]byte, 32)))
	require.NoError(t, c.ApplyServer(context.Background(),
		manifest.Server{Mail: &manifest.MailServer{Name: name, ReturnKey: key}}))
	return s, c
}

func hashOf(t *testing.T, password string) string {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	require.NoError(t, err)
	return "{BLF-CRYPT}" + string(hash)
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
		require.NoError(t, mailtest.Deliver(s.Address, "someone@post.test", to, fmt.Sprintf("message %d", n)), to)
	}
	labtest.Eventually(t, func() bool {
		text, _ := mailtest.Inbox(s.Address, "info@ferries.example", "first one")
		return strings.Count(text, "message ") == 4
	}, "all messages are in the mailbox")
	_, err := mailtest.Inbox(s.Address, "info@ferries.example", "wrong")
	assert.ErrorContains(t, err, "AUTHENTICATIONFAILED")
	err = mailtest.Deliver(s.Address, "someone@post.test", "nobody@ferries.example", "x")
	assert.ErrorContains(t, err, "550", "who is not there is refused at once")
	err = mailtest.Deliver(s.Address, "someone@post.test", "someone@elsewhere.test", "x")
	assert.ErrorContains(t, err, "554", "mail is not passed on for strangers")
	_, err = s.Exec(context.Background(), "curl", "-s", "smtp://127.0.0.1", "--mail-from", "boss@ferries.example",
		"--mail-rcpt", "someone@elsewhere.test", "-T", "/etc/hostname")
	assert.Error(t, err, "nor for a site on the server itself")

	assert.Empty(t, drift(t, c))

	t.Run("mail goes on without the agent", func(t *testing.T) {
		root(t, s, "pkill -STOP -x victualler-agen")
		defer root(t, s, "pkill -CONT -x victualler-agen")
		require.NoError(t, mailtest.Deliver(s.Address, "someone@post.test", "info@ferries.example", "message by night"))
		labtest.Eventually(t, func() bool {
			text, _ := mailtest.Inbox(s.Address, "info@ferries.example", "first one")
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
		open, err := mailtest.DialIMAP(s.Address)
		require.NoError(t, err)
		defer open.Close()
		_, err = open.Ask(`LOGIN info@ferries.example "first one"`)
		require.NoError(t, err)
		m.Revision++
		m.Mail.Mailboxes[0].Hash = hashOf(t, "second one")
		applied(t, c, m)
		labtest.Eventually(t, func() bool { _, err := open.Ask("NOOP"); return err != nil }, "the session ends")
		_, err = mailtest.Inbox(s.Address, "info@ferries.example", "first one")
		assert.Error(t, err)
		_, err = mailtest.Inbox(s.Address, "info@ferries.example", "second one")
		assert.NoError(t, err)
	})
	t.Run("a catch-all takes what nobody else does", func(t *testing.T) {
		m.Revision++
		m.Mail.Mailboxes = append(m.Mail.Mailboxes, manifest.Mailbox{Address: "rest@ferries.example",
			Hash: hashOf(t, "the rest")})
		m.Mail.Addresses = append(m.Mail.Addresses, manifest.MailAddress{Address: "*@ferries.example",
			Targets: []string{"rest@ferries.example"}})
		applied(t, c, m)
		require.NoError(t, mailtest.Deliver(s.Address, "someone@post.test", "whoever@ferries.example", "for whoever"))
		require.NoError(t, mailtest.Deliver(s.Address, "someone@post.test", "info@ferries.example", "for info"))
		labtest.Eventually(t, func() bool {
			rest, _ := mailtest.Inbox(s.Address, "rest@ferries.example", "the rest")
			info, _ := mailtest.Inbox(s.Address, "info@ferries.example", "second one")
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
		var sweeps sync.WaitGroup
		for range 8 {
			sweeps.Go(func() {
				swept, err := c.Sweep(context.Background())
				if assert.NoError(t, err) {
					assert.Len(t, swept.Accounts[0].Drift, 1, "sweeps at the same time see the same")
				}
			})
		}
		sweeps.Wait()
		m.Revision++
		applied(t, c, m)
		assert.Empty(t, drift(t, c))
	})
	t.Run("a mailbox that is removed leaves nothing", func(t *testing.T) {
		m.Revision++
		m.Mail.Mailboxes, m.Mail.Addresses = m.Mail.Mailboxes[:1], m.Mail.Addresses[:1]
		applied(t, c, m)
		_, err := mailtest.Inbox(s.Address, "rest@ferries.example", "the rest")
		assert.Error(t, err)
		assert.ErrorContains(t, mailtest.Deliver(s.Address, "someone@post.test", "rest@ferries.example", "x"), "550")
		assert.Equal(t, "info\n", root(t, s, "ls "+m.MailPath()+"/ferries.example"))
	})
	t.Run("an account whose home is elsewhere", func(t *testing.T) {
		guest := manifest.Manifest{AccountID: 7, SignInName: "visitor", Revision: 1, Wanted: manifest.Present,
			Elsewhere: true, Mail: &manifest.Mail{Domains: []names.Domain{domainOf(t, "guest.example")},
				Mailboxes: []manifest.Mailbox{{Address: "me@guest.example", Hash: hashOf(t, "guest one")}}}}
		applied(t, c, guest)
		require.NoError(t, mailtest.Deliver(s.Address, "someone@post.test", "me@guest.example", "for a guest"))
		labtest.Eventually(t, func() bool {
			text, _ := mailtest.Inbox(s.Address, "me@guest.example", "guest one")
			return strings.Contains(text, "for a guest")
		})
		assert.Empty(t, drift(t, c))
		applied(t, c, closed(guest))
		assert.ErrorContains(t, mailtest.Deliver(s.Address, "someone@post.test", "me@guest.example", "x"), "55")
		assert.Equal(t, "ferries\n", root(t, s, "ls /home/.mail"))
	})
	t.Run("an account that is closed leaves nothing", func(t *testing.T) {
		applied(t, c, closed(m))
		assert.ErrorContains(t, mailtest.Deliver(s.Address, "someone@post.test", "info@ferries.example", "x"), "55")
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
