package certificates

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base32"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/totp"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/publicdns"
)

// shop is an authority at which certificates are bought, with one between it and them.
type shop struct {
	root, between *x509.Certificate
	key           crypto.Signer
	serial        int64
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func openShop(t *testing.T) *shop {
	t.Helper()
	s := &shop{serial: time.Now().UnixNano()}
	of := func(name string) *x509.Certificate {
		return &x509.Certificate{Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour),
			NotAfter: time.Now().Add(9000 * time.Hour), IsCA: true, BasicConstraintsValid: true,
			KeyUsage: x509.KeyUsageCertSign}
	}
	rootKey, key := newKey(t), newKey(t)
	template := of("Test Shop Root")
	s.root = s.sign(t, template, template, rootKey.Public(), rootKey)
	s.between, s.key = s.sign(t, of("Test Shop Between"), s.root, key.Public(), rootKey), key
	return s
}

func (s *shop) sign(t *testing.T, template, parent *x509.Certificate, public crypto.PublicKey,
	by crypto.Signer) *x509.Certificate {
	t.Helper()
	s.serial++
	template.SerialNumber = big.NewInt(s.serial)
	der, err := x509.CreateCertificate(rand.Reader, template, parent, public, by)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

// sell makes a certificate that lasts so long from an hour ago on.
func (s *shop) sell(t *testing.T, public crypto.PublicKey, life time.Duration, names ...string) *x509.Certificate {
	t.Helper()
	from := time.Now().Add(-time.Hour)
	return s.sign(t, &x509.Certificate{DNSNames: names, NotBefore: from, NotAfter: from.Add(life),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, s.between, public, s.key)
}

func pemKey(t *testing.T, key any) string {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func pemChain(list ...*x509.Certificate) string { return certificates.PEM(list) }

func TestUploadedCertificates(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	account := certified(t, api.OpenAccount{Domain: "jetty.example", Customer: "Jetty Stores", NewCustomer: true})
	path := certificatePath(account.ID, "jetty.example")
	sells := openShop(t)
	install := func(in api.UploadedCertificate) (api.InstalledCertificate, error) {
		var done api.InstalledCertificate
		err := i.Client.Post(ctx, path+"/install", in, &done)
		if err == nil {
			o := e2e.Watched(t, done.Operation)
			require.Equal(t, "done", o.State, o.Failure)
		}
		return done, err
	}
	// nobody trusts the shop
	seen := func() string { return anyShown(t, "skua", "jetty.example").SerialNumber.Text(16) }

	t.Run("what is wrong with it is told, and nothing changes", func(t *testing.T) {
		before := seen()
		key := newKey(t)
		names := []string{"jetty.example", "www.jetty.example"}
		weak, err := rsa.GenerateKey(rand.Reader, 1024)
		require.NoError(t, err)
		good := sells.sell(t, key.Public(), 1000*time.Hour, names...)
		p12, err := pkcs12.Modern.Encode(key, good, nil, "tide")
		require.NoError(t, err)
		for says, in := range map[string]api.UploadedCertificate{
			"neither PEM":                    {Certificate: "??"},
			"neither a certificate nor PKCS": {Certificate: base64.StdEncoding.EncodeToString([]byte("words"))},
			"the site's own is missing":      {Certificate: pemChain(sells.between, sells.root)},
			"it ended on": {
				Certificate: pemChain(sells.sell(t, key.Public(), time.Minute, names...)), Key: pemKey(t, key)},
			"does not belong":             {Certificate: pemChain(good), Key: pemKey(t, newKey(t))},
			"no key that is here belongs": {Certificate: pemChain(good)},
			"none of that is a name of": {
				Certificate: pemChain(sells.sell(t, key.Public(), 1000*time.Hour, "other.example")),
				Key:         pemKey(t, key)},
			"1024 bits": {
				Certificate: pemChain(sells.sell(t, weak.Public(), 1000*time.Hour, names...)), Key: pemKey(t, weak)},
			"give its password": {Certificate: base64.StdEncoding.EncodeToString(p12)},
			"does not open it":  {Certificate: base64.StdEncoding.EncodeToString(p12), Password: "ebb"},
			"this is a signing request": {
				Certificate: "-----BEGIN CERTIFICATE REQUEST-----\nMA==\n-----END CERTIFICATE REQUEST-----\n"},
		} {
			_, err := install(in)
			p := e2e.RefusedAs(t, "invalid-input", err)
			assert.Contains(t, p.Detail, says)
		}
		assert.Equal(t, before, seen())
		assert.Equal(t, "valid", certificateOf(t, account.ID, "jetty.example").State)
	})

	t.Run("a request is signed elsewhere, and what comes of it installed", func(t *testing.T) {
		e2e.RefusedAs(t, "invalid-input", i.Client.Post(ctx, path+"/requests", api.NewSigningRequest{Country: "1a"},
			nil))
		e2e.RefusedAs(t, "invalid-input",
			i.Client.Post(ctx, path+"/requests", api.NewSigningRequest{Names: []string{"other.example"}}, nil))
		var made api.SigningRequest
		require.NoError(t,
			i.Client.Post(ctx, path+"/requests", api.NewSigningRequest{KeyType: "ecdsa-p384",
				Organization: "Jetty Stores", Country: "DE"}, &made))
		block, _ := pem.Decode([]byte(made.Request))
		request, err := x509.ParseCertificateRequest(block.Bytes)
		require.NoError(t, err)
		require.NoError(t, request.CheckSignature())
		assert.Equal(t, []string{"jetty.example", "www.jetty.example"}, request.DNSNames)
		assert.Equal(t, "CN=jetty.example,O=Jetty Stores,C=DE", request.Subject.String())
		require.Len(t, certificateOf(t, account.ID, "jetty.example").Requests, 1)

		leaf := sells.sell(t, request.PublicKey, 8000*time.Hour, "jetty.example")
		file := filepath.Join(t.TempDir(), "bought.pem")
		require.NoError(t, os.WriteFile(file, []byte(pemChain(sells.root, sells.between, leaf)), 0o600))
		out := e2e.Does(t, "certificate", "install", "jetty.example", file)
		assert.Contains(t, out, "Test Shop Between, for jetty.example")
		assert.Contains(t, out, "it is not for www.jetty.example")
		assert.Equal(t, leaf.SerialNumber.Text(16), seen())
		c := certificateOf(t, account.ID, "jetty.example")
		assert.Equal(t, "uploaded", c.State)
		assert.Contains(t, e2e.Does(t, "certificate", "list", "--state", "uploaded"), "jetty.example")
		assert.NotContains(t, e2e.Does(t, "certificate", "list", "--state", "valid"), "jetty.example")
		assert.Contains(t, e2e.Refuses(t, 2, "certificate", "list", "--state", "golden"), "state")
		assert.Equal(t, []string{"jetty.example"}, c.Covered)
		assert.Empty(t, c.Requests)
		assert.Nil(t, c.RenewAt)
		require.NotEmpty(t, c.Earlier)
		assert.Equal(t, "retired", c.Earlier[0].State)
		text := e2e.Does(t, "certificate", "download", "jetty.example")
		assert.Equal(t, pemChain(leaf, sells.between), text, "in order, without the root and without the key")
		p := e2e.RefusedAs(t, "wrong-state", i.Client.Post(ctx, path+"/order", nil, nil))
		assert.Contains(t, p.Detail, "mode: automatic")
		p = e2e.RefusedAs(t, "wrong-state", i.Client.Post(ctx, path+"/revocation", api.Revocation{}, nil))
		assert.Contains(t, p.Detail, "was brought")
	})

	t.Run("PKCS #12", func(t *testing.T) {
		key := newKey(t)
		leaf := sells.sell(t, key.Public(), 1000*time.Hour, "jetty.example", "www.jetty.example")
		text, err := pkcs12.Modern.Encode(key, leaf, []*x509.Certificate{sells.root, sells.between}, "tide")
		require.NoError(t, err)
		done, err := install(api.UploadedCertificate{Certificate: base64.StdEncoding.EncodeToString(text),
			Password: "tide"})
		require.NoError(t, err)
		assert.Equal(t, 2, done.Chain)
		assert.Empty(t, done.Remarks)
		assert.Equal(t, leaf.SerialNumber.Text(16), seen())
	})

	t.Run("the key is given to its owner alone", func(t *testing.T) {
		p := e2e.RefusedAs(t, "not-allowed", i.Client.Post(ctx, path+"/key", api.KeyProof{Password: "x", Code: "1"},
			nil))
		assert.Contains(t, p.Detail, "owner")
		owner := e2e.Person(t, api.NewPerson{Name: "jetty", Customer: account.CustomerID})
		p = e2e.RefusedAs(t, "wrong-state",
			owner.Post(ctx, path+"/key", api.KeyProof{Password: e2e.Password, Code: "1"},
				nil))
		assert.Contains(t, p.Detail, "second factor")
		var setup api.SecondFactorSetup
		require.NoError(t, owner.Post(ctx, "/second-factor", nil, &setup))
		secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(setup.Secret)
		require.NoError(t, err)
		require.NoError(t,
			owner.Post(ctx, "/second-factor/confirm", api.Code{Code: totp.Code(secret, totp.Step(time.Now())-1)}, nil))
		e2e.RefusedAs(t, "wrong-sign-in",
			owner.Post(ctx, path+"/key", api.KeyProof{Password: "wrong",
				Code: totp.Code(secret, totp.Step(time.Now()))}, nil))
		e2e.RefusedAs(t, "wrong-sign-in",
			owner.Post(ctx, path+"/key", api.KeyProof{Password: e2e.Password, Code: "000000"},
				nil))
		var with api.CertificateWithKey
		require.NoError(t,
			owner.Post(ctx, path+"/key", api.KeyProof{Password: e2e.Password,
				Code: totp.Code(secret, totp.Step(time.Now()))}, &with))
		b, err := certificates.ReadBundle([]byte(with.Key + with.Chain))
		require.NoError(t, err)
		assert.True(t, certificates.EqualKeys(b.Key.Public(), b.Certificates[0].PublicKey))
		assert.Contains(t, e2e.EverythingIn(t, "events"), "certificate.key_given")
		block, _ := pem.Decode([]byte(with.Key))
		for _, where := range []string{"log", "events", "idempotency", "certificates", "signing_requests"} {
			text := e2e.EverythingIn(t, where)
			assert.NotContains(t, text, "PRIVATE KEY", where)
			assert.NotContains(t, text, base64.StdEncoding.EncodeToString(block.Bytes)[20:60], where)
		}
	})

	t.Run("one that is about to end is followed by an authority's", func(t *testing.T) {
		key := newKey(t)
		leaf := sells.sell(t, key.Public(), 10*time.Hour, "jetty.example", "www.jetty.example")
		done, err := install(api.UploadedCertificate{Certificate: pemChain(leaf, sells.between), Key: pemKey(t, key)})
		require.NoError(t, err)
		assert.Contains(t, strings.Join(done.Remarks, " "), "it ends in 0 days")
		labtest.Eventually(t, func() bool {
			c := certificateOf(t, account.ID, "jetty.example")
			return c.State == "valid" && c.Mode == "automatic"
		})
		_, err = shown(t, "skua", "jetty.example")
		require.NoError(t, err)
	})

	t.Run("a key that is kept, and a certificate that is revoked", func(t *testing.T) {
		pinned := true
		e2e.Patch(t, path, api.CertificateChange{PinKey: &pinned}, nil)
		before, err := shown(t, "skua", "jetty.example")
		require.NoError(t, err)
		require.Equal(t, "done", orderNow(t, account.ID, "jetty.example").State)
		after, err := shown(t, "skua", "jetty.example")
		require.NoError(t, err)
		assert.NotEqual(t, before.SerialNumber, after.SerialNumber)
		assert.True(t, certificates.EqualKeys(before.PublicKey, after.PublicKey))

		e2e.RefusedAs(t, "invalid-input", i.Client.Post(ctx, path+"/revocation", api.Revocation{Serial: "ab:cd"}, nil))
		out := e2e.Does(t, "certificate", "revoke", "jetty.example", "--reason", "key-compromise", "--yes")
		assert.Contains(t, out, "revoked")
		reason, revoked := i.Authority.Revoked(after)
		assert.True(t, revoked)
		assert.Equal(t, 1, reason)
		labtest.Eventually(t, func() bool {
			fresh, err := shown(t, "skua", "jetty.example")
			return err == nil && !certificates.EqualKeys(fresh.PublicKey, after.PublicKey)
		})
		c := certificateOf(t, account.ID, "jetty.example")
		assert.False(t, c.PinKey)
		assert.Equal(t, "revoked", c.Earlier[0].State)
		e2e.RefusedAs(t, "wrong-state",
			i.Client.Post(ctx, path+"/revocation", api.Revocation{Serial: c.Earlier[0].Serial},
				nil))
		again := client.Call{Method: http.MethodPost, Path: path + "/revocation",
			Body: api.Revocation{Serial: before.SerialNumber.Text(16)}, Key: "revoke once"}
		require.NoError(t, i.Client.Do(ctx, again, nil))
		require.NoError(t, i.Client.Do(ctx, again, nil), "the answer is given again")
		_, revoked = i.Authority.Revoked(before)
		assert.True(t, revoked)
		// The server shows it a moment before its order is done.
		labtest.Eventually(t, func() bool { return issued(t, account.ID, "jetty.example") })
	})

	t.Run("orders are counted before the authority does", func(t *testing.T) {
		e2e.Does(t, "authority", "change", "trial", "--bounds", "names:1/1h")
		defer e2e.Does(t, "authority", "change", "trial", "--bounds", "none")
		var refused error
		labtest.Eventually(t, func() bool { // an order that is ending is returned, and no other made
			refused = i.Client.Post(ctx, path+"/order", nil, nil)
			return refused != nil
		})
		p := e2e.RefusedAs(t, "wrong-state", refused)
		assert.Contains(t, p.Detail, "1 orders in 1 hours")
	})
}

func TestChallengesElsewhere(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	skua := i.Servers["skua"].Address.String()
	i.PublicDNS.Delegate("ternhq.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
	home := e2e.Opened(t, api.OpenAccount{Domain: "ternhq.example", Server: "skua", Plan: "sealed"})
	defer e2e.CloseAccount(t, home)
	require.NoError(t, i.PublicDNS.Serve("driftwood.example", "@ A "+skua+"\n")) // www is proved by hand, below
	account := e2e.Opened(t, api.OpenAccount{Domain: "driftwood.example", Server: "skua", Plan: "sealed"})
	defer e2e.CloseAccount(t, account)
	labtest.Eventually(t, func() bool { return issued(t, account.ID, "driftwood.example") },
		"the first certificate, for which the account was opened")
	e2e.OnZone(t, http.MethodPatch, "/zones/driftwood.example", api.ZoneChange{Hosted: "elsewhere"})
	path := certificatePath(account.ID, "driftwood.example")

	p := e2e.RefusedAs(t, "invalid-input",
		i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/settings",
			Body: api.SettingsChange{ChallengeZone: e2e.Pointer("challenges.driftwood.example")}}, nil))
	assert.Contains(t, p.Detail, "no zone of your own")
	wanted := []string{"driftwood.example", "*.driftwood.example"}
	e2e.Patch(t, path, api.CertificateChange{Names: &wanted}, nil)
	assert.Contains(t, rehearsed(t, account.ID, "driftwood.example")["*.driftwood.example"].Fix,
		"the operator sets a zone")
	e2e.Patch(t, "/settings", api.SettingsChange{ChallengeZone: e2e.Pointer("challenges.ternhq.example")}, nil)
	defer e2e.Patch(t, "/settings", api.SettingsChange{ChallengeZone: new(string)}, nil)
	aliases := certificateOf(t, account.ID, "driftwood.example").Aliases
	require.Len(t, aliases, 1)
	alias := aliases[0]
	assert.Equal(t, "_acme-challenge.driftwood.example", alias.Name)
	assert.Empty(t, certificateOf(t, home.ID, "ternhq.example").Aliases, "its DNS is hosted here")

	t.Run("what would fail is left out if the person agrees", func(t *testing.T) {
		assert.Contains(t, rehearsed(t, account.ID, "driftwood.example")["*.driftwood.example"].Fix,
			alias.Name+" CNAME "+alias.Target)
		p := e2e.RefusedAs(t, "needs-decision", i.Client.Post(ctx, path+"/order", nil, nil))
		assert.Equal(t, "leave_out", p.Decide[0].Field)
		e2e.Does(t, "certificate", "order", "driftwood.example", "--leave-out")
		c := certificateOf(t, account.ID, "driftwood.example")
		assert.Equal(t, []string{"driftwood.example"}, c.Covered)
		require.Len(t, c.LeftOut, 1)
		assert.Equal(t, "alias", c.LeftOut[0].Code)
	})

	t.Run("one record elsewhere proves all names, for good", func(t *testing.T) {
		require.NoError(t,
			i.PublicDNS.Serve("driftwood.example", "@ A "+skua+"\n_acme-challenge CNAME other.example.\n"))
		assert.Contains(t, rehearsed(t, account.ID, "driftwood.example")["*.driftwood.example"].Reason, "other.example")
		require.NoError(t, i.PublicDNS.Serve("driftwood.example", "@ A "+skua+"\n_acme-challenge CNAME "+alias.Target+
			".\n"))
		seen := rehearsed(t, account.ID, "driftwood.example")["*.driftwood.example"]
		assert.Equal(t, "would pass", seen.Result, seen.Reason)
		assert.Equal(t, "alias", seen.Proof)
		e2e.CertificateDue(t, "driftwood.example")
		labtest.Eventually(t, func() bool {
			return len(certificateOf(t, account.ID, "driftwood.example").Covered) == 2
		}, "it is added automatically")
		assert.Empty(t, certificateOf(t, account.ID, "driftwood.example").LeftOut)
		leaf, err := shown(t, "skua", "driftwood.example")
		require.NoError(t, err)
		assert.NoError(t, leaf.VerifyHostname("any.driftwood.example"))
		require.Equal(t, "done", orderNow(t, account.ID, "driftwood.example").State, "again")
		labtest.Eventually(t, func() bool {
			return e2e.Answers(t, "petrel", alias.Target, "TXT") == "NXDOMAIN"
		}, "the challenge is left in the zone")
	})

	t.Run("records entered by hand", func(t *testing.T) {
		require.NoError(t, i.PublicDNS.Serve("driftwood.example",
			"@ A "+skua+"\n")) // so that it is not ordered by itself
		fresh := []string{"www.driftwood.example"} // which was never proved before
		e2e.Patch(t, path, api.CertificateChange{Names: &fresh}, nil)
		before := certificateOf(t, account.ID, "driftwood.example").Serial
		order := func() (int64, []api.ChallengeRecord) {
			var started api.Started
			require.NoError(t, i.Client.Post(ctx, path+"/order", api.CertificateOrder{ByHand: true}, &started))
			labtest.Eventually(t, func() bool {
				c := certificateOf(t, account.ID, "driftwood.example")
				return len(c.Records) > 0 && c.Records[0].CheckedAt != nil
			})
			return started.Operation, certificateOf(t, account.ID, "driftwood.example").Records
		}
		operation, _ := order()
		e2e.Does(t, "certificate", "cancel", "driftwood.example")
		o := e2e.Watched(t, operation)
		assert.Equal(t, "cancelled", o.State)
		assert.Contains(t, o.Failure, "cancelled by operator")
		e2e.RefusedAs(t, "wrong-state", i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: path + "/order"},
			nil))
		assert.Equal(t, before, certificateOf(t, account.ID, "driftwood.example").Serial, "the one in use stays")

		operation, _ = order()
		e2e.Patch(t, path, api.CertificateChange{Mode: "self-signed"}, nil)
		assert.Contains(t, e2e.Watched(t, operation).Failure, "no longer automatic",
			"nobody's choice is overtaken by an order")
		assert.Equal(t, "self-signed", certificateOf(t, account.ID, "driftwood.example").State)
		e2e.Patch(t, path, api.CertificateChange{Mode: "automatic"}, nil)

		operation, records := order()
		assert.Equal(t, "_acme-challenge.www.driftwood.example", records[0].Name)
		assert.Equal(t, []string{publicdns.Elsewhere}, records[0].Missing)
		assert.Contains(t, e2e.Does(t, "certificate", "show", "driftwood.example"), "not shown by")
		entered := func(values ...string) {
			text := "@ A " + skua + "\n"
			for _, v := range values {
				text += `_acme-challenge.www TXT "` + v + "\"\n"
			}
			require.NoError(t, i.PublicDNS.Serve("driftwood.example", text))
		}
		entered("something else")
		looked := *records[0].CheckedAt
		labtest.Eventually(t, func() bool {
			return certificateOf(t, account.ID, "driftwood.example").Records[0].CheckedAt.After(looked)
		})
		c := certificateOf(t, account.ID, "driftwood.example")
		assert.Equal(t, operation, c.Operation, "it goes on waiting")
		assert.False(t, c.Records[0].Visible)
		values := []string{"something else"}
		for _, r := range records {
			values = append(values, r.Data)
		}
		entered(values...)
		o = e2e.Watched(t, operation)
		require.Equal(t, "done", o.State, o.Failure)
		assert.NotEqual(t, before, certificateOf(t, account.ID, "driftwood.example").Serial)
	})

	t.Run("a name that leads elsewhere and is wanted is proved in its zone here", func(t *testing.T) {
		zone := "/zones/ternhq.example/records"
		away, _ := e2e.OnZone(t, http.MethodPost, zone, api.NewRecord{Name: "www", Type: "A", Data: "192.0.2.7"})
		own, _ := e2e.OnZone(t, http.MethodPost, zone, api.NewRecord{Name: "_acme-challenge.www", Type: "TXT",
			Data: `"a record of somebody's own"`})
		i.PublicDNS.Delegate("ternhq.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		assert.Equal(t, "elsewhere", rehearsed(t, home.ID, "ternhq.example")["www.ternhq.example"].Code)
		wanted := []string{"ternhq.example", "www.ternhq.example"}
		e2e.Patch(t, certificatePath(home.ID, "ternhq.example"), api.CertificateChange{Names: &wanted}, nil)
		assert.Equal(t, "zone", rehearsed(t, home.ID, "ternhq.example")["www.ternhq.example"].Proof)
		labtest.Eventually(t, func() bool {
			c := certificateOf(t, home.ID, "ternhq.example")
			return c.Operation == 0 && len(c.Covered) == 2
		})
		i.PublicDNS.Delegate("ternhq.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		e2e.OnZone(t, http.MethodDelete, zone+"/"+strconv.FormatInt(own.Record.ID, 10), nil)
		_, _ = e2e.OnZone(t, http.MethodPost, zone, api.NewRecord{Name: "_acme-challenge.www", Type: "CNAME",
			Data: "nowhere.example."})
		i.PublicDNS.Delegate("ternhq.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		seen := rehearsed(t, home.ID, "ternhq.example")["www.ternhq.example"]
		assert.Equal(t, "would fail", seen.Result)
		e2e.OnZone(t, http.MethodDelete, zone+"/"+strconv.FormatInt(away.Record.ID, 10), nil)
	})
}

// TestAccountKeys provokes every way in which the change of an account's key is cut off.
func TestAccountKeys(t *testing.T) {
	withAuthority(t)
	before, _ := e2e.AuthorityKeys(t, "trial")
	// Cut off after the authority has taken the key: both keys are on
	// record, and the old one counts for the service.
	e2e.Patch(t, "/authorities/trial", api.AuthorityChange{NewKey: true}, nil)
	taken, _ := e2e.AuthorityKeys(t, "trial")
	assert.NotEqual(t, before, taken)
	e2e.KeyChangeCutOff(t, "trial", before, taken, time.Hour)
	labtest.Eventually(t, func() bool {
		_, next := e2e.AuthorityKeys(t, "trial")
		return next == ""
	}, "the next round settles it")
	after, _ := e2e.AuthorityKeys(t, "trial")
	assert.Equal(t, taken, after)
	// Cut off before: the authority does not know the next one.
	e2e.KeyChangeCutOff(t, "trial", taken, before, 0)
	e2e.Patch(t, "/authorities/trial", api.AuthorityChange{NewKey: true}, nil)
	after, _ = e2e.AuthorityKeys(t, "trial")
	assert.NotEqual(t, taken, after)
}
