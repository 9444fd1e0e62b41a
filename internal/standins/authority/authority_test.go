package authority_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/acme"

	"victualler/internal/resolve"
	"victualler/internal/standins/authority"
	"victualler/internal/standins/publicdns"
)

// Addresses of loopback that nothing else listens on.
const (
	names = "127.71.0.53"
	web   = "127.71.0.80"
)

type bench struct {
	*authority.Authority
	dns *publicdns.DNS

	mu      sync.Mutex
	answers map[string]http.HandlerFunc // by path
}

func start(t *testing.T) *bench {
	t.Helper()
	w, err := publicdns.Listen(netip.MustParseAddr(names), "127.71.0.53:0")
	require.NoError(t, err)
	t.Cleanup(w.Close)
	a, err := authority.Listen(authority.Options{Address: "127.71.0.1:0", Control: "127.71.0.1:0",
		Resolver: resolve.New(names + ":53")})
	require.NoError(t, err)
	t.Cleanup(a.Close)
	b := &bench{Authority: a, dns: w, answers: map[string]http.HandlerFunc{}}
	listener, err := net.Listen("tcp", web+":80")
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		handle := b.answers[r.URL.Path]
		b.mu.Unlock()
		if handle == nil {
			http.NotFound(w, r)
			return
		}
		handle(w, r)
	})}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return b
}

func (b *bench) serve(path string, handle http.HandlerFunc) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.answers[path] = handle
}

func (b *bench) pool() *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(b.Root()))
	return pool
}

func newKey(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func (b *bench) client(t *testing.T, key crypto.Signer, account *acme.Account) *acme.Client {
	t.Helper()
	c := &acme.Client{Key: key, DirectoryURL: b.Directory(),
		HTTPClient: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: b.pool()}}}}
	if account != nil {
		_, err := c.Register(context.Background(), account, acme.AcceptTOS)
		require.NoError(t, err)
	}
	return c
}

// prove meets the challenges of a kind of all names of an order, and returns the first failure.
func (b *bench) prove(ctx context.Context, c *acme.Client, o *acme.Order, kind string) error {
	for _, url := range o.AuthzURLs {
		z, err := c.GetAuthorization(ctx, url)
		if err != nil {
			return err
		}
		if z.Status == acme.StatusValid {
			continue
		}
		for _, one := range z.Challenges {
			if one.Type != kind {
				continue
			}
			if kind == "http-01" {
				text, _ := c.HTTP01ChallengeResponse(one.Token)
				b.serve(c.HTTP01ChallengePath(one.Token), func(w http.ResponseWriter, _ *http.Request) {
					fmt.Fprint(w, text)
				})
			} else {
				text, _ := c.DNS01ChallengeRecord(one.Token)
				if err := b.dns.Serve(z.Identifier.Value, "@ A "+web+"\n_acme-challenge TXT "+text+"\n"); err != nil {
					return err
				}
				b.dns.Delegate("unrelated.example", publicdns.Delegation{}) // nothing remembered counts any more
			}
			if _, err := c.Accept(ctx, one); err != nil {
				return err
			}
		}
		if _, err := c.WaitAuthorization(ctx, url); err != nil {
			return err
		}
	}
	return nil
}

func request(t *testing.T, key crypto.Signer, names ...string) []byte {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: names}, key)
	require.NoError(t, err)
	return der
}

func typeOf(err error) string {
	var e *acme.Error
	var z *acme.AuthorizationError
	if errors.As(err, &z) && len(z.Errors) > 0 {
		err = z.Errors[0]
	}
	if errors.As(err, &e) {
		return strings.TrimPrefix(e.ProblemType, "urn:ietf:params:acme:error:")
	}
	return fmt.Sprint(err)
}

func detailOf(err error) string {
	var z *acme.AuthorizationError
	if errors.As(err, &z) && len(z.Errors) > 0 {
		return z.Errors[0].Error()
	}
	return fmt.Sprint(err)
}

func TestOrders(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes its time, as authorities do: make test")
	}
	b := start(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	accountKey := newKey(t)
	_, err := b.client(t, accountKey, nil).AuthorizeOrder(ctx, acme.DomainIDs("nobody.example"))
	require.Error(t, err, "without an account")
	c := b.client(t, accountKey, &acme.Account{Contact: []string{"mailto:operator@ternisland.example"}})
	require.NoError(t, b.dns.Serve("ferries.example", "@ A "+web+"\nwww A "+web+"\n"))

	t.Run("from the order to a certificate that is trusted", func(t *testing.T) {
		o, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example", "www.ferries.example"))
		require.NoError(t, err)
		assert.Equal(t, acme.StatusPending, o.Status)
		_, _, err = c.CreateOrderCert(ctx, o.FinalizeURL,
			request(t, newKey(t), "ferries.example", "www.ferries.example"), true)
		assert.Equal(t, "orderNotReady", typeOf(err))
		require.NoError(t, b.prove(ctx, c, o, "http-01"))
		o, err = c.WaitOrder(ctx, o.URI)
		require.NoError(t, err)
		_, _, err = c.CreateOrderCert(ctx, o.FinalizeURL, request(t, newKey(t), "ferries.example"), true)
		assert.Equal(t, "badCSR", typeOf(err), "other names")
		_, _, err = c.CreateOrderCert(ctx, o.FinalizeURL,
			request(t, accountKey, "ferries.example", "www.ferries.example"), true)
		assert.Equal(t, "badCSR", typeOf(err), "the account's key")
		weak, err := rsa.GenerateKey(rand.Reader, 1024)
		if err == nil {
			_, _, err = c.CreateOrderCert(ctx, o.FinalizeURL,
				request(t, weak, "ferries.example", "www.ferries.example"), true)
			assert.Equal(t, "badCSR", typeOf(err), "a weak key")
		}
		chain, _,
			err := c.CreateOrderCert(ctx, o.FinalizeURL,
			request(t, newKey(t), "ferries.example", "www.ferries.example"), true)
		require.NoError(t, err)
		require.Len(t, chain, 2, "with the intermediate")
		leaf, err := x509.ParseCertificate(chain[0])
		require.NoError(t, err)
		between := x509.NewCertPool()
		intermediate, err := x509.ParseCertificate(chain[1])
		require.NoError(t, err)
		between.AddCert(intermediate)
		_, err = leaf.Verify(x509.VerifyOptions{Roots: b.pool(), Intermediates: between,
			DNSName: "www.ferries.example"})
		assert.NoError(t, err)

		// RFC 9773: the window lies within its life.
		id := base64.RawURLEncoding.EncodeToString(leaf.AuthorityKeyId) + "." +
			base64.RawURLEncoding.EncodeToString(append(zero(leaf.SerialNumber.Bytes()), leaf.SerialNumber.Bytes()...))
		window := func() (start, end time.Time) {
			response, err := c.HTTPClient.Get(strings.TrimSuffix(b.Directory(), "/directory") + "/renewal-info/" + id)
			require.NoError(t, err)
			defer response.Body.Close()
			require.Equal(t, http.StatusOK, response.StatusCode)
			assert.NotEmpty(t, response.Header.Get("Retry-After"))
			var info struct {
				SuggestedWindow struct{ Start, End time.Time } `json:"suggestedWindow"`
			}
			require.NoError(t, json.NewDecoder(response.Body).Decode(&info))
			return info.SuggestedWindow.Start, info.SuggestedWindow.End
		}
		begins, ends := window()
		assert.True(t, begins.After(leaf.NotBefore) && begins.Before(ends) && ends.Before(leaf.NotAfter))
		stranger := b.client(t, newKey(t), &acme.Account{})
		assert.Equal(t, "unauthorized", typeOf(stranger.RevokeCert(ctx, nil, chain[0], acme.CRLReasonUnspecified)))
		require.NoError(t, c.RevokeCert(ctx, nil, chain[0], acme.CRLReasonSuperseded))
		reason, revoked := b.Revoked(leaf)
		assert.True(t, revoked)
		assert.Equal(t, int(acme.CRLReasonSuperseded), reason)
		_, ends = window()
		assert.True(t, ends.Before(time.Now()), "a revoked one is to be renewed at once")
	})

	t.Run("a name that is proved is so for a while; a wildcard needs the zone", func(t *testing.T) {
		o, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		require.NoError(t, err)
		assert.Equal(t, acme.StatusReady, o.Status)
		o, err = c.AuthorizeOrder(ctx, acme.DomainIDs("*.harbour.example"), acme.WithOrderIssuanceProfile("short"))
		require.NoError(t, err)
		z, err := c.GetAuthorization(ctx, o.AuthzURLs[0])
		require.NoError(t, err)
		assert.True(t, z.Wildcard)
		assert.Equal(t, "harbour.example", z.Identifier.Value)
		require.Len(t, z.Challenges, 1)
		assert.Equal(t, "dns-01", z.Challenges[0].Type)
		require.NoError(t, b.prove(ctx, c, o, "dns-01"))
		chain, _, err := c.CreateOrderCert(ctx, o.FinalizeURL, request(t, newKey(t), "*.harbour.example"), true)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(chain[0])
		require.NoError(t, err)
		assert.Less(t, time.Until(leaf.NotAfter), 7*24*time.Hour, "the profile counts")
	})

	t.Run("names that fail, with the reason", func(t *testing.T) {
		shut := "127.71.0.99"
		for _, one := range []struct{ name, zone, kind, wanted, says string }{
			{"missing.example", "", "http-01", "dns", "neither"},
			{"nowhere.example", "@ TXT x", "http-01", "dns", "neither an A nor an AAAA"},
			{"shut.example", "@ A " + shut, "http-01", "connection", "refused"},
			// nothing answers there on IPv6, so IPv4 is asked
			{"six.example", "@ A " + web + "\n@ AAAA ::1", "http-01", "", ""},
			{"forbidden.example", `@ A ` + web + "\n" + `@ CAA 0 issue "other.test"`, "http-01", "caa", "other.test"},
			{"nobody.example", `@ A ` + web + "\n" + `@ CAA 0 issue ";"`, "http-01", "caa", "forbid"},
			{"sub.above.example", "", "http-01", "caa", "above"},
			{"allowed.example", `@ A ` + web + "\n" + `@ CAA 0 issue "authority.test"`, "http-01", "", ""},
			{"method.example", `@ A ` + web + "\n" + `@ CAA 0 issue "authority.test; validationmethods=dns-01"`,
				"http-01", "caa", "dns-01"},
			{"account.example",
				`@ A ` + web + "\n" + `@ CAA 0 issue "authority.test; accounturi=https://authority.test/account/0"`,
				"http-01", "caa", "accounturi"},
			{"critical.example", `@ A ` + web + "\n" + `@ CAA 128 novelty "x"`, "http-01", "caa", "novelty"},
			{"iodef.example", `@ A ` + web + "\n" + `@ CAA 0 iodef "mailto:x@iodef.example"`, "http-01", "", ""},
		} {
			if one.zone != "" {
				require.NoError(t, b.dns.Serve(one.name, one.zone+"\n"), one.name)
			}
			if one.name == "sub.above.example" {
				require.NoError(t, b.dns.Serve("above.example", "sub A "+web+"\n@ CAA 0 issue \"other.test\"\n"))
			}
			o, err := c.AuthorizeOrder(ctx, acme.DomainIDs(one.name))
			require.NoError(t, err, one.name)
			err = b.prove(ctx, c, o, one.kind)
			if one.wanted == "" {
				assert.NoError(t, err, one.name)
				continue
			}
			require.Error(t, err, one.name)
			assert.Equal(t, one.wanted, typeOf(err), one.name)
			assert.Contains(t, detailOf(err), one.says, one.name)
		}
	})

	t.Run("redirects are followed, and told", func(t *testing.T) {
		require.NoError(t, b.dns.Serve("moved.example", "@ A "+web+"\n"))
		try := func(to func(path string) string) error {
			o, err := c.AuthorizeOrder(ctx, acme.DomainIDs("moved.example"))
			require.NoError(t, err)
			z, err := c.GetAuthorization(ctx, o.AuthzURLs[0])
			require.NoError(t, err)
			for _, one := range z.Challenges {
				if one.Type == "http-01" {
					text, _ := c.HTTP01ChallengeResponse(one.Token)
					path := c.HTTP01ChallengePath(one.Token)
					b.serve("/elsewhere"+path, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, text) })
					b.serve(path, func(w http.ResponseWriter, r *http.Request) {
						http.Redirect(w, r, to(path), http.StatusFound)
					})
					_, err := c.Accept(ctx, one)
					require.NoError(t, err)
				}
			}
			_, err = c.WaitAuthorization(ctx, o.AuthzURLs[0])
			return err
		}
		for to, says := range map[string]string{"http://moved.example:8080/x": "port 8080",
			"http://" + web + "/x":       "bare address",
			"http://moved.example/login": "redirected to http://moved.example/login: the answer is 404"} {
			err := try(func(string) string { return to })
			require.Error(t, err, to)
			assert.Contains(t, detailOf(err), says)
		}
		assert.NoError(t, try(func(path string) string { return "http://moved.example/elsewhere" + path }))
	})
}

// zero is the octet that keeps a number in DER from being negative.
func zero(b []byte) []byte {
	if b[0]&0x80 != 0 {
		return []byte{0}
	}
	return nil
}

func TestFaults(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes its time, as authorities do: make test")
	}
	b := start(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	require.NoError(t, b.dns.Serve("ferries.example", "@ A "+web+"\n"))
	c := b.client(t, newKey(t), &acme.Account{})

	t.Run("nonces are refused, and asked for anew", func(t *testing.T) {
		b.Set(func(s *authority.Settings) { s.BadNonces = 2 })
		_, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		assert.NoError(t, err)
	})
	t.Run("invalid once", func(t *testing.T) {
		b.Set(func(s *authority.Settings) { s.InvalidOnce = true })
		o, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		require.NoError(t, err)
		assert.Equal(t, "unauthorized", typeOf(b.prove(ctx, c, o, "http-01")))
		o, err = c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		require.NoError(t, err)
		assert.NoError(t, b.prove(ctx, c, o, "http-01"))
	})
	t.Run("too many orders", func(t *testing.T) {
		c := b.client(t, newKey(t), &acme.Account{})
		c.RetryBackoff = func(int, *http.Request, *http.Response) time.Duration { return -1 }
		b.Set(func(s *authority.Settings) { s.OrdersPerHour = 1 })
		defer b.Set(func(s *authority.Settings) { s.OrdersPerHour = 0 })
		_, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		require.NoError(t, err)
		_, err = c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		require.Equal(t, "rateLimited", typeOf(err))
		wait, limited := acme.RateLimit(err)
		assert.True(t, limited)
		assert.InDelta(t, time.Hour.Seconds(), wait.Seconds(), 60)
	})
	t.Run("an external account", func(t *testing.T) {
		secret := []byte("0123456789abcdef0123456789abcdef")
		b.Set(func(s *authority.Settings) {
			s.ExternalKeys = map[string]string{"kid-1": base64.RawURLEncoding.EncodeToString(secret)}
		})
		defer b.Set(func(s *authority.Settings) { s.ExternalKeys = nil })
		c := b.client(t, newKey(t), nil)
		_, err := c.Register(ctx, &acme.Account{}, acme.AcceptTOS)
		assert.Equal(t, "externalAccountRequired", typeOf(err))
		_, err = b.client(t, newKey(t), nil).Register(ctx,
			&acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: "kid-1",
				Key: []byte("another key")}}, acme.AcceptTOS)
		assert.Equal(t, "unauthorized", typeOf(err))
		_, err = c.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: "kid-1",
			Key: secret}}, acme.AcceptTOS)
		assert.NoError(t, err)
	})
	t.Run("another key for the account", func(t *testing.T) {
		fresh := newKey(t)
		require.NoError(t, c.AccountKeyRollover(ctx, fresh))
		_, err := c.AuthorizeOrder(ctx, acme.DomainIDs("ferries.example"))
		assert.NoError(t, err)
	})
	t.Run("set over HTTP; what is not said stays", func(t *testing.T) {
		patch, err := http.NewRequest(http.MethodPatch, "http://"+b.Control+"/settings",
			strings.NewReader(`{"errors": 1}`))
		require.NoError(t, err)
		response, err := http.DefaultClient.Do(patch)
		require.NoError(t, err)
		response.Body.Close()
		response, err = c.HTTPClient.Get(b.Directory())
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, http.StatusInternalServerError, response.StatusCode)
		response, err = http.Get("http://" + b.Control + "/settings")
		require.NoError(t, err)
		defer response.Body.Close()
		var s authority.Settings
		require.NoError(t, json.NewDecoder(response.Body).Decode(&s))
		assert.Len(t, s.Lifetimes, 2)
		assert.Zero(t, s.Errors)
	})
	t.Run("its keys outlive it", func(t *testing.T) {
		file := t.TempDir() + "/keys.pem"
		one, err := authority.Listen(authority.Options{Address: "127.71.0.2:14443", Keys: file})
		require.NoError(t, err)
		key := newKey(t)
		(&bench{Authority: one}).client(t, key, &acme.Account{})
		one.Close()
		again, err := authority.Listen(authority.Options{Address: "127.71.0.2:14443", Keys: file})
		require.NoError(t, err)
		defer again.Close()
		assert.Equal(t, one.Root(), again.Root())
		_, err = (&bench{Authority: again}).client(t, key, nil).GetReg(ctx, "")
		assert.NoError(t, err, "and so do the accounts")
	})
}
