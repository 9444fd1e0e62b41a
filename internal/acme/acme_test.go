package acme_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/acme"
)

// other is an authority unlike the stand-in: it says as little as RFC 8555 lets it, in the forms
// that the stand-in does not use.
type other struct {
	*httptest.Server
	mu sync.Mutex
	// directory is added to what it says of itself.
	directory map[string]any
	// answers are tried in turn, by path; the last one stays.
	answers map[string][]http.HandlerFunc
	asked   []request
}

// request is a signed one.
type request struct {
	path      string
	protected struct {
		Alg, Kid, Nonce, URL string
		JWK                  json.RawMessage
	}
	payload map[string]any
}

func another(t *testing.T, directory map[string]any) *other {
	t.Helper()
	o := &other{directory: directory, answers: map[string][]http.HandlerFunc{}}
	o.Server = httptest.NewTLSServer(o)
	t.Cleanup(o.Close)
	return o
}

func (o *other) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case r.URL.Path == "/dir":
		d := map[string]any{"newNonce": o.URL + "/nonce", "newAccount": o.URL + "/accounts",
			"newOrder": o.URL + "/orders", "revokeCert": o.URL + "/revoke", "keyChange": o.URL + "/key"}
		for k, v := range o.directory {
			d[k] = v
		}
		json.NewEncoder(w).Encode(d)
		return
	case r.Method == http.MethodPost:
		var message struct{ Protected, Payload string }
		var one request
		err := json.NewDecoder(r.Body).Decode(&message)
		protected, err2 := base64.RawURLEncoding.DecodeString(message.Protected)
		payload, err3 := base64.RawURLEncoding.DecodeString(message.Payload)
		if err := errors.Join(err, err2, err3, json.Unmarshal(protected, &one.protected)); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if len(payload) > 0 {
			_ = json.Unmarshal(payload, &one.payload)
		}
		one.path = r.URL.Path
		o.asked = append(o.asked, one)
	}
	w.Header().Set("Replay-Nonce", fmt.Sprint("nonce", len(o.asked)))
	if r.URL.Path == "/nonce" {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	list := o.answers[r.URL.Path]
	if len(list) == 0 {
		problem(http.StatusNotFound, "malformed", "no such thing")(w, r)
		return
	}
	if len(list) > 1 {
		o.answers[r.URL.Path] = list[1:]
	}
	list[0](w, r)
}

func (o *other) client(t *testing.T, account string) *acme.Client {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	root := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: o.Certificate().Raw}))
	c, err := acme.New(acme.Authority{Directory: o.URL + "/dir", Root: root, Key: key, URL: account})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// answer is a document, with headers in pairs.
func answer(status int, document map[string]any, headers ...string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		for n := 0; n < len(headers); n += 2 {
			w.Header().Set(headers[n], headers[n+1])
		}
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(document)
	}
}

func problem(status int, kind, detail string, headers ...string) http.HandlerFunc {
	return answer(status, map[string]any{"type": "urn:ietf:params:acme:error:" + kind, "detail": detail,
		"subproblems": []any{}}, append(headers, "Content-Type", "application/problem+json")...)
}

func TestDirectory(t *testing.T) {
	ctx := context.Background()
	t.Run("one that says next to nothing", func(t *testing.T) {
		d, err := another(t, nil).client(t, "").Discover(ctx)
		require.NoError(t, err)
		assert.Equal(t, acme.Directory{}, d)
	})
	t.Run("one that says all", func(t *testing.T) {
		o := another(t, map[string]any{"renewalInfo": "https://ari.test",
			"meta": map[string]any{"termsOfService": "https://terms.test", "caaIdentities": []string{"CA.Test"},
				"externalAccountRequired": true, "profiles": map[string]string{"short": "6 days", "long": "90 days"}}})
		d, err := o.client(t, "").Discover(ctx)
		require.NoError(t, err)
		assert.Equal(t, acme.Directory{Terms: "https://terms.test", Identities: []string{"ca.test"},
			NeedsExternal: true, Profiles: []string{"long", "short"}, Renewal: true}, d)
	})
	t.Run("what is none", func(t *testing.T) {
		for name, handle := range map[string]http.HandlerFunc{
			"a page":     func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<html>") },
			"other JSON": func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"a": 1}`) },
		} {
			server := httptest.NewServer(handle)
			c, err := acme.New(acme.Authority{Directory: server.URL})
			require.NoError(t, err)
			_, err = c.Discover(ctx)
			assert.ErrorContains(t, err, "no directory of an authority", name)
			server.Close()
		}
	})
	t.Run("one that is not trusted", func(t *testing.T) {
		c, err := acme.New(acme.Authority{Directory: another(t, nil).URL + "/dir"})
		require.NoError(t, err)
		_, err = c.Discover(ctx)
		var unknown x509.UnknownAuthorityError
		assert.ErrorAs(t, err, &unknown)
		_, err = acme.New(acme.Authority{Root: "nonsense"})
		assert.ErrorContains(t, err, "no certificate in PEM")
	})
}

func TestAccounts(t *testing.T) {
	ctx := context.Background()
	o := another(t, map[string]any{"meta": map[string]any{"termsOfService": "https://terms.test"}})
	o.answers["/accounts"] = []http.HandlerFunc{answer(http.StatusCreated, map[string]any{"status": "valid"},
		"Location", o.URL+"/accounts/7")}
	for _, key := range []string{"c2VjcmV0LV8_Pz8-", "c2VjcmV0LV8/Pz8+", " c2VjcmV0LV8_Pz8-==\n"} {
		// base64url, plain base64, padded
		at, err := o.client(t, "").Register(ctx, "crew@ternisland.example", &acme.External{ID: "crew-1", Key: key})
		require.NoError(t, err, key)
		assert.Equal(t, o.URL+"/accounts/7", at)
		sent := o.asked[len(o.asked)-1]
		assert.Equal(t, []any{"mailto:crew@ternisland.example"}, sent.payload["contact"])
		assert.Equal(t, true, sent.payload["termsOfServiceAgreed"])
		assert.Contains(t, sent.payload, "externalAccountBinding")
		assert.Empty(t, sent.protected.Kid)
		assert.NotEmpty(t, sent.protected.JWK)
	}
	_, err := o.client(t, "").Register(ctx, "", &acme.External{ID: "crew-1", Key: "~"})
	assert.ErrorContains(t, err, "not base64url")

	o.answers["/accounts"] = []http.HandlerFunc{answer(http.StatusOK, map[string]any{"status": "valid"}, "Location",
		o.URL+"/accounts/8")}
	at, err := o.client(t, "").Register(ctx, "", nil)
	require.NoError(t, err, "the key has one already")
	assert.Equal(t, o.URL+"/accounts/8", at)
	o.answers["/accounts/8"] = []http.HandlerFunc{answer(http.StatusOK, map[string]any{"status": "valid"})}
	known := o.client(t, o.URL+"/accounts/8")
	for email, want := range map[string][]any{"keeper@ternisland.example": {"mailto:keeper@ternisland.example"},
		"": {}} {
		require.NoError(t, known.ChangeContact(ctx, email))
		assert.Equal(t, want, o.asked[len(o.asked)-1].payload["contact"], "none is said, too")
	}
	o.answers["/accounts"] = []http.HandlerFunc{problem(http.StatusBadRequest, "accountDoesNotExist",
		"no such account")}
	at, err = o.client(t, "").Mine(ctx)
	require.NoError(t, err)
	assert.Empty(t, at)
}

func TestOrder(t *testing.T) {
	ctx := context.Background()
	o := another(t, map[string]any{"meta": map[string]any{"profiles": map[string]string{"short": "6 days"}}})
	c := o.client(t, o.URL+"/accounts/7")
	pending := map[string]any{"status": "pending", "authorizations": []string{o.URL + "/proofs/1"},
		"finalize": o.URL + "/orders/1/finalize"}
	o.answers["/orders"] = []http.HandlerFunc{answer(http.StatusCreated, pending, "Location", o.URL+"/orders/1")}
	made, err := c.Order(ctx, []string{"ferries.example"}, "short", nil)
	require.NoError(t, err)
	assert.Equal(t, o.URL+"/orders/1", made.URL)
	sent := o.asked[len(o.asked)-1]
	assert.Equal(t, "short", sent.payload["profile"])
	assert.Equal(t, o.URL+"/accounts/7", sent.protected.Kid)
	assert.Equal(t, o.URL+"/orders", sent.protected.URL)

	t.Run("looked at again, and how soon that is wanted", func(t *testing.T) {
		for name, one := range map[string]struct {
			headers []string
			want    time.Duration
		}{
			"nothing said": {nil, 0},
			"in seconds":   {[]string{"Retry-After", "7"}, 7 * time.Second},
			"by its own clock": {[]string{"Date", "Tue, 24 Nov 2026 09:00:00 GMT", "Retry-After",
				"Tue, 24 Nov 2026 09:00:20 GMT"}, 20 * time.Second},
			"in the past": {[]string{"Date", "Tue, 24 Nov 2026 09:00:00 GMT", "Retry-After",
				"Tue, 24 Nov 2026 08:00:00 GMT"}, 0},
			"less than nothing":        {[]string{"Retry-After", "-5"}, 0},
			"something else":           {[]string{"Retry-After", "soon"}, 0},
			"a location is said again": {[]string{"Location", o.URL + "/orders/other"}, 0},
		} {
			o.answers["/orders/1"] = []http.HandlerFunc{answer(http.StatusOK, pending, one.headers...)}
			seen, err := c.OrderAt(ctx, made.URL)
			require.NoError(t, err, name)
			assert.Equal(t, acme.Order{URL: made.URL, Status: "pending", Finalize: o.URL + "/orders/1/finalize",
				Proofs: []string{o.URL + "/proofs/1"}, Wait: one.want}, seen, name)
		}
	})

	t.Run("proofs", func(t *testing.T) {
		o.answers["/proofs/1"] = []http.HandlerFunc{answer(http.StatusOK, map[string]any{"status": "invalid",
			"identifier": map[string]any{"type": "dns", "value": "ferries.example"}, "wildcard": true,
			"challenges": []any{
				map[string]any{"type": "novel-09", "url": o.URL + "/challenges/1", "status": "pending"},
				map[string]any{"type": "dns-01", "url": o.URL + "/challenges/2", "token": "abc", "status": "invalid",
					"error": map[string]any{"type": "urn:ietf:params:acme:error:dns", "detail": "no TXT"}},
			}})}
		p, err := c.ProofAt(ctx, o.URL+"/proofs/1")
		require.NoError(t, err)
		assert.True(t, p.Wildcard)
		require.Len(t, p.Challenges, 1, "of those that we know")
		assert.Equal(t, "abc", p.Challenges[0].Token)
		assert.Len(t, p.Challenges[0].Value, 43)
		assert.Equal(t, acme.Why{Kind: "dns", Detail: "no TXT"}, acme.Reason(p.Failure))
	})

	t.Run("the signing request is handed in", func(t *testing.T) {
		o.answers["/orders/1/finalize"] = []http.HandlerFunc{problem(http.StatusBadRequest, "badNonce", "an old one"),
			answer(http.StatusOK, map[string]any{"status": "processing"}, "Retry-After", "3")}
		wait, err := c.Finalize(ctx, made, []byte{1, 2, 3})
		require.NoError(t, err, "again, with another nonce")
		assert.Equal(t, 3*time.Second, wait)
		assert.Equal(t, "AQID", o.asked[len(o.asked)-1].payload["csr"])
		o.answers["/orders/1/finalize"] = []http.HandlerFunc{problem(http.StatusForbidden, "badCSR", "no")}
		_, err = c.Finalize(ctx, made, []byte{1, 2, 3})
		assert.Equal(t, acme.Why{Kind: "badCSR", Detail: "no"}, acme.Reason(err))
	})

	t.Run("refusals", func(t *testing.T) {
		o.answers["/orders"] = []http.HandlerFunc{problem(http.StatusTooManyRequests, "rateLimited", "slowly",
			"Retry-After", "90")}
		before := len(o.asked)
		_, err := c.Order(ctx, []string{"ferries.example"}, "", nil)
		assert.Equal(t, acme.Why{Kind: "rateLimited", Detail: "slowly", Limited: true, Wait: 90 * time.Second,
			Passing: true}, acme.Reason(err))
		assert.True(t, acme.Theirs(err))
		assert.Len(t, o.asked, before+1, "what is limited is not asked for again")
		o.answers["/orders"] = []http.HandlerFunc{answer(http.StatusForbidden,
			map[string]any{"type": "urn:ietf:params:acme:error:rejectedIdentifier", "detail": "two names",
				"subproblems": []any{
					map[string]any{"type": "urn:ietf:params:acme:error:rejectedIdentifier", "detail": "not this one",
						"identifier": map[string]any{"type": "dns", "value": "a.example"}}}})}
		_, err = c.Order(ctx, []string{"a.example", "b.example"}, "", nil)
		assert.Equal(t, acme.Why{Kind: "rejectedIdentifier", Detail: "two names; a.example: not this one"},
			acme.Reason(err))
		assert.False(t, acme.Theirs(errors.New("the disk is full")))
		assert.True(t, acme.Theirs(&url.Error{Op: "Get", Err: errors.New("refused")}))
	})
}

// issued makes a certificate with an identifier of its issuer's key.
func issued(t *testing.T, serial *big.Int) *x509.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	issuer := &x509.Certificate{SubjectKeyId: []byte{0x69, 0x88, 0x5B}, Subject: pkix.Name{CommonName: "Issuer"}}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: serial,
		NotAfter: time.Now().Add(time.Hour)}, issuer, key.Public(), key)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

func TestRenewal(t *testing.T) {
	ctx := context.Background()
	high, low := issued(t, big.NewInt(0x87654321)), issued(t, big.NewInt(0x07654321))
	assert.Equal(t, "aYhb.AIdlQyE", acme.CertificateID(high), "the number is one of DER, which is signed")
	assert.Equal(t, "aYhb.B2VDIQ", acme.CertificateID(low))

	o := another(t, nil)
	o.directory = map[string]any{"renewalInfo": o.URL + "/ari/"}
	c := o.client(t, o.URL+"/accounts/7")
	at := "/ari/" + acme.CertificateID(high)
	begins := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	window := map[string]any{"suggestedWindow": map[string]any{"start": begins, "end": begins.Add(48 * time.Hour)},
		"explanationURL": "https://why.test"}
	for name, one := range map[string]struct {
		said []string
		want time.Duration
	}{
		"nothing said": {nil, 6 * time.Hour}, "too soon": {[]string{"Retry-After", "1"}, time.Minute},
		"too late": {[]string{"Retry-After", "9999999"}, 24 * time.Hour},
		"a date": {[]string{"Date", "Tue, 24 Nov 2026 09:00:00 GMT", "Retry-After", "Tue, 24 Nov 2026 10:00:00 GMT"},
			time.Hour},
	} {
		o.answers[at] = []http.HandlerFunc{answer(http.StatusOK, window, one.said...)}
		r, err := c.Renewal(ctx, high)
		require.NoError(t, err, name)
		assert.True(t, r.Start.Equal(begins) && r.End.Equal(begins.Add(48*time.Hour)), name)
		assert.Equal(t, "https://why.test", r.Explanation)
		assert.Equal(t, one.want, r.RetryAfter, name)
	}
	o.answers[at] = []http.HandlerFunc{answer(http.StatusOK,
		map[string]any{"suggestedWindow": map[string]any{"start": begins, "end": begins}})}
	_, err := c.Renewal(ctx, high)
	assert.ErrorContains(t, err, "ends before it begins")
	r, err := another(t, nil).client(t, "").Renewal(ctx, high)
	require.NoError(t, err)
	assert.Nil(t, r, "an authority that does not say")

	t.Run("an order takes the place of a certificate, unless that cannot be", func(t *testing.T) {
		order := map[string]any{"status": "ready", "finalize": o.URL + "/f"}
		o.answers["/orders/3"] = []http.HandlerFunc{answer(http.StatusOK, order)}
		o.answers["/orders"] = []http.HandlerFunc{answer(http.StatusCreated, order, "Location", o.URL+"/orders/3")}
		made, err := c.Order(ctx, []string{"ferries.example"}, "", high)
		require.NoError(t, err)
		assert.Equal(t, "ready", made.Status)
		assert.Equal(t, o.URL+"/orders/3", made.URL)
		assert.Equal(t, acme.CertificateID(high), o.asked[len(o.asked)-2].payload["replaces"])

		o.answers["/orders"] = []http.HandlerFunc{problem(http.StatusConflict, "alreadyReplaced", "it was"),
			answer(http.StatusCreated, order, "Location", o.URL+"/orders/3")}
		made, err = c.Order(ctx, []string{"ferries.example"}, "", high)
		require.NoError(t, err)
		assert.Equal(t, o.URL+"/orders/3", made.URL)
		assert.NotContains(t, o.asked[len(o.asked)-1].payload, "replaces")

		o.answers["/orders"] = []http.HandlerFunc{problem(http.StatusTooManyRequests, "rateLimited", "slowly",
			"Retry-After", "90")}
		before := len(o.asked)
		_, err = c.Order(ctx, []string{"ferries.example"}, "", high)
		assert.True(t, acme.Reason(err).Limited)
		assert.Len(t, o.asked, before+1)
	})
}

func TestDownload(t *testing.T) {
	o := another(t, nil)
	c := o.client(t, o.URL+"/accounts/7")
	first, second := issued(t, big.NewInt(1)), issued(t, big.NewInt(2))
	var text strings.Builder
	for _, one := range []*x509.Certificate{first, second} {
		text.WriteString("Some words before it, as RFC 7468 lets one have.\n")
		require.NoError(t, pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: one.Raw}))
	}
	o.answers["/c/1"] = []http.HandlerFunc{func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		w.Header().Add("Link", `<`+o.URL+`/c/1/alternate>;rel="alternate"`)
		fmt.Fprint(w, text.String())
	}}
	chain, err := c.Download(context.Background(), acme.Order{Certificate: o.URL + "/c/1"})
	require.NoError(t, err)
	require.Len(t, chain, 2)
	assert.True(t, chain[0].Equal(first) && chain[1].Equal(second))

	o.answers["/revoke"] = []http.HandlerFunc{answer(http.StatusOK, nil)}
	require.NoError(t, c.Revoke(context.Background(), first, 4))
	assert.EqualValues(t, 4, o.asked[len(o.asked)-1].payload["reason"])
}
