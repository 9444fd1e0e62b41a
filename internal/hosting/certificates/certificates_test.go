package certificates

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

const day = 24 * time.Hour

func TestRenewAt(t *testing.T) {
	earliest, latest := noon.Add(365*day), noon
	for n := range 2000 {
		at := RenewAt(noon, noon.Add(90*day), nil, fmt.Sprint(n))
		assert.Equal(t, at, RenewAt(noon, noon.Add(90*day), nil, fmt.Sprint(n)))
		if at.Before(earliest) {
			earliest = at
		}
		if at.After(latest) {
			latest = at
		}
	}
	assert.WithinDuration(t, noon.Add(54*day), earliest, 4*time.Hour, "spread over some days")
	assert.WithinDuration(t, noon.Add(90*day*66/100), latest, 4*time.Hour)

	offered := &Window{noon.Add(10 * day), noon.Add(12 * day)}
	at := RenewAt(noon, noon.Add(90*day), offered, "x")
	assert.True(t, !at.Before(offered.Start) && !at.After(offered.End))
	late := &Window{noon.Add(90 * day), noon.Add(91 * day)}
	assert.True(t, RenewAt(noon, noon.Add(90*day), late, "x").Before(noon.Add(86*day)),
		"a window after the end is no use")
	assert.True(t, RenewAt(noon, noon.Add(6*day), nil, "x").Before(noon.Add(5*day)), "short ones, too")
}

func TestRetryAfter(t *testing.T) {
	last := time.Duration(0)
	for n := 1; n <= 20; n++ {
		pause := RetryAfter(n, 0, 0, "x")
		assert.GreaterOrEqual(t, pause, last)
		last = pause
	}
	assert.GreaterOrEqual(t, RetryAfter(1, 0, 0, "x"), 10*time.Minute)
	assert.LessOrEqual(t, last, 29*time.Hour)
	assert.LessOrEqual(t, RetryAfter(9, 2*day, 0, "x"), 3*time.Hour, "more often when time is short")
	assert.Equal(t, 40*time.Hour, RetryAfter(1, day, 40*time.Hour, "x"), "as the authority says")
}

func TestNotice(t *testing.T) {
	told, days := 0, []int{}
	for left := 40 * day; left > -2*day; left -= time.Hour {
		if n := Notice(90*day, left, told); n != 0 {
			told = n
			days = append(days, n)
		}
	}
	assert.Equal(t, []int{21, 14, 7, 3, 1}, days, "each once")
	assert.Zero(t, Notice(6*day, 3*day, 0), "half of a short life is left")
	assert.Equal(t, 21, Notice(6*day, day, 0))
	assert.Equal(t, 3, Notice(90*day, 2*day, 21), "what was missed is not made up for")
}

func TestCAA(t *testing.T) {
	i := Issuing{Identities: []string{"authority.test"}, Method: ByHTTP, AccountURL: "https://authority.test/account/7"}
	wild := i
	wild.Wildcard, wild.Method = true, ByDNS
	for _, one := range []struct {
		records []string
		plain   string
		wild    string
	}{
		{nil, "", ""},
		{[]string{`0 issue "authority.test"`}, "", ""},
		{[]string{`0 issue "Authority.TEST ; foo=bar"`}, "", ""},
		{[]string{`0 issue "other.test"`, `0 issue "authority.test"`}, "", ""},
		{[]string{`0 issue "other.test"`}, "allow only other.test", "allow only other.test"},
		{[]string{`0 issue "other.test"`, `0 issue ";"`, `0 issue "third.test"`}, "allow only other.test; third.test",
			"allow only other.test; third.test"},
		{[]string{`0 issue ";"`}, "allow nobody", "allow nobody"},
		{[]string{`0 issue "authority.test"`, `0 issuewild ";"`}, "", "allow nobody"},
		{[]string{`0 issuewild "other.test"`}, "", "allow only other.test"},
		{[]string{`0 issue "authority.test; validationmethods=dns-01"`}, "allow only authority.test by dns-01", ""},
		{[]string{`0 issue "authority.test; accounturi=https://authority.test/account/8"`}, "another account",
			"another account"},
		{[]string{`0 issue "authority.test; accounturi=https://authority.test/account/7"`}, "", ""},
		{[]string{`0 iodef "mailto:x@ferries.example"`}, "", ""},
		{[]string{`128 novelty "x"`, `0 issue "authority.test"`}, "novelty", "novelty"},
		{[]string{`0 novelty "x"`}, "", ""},
	} {
		var records []CAA
		for _, text := range one.records {
			r, err := ParseCAA(text)
			require.NoError(t, err)
			records = append(records, r)
		}
		for asked, want := range map[*Issuing]string{&i: one.plain, &wild: one.wild} {
			got := asked.Forbidden(records)
			if want == "" {
				assert.Empty(t, got, one.records)
			} else {
				assert.Contains(t, got.String(), want, one.records)
			}
		}
	}
	_, err := ParseCAA("nonsense")
	assert.Error(t, err)
}

func TestJudge(t *testing.T) {
	own, own6, other, other6 := netip.MustParseAddr("10.78.0.21"), netip.MustParseAddr("fd10::21"),
		netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("2001:db8::7")
	base := Observation{Name: "ferries.example", Method: ByHTTP, Addresses: []netip.Addr{own}, Own: []netip.Addr{own,
		own6}, Issuing: Issuing{Identities: []string{"authority.test"}},
		Fetches: []Fetch{{Address: own, Right: true}}}
	hops := func(list ...Hop) []Fetch { return []Fetch{{Address: own, Hops: list}} }
	first := "http://ferries.example/.well-known/acme-challenge/x"
	for name, one := range map[string]struct {
		change func(*Observation)
		code   string
		says   string
		do     string
	}{
		"right": {func(*Observation) {}, "", "", ""},
		"behind others": {func(l *Observation) {
			l.Addresses, l.Fetches = []netip.Addr{other}, []Fetch{{Address: other, Right: true}}
		}, "", "", ""},
		"no answer": {func(l *Observation) { l.Failed = "SERVFAIL" }, CodeLookup, "SERVFAIL", "try again"},
		"bogus":     {func(l *Observation) { l.Bogus = true }, CodeDNSSEC, "signatures", "DS record"},
		"no address": {func(l *Observation) {
			l.Addresses = nil
		}, CodeNoAddress, "neither", "A 10.78.0.21, AAAA fd10::21"},
		"elsewhere": {func(l *Observation) {
			l.Addresses, l.Fetches = []netip.Addr{other}, []Fetch{{Address: other}}
		}, CodeElsewhere, "192.0.2.7", "point it here: A 10.78.0.21"},
		"IPv6 elsewhere": {func(l *Observation) {
			l.Addresses, l.Fetches = []netip.Addr{own, other6}, []Fetch{{Address: own, Right: true}, {Address: other6}}
		}, CodeElsewhere, "AAAA record of ferries.example leads to 2001:db8::7", "remove the record AAAA 2001:db8::7"},
		"IPv6 not ours": {func(l *Observation) {
			l.Own = l.Own[:1]
			l.Addresses, l.Fetches = []netip.Addr{own, other6}, []Fetch{{Address: other6}}
		}, CodeElsewhere, "2001:db8::7", "remove the AAAA record, as"},
		"CAA": {func(l *Observation) {
			l.CAA, l.CAAAt = []CAA{{Tag: "issue", Value: "other.test"}}, "example"
		}, CodeCAA, "allow only other.test (at example)", `example CAA 0 issue "authority.test"`},
		"CAA, remembered": {func(l *Observation) {
			l.CAA, l.CAAAt, l.CAALeft = []CAA{{Tag: "issue", Value: "other.test"}}, "example", 90*time.Second
		}, CodeCAA, "other.test", `issue "authority.test", or remove the ones that are there; if that is done, wait until ` +
			"resolvers have forgotten the old ones, at most 2 min"},
		"CAA cannot be had": {func(l *Observation) { l.CAAFailed = "timeout" }, CodeCAA, "timeout", "zone check"},
		"shut": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Failed: "connection refused"})
		}, CodeUnreachable, "connection refused", "firewall"},
		"a password": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Status: 401, Realm: "Crew"})
		}, CodeAnswer, "“Crew”", "password"},
		"missing": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Status: 404})
		}, CodeAnswer, "404 Not Found", "repair"},
		"something else": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Status: 200})
		}, CodeAnswer, "something else", ""},
		"a redirect": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Status: 302}, Hop{URL: "https://login.example/", Status: 200})
		}, CodeRedirect, first + " redirects to https://login.example/, which answers something else",
			"leave the path"},
		"a redirect to nowhere": {func(l *Observation) {
			l.Fetches = hops(Hop{URL: first, Status: 302}, Hop{URL: "https://login.example/", Failed: "no such host"})
		}, CodeRedirect, "fails: no such host", ""},
		"zone elsewhere": {func(l *Observation) {
			l.Method, l.ExpectedAlias = ByDNS, "k7.challenges.test"
		}, CodeAlias, "elsewhere", "_acme-challenge.ferries.example CNAME k7.challenges.test."},
		"zone elsewhere, wrong": {func(l *Observation) {
			l.Method, l.ExpectedAlias, l.Alias = ByDNS, "k7.challenges.test", "old.test"
		}, CodeAlias, "leads to old.test", "CNAME k7"},
		"no zone for it": {func(l *Observation) { l.Method = ByDNS }, CodeAlias, "elsewhere", "operator"},
		"alias": {func(l *Observation) {
			l.Method, l.ExpectedAlias, l.Alias, l.Answers = ByDNS, "k7.challenges.test", "k7.challenges.test",
				[]Answer{{Server: "ns1"}}
		}, "", "", ""},
		"a dead name server": {func(l *Observation) {
			l.Method, l.ZoneHosted, l.Answers = ByDNS, true, []Answer{{Server: "ns1"},
				{Server: "ns2", Failed: "timeout"}}
		}, CodeRecord, "ns2", "zone check"},
	} {
		l := base
		one.change(&l)
		v := l.Judge()
		assert.Equal(t, one.code, v.Code, name)
		if one.code == "" {
			assert.Equal(t, Pass, v.Result, name)
			continue
		}
		assert.NotEqual(t, Pass, v.Result, name)
		assert.Contains(t, v.Reason.String(), one.says, name)
		assert.Contains(t, v.Do.String(), one.do, name)
		assert.NotEmpty(t, v.Do, name)
	}
}

type made struct {
	*x509.Certificate
	key crypto.Signer
}

var serials int64

func make1(t *testing.T, template x509.Certificate, by *made, key crypto.Signer) made {
	t.Helper()
	serials++
	template.SerialNumber = big.NewInt(serials)
	if template.NotAfter.IsZero() {
		template.NotBefore, template.NotAfter = noon.Add(-day), noon.Add(60*day)
	}
	if template.IsCA {
		template.BasicConstraintsValid, template.KeyUsage = true, x509.KeyUsageCertSign
	}
	if key == nil {
		var err error
		key, err = ECDSA256.New()
		require.NoError(t, err)
	}
	parent, signer := &template, key
	if by != nil {
		parent, signer = by.Certificate, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, parent, key.Public(), signer)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return made{c, key}
}

func named(name string) pkix.Name { return pkix.Name{CommonName: name} }

func pemOf(kind string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
}

func TestBundle(t *testing.T) {
	root := make1(t, x509.Certificate{Subject: named("Root"), IsCA: true}, nil, nil)
	one := make1(t, x509.Certificate{Subject: named("Between 1"), IsCA: true}, &root, nil)
	two := make1(t, x509.Certificate{Subject: named("Between 2"), IsCA: true}, &one, nil)
	leaf := make1(t, x509.Certificate{Subject: named("ferries.example"), DNSNames: []string{"ferries.example",
		"www.ferries.example"}}, &two, nil)
	stranger := make1(t, x509.Certificate{Subject: named("Between 3"), IsCA: true}, nil, nil)
	keyDER, err := x509.MarshalPKCS8PrivateKey(leaf.key)
	require.NoError(t, err)
	certs := func(list ...made) (text string) {
		for _, c := range list {
			text += pemOf("CERTIFICATE", c.Raw)
		}
		return text
	}
	subjects := func(chain []*x509.Certificate) (list []string) {
		for _, c := range chain {
			list = append(list, c.Subject.CommonName)
		}
		return list
	}
	want := []string{"ferries.example", "Between 2", "Between 1"}

	t.Run("any order, with what does not belong to it", func(t *testing.T) {
		b, err := ReadBundle(
			[]byte("some words before\n" + certs(one, root, stranger, leaf, two, leaf) + pemOf("PRIVATE KEY", keyDER)))
		require.NoError(t, err)
		require.NotNil(t, b.Key)
		chain, err := b.Chain(nil)
		require.NoError(t, err)
		assert.Equal(t, want, subjects(chain), "without the root")
		assert.Empty(t, Check(chain, b.Key.Public(), []string{"ferries.example", "www.ferries.example"}, noon))
		again, err := ReadBundle([]byte(PEM(chain)))
		require.NoError(t, err)
		assert.Len(t, again.Certificates, 3)
	})
	t.Run("completed from what is known", func(t *testing.T) {
		b, err := ReadBundle([]byte(certs(leaf)))
		require.NoError(t, err)
		chain, err := b.Chain([]*x509.Certificate{stranger.Certificate, one.Certificate, two.Certificate})
		require.NoError(t, err)
		assert.Equal(t, want, subjects(chain))
		chain, err = b.Chain(nil)
		require.NoError(t, err)
		assert.Empty(t, Check(chain, leaf.PublicKey, []string{"ferries.example"}, noon))
		findings := b.CheckComplete(chain)
		require.Len(t, findings, 1)
		assert.Contains(t, findings[0].Says.String(), "the certificate of Between 2, which signed it, is missing")
		assert.False(t, findings[0].Fatal)
	})
	t.Run("signed by a root that is there", func(t *testing.T) {
		own := make1(t, x509.Certificate{DNSNames: []string{"ferries.example"}}, &root, nil)
		b, err := ReadBundle([]byte(certs(own, root)))
		require.NoError(t, err)
		chain, err := b.Chain(nil)
		require.NoError(t, err)
		require.Len(t, chain, 1, "roots are in no chain")
		findings := b.CheckComplete(chain)
		require.Len(t, findings, 1)
		assert.Contains(t, findings[0].Says.String(), "is a root")
	})
	t.Run("PKCS 7, in both forms", func(t *testing.T) {
		der := pkcs7(t, one.Raw, leaf.Raw, two.Raw)
		for _, text := range [][]byte{der, []byte(pemOf("PKCS7", der))} {
			b, err := ReadBundle(text)
			require.NoError(t, err)
			chain, err := b.Chain(nil)
			require.NoError(t, err)
			assert.Equal(t, want, subjects(chain))
		}
	})
	t.Run("keys in all forms", func(t *testing.T) {
		ec, err := x509.MarshalECPrivateKey(leaf.key.(*ecdsa.PrivateKey))
		require.NoError(t, err)
		rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		for _, text := range []string{pemOf("EC PARAMETERS", []byte{6, 0}) + pemOf("EC PRIVATE KEY", ec),
			pemOf("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(rsaKey))} {
			b, err := ReadBundle([]byte(certs(leaf) + text))
			require.NoError(t, err)
			assert.NotNil(t, b.Key)
		}
	})
	t.Run("what cannot be taken, with what to do", func(t *testing.T) {
		second := make1(t, x509.Certificate{Subject: named("other.example"), DNSNames: []string{"other.example"}}, &two,
			nil)
		otherKey, err := x509.MarshalPKCS8PrivateKey(second.key)
		require.NoError(t, err)
		for text, says := range map[string]string{
			"": "neither", "hello": "neither", pemOf("PRIVATE KEY", keyDER): "no certificate in it",
			pemOf("CERTIFICATE REQUEST", keyDER):                                           "signing request",
			certs(leaf) + pemOf("ENCRYPTED PRIVATE KEY", keyDER):                           "encrypted",
			certs(leaf) + pemOf("PRIVATE KEY", []byte("x")):                                "damaged",
			pemOf("CERTIFICATE", []byte("x")):                                              "neither a certificate",
			certs(leaf) + pemOf("PRIVATE KEY", keyDER) + pemOf("PRIVATE KEY", otherKey):    "two keys",
			pemOf("PKCS7", pkcs7(t)):                                                       "no certificate in it",
			strings.Replace(pemOf("CERTIFICATE", leaf.Raw), "-----END", "cut off-----", 1): "no certificate in it",
		} {
			_, err := ReadBundle([]byte(text))
			r := refusal.As(err)
			require.NotNil(t, r, "%.60q: %v", text, err)
			assert.Contains(t, r.Detail+fmt.Sprint(r.Fields), says)
		}
		b, err := ReadBundle([]byte(certs(one, two)))
		require.NoError(t, err)
		_, err = b.Chain(nil)
		assert.ErrorContains(t, err, "the site's own is missing")
		b, err = ReadBundle([]byte(certs(leaf, second)))
		require.NoError(t, err)
		_, err = b.Chain(nil)
		assert.ErrorContains(t, err, "two certificates of sites")
	})
	t.Run("what is to be said of it", func(t *testing.T) {
		t.Setenv("GODEBUG", "rsa1024min=0") // the library makes none else
		small, err := rsa.GenerateKey(rand.Reader, 1024)
		require.NoError(t, err)
		ended := make1(t, x509.Certificate{Subject: named("Ended"), IsCA: true, NotBefore: noon.Add(-9 * day),
			NotAfter: noon.Add(-day)}, &root, nil)
		wild := make1(t, x509.Certificate{DNSNames: []string{"*.ferries.example"}}, &two, nil)
		assert.Empty(t, Check([]*x509.Certificate{wild.Certificate, two.Certificate}, wild.key.Public(),
			[]string{"*.ferries.example"}, noon))
		for says, one := range map[string]struct {
			c     made
			above []*x509.Certificate
			fatal bool
		}{
			"it ended on 2026-11-22": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"},
				NotBefore: noon.Add(-9 * day), NotAfter: noon.Add(-day)}, &two, nil),
				[]*x509.Certificate{two.Certificate}, true},
			"good only from": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"},
				NotBefore: noon.Add(day), NotAfter: noon.Add(9 * day)}, &two, nil),
				[]*x509.Certificate{two.Certificate}, true},
			"it ends in 9 days": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"},
				NotBefore: noon, NotAfter: noon.Add(9 * day)}, &two, nil), []*x509.Certificate{two.Certificate}, false},
			"none of that is a name": {make1(t, x509.Certificate{DNSNames: []string{"other.example"}}, &two, nil),
				[]*x509.Certificate{two.Certificate}, true},
			"1024 bits": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"}}, &two,
				small), []*x509.Certificate{two.Certificate}, true},
			"Ended, which signed it": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"}}, &ended,
				nil), []*x509.Certificate{ended.Certificate}, true},
			"not for servers": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"},
				ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageEmailProtection}}, &two, nil),
				[]*x509.Certificate{two.Certificate}, true},
			"self-signed": {make1(t, x509.Certificate{Subject: named("me"),
				DNSNames: []string{"ferries.example"}}, nil, nil), nil, false},
			"not for www.ferries": {make1(t, x509.Certificate{DNSNames: []string{"ferries.example"}}, &two, nil),
				[]*x509.Certificate{two.Certificate}, false},
			"of another signing request": {leaf, []*x509.Certificate{two.Certificate}, true},
		} {
			key := one.c.key.Public()
			if says == "of another signing request" {
				key = two.key.Public()
			}
			findings := Check(append([]*x509.Certificate{one.c.Certificate}, one.above...), key,
				[]string{"ferries.example", "www.ferries.example"}, noon)
			at := slices.IndexFunc(findings, func(f Finding) bool { return strings.Contains(f.Says.String(), says) })
			if assert.GreaterOrEqual(t, at, 0, "%s in %v", says, findings) {
				assert.Equal(t, one.fatal, findings[at].Fatal, says)
			}
		}
	})
}

// pkcs7 makes signed data that carries certificates and nothing else, as authorities do.
func pkcs7(t *testing.T, certificates ...[]byte) []byte {
	t.Helper()
	set := func(b []byte) asn1.RawValue { return asn1.RawValue{Class: 0, Tag: 17, IsCompound: true, Bytes: b} }
	inner := struct {
		Version int
		Digests asn1.RawValue
		Content struct{ Type asn1.ObjectIdentifier }
		Certs   asn1.RawValue `asn1:"optional"`
		Signers asn1.RawValue
	}{Version: 1, Digests: set(nil), Signers: set(nil)}
	inner.Content.Type = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	if len(certificates) > 0 {
		inner.Certs = asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: slices.Concat(certificates...)}
	}
	der, err := asn1.Marshal(inner)
	require.NoError(t, err)
	der, err = asn1.Marshal(struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue
	}{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}, asn1.RawValue{Class: 2, Tag: 0, IsCompound: true, Bytes: der}})
	require.NoError(t, err)
	return der
}

func TestKeys(t *testing.T) {
	for _, k := range KeyTypes {
		key, err := k.New()
		require.NoError(t, err)
		kind, weak := DescribeKey(key.Public())
		assert.Equal(t, string(k), kind)
		assert.Empty(t, weak)
	}
	small, err := ecdsa.GenerateKey(elliptic.P224(), rand.Reader)
	require.NoError(t, err)
	_, weak := DescribeKey(small.Public())
	assert.Contains(t, weak.String(), "224")
	_, err = ParseKeyType("dsa")
	assert.ErrorContains(t, err, "ecdsa-p256")
	k, err := ParseKeyType("")
	require.NoError(t, err)
	assert.Equal(t, ECDSA256, k)
}
