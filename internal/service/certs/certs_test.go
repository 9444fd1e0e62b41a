package certs_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/certs"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// lantern is a bench with the account of lantern.example, which may have certificates.
func lantern(t *testing.T) (*servicetest.Bench, usecase.Actor, api.AccountDetail) {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil, "certificates")
	b.Plan("bare", nil)
	owner := b.Customer("Lantern Works", "")
	return b, owner,
		b.Account(b.Operator, api.OpenAccount{Domain: "lantern.example", Plan: "harbour", Customer: "Lantern Works"})
}

// issue makes a certificate that signs itself, for a key.
func issue(t *testing.T, key *ecdsa.PrivateKey, lasts time.Duration, names ...string) string {
	t.Helper()
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<60))
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: names[0]}, DNSNames: names,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func newKey(t *testing.T) (*ecdsa.PrivateKey, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return key, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func TestSigningRequests(t *testing.T) {
	ctx := t.Context()
	b, owner, _ := lantern(t)
	_, err := b.Certs.MakeSigningRequest(ctx, owner, "lantern.example", "lantern.example",
		api.NewSigningRequest{Names: []string{"other.example"}})
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = b.Certs.MakeSigningRequest(ctx, owner, "lantern.example", "lantern.example",
		api.NewSigningRequest{Country: "1x"})
	servicetest.Refused(t, refusal.InvalidInput, err)
	made, err := b.Certs.MakeSigningRequest(ctx, owner, "lantern.example", "lantern.example",
		api.NewSigningRequest{Organization: "Lantern Works"})
	require.NoError(t, err)
	block, _ := pem.Decode([]byte(made.Request))
	require.NotNil(t, block)
	request, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, request.CheckSignature())
	assert.Equal(t, []string{"lantern.example", "www.lantern.example"}, request.DNSNames)
	_, err = b.Certs.Certificate(ctx, b.Customer("Auk", ""), "lantern.example", "lantern.example")
	servicetest.Refused(t, refusal.NotFound, err)

	require.NoError(t, b.Certs.RemoveSigningRequest(ctx, owner, "lantern.example", "lantern.example", made.ID))
	servicetest.Refused(t, refusal.NotFound,
		b.Certs.RemoveSigningRequest(ctx, owner, "lantern.example", "lantern.example", made.ID))
}

func TestInstallCertificate(t *testing.T) {
	ctx := t.Context()
	b, owner, account := lantern(t)
	key, text := newKey(t)
	other, _ := newKey(t)
	install := func(in api.UploadedCertificate) (api.InstalledCertificate, error) {
		return b.Certs.InstallCertificate(ctx, owner, "lantern.example", "lantern.example", in)
	}
	for name, in := range map[string]api.UploadedCertificate{
		"no certificate":     {Certificate: "nonsense"},
		"no key":             {Certificate: issue(t, key, 48*time.Hour, "lantern.example")},
		"another key":        {Certificate: issue(t, other, 48*time.Hour, "lantern.example"), Key: text},
		"for another site":   {Certificate: issue(t, key, 48*time.Hour, "other.example"), Key: text},
		"one that has ended": {Certificate: issue(t, key, -time.Minute, "lantern.example"), Key: text},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := install(in)
			servicetest.Refused(t, refusal.InvalidInput, err)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	in := api.UploadedCertificate{Certificate: issue(t, key, 48*time.Hour, "lantern.example"), Key: text}
	_, err := install(in)
	require.NoError(t, err)
	m, _ := b.Agents.On(1).InForce(account.ID)
	assert.Nil(t, m.Sites[0].Certificate, "not yet on the server")
	b.Work()
	m, _ = b.Agents.On(1).InForce(account.ID)
	require.NotNil(t, m.Sites[0].Certificate)
	view, err := b.Certs.Certificate(ctx, owner, "lantern.example", "lantern.example")
	require.NoError(t, err)
	assert.Equal(t, "uploaded", view.State)

	t.Run("one that the server refuses leaves the one in use", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Refuses = "nginx says no" })
		installed, err := install(api.UploadedCertificate{Certificate: issue(t, key, 72*time.Hour, "lantern.example"),
			Key: text})
		require.NoError(t, err)
		b.Work()
		o, err := b.Rollout.Operation(ctx, b.Operator, installed.Operation)
		require.NoError(t, err)
		assert.Equal(t, "failed", o.State)
		after, err := b.Certs.Certificate(ctx, owner, "lantern.example", "lantern.example")
		require.NoError(t, err)
		assert.Equal(t, view.Serial, after.Serial)
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Refuses = "" })
	})
	t.Run("its text, and its key for the owner alone", func(t *testing.T) {
		got, err := b.Certs.CertificateText(ctx, owner, "lantern.example", "lantern.example")
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(got.Chain, "-----BEGIN CERTIFICATE-----"))
		_, err = b.Certs.CertificateWithKey(ctx, b.Operator, "lantern.example", "lantern.example",
			api.KeyProof{Password: "x"})
		require.Error(t, err)
		assert.NotNil(t, refusal.As(err))
	})
	t.Run("without the feature", func(t *testing.T) {
		b.Account(b.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Lantern Works"})
		_, err := b.Certs.InstallCertificate(ctx, owner, "bare.example", "bare.example",
			api.UploadedCertificate{Certificate: issue(t, key, 48*time.Hour, "bare.example"), Key: text})
		servicetest.Refused(t, refusal.NotAllowed, err)
	})
}

func TestChangeCertificate(t *testing.T) {
	ctx := t.Context()
	b, owner, account := lantern(t)
	change := func(in api.CertificateChange) (api.CertificateChanged, error) {
		return b.Certs.ChangeCertificate(ctx, owner, "lantern.example", "lantern.example", 0, in)
	}
	text := func(s string) *string { return &s }
	for name, in := range map[string]api.CertificateChange{
		"a name that is not the site's": {Names: &[]string{"other.example"}},
		"a type of key there is not":    {KeyType: text("rsa-1")},
		"an authority there is not":     {Authority: text("nobody")},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := change(in)
			servicetest.Refused(t, refusal.InvalidInput, err)
		})
	}
	_, err := b.Certs.ChangeCertificate(ctx, owner, "lantern.example", "lantern.example", 99, api.CertificateChange{})
	servicetest.Refused(t, refusal.Changed, err)
	_, err = change(api.CertificateChange{Names: &[]string{"*.lantern.example"}})
	servicetest.Refused(t, refusal.NotAllowed, err)

	key, pemKey := newKey(t)
	_, err = b.Certs.InstallCertificate(ctx, owner, "lantern.example", "lantern.example",
		api.UploadedCertificate{Certificate: issue(t, key, 48*time.Hour, "lantern.example"), Key: pemKey})
	require.NoError(t, err)
	b.Work()
	after, err := change(api.CertificateChange{Mode: "self-signed"})
	require.NoError(t, err)
	assert.Equal(t, "self-signed", after.Certificate.State)
	assert.NotZero(t, after.Operation)
	b.Work()
	m, _ := b.Agents.On(1).InForce(account.ID)
	assert.Nil(t, m.Sites[0].Certificate, "the server makes one itself")
}

func TestInventory(t *testing.T) {
	ctx := t.Context()
	b, owner, _ := lantern(t)
	b.Customer("Auk", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour", Customer: "Auk"})
	key, text := newKey(t)
	_, err := b.Certs.InstallCertificate(ctx, owner, "lantern.example", "lantern.example",
		api.UploadedCertificate{Certificate: issue(t, key, 5*24*time.Hour, "lantern.example"), Key: text})
	require.NoError(t, err)
	b.Work()
	for name, c := range map[string]struct {
		actor usecase.Actor
		f     certs.CertificateFilter
		want  []string
	}{
		"all":               {b.Operator, certs.CertificateFilter{}, []string{"auk.example", "lantern.example"}},
		"one's own":         {owner, certs.CertificateFilter{}, []string{"lantern.example"}},
		"by state":          {b.Operator, certs.CertificateFilter{State: "uploaded"}, []string{"lantern.example"}},
		"by another state":  {b.Operator, certs.CertificateFilter{State: "valid"}, nil},
		"by days left":      {b.Operator, certs.CertificateFilter{Days: 7}, []string{"lantern.example"}},
		"by fewer days":     {b.Operator, certs.CertificateFilter{Days: 2}, nil},
		"by part of a name": {b.Operator, certs.CertificateFilter{Search: "AUK"}, []string{"auk.example"}},
	} {
		t.Run(name, func(t *testing.T) {
			page, err := b.Certs.Certificates(ctx, c.actor, c.f, 0, 0, 10)
			require.NoError(t, err)
			var names []string
			for _, line := range page.Certificates {
				names = append(names, line.Domain)
			}
			assert.ElementsMatch(t, c.want, names)
		})
	}
}

func TestNotifyExpiring(t *testing.T) {
	ctx := t.Context()
	b, owner, _ := lantern(t)
	key, text := newKey(t)
	_, err := b.Certs.InstallCertificate(ctx, owner, "lantern.example", "lantern.example",
		api.UploadedCertificate{Certificate: issue(t, key, 90*24*time.Hour, "lantern.example"), Key: text})
	require.NoError(t, err)
	b.Work()
	ends := func() int {
		n := 0
		for _, e := range b.Events("lantern") {
			if strings.HasPrefix(e, "certificate.ends") {
				n++
			}
		}
		return n
	}
	require.NoError(t, b.Certs.NotifyExpiring(ctx))
	assert.Zero(t, ends(), "too early")
	b.Pass(80 * 24 * time.Hour)
	require.NoError(t, b.Certs.NotifyExpiring(ctx))
	assert.Equal(t, 1, ends())
	require.NoError(t, b.Certs.NotifyExpiring(ctx))
	assert.Equal(t, 1, ends(), "once for each of the set days")
	b.Pass(9 * 24 * time.Hour)
	require.NoError(t, b.Certs.NotifyExpiring(ctx))
	assert.Equal(t, 2, ends())
}
