package zones

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

const zone = "ferries.example"

func TestRecordsAreRead(t *testing.T) {
	long := strings.Repeat("v", 300)
	for _, c := range []struct {
		in   Typed
		want string
		told string
	}{
		{Typed{Name: "", Type: "a", Data: " 192.0.2.7 "}, "@ 3600 IN A 192.0.2.7", ""},
		{Typed{Name: "www.Ferries.example", Type: "A", Data: "192.0.2.7", TTL: 300}, "www 300 IN A 192.0.2.7",
			"whole name"},
		{Typed{Name: "www.ferries.example.", Type: "AAAA", Data: "2001:DB8:0::7"}, "www 3600 IN AAAA 2001:db8::7", ""},
		{Typed{Name: "møwe", Type: "A", Data: "192.0.2.7"}, "xn--mwe-0na 3600 IN A 192.0.2.7", ""},
		{Typed{Name: "*", Type: "CNAME", Data: "www"}, "* 3600 IN CNAME www.ferries.example.",
			"taken for www.ferries.example"},
		{Typed{Name: "shop", Type: "CNAME", Data: "ferries.example"}, "shop 3600 IN CNAME ferries.example.",
			"whole name"},
		{Typed{Name: "shop", Type: "CNAME", Data: "pages.provider.test."}, "shop 3600 IN CNAME pages.provider.test.",
			""},
		{Typed{Name: "@", Type: "MX", Data: "mail"}, "@ 3600 IN MX 10 mail.ferries.example.", "preference 10"},
		{Typed{Name: "@", Type: "MX", Data: "0 ."}, "@ 3600 IN MX 0 .", ""},
		{Typed{Name: "@", Type: "TXT", Data: `v=spf1 "quoted" \ -all`}, `@ 3600 IN TXT "v=spf1 \"quoted\" \\ -all"`,
			""},
		{Typed{Name: "@", Type: "TXT", Data: `"one" "t\"wo\009"`}, `@ 3600 IN TXT "one" "t\"wo\009"`, ""},
		{Typed{Name: "@", Type: "TXT", Data: "søv"}, `@ 3600 IN TXT "s\195\184v"`, ""},
		{Typed{Name: "key._domainkey", Type: "TXT", Data: long}, `key._domainkey 3600 IN TXT "` + long[:255] + `" "` +
			long[255:] + `"`, "split"},
		{Typed{Name: "_sip._tcp", Type: "SRV", Data: "0 5 5061 sip"},
			"_sip._tcp 3600 IN SRV 0 5 5061 sip.ferries.example.", "taken for"},
		{Typed{Name: "@", Type: "CAA", Data: `0 ISSUE authority.example`}, `@ 3600 IN CAA 0 issue "authority.example"`,
			""},
		{Typed{Name: "_443._tcp", Type: "TLSA", Data: "3 1 1 " + strings.Repeat("AB ", 32)},
			"_443._tcp 3600 IN TLSA 3 1 1 " + strings.Repeat("ab", 32), ""},
		{Typed{Name: "host", Type: "SSHFP", Data: "4 2 " + strings.Repeat("0f", 32)}, "host 3600 IN SSHFP 4 2 " +
			strings.Repeat("0f", 32), ""},
		{Typed{Name: "@", Type: "HTTPS", Data: "1 . alpn=h2,http/1.1 ipv4hint=192.0.2.7"},
			"@ 3600 IN HTTPS 1 . alpn=h2,http/1.1 ipv4hint=192.0.2.7", ""},
		{Typed{Name: "crew", Type: "NS", Data: "ns1.elsewhere.test."}, "crew 3600 IN NS ns1.elsewhere.test.", ""},
		{Typed{Name: "odd", Type: "CNAME", Data: "a.b"}, "odd 3600 IN CNAME a.b.ferries.example.",
			"taken for a.b.ferries.example"},
	} {
		r, corrections, err := Parse(zone, c.in)
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, r.String())
		if c.told == "" {
			assert.Empty(t, corrections, c.in)
		} else {
			assert.Contains(t, language.Join(corrections, "; ").String(), c.told, c.in)
		}
	}
}

func TestRecordsAreRefused(t *testing.T) {
	for _, c := range []struct{ name, kind, data, want string }{
		{"@", "A", "2001:db8::1", "AAAA"}, {"@", "AAAA", "192.0.2.1", "the type for it is A"},
		{"@", "A", "192.0.2", "no IPv4"}, {"@", "AAAA", "::ffff:192.0.2.1", "form of IPv6"},
		{"@", "AAAA", "fe80::1%eth0", "no IPv6"},
		{"@", "CNAME", "other.test.", "cannot be another name"}, {"@", "NS", "ns.other.test.", "kept by the service"},
		{"x", "SOA", "y", "no type"}, {"x", "A", "", "missing"}, {"x", "TXT", "a\nb", "one line"},
		{"a..b", "A", "192.0.2.1", "empty part"}, {"a b", "A", "192.0.2.1", "character"},
		{"-a", "A", "192.0.2.1", "hyphen"}, {"_a", "A", "192.0.2.1", "underscore"},
		{"a.*", "A", "192.0.2.1", "character"},
		{"www.other.example.", "A", "192.0.2.1", "not below"},
		{strings.Repeat("a", 64), "A", "192.0.2.1", "at most 63"},
		{strings.Repeat("a.", 120) + "a", "A", "192.0.2.1", "253"},
		{"x", "MX", "10 192.0.2.1", "is an address"}, {"x", "MX", "70000 mail", "0 to 65535"},
		{"x", "MX", "ten mail", "number"}, {"x", "CNAME", "a b", "without blanks"}, {"x", "CNAME", "*.b", "cannot be"},
		{"x", "SRV", "0 5 sip", "PRIORITY"}, {"x", "CAA", "0 iss-ue x", "tag"},
		{"x", "CAA", "0 issue \"x", "quotation"}, {"x", "TLSA", "3 1 1 abcd", "it has 32"},
		{"x", "TLSA", "4 1 1 ab", "0 to 3"}, {"x", "SSHFP", "4 2 xyz", "hexadecimal"},
		{"x", "TXT", `"a" b`, "another one"}, {"x", "TXT", `"a`, "not closed"}, {"x", "TXT", `"\999"`, "no octet"},
		{"x", "HTTPS", "0 y.test. alpn=h2", "no parameters"}, {"x", "HTTPS", "1 . ech=abc", "no parameter"},
		{"x", "HTTPS", "1 . port=x", "port"}, {"x", "HTTPS", "1 . no-default-alpn", "alpn beside"},
		{"x", "HTTPS", "1 . ipv4hint=::1", "no address"}, {"x", "HTTPS", "1 . alpn=h2 alpn=h3", "twice"},
		{"x", "HTTPS", "1 . mandatory=port,mandatory", "mandatory"},
	} {
		_, _, err := Parse(zone, Typed{Name: c.name, Type: c.kind, Data: c.data})
		require.Error(t, err, "%+v", c)
		assert.True(t, refusal.Is(err, refusal.InvalidInput), "%+v: %v", c, err)
		assert.ErrorContains(t, err, c.want, "%+v", c)
	}
	for _, ttl := range []int64{-1, 1, 59, MostTTL + 1} {
		_, _, err := Parse(zone, Typed{Name: "x", Type: "A", Data: "192.0.2.1", TTL: ttl})
		assert.ErrorContains(t, err, "time to live", ttl)
	}
}

func TestTheMissingDotIsAskedAbout(t *testing.T) {
	_, _, err := Parse(zone, Typed{Name: "@", Type: "MX", Data: "10 mx.provider.test"})
	r := refusal.As(err)
	require.NotNil(t, r)
	require.Equal(t, refusal.NeedsDecision, r.Kind)
	require.Len(t, r.Decide, 2)
	assert.Equal(t, "mx.provider.test.", r.Decide[0].Value)
	assert.Equal(t, "mx.provider.test.ferries.example.", r.Decide[1].Value)
	for _, choice := range r.Decide {
		_, _, err := Parse(zone, Typed{Name: "@", Type: "MX", Data: "10 " + choice.Value})
		assert.NoError(t, err, "either answer is taken")
	}
}

func TestWhatStandsTogether(t *testing.T) {
	read := func(name, kind, data string) Record {
		t.Helper()
		r, _, err := Parse(zone, Typed{Name: name, Type: kind, Data: data})
		require.NoError(t, err)
		return r
	}
	present := []Record{read("www", "A", "192.0.2.1"), read("shop", "CNAME", "www"), read("crew", "NS", "ns1.crew"),
		read("ns1.crew", "A", "192.0.2.9"), read("x.deep", "TXT", "t"), read("@", "MX", "mail")}
	draft := NewDraft(zone, nil, nil)
	for _, r := range present {
		draft.Add(r)
	}
	ttl := read("www", "A", "192.0.2.2")
	ttl.TTL = 60
	for want, r := range map[string]Record{
		"already": read("www", "A", "192.0.2.1"), "can have no other records": read("www", "CNAME", "shop"),
		"remove that first": read("shop", "TXT", "t"), "that of one only": read("shop", "CNAME", "other"),
		"all of a set": ttl, "where its records belong": read("crew", "TXT", "t"),
		"names below it belong": read("a.crew", "TXT", "t"), "would be lost": read("deep", "NS", "ns1.test."),
		"another name for something": read("@", "MX", "20 shop"),
	} {
		assert.ErrorContains(t, draft.Admit(r), want, r.String())
	}
	for _, r := range []Record{read("www", "AAAA", "2001:db8::1"), read("www", "A", "192.0.2.2"),
		read("ns2.crew", "A", "192.0.2.10"), read("crew", "NS", "ns2.crew"), read("new", "CNAME", "www"),
		read("@", "TXT", "t"), read("@", "MX", "20 other")} {
		assert.NoError(t, draft.Admit(r), r.String())
	}
}

// Whatever is typed: what is accepted is final, one line, and within the zone.
func TestAnyRecord(t *testing.T) {
	piece := rapid.OneOf(rapid.SampledFrom([]string{"@", "www", "mail.ferries.example.", "10", "0", "1", "issue",
		"alpn=h2", `"`, `\`, ";", "(", "$INCLUDE", "192.0.2.1", "::1", "ab", ".", "*", "_x", "\n", "é"}),
		rapid.StringN(0, 12, 40))
	rapid.Check(t, func(t *rapid.T) {
		kinds := make([]string, 0, len(Types))
		for _, k := range Types {
			kinds = append(kinds, string(k.Type))
		}
		in := Typed{Name: piece.Draw(t, "name"), Type: rapid.SampledFrom(kinds).Draw(t, "type"),
			Data: strings.Join(rapid.SliceOfN(piece, 1, 6).Draw(t, "data"), " ")}
		r, _, err := Parse(zone, in)
		if err != nil {
			require.NotNil(t, refusal.As(err), "%v", err)
			return
		}
		again, corrections, err := Parse(zone, Typed{Name: r.Name, Type: string(r.Type), Data: r.Data, TTL: r.TTL})
		require.NoError(t, err, r.String())
		require.Equal(t, r, again)
		require.Empty(t, corrections)
		require.False(t, strings.ContainsAny(r.String(), "\n\r\x00"))
		require.NotContains(t, r.Name, "$")
	})
}

func TestWrite(t *testing.T) {
	list := []Record{{"www", A, 300, "192.0.2.1"}, {"@", TXT, 3600, `"t"`}, {"@", A, 3600, "192.0.2.2"},
		{"a", A, 60, "192.0.2.3"}}
	assert.Equal(t, "$ORIGIN ferries.example.\n$TTL "+
		"3600\n@\t3600\tIN\tA\t192.0.2.2\n@\t3600\tIN\tTXT\t\"t\"\n"+
		"a\t60\tIN\tA\t192.0.2.3\nwww\t300\tIN\tA\t192.0.2.1\n",
		Write(zone, list))
	assert.Equal(t, "www", list[0].Name, "the list itself stays as it is")
}

func TestChallengesBesideOwnRecords(t *testing.T) {
	derived := Derive(Facts{Zone: "tern.example", Challenges: []Challenge{{Name: "_acme-challenge.tern.example",
		Text: "one"}, {Name: "label.challenges.tern.example", Text: "two"},
		{Name: "_acme-challenge.other.example", Text: "three"}}})
	require.Len(t, derived, 2, "what lies in another zone is that zone's")
	served := InForce(Merge(derived, []Own{{ID: 1, Record: Record{Name: "_acme-challenge", Type: TXT, TTL: 300,
		Data: `"somebody's own"`}}}))
	assert.Contains(t, served, Record{Name: "_acme-challenge", Type: TXT, TTL: 300, Data: `"one"`},
		"beside it, with the TTL of the set")
	assert.Contains(t, served, Record{Name: "label.challenges", Type: TXT, TTL: challengeTTL, Data: `"two"`})
	served = InForce(Merge(derived, []Own{{ID: 1, Record: Record{Name: "_acme-challenge", Type: CNAME, TTL: 300,
		Data: "elsewhere.example."}}}))
	assert.NotContains(t, served, Record{Name: "_acme-challenge", Type: TXT, TTL: challengeTTL, Data: `"one"`})
}

func TestDeriveMailNames(t *testing.T) {
	site := func(name string) Host {
		return Host{Name: name, Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.1")}}
	}
	derived := func(own bool, sites ...Host) []string {
		var list []string
		for _, d := range Derive(Facts{Zone: "boats.example", Sites: sites, Mail: []MailDomain{{
			Domain: "boats.example", Server: "mx1.tern.test", OwnMX: own, Policy: "17"}}}) {
			if d.Name != "@" && d.Name != "www" && d.Type != SRV && d.Name != "_dmarc" {
				list = append(list, d.Name+" "+string(d.Type)+" "+d.Data)
			}
		}
		return list
	}
	assert.Equal(t, []string{`_mta-sts TXT "v=STSv1; id=17"`, `_smtp._tls TXT "v=TLSRPTv1; rua=mailto:postmaster@boats.example"`,
		"mail CNAME mx1.tern.test.", "autoconfig A 192.0.2.1", "autodiscover A 192.0.2.1", "mta-sts A 192.0.2.1",
		"webmail A 192.0.2.1"},
		derived(false, site("boats.example")))
	assert.NotContains(t, derived(false, site("boats.example"), site("mail.boats.example")),
		"mail CNAME mx1.tern.test.",
		"a site of that name stays where it is")
	assert.Equal(t, []string{`_mta-sts TXT "v=STSv1; id=17"`, `_smtp._tls TXT "v=TLSRPTv1; rua=mailto:postmaster@boats.example"`,
		"mail CNAME mx1.tern.test."}, derived(false), "without a site, there is nothing that answers")
	assert.Empty(t, derived(true, site("boats.example")), "others take the domain's mail")
}
