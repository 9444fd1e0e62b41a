package certificates

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/authority"
	"victualler/internal/standins/publicdns"
)

// withAuthority has the installation know the stand-in as its usual
// authority, and makes a plan with certificates.
func withAuthority(t *testing.T) {
	t.Helper()
	i := e2e.Shared(t)
	e2e.NamedServers(t)
	ctx := context.Background()
	var list api.AuthorityList
	require.NoError(t, i.Client.Get(ctx, "/authorities", nil, &list))
	if len(list.Authorities) == 0 {
		require.NoError(t,
			i.Client.Post(ctx, "/authorities", api.NewAuthority{Name: "trial", Directory: i.Authority.Directory(),
				Root: i.Authority.Root(), Email: "operator@ternisland.example", AcceptTerms: true}, nil))
	}
	err := i.Client.Post(ctx, "/plans", api.NewPlan{Name: "sealed",
		Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(9),
			plans.Subdomains: plans.Of(9), plans.PHPWorkers: plans.Of(2)},
		Features: plans.Features{"dns": true, "dnssec": true, "certificates": true, "wildcard": true}}, nil)
	if err != nil {
		require.Equal(t, api.ProblemBase+"name-taken", e2e.ProblemOf(t, err).Type)
	}
}

func certificatePath(account int64, domain string) string {
	return e2e.Domains(account) + "/" + domain + "/certificate"
}

func certificateOf(t *testing.T, account int64, domain string) api.SiteCertificate {
	t.Helper()
	var c api.SiteCertificate
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), certificatePath(account, domain), nil, &c))
	return c
}

// issued tells whether a site has an authority's certificate and no order is under way: a
// certificate is in use a moment before its order has ended.
func issued(t *testing.T, account int64, domain string) bool {
	t.Helper()
	c := certificateOf(t, account, domain)
	return c.State == "valid" && c.Operation == 0
}

// shown is the certificate that a server shows under a name; an error if nobody should trust it.
func shown(t *testing.T, label, name string) (*x509.Certificate, error) {
	t.Helper()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(e2e.Inst.Authority.Root()))
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: 10 * time.Second}, Config: &tls.Config{ServerName: name,
		RootCAs: pool}}
	conn, err := dialer.DialContext(context.Background(), "tcp",
		netip.AddrPortFrom(e2e.Inst.Servers[label].Address, 443).String())
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return conn.(*tls.Conn).ConnectionState().PeerCertificates[0], nil
}

// anyShown is the certificate that a server shows under a name, whoever trusts it.
func anyShown(t *testing.T, label, name string) *x509.Certificate {
	t.Helper()
	conn, err := tls.Dial("tcp", netip.AddrPortFrom(e2e.Inst.Servers[label].Address, 443).String(),
		&tls.Config{ServerName: name, InsecureSkipVerify: true})
	require.NoError(t, err)
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0]
}

func orderNow(t *testing.T, account int64, domain string) api.Operation {
	t.Helper()
	var started api.Started
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), certificatePath(account, domain)+"/order", nil,
		&started))
	return e2e.Watched(t, started.Operation)
}

func rehearsed(t *testing.T, account int64, domain string) map[string]api.RehearsedName {
	t.Helper()
	var r api.Rehearsal
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), certificatePath(account, domain)+"/rehearsal",
		api.RehearsalQuestion{}, &r))
	out := map[string]api.RehearsedName{}
	for _, n := range r.Names {
		out[n.Name] = n
	}
	return out
}

// certified opens an account on skua whose domain has its DNS here, waits until an
// authority's certificate is there, and closes it when the test is over.
func certified(t *testing.T, in api.OpenAccount) api.Account {
	t.Helper()
	e2e.Inst.PublicDNS.Delegate(in.Domain, publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
	in.Server, in.Plan = "skua", "sealed"
	account := e2e.Opened(t, in)
	t.Cleanup(func() { e2e.CloseAccount(t, account) })
	labtest.Eventually(t, func() bool { return issued(t, account.ID, in.Domain) })
	return account
}

func TestAuthorities(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	in := api.NewAuthority{Name: "second", Directory: i.Authority.Directory(), Root: i.Authority.Root()}
	var answer api.AuthorityAnswer
	require.NoError(t, i.Client.Post(ctx, "/authorities/ask", api.AuthorityQuestion{Directory: in.Directory,
		Root: in.Root}, &answer))
	assert.Equal(t, []string{authority.Identity}, answer.Identities)
	assert.Equal(t, []string{"classic", "short"}, answer.Profiles)
	assert.True(t, answer.Renewal)
	assert.False(t, answer.NeedsExternal)

	assert.Equal(t, api.ProblemBase+"needs-decision",
		e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", in, nil)).Type,
		"its terms are not agreed to")
	in.AcceptTerms = true
	for wrong, says := range map[string]string{"http://plain.example/directory": "https://",
		"https://127.0.0.1:1/directory": "refused", strings.TrimSuffix(in.Directory, "/directory") +
			"/terms": "directory"} {
		bad := in
		bad.Directory = wrong
		p := e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", bad, nil))
		assert.Equal(t, api.ProblemBase+"invalid-input", p.Type)
		assert.Contains(t, p.Detail, says)
	}
	bad := in
	bad.Root = ""
	assert.Contains(t, e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", bad, nil)).Detail, "certificate",
		"nobody trusts it")
	bad = in
	bad.Profile = "golden"
	assert.Contains(t, e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", bad, nil)).Detail, "classic, short")
	i.Authority.Set(func(s *authority.Settings) {
		s.ExternalKeys = map[string]string{"kid-7": "c2VjcmV0LXNlY3JldC1zZWNyZXQ"}
	})
	assert.Contains(t, e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", in, nil)).Detail, "external account")
	in.ExternalID, in.ExternalKey = "kid-7", "d3Jvbmc"
	assert.Contains(t, e2e.ProblemOf(t, i.Client.Post(ctx, "/authorities", in, nil)).Detail, "not signed with the key")
	in.ExternalKey = "c2VjcmV0LXNlY3JldC1zZWNyZXQ"
	var added api.Authority
	var list api.AuthorityList
	require.NoError(t, i.Client.Post(ctx, "/authorities", in, &added))
	i.Authority.Set(func(s *authority.Settings) { s.ExternalKeys = nil })
	assert.NotEmpty(t, added.Account)
	short := "short"
	e2e.Patch(t, "/authorities/second", api.AuthorityChange{Profile: &short, NewKey: true}, &added)
	assert.Equal(t, "short", added.Profile)
	e2e.Patch(t, "/authorities/second", api.AuthorityChange{NewKey: true}, &added) // with the key that was new just now
	out := e2e.Does(t, "authority", "change", "second", "--email", "letters@ternisland.example")
	assert.Contains(t, out, "authority second changed")
	p := e2e.RefusedAs(t, "invalid-input",
		i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/authorities/second",
			Body: api.AuthorityChange{Email: e2e.Pointer("nobody")}}, nil))
	assert.Contains(t, p.Detail, "no address of one person", "in the authority's words")
	p = e2e.RefusedAs(t, "invalid-input",
		i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/authorities/second",
			Body: api.AuthorityChange{Root: new(string)}}, nil))
	assert.Contains(t, p.Detail, "certificate", "it could not be asked any more")
	require.NoError(t, i.Client.Get(ctx, "/authorities", nil, &list))
	at := slices.IndexFunc(list.Authorities, func(a api.Authority) bool { return a.Name == "second" })
	require.GreaterOrEqual(t, at, 0)
	assert.Equal(t, "letters@ternisland.example", list.Authorities[at].Email)
	assert.True(t, list.Authorities[at].OwnRoot)
	require.NoError(t, i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/authorities/second"}, nil))
}

func TestCertificates(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	i.PublicDNS.Delegate("beacon.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
	account := e2e.Opened(t, api.OpenAccount{Domain: "beacon.example", Server: "skua", Plan: "sealed"})
	defer e2e.CloseAccount(t, account)
	_, err := shown(t, "skua", "beacon.example")
	if err != nil {
		assert.ErrorContains(t, err, "certificate", "self-signed from the first second")
	}

	defer func() {
		if t.Failed() {
			t.Logf("%+v", certificateOf(t, account.ID, "beacon.example"))
			t.Log(e2e.On(t, "skua", "tail -5 /var/log/lab/agent.log"))
			t.Log(e2e.EverythingIn(t, "orders"))
			t.Log(e2e.EverythingIn(t, "operations"))
			text, _ := os.ReadFile(i.LogFile())
			t.Log(string(text[max(0, len(text)-3000):]))
		}
	}()
	t.Run("it is ordered automatically", func(t *testing.T) {
		labtest.Eventually(t, func() bool { return issued(t, account.ID, "beacon.example") })
		c := certificateOf(t, account.ID, "beacon.example")
		assert.Equal(t, []string{"beacon.example", "www.beacon.example"}, c.Covered)
		assert.Equal(t, "ecdsa-p256", c.KeyType)
		assert.Contains(t, c.Issuer, "Stand-in")
		assert.True(t, c.RenewAt.After(time.Now()) && c.RenewAt.Before(*c.NotAfter))
		for _, name := range c.Covered {
			leaf, err := shown(t, "skua", name)
			require.NoError(t, err, name)
			assert.Equal(t, c.Serial, leaf.SerialNumber.Text(16))
		}
		assert.Empty(t, e2e.On(t, "skua", "ls -A /var/lib/victualler-challenges/.well-known/acme-challenge"),
			"no challenge is left")
		assert.Equal(t, "600\n600\n",
			e2e.On(t, "skua", "stat -c %a /etc/nginx/victualler/tls/"+account.SignInName+"/*"),
			"one certificate, readable for root alone")
		var page api.CertificatePage
		require.NoError(t, i.Client.Get(ctx, "/certificates", url.Values{"search": {"beacon"}}, &page))
		require.Len(t, page.Certificates, 1)
		assert.Equal(t, "valid", page.Certificates[0].State)
		assert.InDelta(t, 89, *page.Certificates[0].DaysLeft, 1)
	})

	t.Run("keys are nowhere to be read", func(t *testing.T) {
		for _, where := range []string{"log", "certificates", "orders", "authorities", "events", "operations",
			"operation_steps"} {
			assert.NotContains(t, e2e.EverythingIn(t, where), "PRIVATE KEY", where)
		}
	})

	t.Run("what would fail is told, and what to do", func(t *testing.T) {
		for _, n := range rehearsed(t, account.ID, "beacon.example") {
			assert.Equal(t, "would pass", n.Result, n.Reason)
		}
		caa := func(data string) int64 {
			changed, _ := e2e.OnZone(t, http.MethodPost, "/zones/beacon.example/records", api.NewRecord{Name: "@",
				Type: "CAA", Data: data})
			// what the resolver remembers is of before
			i.PublicDNS.Delegate("beacon.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
			return changed.Record.ID
		}
		gone := func(record int64) {
			e2e.OnZone(t, http.MethodDelete, "/zones/beacon.example/records/"+strconv.FormatInt(record, 10), nil)
			i.PublicDNS.Delegate("beacon.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		}
		forbidden := caa(`0 issue "other.test"`)
		for _, n := range rehearsed(t, account.ID, "beacon.example") {
			assert.Equal(t, "caa", n.Code)
			assert.Contains(t, n.Fix, `issue "authority.test"`)
		}
		p := e2e.ProblemOf(t, i.Client.Post(ctx, certificatePath(account.ID, "beacon.example")+"/order", nil, nil))
		assert.Contains(t, p.Detail, "other.test")
		gone(forbidden)

		aaaa, _ := e2e.OnZone(t, http.MethodPost, "/zones/beacon.example/records", api.NewRecord{Name: "www",
			Type: "AAAA", Data: "2001:db8::7"})
		i.PublicDNS.Delegate("beacon.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		seen := rehearsed(t, account.ID, "beacon.example")
		assert.Equal(t, "would pass", seen["beacon.example"].Result)
		assert.Equal(t, "elsewhere", seen["www.beacon.example"].Code)
		assert.Contains(t, seen["www.beacon.example"].Fix, "2001:db8::7")
		gone(aaaa.Record.ID)

		i.PublicDNS.Forget("beacon.example")
		assert.Equal(t, "no-address", rehearsed(t, account.ID, "beacon.example")["beacon.example"].Code)
		e2e.CertificateFailed(t, "beacon.example", 20, "")
		e2e.CertificateRenewed(t, "beacon.example", 0)
		// A round of the service may come between the two changes above, and count one more.
		labtest.Eventually(t, func() bool { return certificateOf(t, account.ID, "beacon.example").Failures >= 21 })
		next := time.Until(*certificateOf(t, account.ID, "beacon.example").NextTry)
		assert.Less(t, next, 61*time.Minute, "when it is put right, nobody waits for a day")
		assert.Greater(t, next, 50*time.Minute)
		e2e.CertificateRenewed(t, "beacon.example", 30*24*time.Hour)
		e2e.CertificateFailed(t, "beacon.example", 0, "")
		i.PublicDNS.Delegate("beacon.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
	})

	t.Run("all names below the domain, by DNS", func(t *testing.T) {
		names := []string{"beacon.example", "*.beacon.example"}
		e2e.Patch(t, certificatePath(account.ID, "beacon.example"), api.CertificateChange{Names: &names}, nil)
		labtest.Eventually(t, func() bool {
			c := certificateOf(t, account.ID, "beacon.example")
			return c.Operation == 0 && len(c.Covered) == 2 && c.Covered[1] == "*.beacon.example"
		})
		leaf, err := shown(t, "skua", "beacon.example")
		require.NoError(t, err)
		assert.NoError(t, leaf.VerifyHostname("any.beacon.example"))
		labtest.Eventually(t, func() bool {
			return e2e.Answers(t, "petrel", "_acme-challenge.beacon.example", "TXT") == "NXDOMAIN"
		}, "the challenge is left in the zone")
	})

	t.Run("a failure leaves what is in use as it is, and says why", func(t *testing.T) {
		before, err := shown(t, "skua", "beacon.example")
		require.NoError(t, err)
		i.Authority.Set(func(s *authority.Settings) { s.OrdersPerHour, s.RetryAfter = 1, time.Hour })
		o := orderNow(t, account.ID, "beacon.example")
		require.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "too many orders")
		c := certificateOf(t, account.ID, "beacon.example")
		assert.Equal(t, "failing", c.State)
		assert.Equal(t, "rateLimited", c.Code)
		assert.True(t, c.NextTry.After(time.Now()))
		p := e2e.ProblemOf(t, i.Client.Post(ctx, certificatePath(account.ID, "beacon.example")+"/order", nil, nil))
		assert.Contains(t, p.Detail, "asked too often")
		i.Authority.Set(func(s *authority.Settings) { s.OrdersPerHour, s.RetryAfter = 0, 0 })
		var list api.AuthorityList
		require.NoError(t, i.Client.Get(ctx, "/authorities", nil, &list))
		held := time.Until(*list.Authorities[slices.IndexFunc(list.Authorities, func(a api.Authority) bool {
			return a.Usual
		})].LimitedUntil)
		assert.Greater(t, held, time.Minute)
		assert.Less(t, held, 11*time.Minute, "others do not wait as long for what one site was told")
		e2e.AuthoritiesPatient(t, false)
		p = e2e.ProblemOf(t, i.Client.Post(ctx, certificatePath(account.ID, "beacon.example")+"/order", nil, nil))
		assert.Contains(t, p.Detail, "asked too often", "that site does")
		after, err := shown(t, "skua", "beacon.example")
		require.NoError(t, err)
		assert.True(t, before.Equal(after))
		e2e.AuthoritiesPatient(t, true)
	})

	t.Run("the service is killed while the authority issues", func(t *testing.T) {
		i.Authority.Set(func(s *authority.Settings) { s.Slow = 3 * time.Second })
		defer i.Authority.Set(func(s *authority.Settings) { s.Slow = 0 })
		orders := i.Authority.Orders()
		var started api.Started
		require.NoError(t, i.Client.Post(ctx, certificatePath(account.ID, "beacon.example")+"/order", nil, &started))
		labtest.Eventually(t, func() bool {
			var o api.Operation
			require.NoError(t, i.Client.Get(ctx, "/operations/"+strconv.FormatInt(started.Operation, 10), nil, &o))
			return len(o.Steps) > 0 && o.Steps[len(o.Steps)-1].Name == "issue"
		})
		i.KillService()
		require.NoError(t, i.StartService(ctx))
		o := e2e.Watched(t, started.Operation)
		assert.Equal(t, "done", o.State, o.Failure)
		assert.Equal(t, orders+1, i.Authority.Orders(), "nothing is ordered twice")
		leaf, err := shown(t, "skua", "beacon.example")
		require.NoError(t, err)
		assert.Equal(t, certificateOf(t, account.ID, "beacon.example").Serial, leaf.SerialNumber.Text(16))
	})

	t.Run("it is renewed when the authority wants it to be", func(t *testing.T) {
		before := certificateOf(t, account.ID, "beacon.example").Serial
		i.Authority.Set(func(s *authority.Settings) { s.Renew = true })
		e2e.AskWhenToRenew(t)
		labtest.Within(t, 90*time.Second, func() bool {
			c := certificateOf(t, account.ID, "beacon.example")
			return c.Serial != before && c.Operation == 0
		})
		i.Authority.Set(func(s *authority.Settings) { s.Renew = false })
	})

	t.Run("without an authority's", func(t *testing.T) {
		e2e.Patch(t, certificatePath(account.ID, "beacon.example"), api.CertificateChange{Mode: "self-signed"}, nil)
		labtest.Eventually(t, func() bool {
			_, err := shown(t, "skua", "beacon.example")
			return err != nil && strings.Contains(err.Error(), "certificate")
		})
		p := e2e.ProblemOf(t, i.Client.Post(ctx, certificatePath(account.ID, "beacon.example")+"/order", nil, nil))
		assert.Contains(t, p.Detail, "mode: automatic")
	})
}
