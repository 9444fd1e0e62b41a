package certificates

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/authority"
	"victualler/internal/standins/publicdns"
)

// TestReasonsOfFailure provokes each reason for which an authority issues nothing, and holds what
// the rehearsal says before against what the order says afterwards.
func TestReasonsOfFailure(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	skua, skua6 := i.Servers["skua"].Address.String(), lab.Address6(i.Servers["skua"].Address).String()
	account := e2e.Opened(t, api.OpenAccount{Domain: "breakers.example", Server: "skua", Plan: "sealed"})
	defer e2e.CloseAccount(t, account)
	path := certificatePath(account.ID, "breakers.example")
	e2e.OnZone(t, http.MethodPatch, "/zones/breakers.example", api.ZoneChange{Hosted: "elsewhere"})
	only := []string{"breakers.example"}
	e2e.Patch(t, path, api.CertificateChange{Names: &only}, nil)
	serve := func(text string) {
		t.Helper()
		require.NoError(t, i.PublicDNS.Serve("breakers.example", text))
	}
	// Each of these is made so and undone again. The authority's word is asked for by an order that
	// was not rehearsed: the trouble comes after.
	for _, f := range []struct {
		name, code, says string
		make, undo       func()
	}{
		{name: "no address", code: "no-address", says: "neither an A nor an AAAA", make: func() {
			serve("other A " + skua)
		}},
		{name: "an address that leads elsewhere", code: "elsewhere", says: "192.0.2.33", make: func() {
			serve("@ A 192.0.2.33")
		}},
		{name: "CAA of another authority", code: "caa", says: "other.test", make: func() {
			serve("@ A " + skua + "\n@ CAA 0 issue \"other.test\"")
		}},
		{name: "CAA of another account", code: "caa", says: "account", make: func() {
			serve("@ A " + skua + "\n@ CAA 0 issue \"authority.test; accounturi=https://authority.test/account/999\"")
		}},
		{name: "CAA of another method", code: "caa", says: "by dns-01", make: func() {
			serve("@ A " + skua + "\n@ CAA 0 issue \"authority.test; validationmethods=dns-01\"")
		}},
		{name: "a CAA record nobody knows", code: "caa", says: "critical", make: func() {
			serve("@ A " + skua + "\n@ CAA 128 strange \"x\"")
		}},
		{name: "the resolver does not answer", code: "", make: func() {
			i.PublicDNS.Fail(true)
		}, undo: func() { i.PublicDNS.Fail(false) }},
		{name: "signatures that do not hold", code: "dnssec", says: "signatures do not hold", make: func() {
			i.PublicDNS.Delegate("breakers.example", publicdns.Delegation{NameServers: []string{publicdns.Elsewhere},
				DS: []string{"1 13 2 " + strings.Repeat("ab", 32)}})
		}, undo: func() {
			i.PublicDNS.Delegate("breakers.example", publicdns.Delegation{NameServers: []string{publicdns.Elsewhere}})
		}},
		{name: "port 80 is shut", code: "unreachable", says: "port 80", make: func() {
			shut(t, true)
		}, undo: func() { shut(t, false) }},
		{name: "a password on the challenge's path", code: "answer", says: "password", make: func() {
			challengePath(t, "s#auth_basic off;#auth_basic harbour; auth_basic_user_file /etc/hostname;#")
		}, undo: func() { challengePath(t, "") }},
		{name: "a redirect of the challenge's path", code: "redirect", says: "redirects to", make: func() {
			challengePath(t, "s#try_files.*#return 301 http://192.0.2.44/;#")
		}, undo: func() { challengePath(t, "") }},
		{name: "something else at the challenge's path", code: "answer", says: "404", make: func() {
			challengePath(t, "s#try_files.*#return 404;#")
		}, undo: func() { challengePath(t, "") }},
	} {
		t.Run(f.name, func(t *testing.T) {
			serve("@ A " + skua + "\n@ AAAA " + skua6)
			require.Equal(t, "would pass", rehearsed(t, account.ID, "breakers.example")["breakers.example"].Result)
			f.make()
			undone := false
			undo := func() {
				if f.undo != nil && !undone {
					f.undo()
				}
				undone = true
			}
			defer undo()
			seen := rehearsed(t, account.ID, "breakers.example")["breakers.example"]
			assert.NotEqual(t, "would pass", seen.Result)
			if f.code != "" {
				assert.Equal(t, f.code, seen.Code, seen.Reason)
				assert.Contains(t, seen.Reason, f.says)
				assert.NotEmpty(t, seen.Fix)
				p := e2e.ProblemOf(t, i.Client.Post(ctx, path+"/order", nil, nil))
				assert.Contains(t, p.Detail, seen.Reason, "no authority is asked for what would fail")
			}
			undo()

			// The same, made after the rehearsal: the authority finds out.
			serve("@ A " + skua + "\n@ AAAA " + skua6)
			i.Authority.Set(func(s *authority.Settings) { s.Slow, s.Fresh = 1500*time.Millisecond, true })
			defer i.Authority.Set(func(s *authority.Settings) { s.Slow, s.Fresh = 0, false })
			before := certificateOf(t, account.ID, "breakers.example").Serial
			var started api.Started
			require.NoError(t, i.Client.Post(ctx, path+"/order", nil, &started))
			undone = false
			f.make()
			o := e2e.Watched(t, started.Operation)
			assert.Equal(t, "failed", o.State)
			assert.Contains(t, o.Failure, "could not prove breakers.example", "what the authority says")
			c := certificateOf(t, account.ID, "breakers.example")
			if f.code != "" {
				assert.Equal(t, f.code, c.Code, "and what it is: %s", c.Problem)
				assert.Contains(t, c.Problem, f.says)
			}
			assert.Equal(t, before, c.Serial, "what is in use stays")
		})
	}
}

// TestDoubtfulNames has names that one part of public DNS has right, and another has not.
func TestDoubtfulNames(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	account := certified(t, api.OpenAccount{Domain: "undertow.example"})

	t.Run("an IPv6 address that does not answer", func(t *testing.T) {
		require.NoError(t,
			i.PublicDNS.Serve("undertow.example", "@ A "+i.Servers["skua"].Address.String()+"\n@ AAAA 2001:db8::33\n"))
		seen := rehearsed(t, account.ID, "undertow.example")["undertow.example"]
		assert.Equal(t, "cannot know", seen.Result)
		assert.Equal(t, "elsewhere", seen.Code)
		assert.Contains(t, seen.Fix, "2001:db8::33")
		i.PublicDNS.Forget("undertow.example")
	})

	t.Run("a name server that does not answer", func(t *testing.T) {
		dead := lab.Address6(i.Servers["petrel"].Address).Next().Next()
		i.PublicDNS.Delegate("undertow.example", publicdns.Delegation{NameServers: []string{e2e.NS1,
			"ns9.undertow.example"}, Glue: map[string][]netip.Addr{"ns9.undertow.example": {dead}}})
		wanted := []string{"undertow.example", "*.undertow.example"}
		e2e.Patch(t, certificatePath(account.ID, "undertow.example"), api.CertificateChange{Names: &wanted}, nil)
		seen := rehearsed(t, account.ID, "undertow.example")["*.undertow.example"]
		assert.Equal(t, "record", seen.Code)
		assert.Contains(t, seen.Reason, "ns9.undertow.example")
		i.PublicDNS.Delegate("undertow.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		e2e.CertificateDue(t, "undertow.example")
		labtest.Eventually(t, func() bool { return len(certificateOf(t, account.ID, "undertow.example").Covered) == 2 })
	})

	t.Run("a suspended account goes on being certified", func(t *testing.T) {
		suspend := func(what string, body any) {
			var started api.Started
			require.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/%s", account.ID, what), body, &started))
			require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		}
		suspend("suspend", api.Suspend{Why: "unpaid"})
		require.Equal(t, "done", orderNow(t, account.ID, "undertow.example").State)
		suspend("resume", nil)
	})

	t.Run("one name that the authority does not see keeps no other from its certificate", func(t *testing.T) {
		all := []string{}
		e2e.Patch(t, certificatePath(account.ID, "undertow.example"), api.CertificateChange{Names: &all}, nil)
		e2e.CertificateLost(t, "undertow.example")
		i.Authority.Set(func(s *authority.Settings) { s.Fresh, s.Blind = true, []string{"www.undertow.example"} })
		defer i.Authority.Set(func(s *authority.Settings) { s.Fresh, s.Blind = false, nil })
		e2e.CertificateDue(t, "undertow.example")
		labtest.Eventually(t, func() bool { return certificateOf(t, account.ID, "undertow.example").Failures > 0 })
		assert.Contains(t, certificateOf(t, account.ID, "undertow.example").Problem, "www.undertow.example")
		e2e.CertificateDue(t, "undertow.example")
		defer func() {
			if t.Failed() {
				t.Log(certificateOf(t, account.ID, "undertow.example"), e2e.On(t, "skua", "true"),
					strings.Join(grep(e2e.EverythingIn(t, "log"), "WARN"), "\n"))
			}
		}()
		labtest.Eventually(t, func() bool { return issued(t, account.ID, "undertow.example") })
		c := certificateOf(t, account.ID, "undertow.example")
		assert.Equal(t, []string{"undertow.example"}, c.Covered)
		require.Len(t, c.LeftOut, 1)
	})

	t.Run("a place from which the authority looks is shut out", func(t *testing.T) {
		place := i.Lab.Places()[1]
		wanted := []string{"undertow.example"} // which is proved over HTTP
		e2e.Patch(t, certificatePath(account.ID, "undertow.example"), api.CertificateChange{Names: &wanted}, nil)
		e2e.On(t, "skua", fmt.Sprintf("ip route add unreachable %s/32; ip -6 route add unreachable %s/128", place,
			lab.Address6(place)))
		i.Authority.Set(func(s *authority.Settings) { s.Fresh = true })
		o := orderNow(t, account.ID, "undertow.example")
		e2e.On(t, "skua", fmt.Sprintf("ip route del unreachable %s/32; ip -6 route del unreachable %s/128", place,
			lab.Address6(place)))
		i.Authority.Set(func(s *authority.Settings) { s.Fresh = false })
		assert.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "asked from")
		assert.Contains(t, o.Failure, place.String())
	})
}

// shut has skua's web server listen at another port than 80, or at that one again.
func shut(t *testing.T, yes bool) {
	t.Helper()
	from, to := "80", "8088"
	if !yes {
		from, to = to, from
	}
	e2e.On(t, "skua",
		fmt.Sprintf(
			`grep -rlE 'listen (\[::\]:)?%s\b' /etc/nginx | xargs sed -i -E 's/listen (\[::\]:)?%s\b/listen \1%s/' && nginx -t -q && nginx -s reload`,
			from, from, to))
	time.Sleep(300 * time.Millisecond)
}

// challengePath has skua's web server do something else on the path of challenges, as a hand-made
// file would, by an expression of sed; empty undoes it.
func challengePath(t *testing.T, expression string) {
	t.Helper()
	e2e.On(t, "skua", "f=/etc/nginx/victualler/parts/challenge.conf; cp -n $f /root/challenge.kept; cp "+
		"/root/challenge.kept $f; sed -i '"+expression+"' $f && nginx -t -q && nginx -s reload")
	time.Sleep(300 * time.Millisecond)
}

// TestRenewalUnderFault keeps a site alive through what authorities and clocks do.
func TestRenewalUnderFault(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	ctx := context.Background()
	sink := e2e.Mailing(t)
	i.Authority.Set(func(s *authority.Settings) {
		s.Lifetimes = map[string]time.Duration{"classic": 90 * 24 * time.Hour, "short": 6 * 24 * time.Hour,
			"minute": time.Minute}
	})
	defer i.Authority.Set(func(s *authority.Settings) {
		s.Lifetimes = map[string]time.Duration{"classic": 90 * 24 * time.Hour, "short": 6 * 24 * time.Hour}
	})
	require.NoError(t,
		i.Client.Post(ctx, "/authorities", api.NewAuthority{Name: "quick", Directory: i.Authority.Directory(),
			Root: i.Authority.Root(), AcceptTerms: true, Profile: "minute"}, nil))
	account := certified(t, api.OpenAccount{Domain: "shoals.example", Customer: "Shoal Stores", NewCustomer: true,
		CustomerEmail: "keeper@shoals.example"})

	t.Run("the authority is down for the whole window, and comes back", func(t *testing.T) {
		quick := "quick"
		e2e.Patch(t, certificatePath(account.ID, "shoals.example"), api.CertificateChange{Authority: &quick}, nil)
		require.Equal(t, "done", orderNow(t, account.ID, "shoals.example").State)
		labtest.Eventually(t, func() bool { // the change of the authority has ordered one, too
			return time.Until(*certificateOf(t, account.ID, "shoals.example").NotAfter) < time.Minute
		})
		c := certificateOf(t, account.ID, "shoals.example")
		i.Authority.Set(func(s *authority.Settings) { s.Errors = 1 << 20 })
		labtest.Within(t, 2*time.Minute, func() bool {
			return certificateOf(t, account.ID, "shoals.example").State == "expired"
		})
		later := certificateOf(t, account.ID, "shoals.example")
		assert.Equal(t, c.Serial, later.Serial, "a renewal that does not come about does not touch what is in use")
		assert.NotZero(t, later.Operation, "it is being tried")
		i.Authority.Set(func(s *authority.Settings) { s.Errors = 0 })
		labtest.Within(t, 2*time.Minute, func() bool {
			now := certificateOf(t, account.ID, "shoals.example")
			return now.Serial != c.Serial && now.State == "valid" && now.Operation == 0
		})
		_, err := shown(t, "skua", "shoals.example")
		require.NoError(t, err)
		usual := ""
		e2e.Patch(t, certificatePath(account.ID, "shoals.example"), api.CertificateChange{Authority: &usual}, nil)
	})

	t.Run("the authority has forgotten our account", func(t *testing.T) {
		i.Authority.Forget()
		require.Equal(t, "done", orderNow(t, account.ID, "shoals.example").State)
		var page api.EventPage
		require.NoError(t, i.Client.Get(ctx, "/events", url.Values{"action": {"authority.register"}}, &page))
		require.NotEmpty(t, page.Events)
		assert.Equal(t, "victuallerd", page.Events[0].Actor)
		require.Equal(t, "done", orderNow(t, account.ID, "shoals.example").State, "once is enough")
		require.NoError(t, i.Client.Get(ctx, "/events", url.Values{"action": {"authority.register"}}, &page))
		assert.Len(t, page.Events, 1)
	})

	t.Run("an authority that comes to no end", func(t *testing.T) {
		i.Authority.Set(func(s *authority.Settings) { s.Slow = time.Hour })
		defer i.Authority.Set(func(s *authority.Settings) { s.Slow = 0 })
		e2e.OrdersBegin(t, 25*time.Hour)
		o := orderNow(t, account.ID, "shoals.example")
		assert.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "come to no end within 24 hours")
	})

	t.Run("people are told when a certificate is about to end", func(t *testing.T) {
		require.Equal(t, "done", orderNow(t, account.ID, "shoals.example").State)
		e2e.CertificateEnds(t, "shoals.example", 6*24*time.Hour)
		e2e.CertificateRenewed(t, "shoals.example", 5*24*time.Hour)
		e2e.CertificateFailed(t, "shoals.example", 3, "the harbour is shut")
		require.NoError(t,
			i.Client.Post(ctx, "/people", api.NewPerson{Name: "watchman", Duty: "all",
				Email: "watch@ternisland.example", Activation: "password", Password: e2e.Password}, nil))
		defer func() {
			assert.NoError(t, i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/people/watchman"}, nil))
		}()
		e2e.NotifyNow(t)
		m := e2e.Mailed(t, sink, "keeper@shoals.example")
		assert.Contains(t, m.Subject, "shoals.example ends on")
		assert.Contains(t, m.Text, "the harbour is shut")
		m = e2e.Mailed(t, sink, "watch@ternisland.example")
		assert.Contains(t, m.Text, "shoals.example")
		assert.Contains(t, e2e.EverythingIn(t, "events"), "certificate.ends")
		events := strings.Count(e2e.EverythingIn(t, "events"), "certificate.ends")
		e2e.NotifyNow(t)
		assert.Equal(t, events, strings.Count(e2e.EverythingIn(t, "events"), "certificate.ends"),
			"nobody is told twice")
	})
}

// TestManyDueAtOnce has many sites ask for their certificates in the same moment, half of them on
// each of two servers. How long that takes is measured by the benchmarks.
func TestManyDueAtOnce(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	const many, inAccount = 50, 25
	ctx := context.Background()
	// The plan gets certificates when all sites are there.
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "shelf",
			Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1),
				plans.Subdomains: plans.Of(inAccount), plans.PHPWorkers: plans.Of(2)},
			Features: plans.Features{"dns": true}}, nil))
	var accounts []api.Account
	defer func() {
		for _, a := range accounts {
			e2e.CloseAccount(t, a)
		}
	}()
	for n := range many / inAccount {
		server := []string{"skua", "fulmar"}[n%2]
		name := fmt.Sprintf("shelf%02d.example", n)
		a := i.Servers[server].Address
		require.NoError(t,
			i.PublicDNS.Serve(name, fmt.Sprintf("@ A %s\n* A %s\n* AAAA %s\n@ AAAA %s\n", a, a, lab.Address6(a),
				lab.Address6(a))))
		opening, _ := e2e.Open(t, api.OpenAccount{Domain: name, Server: server, Plan: "shelf"})
		accounts = append(accounts, opening.Account)
	}
	errs := make([]error, len(accounts))
	var group sync.WaitGroup
	for n, a := range accounts {
		group.Go(func() {
			for k := 1; k < inAccount && errs[n] == nil; k++ {
				errs[n] = i.Client.Post(ctx, e2e.Domains(a.ID),
					api.NewDomain{Domain: fmt.Sprintf("s%02d.shelf%02d.example", k, n),
						Serving: api.Serving{ServedAs: "redirect", Target: "https://beacon.example"}}, nil)
			}
		})
	}
	group.Wait()
	require.NoError(t, errors.Join(errs...))
	e2e.Settled(t)
	e2e.Patch(t, "/plans/shelf", api.PlanChange{Features: plans.Features{"certificates": true}}, nil)
	e2e.Settled(t)
	for _, a := range accounts {
		for k := range inAccount {
			name := fmt.Sprintf("s%02d.%s", k, a.Domain)
			if k == 0 {
				name = a.Domain
			}
			e2e.Patch(t, certificatePath(a.ID, name), api.CertificateChange{Names: &[]string{name}}, nil)
		}
	}
	labtest.Within(t, 3*time.Minute, func() bool {
		var list api.CertificatePage
		return i.Client.Get(ctx, "/certificates", url.Values{"search": {"shelf"}, "state": {"valid"}, "limit": {"500"}},
			&list) == nil && len(list.Certificates) == many
	})
	for _, name := range []string{"shelf00.example", "s07.shelf01.example", "s24.shelf01.example"} {
		label := map[byte]string{'0': "skua", '1': "fulmar"}[name[strings.Index(name, "shelf")+6]]
		_, err := shown(t, label, name)
		assert.NoError(t, err, name)
	}
}

// TestClocks has the clocks of the authority and of this machine differ by two hours, either way.
func TestClocks(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	account := certified(t, api.OpenAccount{Domain: "noonmark.example"})
	defer i.Authority.Set(func(s *authority.Settings) { s.Ahead = 0 })
	for _, ahead := range []time.Duration{2 * time.Hour, -2 * time.Hour} {
		i.Authority.Set(func(s *authority.Settings) { s.Ahead = ahead })
		o := orderNow(t, account.ID, "noonmark.example")
		require.Equal(t, "done", o.State, o.Failure)
		c := certificateOf(t, account.ID, "noonmark.example")
		leaf := anyShown(t, "skua", "noonmark.example")
		assert.Equal(t, c.Serial, leaf.SerialNumber.Text(16), "it is shown, as visitors' clocks may be right")
		assert.WithinDuration(t, time.Now().Add(ahead), leaf.NotBefore, 90*time.Minute)
		assert.True(t, c.RenewAt.After(time.Now()) && c.RenewAt.Before(*c.NotAfter))
	}
}

// TestConsoleCertificate has a service serve with the certificate of a site that it hosts.
func TestConsoleCertificate(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	account := certified(t, api.OpenAccount{Domain: "wheelhouse.example"})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	listener.Close()
	daemon := i.Daemon("-listen", address, "-tls-site", "wheelhouse.example", "run")
	var log bytes.Buffer
	daemon.Stdout, daemon.Stderr = &log, &log
	require.NoError(t, daemon.Start())
	defer stop(t, daemon, &log)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(i.Authority.Root()))
	serial := func() string {
		conn, err := tls.Dial("tcp", address, &tls.Config{ServerName: "wheelhouse.example", RootCAs: pool})
		if err != nil {
			return err.Error()
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Text(16)
	}
	labtest.Eventually(t, func() bool { return serial() == certificateOf(t, account.ID, "wheelhouse.example").Serial })
	require.Equal(t, "done", orderNow(t, account.ID, "wheelhouse.example").State)
	labtest.Eventually(t, func() bool {
		return serial() == certificateOf(t, account.ID, "wheelhouse.example").Serial
	}, "the next one is taken up without a start")
}

func stop(t *testing.T, cmd *exec.Cmd, log *bytes.Buffer) {
	t.Helper()
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	if err := cmd.Wait(); err != nil {
		t.Log(log.String())
	}
}

func grep(text, part string) (lines []string) {
	for line := range strings.Lines(text) {
		if strings.Contains(line, part) {
			lines = append(lines, line)
		}
	}
	return lines
}
