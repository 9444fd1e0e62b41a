package agent_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/daemon"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// long is a certificate that nginx cannot read as one word, with the
// other certificates of its chain.
func long(t *testing.T, name string) *manifest.Certificate {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{name, "www." + name},
		NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	one := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return &manifest.Certificate{Chain: "a remark \"; }\n" + strings.Repeat(one, 4),
		Key: manifest.Secret(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}))}
}

func TestBusySites(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agtv", lab.ServerOptions{AgentFlags: []string{"-busy-site", "20", "-busy-round", "1s"}})
	m := account(t, 31, "ferries", "ferries.example")
	other := account(t, 31, "ferries", "longchain.example").Sites[0]
	other.Certificate = long(t, "longchain.example")
	m.Sites = append(m.Sites, other)
	applied(t, c, m) // which shakes hands under all names
	file := func() string {
		text, err := s.Exec(ctx, "cat", "/etc/nginx/victualler/accounts/ferries.conf")
		require.NoError(t, err)
		return text
	}
	assert.NotContains(t, file(), "ssl_certificate", "a site that nobody has visited")
	for _, name := range []string{"names", "parts"} {
		out, err := s.Exec(ctx, "stat", "-c", "%a %U", "/etc/nginx/victualler/certificates/ferries."+name)
		require.NoError(t, err)
		assert.Equal(t, "600 root\n", out)
	}
	address := s.Address.String() + ":443"
	shown := func(name string) []byte {
		certificate, err := daemon.Handshake(ctx, address, name)
		require.NoError(t, err)
		return certificate
	}
	before := shown("ferries.example")
	_, err := daemon.Handshake(ctx, address, "nobody.example")
	assert.ErrorContains(t, err, "unrecognized name")
	_, err = daemon.Handshake(ctx, address, "")
	assert.ErrorContains(t, err, "unrecognized name")

	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, address)
		}}}
	for range 40 {
		answer, err := browser.Get("https://ferries.example/")
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		assert.Equal(t, http.StatusOK, answer.StatusCode)
	}
	labtest.Eventually(t, func() bool { // the apply is over, and the manifest kept
		text, err := s.Exec(ctx, "cat", "/var/lib/victualler-agent/accounts/ferries.json")
		return err == nil && strings.Contains(text, `"busy":true`)
	})
	assert.Contains(t, file(), "ssl_certificate /etc/nginx/victualler/tls/ferries/ferries.example.pem;")
	assert.NotContains(t, file(), "longchain.example.pem", "the other one is not busy")
	assert.Equal(t, before, shown("ferries.example"))
	assert.Empty(t, drift(t, c), "what the agent has decided by itself is no drift")
	preview, err := c.Preview(ctx, m)
	require.NoError(t, err)
	assert.Empty(t, preview.Changes)

	// A table that somebody has changed is told of, without the keys that are in it.
	_, err = s.Exec(ctx, "sh", "-c", "echo '# x' >> /etc/nginx/victualler/certificates/ferries.names")
	require.NoError(t, err)
	found := drift(t, c)
	require.Len(t, found, 1)
	assert.Equal(t, "has been changed", found[0].Detail)
	assert.Empty(t, found[0].Diff)
	applied(t, c, m)
	applied(t, c, closed(m))
	_, err = s.Exec(ctx, "sh", "-c", "ls /etc/nginx/victualler/certificates/* && exit 1 || exit 0")
	assert.NoError(t, err)
}
