package agent_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/zones"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// nameServer starts a server and joins its agent.
func nameServer(t *testing.T, l *lab.Lab, authority *agentlink.Authority, name string, host byte) (*lab.Server,
	*agentlink.Client) {
	t.Helper()
	ctx := context.Background()
	s := labtest.Server(t, l, lab.ServerOptions{Name: name, Host: host, HomeSize: 128 << 20})
	address := net.JoinHostPort(s.Address.String(), fmt.Sprint(agentlink.DefaultPort))
	secret := agentlink.NewJoinSecret(authority.Certificate)
	_, err := s.Exec(ctx, lab.AgentPath, "join", secret.String())
	require.NoError(t, err)
	labtest.Eventually(t, func() bool { return authority.Enrol(ctx, address, secret, int64(host), time.Now()) == nil })
	c := agentlink.NewDialer(authority, time.Now).Agent(int64(host), address)
	labtest.Eventually(t, func() bool { _, err := c.Status(ctx); return err == nil })
	return s, c
}

// resolved asks one name server and returns the data of the answer, or
// the code where there is none.
func resolved(t *testing.T, server netip.Addr, name, kind string) string {
	t.Helper()
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	m.SetEdns0(4096, true)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	answer, err := dns.ExchangeContext(ctx, m, netip.AddrPortFrom(server, 53).String())
	if err != nil {
		return err.Error()
	}
	var data []string
	signed := ""
	for _, rr := range answer.Answer {
		if rr.Header().Rrtype == dns.TypeRRSIG {
			signed = " signed"
		} else {
			data = append(data, strings.TrimPrefix(rr.String(), rr.Header().String()))
		}
	}
	if len(data) == 0 {
		return dns.RcodeToString[answer.Rcode]
	}
	slices.Sort(data)
	return strings.Join(data, ", ") + signed
}

func TestDNSServer(t *testing.T) {
	ctx := context.Background()
	l := labtest.Lab(t, "name")
	authority, err := agentlink.NewAuthority(time.Now())
	require.NoError(t, err)
	first, one := nameServer(t, l, authority, "petrel", 23)
	second, two := nameServer(t, l, authority, "fulmar", 22)

	zone := func(name string, records ...zones.Record) manifest.Zone {
		return manifest.Zone{Name: name, NameServers: []string{"ns1.ternisland.example", "ns2.ternisland.example"},
			Records: records}
	}
	record := func(name string, kind zones.Type, data string) zones.Record {
		r, _, err := zones.Parse("ferries.example", zones.Typed{Name: name, Type: string(kind), Data: data})
		require.NoError(t, err)
		return r
	}
	m := manifest.Manifest{AccountID: 7, SignInName: "ferries", Revision: 1, Wanted: manifest.Present, Elsewhere: true}
	apply := func(zs ...manifest.Zone) agentlink.Receipt {
		t.Helper()
		m.Revision++
		m.Zones = zs
		r, err := one.Apply(ctx, m, func(agentlink.Step) {})
		require.NoError(t, err)
		return r
	}

	r := apply(zone("ferries.example"))
	require.NotNil(t, r.Failure, "a server that is no name server serves no zone")
	assert.Contains(t, r.Failure.Message, "has not been told")

	key := base64.StdEncoding.EncodeToString([]byte("0123456789abcdef0123456789abcdef"))
	require.Error(t,
		one.ApplyServer(ctx, manifest.Server{DNS: &manifest.DNSServer{Primary: true, Key: "short"}}))
	peers := func(s *lab.Server) []manifest.Peer {
		return []manifest.Peer{{Label: s.Name, Addresses: []netip.Addr{s.Address, lab.Address6(s.Address)}}}
	}
	primary := manifest.Server{DNS: &manifest.DNSServer{Primary: true, Key: key, Peers: peers(second)}}
	require.NoError(t, one.ApplyServer(ctx, primary))
	require.NoError(t,
		two.ApplyServer(ctx, manifest.Server{DNS: &manifest.DNSServer{Key: key, Peers: peers(first)}}))
	sweep, err := one.Sweep(ctx)
	require.NoError(t, err)
	assert.Equal(t, primary.Digest(), sweep.Server)
	assert.Empty(t, sweep.Strays)

	www := record("www", zones.A, "10.0.0.7")
	odd := record("odd", zones.TXT, `semicolons; "quotes" \ and `+strings.Repeat("length ", 60))
	long := zone("ferries.example", www, odd, record("@", zones.MX, "10 mail"),
		record("mail", zones.AAAA, "2001:db8::7"), record("_443._tcp", zones.TLSA, "3 1 1 "+strings.Repeat("AB", 32)),
		record("@", zones.HTTPS, "1 . alpn=h2 ipv4hint=192.0.2.1"), record("@", zones.CAA, "0 issue authority.example"),
		record("*", zones.CNAME, "www"), record("_sip._tcp", zones.SRV, "0 5 5061 mail"),
		record("@", zones.TXT, "v=spf1 -all"))
	r = apply(long)
	require.Nil(t, r.Failure)
	followed := time.Now()
	assert.Contains(t, strings.Join(r.Verified, "; "), "answers for ferries.example, fulmar too")
	for _, s := range []netip.Addr{first.Address, second.Address, lab.Address6(first.Address),
		lab.Address6(second.Address)} {
		assert.Equal(t, "10.0.0.7", resolved(t, s, "www.ferries.example", "A"), s)
		assert.Equal(t, "ns1.ternisland.example., ns2.ternisland.example.", resolved(t, s, "ferries.example", "NS"))
		assert.Contains(t, resolved(t, s, "odd.ferries.example", "TXT"), `semicolons; \"quotes\" \\ and length`)
	}
	t.Logf("both answer %d ms after the receipt", time.Since(followed).Milliseconds())
	r = apply(long)
	assert.False(t, r.Changed, "the same again changes nothing")

	t.Run("a record more", func(t *testing.T) {
		before := resolved(t, second.Address, "ferries.example", "SOA")
		more := long
		more.Records = append(slices.Clone(long.Records), record("www", zones.A, "10.0.0.8"))
		r := apply(more)
		require.Nil(t, r.Failure)
		assert.True(t, r.Changed)
		assert.Equal(t, "10.0.0.7, 10.0.0.8", resolved(t, second.Address, "www.ferries.example", "A"))
		assert.NotEqual(t, before, resolved(t, second.Address, "ferries.example", "SOA"))
		more.Records = slices.Clone(more.Records)
		for i := range more.Records {
			if more.Records[i].Name == "www" {
				more.Records[i].TTL = 120
			}
		}
		require.Nil(t, apply(more).Failure, "another time to live for all of a set")
		require.Nil(t, apply(long).Failure)
		assert.Equal(t, "10.0.0.7", resolved(t, second.Address, "www.ferries.example", "A"))
	})

	t.Run("changed by hand", func(t *testing.T) {
		for _, command := range []string{"zone-begin ferries.example", "zone-set ferries.example evil 60 A 192.0.2.66",
			"zone-unset ferries.example www A", "zone-commit ferries.example"} {
			_, err := first.Exec(ctx, append([]string{"knotc"}, strings.Fields(command)...)...)
			require.NoError(t, err)
		}
		sweep, err := one.Sweep(ctx)
		require.NoError(t, err)
		require.Len(t, sweep.Accounts[0].Drift, 1)
		assert.Contains(t, sweep.Accounts[0].Drift[0].Diff, "-evil.ferries.example. 60 A 192.0.2.66")
		assert.Contains(t, sweep.Accounts[0].Drift[0].Diff, "+www.ferries.example. 3600 A 10.0.0.7")
		require.Nil(t, apply(long).Failure)
		assert.Equal(t, "10.0.0.7 www.ferries.example.",
			strings.ReplaceAll(resolved(t, second.Address, "evil.ferries.example", "A"), ",", ""),
			"the wildcard answers again")
		sweep, err = one.Sweep(ctx)
		require.NoError(t, err)
		assert.Empty(t, sweep.Accounts[0].Drift)
	})

	t.Run("signed, and no longer", func(t *testing.T) {
		signed := long
		signed.Signed = true
		start := time.Now()
		r := apply(signed)
		require.Nil(t, r.Failure)
		labtest.Eventually(t, func() bool {
			return resolved(t, second.Address, "www.ferries.example", "A") == "10.0.0.7 signed"
		})
		t.Logf("signed on the secondary within %d ms", time.Since(start).Milliseconds())
		assert.Contains(t, resolved(t, second.Address, "ferries.example", "DNSKEY"), "257 3 13")
		assert.Contains(t, resolved(t, second.Address, "ferries.example", "CDS"), "13 2")
		sweep, err := one.Sweep(ctx)
		require.NoError(t, err)
		assert.Empty(t, sweep.Accounts[0].Drift, "what signing adds is no difference")
		require.Nil(t, apply(long).Failure)
		labtest.Eventually(t, func() bool {
			return resolved(t, second.Address, "www.ferries.example", "A") == "10.0.0.7"
		})
		assert.Equal(t, "NOERROR", resolved(t, second.Address, "ferries.example", "DNSKEY"))
	})

	t.Run("the primary is dead", func(t *testing.T) {
		first.Kill()
		assert.Equal(t, "10.0.0.7", resolved(t, second.Address, "www.ferries.example", "A"))
		second.Kill() // what it knows, it has kept
		require.NoError(t, second.Start(ctx))
		labtest.Eventually(t, func() bool {
			return resolved(t, second.Address, "www.ferries.example", "A") == "10.0.0.7"
		})
		require.NoError(t, first.Start(ctx))
		labtest.Eventually(t, func() bool { _, err := one.Status(ctx); return err == nil })
		r := apply(long, zone("second.example", zones.Record{Name: "@", Type: zones.A, TTL: 300, Data: "10.0.0.9"}))
		require.Nil(t, r.Failure)
		labtest.Eventually(t, func() bool { return resolved(t, second.Address, "second.example", "A") == "10.0.0.9" })
	})

	t.Run("a zone of an account goes, and then all", func(t *testing.T) {
		require.Nil(t, apply(long).Failure)
		assert.Equal(t, "REFUSED", resolved(t, first.Address, "second.example", "A"))
		labtest.Eventually(t, func() bool { return resolved(t, second.Address, "second.example", "A") == "REFUSED" })
		m.Wanted = manifest.Absent
		r := apply()
		require.Nil(t, r.Failure)
		assert.Contains(t, strings.Join(r.Verified, "; "), "no longer answers for ferries.example")
		assert.Equal(t, "REFUSED", resolved(t, first.Address, "www.ferries.example", "A"))
		labtest.Eventually(t, func() bool {
			return resolved(t, second.Address, "www.ferries.example", "A") == "REFUSED"
		})
		for _, s := range []*lab.Server{first, second} {
			labtest.Eventually(t, func() bool {
				out, err := s.Exec(ctx, "kjournalprint", "-z", "/var/lib/knot/journal")
				require.NoError(t, err)
				return !strings.Contains(out, "ferries.example")
			}, "nothing of it is kept on "+s.Name)
		}
	})

	t.Run("what is admitted, a name server takes", func(t *testing.T) {
		m := manifest.Manifest{AccountID: 8, SignInName: "fuzz", Wanted: manifest.Present, Elsewhere: true}
		kinds := rapid.SampledFrom(zones.Types)
		label := rapid.OneOf(rapid.SampledFrom([]string{"@", "www", "*", "mail", "*.www", "_sip._tcp", "a.b.c", "møwe",
			"_443._tcp", "crew", "x.crew"}), rapid.StringMatching(`[a-z0-9_*.-]{1,20}`))
		data := rapid.OneOf(rapid.SampledFrom([]string{"10.1.2.3", "::1", "2001:db8::1", "www", "mail.crew",
			"pages.provider.test.", "10 mail", "0 .", "0 5 5061 sip", "0 issue authority.example",
			"128 iodef \"mailto:a@b.example\"", "3 1 1 " + strings.Repeat("0a", 32),
			"4 2 " + strings.Repeat("0b", 32), "1 . alpn=h2,h3 port=8443", "0 www",
			"2 pool mandatory=alpn,port alpn=h2 no-default-alpn port=1 ipv6hint=::2"}),
			rapid.StringMatching(`[ -~]{1,60}`),
			rapid.StringMatching(`"[ !#-~]{0,300}"`),
			rapid.StringMatching(`[0-9]{1,5} [0-9]{1,5} [0-9]{1,5} [a-z.]{1,20}`),
			rapid.StringMatching(`[0-9]{1,3} [0-9] [0-2] [0-9a-f]{2,130}`))
		taken := 0
		rapid.Check(t, func(t *rapid.T) {
			var list []zones.Record
			draft := zones.NewDraft("ferries.example", nil, nil)
			for range 40 {
				r, _, err := zones.Parse("ferries.example", zones.Typed{Name: label.Draw(t, "name"),
					Type: string(kinds.Draw(t, "type").Type), Data: data.Draw(t, "data"),
					TTL: rapid.SampledFrom([]int64{0, 60, 604800}).Draw(t, "ttl")})
				if err == nil && draft.Admit(r) == nil {
					draft.Add(r)
					list = append(list, r)
				}
			}
			taken += len(list)
			m.Revision++
			m.Zones = []manifest.Zone{zone("ferries.example", list...)}
			r, err := one.Apply(ctx, m, func(agentlink.Step) {})
			if err != nil || r.Failure != nil {
				t.Fatalf("%v %+v\n%s", err, r.Failure, zones.Write("ferries.example", list))
			}
			sweep, err := one.Sweep(ctx)
			if err != nil || slices.ContainsFunc(sweep.Accounts, func(s agentlink.AccountState) bool {
				return len(s.Drift) > 0
			}) {
				t.Fatalf("%v %+v", err, sweep)
			}
			soa, ns := zones.Authority("ferries.example", m.Zones[0].NameServers, 1)
			cmd := first.Command(ctx, "kzonecheck", "-o", "ferries.example", "-")
			cmd.Stdin = strings.NewReader(zones.Write("ferries.example", list) + soa.String() + "\n" + ns[0].String() +
				"\n")
			// A name server below a delegation may get its address later.
			if out, err := cmd.CombinedOutput(); err != nil &&
				strings.Count(string(out), "\n[")+strings.Count(string(out)[:1], "[") != strings.Count(string(out),
					"] missing glue record") {
				t.Fatalf("kzonecheck: %s\n%s", out, zones.Write("ferries.example", list))
			}
		})
		t.Logf("%d records taken", taken)
		m.Revision++
		m.Wanted, m.Zones = manifest.Absent, nil
		r, err := one.Apply(ctx, m, func(agentlink.Step) {})
		require.NoError(t, err)
		require.Nil(t, r.Failure)
	})
}
