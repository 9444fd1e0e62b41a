package agent

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guarded serves "in" behind a door on loopback, for whoever offers a certificate.
func guarded(t *testing.T) *door {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d := &door{Listener: listener}
	config := &tls.Config{MinVersion: tls.VersionTLS13,
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		VerifyConnection: func(s tls.ConnectionState) error {
			if s.ServerName != "agent" {
				return errors.New("not the service")
			}
			return nil
		}}
	server := &http.Server{TLSConfig: d.tls(config), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
		Handler:  http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, r.Proto) })}
	go server.ServeTLS(d, "", "")
	t.Cleanup(func() { server.Close() })
	return d
}

// from dials the door from a loopback address of its own.
func (d *door) from(host string) (net.Conn, error) {
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(host)}, Timeout: 5 * time.Second}
	return dialer.Dial("tcp", d.Addr().String())
}

// service asks as the service does, over a connection that it keeps.
func (d *door) service() *http.Client {
	return &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{ServerName: "agent", InsecureSkipVerify: true},
		DialContext:     func(context.Context, string, string) (net.Conn, error) { return d.from("127.0.0.9") }}}
}

func (d *door) count() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.strangers)
}

func TestAFloodDoesNotCrowdTheServiceOut(t *testing.T) {
	d := guarded(t)
	ask := func(c *http.Client) {
		t.Helper()
		answer, err := c.Get("https://agent/")
		require.NoError(t, err)
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, "HTTP/2.0", string(body))
	}
	kept := d.service()
	ask(kept)
	assert.Zero(t, d.count(), "the service is no stranger")

	// Connections that say nothing, from one address and then from many.
	var flood []net.Conn
	for n := range 1000 {
		host := "127.0.0.2"
		if n >= 100 {
			host = net.IPv4(127, 0, 1, byte(n%250+1)).String()
		}
		conn, err := d.from(host)
		require.NoError(t, err)
		defer conn.Close()
		flood = append(flood, conn)
		if n == 99 {
			require.Eventually(t, func() bool {
				return d.count() == mostStrangersFromOne
			}, 5*time.Second, time.Millisecond)
		}
	}
	require.Eventually(t, func() bool { return d.count() == mostStrangers }, 5*time.Second, time.Millisecond)
	ask(kept)
	ask(d.service())
	// Who shakes hands and is nobody has gone at once.
	stranger, err := d.from("127.0.0.3")
	require.NoError(t, err)
	client := tls.Client(stranger, &tls.Config{ServerName: "x", InsecureSkipVerify: true})
	_, err = client.Read(make([]byte, 1))
	assert.ErrorContains(t, err, "bad certificate")
	for _, conn := range flood {
		conn.Close()
	}
	require.Eventually(t, func() bool { return d.count() == 0 }, 5*time.Second, time.Millisecond,
		"who has gone takes no room")
}
