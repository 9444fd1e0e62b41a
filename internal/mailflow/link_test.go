package mailflow

import (
	"crypto/ed25519"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
	"victualler/internal/mailflow/submit"
)

// pair is a mail server, and a server with the sites of account 7, whose mail is on the other.
type pair struct {
	*bench
	web *Flow
	by  definition.SendsBy
}

func newPair(t *testing.T) *pair {
	p := &pair{bench: newBench(t), web: &Flow{Log: slog.New(slog.DiscardHandler), SitesDir: t.TempDir()}}
	own, home := mail.LinkKey([]byte("installation"), 1), mail.LinkKey([]byte("installation"), 2)
	config := *p.config.Load()
	config.LinkKey = own.Seed()
	p.Configure(config)
	p.web.Configure(definition.Config{LinkKey: home.Seed()})
	p.isHome(t, home)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan error)
	go func() { ended <- p.ServeLink(l) }()
	t.Cleanup(func() {
		l.Close()
		require.NoError(t, <-ended)
	})
	p.by = definition.SendsBy{Account: 7, Address: l.Addr().String(), Key: own.Public().(ed25519.PublicKey)}
	return p
}

func (p *pair) isHome(t *testing.T, key ed25519.PrivateKey) {
	t.Helper()
	p.write(t, "insert into homes (name, home, account) values ('boats', ?, 7)",
		hex.EncodeToString(key.Public().(ed25519.PublicKey)))
}

const order = "From: shop@boats.example\nTo: bo@harbourmail.test\nSubject: order\n\nthanks\n"

// send sends as a site does.
func (p *pair) send(t *testing.T, by definition.SendsBy, message io.Reader) submit.Answer {
	t.Helper()
	head, err := json.Marshal(submit.Request{FromFields: true})
	require.NoError(t, err)
	return p.web.sendByOther(by, io.MultiReader(strings.NewReader(string(head)+"\n"), message))
}

func TestLink(t *testing.T) {
	p := newPair(t)
	require.Equal(t, submit.Answer{}, p.send(t, p.by, strings.NewReader(order)))
	queue := p.drain()
	require.Len(t, queue, 1)
	assert.Equal(t, []string{"bo@harbourmail.test"}, queue[0].recipients)
	assert.Contains(t, queue[0].text, "\r\n\r\nthanks\r\n")
	assert.EqualValues(t, 1, p.Tally.Used()["sites/7"], "it is counted where the account's mail is")

	a := p.send(t, p.by, strings.NewReader(strings.Replace(order, "boats", "quay", 1)))
	assert.Equal(t, submit.Refused, a.Exit)
	assert.Contains(t, a.Error, "of no domain of this account")

	// A refusal arrives although the other has not read what it refuses.
	head := "Subject: much\n" + strings.Repeat("x-field: y\n", 10) + "From: a@quay.example\n\n"
	a = p.send(t, p.by, io.MultiReader(strings.NewReader(head), io.LimitReader(zeros{}, 30<<20)))
	assert.Contains(t, a.Error, "of no domain of this account")
	a = p.send(t, p.by, io.MultiReader(strings.NewReader(order), io.LimitReader(zeros{}, siteMessage+10)))
	assert.Contains(t, a.Error, "larger than")

	for n := range 9 {
		require.Equal(t, submit.Answer{}, p.send(t, p.by, strings.NewReader(order)), n)
	}
	a = p.send(t, p.by, strings.NewReader(order))
	assert.Equal(t, submit.NotNow, a.Exit)
	assert.Contains(t, a.Error, "10 recipients within an hour")
}

// zeros never end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for n := range p {
		p[n] = '0'
	}
	return len(p), nil
}

func TestLinkWithStrangers(t *testing.T) {
	t.Run("another server of the installation has no say for the account", func(t *testing.T) {
		p := newPair(t)
		other := mail.LinkKey([]byte("installation"), 3)
		p.web.Configure(definition.Config{LinkKey: other.Seed()})
		a := p.send(t, p.by, strings.NewReader(order))
		assert.Equal(t, submit.NotNow, a.Exit)
		assert.Contains(t, a.Error, "cannot be reached", "it has no sites whose mail is there at all")
		p.write(t, "insert into homes (name, home, account) values ('quay', ?, 8)",
			hex.EncodeToString(other.Public().(ed25519.PublicKey)))
		a = p.send(t, p.by, strings.NewReader(order))
		assert.Equal(t, submit.NotNow, a.Exit)
		assert.Contains(t, a.Error, "are on another server")
		assert.Empty(t, p.drain())
	})
	t.Run("somebody who poses as the mail server gets no message", func(t *testing.T) {
		p := newPair(t)
		p.by.Key = mail.LinkKey([]byte("installation"), 9).Public().(ed25519.PublicKey)
		assert.Equal(t, submit.NotNow, p.send(t, p.by, strings.NewReader(order)).Exit)
		assert.Empty(t, p.drain())
	})
	t.Run("no key, no word", func(t *testing.T) {
		p := newPair(t)
		conn, err := tls.Dial("tcp", p.by.Address, &tls.Config{InsecureSkipVerify: true})
		if err == nil {
			_, err = conn.Read(make([]byte, 1))
		}
		require.Error(t, err)
		var over *net.OpError
		require.True(t, errors.As(err, &over), err)
		assert.Contains(t, over.Error(), "certificate required")
	})
	t.Run("whoever says nothing keeps nobody out", func(t *testing.T) {
		p := newPair(t)
		say := func(nothing int, from string) {
			dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
			for range nothing {
				conn, err := dialer.Dial("tcp", p.by.Address)
				require.NoError(t, err)
				t.Cleanup(func() { conn.Close() })
			}
		}
		say(strangers, "127.0.0.2")
		assert.Equal(t, submit.Answer{}, p.send(t, p.by, strings.NewReader(order)), "one address has not all the room")
		for n := range strangers / strangersOfOne {
			say(strangersOfOne, fmt.Sprintf("127.0.0.%d", 3+n))
		}
		assert.Eventually(t, func() bool { return p.send(t, p.by, strings.NewReader(order)) == submit.Answer{} },
			shakingHands+5*time.Second, 200*time.Millisecond)
	})
	t.Run("the account's home is elsewhere now", func(t *testing.T) {
		p := newPair(t)
		p.write(t, "delete from homes")
		p.isHome(t, mail.LinkKey([]byte("installation"), 3))
		assert.Equal(t, submit.NotNow, p.send(t, p.by, strings.NewReader(order)).Exit)
	})
	t.Run("the mail server is down", func(t *testing.T) {
		p := newPair(t)
		p.by.Address = "127.0.0.1:1"
		a := p.send(t, p.by, strings.NewReader(order))
		assert.Equal(t, submit.NotNow, a.Exit)
		assert.Contains(t, a.Error, "cannot be reached just now")
	})
}

func TestWhereSitesSendBy(t *testing.T) {
	p := newPair(t)
	own, err := user.Current()
	require.NoError(t, err)
	uid, err := strconv.Atoi(own.Uid)
	require.NoError(t, err)
	by, err := p.web.sendsBy(uid, 7)
	require.NoError(t, err)
	assert.Nil(t, by, "through this server")
	file := filepath.Join(p.web.SitesDir, own.Username+".conf")
	require.NoError(t, os.WriteFile(file, []byte(p.by.Render()), 0o600))
	by, err = p.web.sendsBy(uid, 7)
	require.NoError(t, err)
	assert.Equal(t, &p.by, by)
	_, err = p.web.sendsBy(uid, 8)
	require.ErrorContains(t, err, "another account's")
	by, err = p.web.sendsBy(999_999_999, 7)
	require.NoError(t, err)
	assert.Nil(t, by)

	a := p.web.takeFromSite(7, strings.NewReader("{}\n"))
	assert.Equal(t, submit.Refused, a.Exit)
	assert.Contains(t, a.Error, "has no mail")
}
