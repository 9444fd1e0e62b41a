package sites

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/publicdns"
)

func checkOf(t *testing.T, name string) api.ZoneCheck {
	t.Helper()
	var c api.ZoneCheck
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/zones/"+name+"/check", nil, &c))
	return c
}

func TestZones(t *testing.T) {
	i := e2e.Shared(t)
	e2e.NamedServers(t)
	ctx := context.Background()
	skua, skua6 := i.Servers["skua"].Address.String(), lab.Address6(i.Servers["skua"].Address).String()
	account := e2e.Opened(t, api.OpenAccount{Domain: "chartroom.example", Server: "skua", Plan: "chart"})
	defer func() { e2e.CloseAccount(t, account) }()
	const zone = "/zones/chartroom.example"

	t.Run("a zone comes with its domain, and both name servers answer", func(t *testing.T) {
		z := e2e.ZoneOf(t, "chartroom.example")
		assert.Equal(t, "here", z.Hosted)
		assert.Equal(t, []string{e2e.NS1, e2e.NS2}, z.NameServers)
		require.Len(t, z.Records, 4)
		assert.Equal(t, api.ZoneRecord{Name: "@", Type: "A", TTL: 3600, Data: skua, From: "the site chartroom.example"},
			z.Records[0])
		for _, server := range []string{"petrel", "fulmar"} {
			labtest.Eventually(t, func() bool {
				return e2e.Answers(t, server, "www.chartroom.example", "A") == skua
			}, server)
			assert.Equal(t, skua6, e2e.Answers(t, server, "chartroom.example", "AAAA"))
			assert.Equal(t, e2e.NS1+"., "+e2e.NS2+".", e2e.Answers(t, server, "chartroom.example", "NS"))
		}
	})

	t.Run("subdomains lie in the zone above, and go with their site", func(t *testing.T) {
		e2e.Added(t, account.ID, api.NewDomain{Domain: "shop.chartroom.example"})
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "shop.chartroom.example", "A"))
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "www.shop.chartroom.example", "A"))
		e2e.ChangeDomain(t, account.ID, "shop.chartroom.example",
			api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}})
		assert.Equal(t, "NXDOMAIN", e2e.Answers(t, "petrel", "shop.chartroom.example", "A"))
		assert.Equal(t, "chartroom.example", e2e.ZoneOf(t, "shop.chartroom.example").Name)
	})

	t.Run("own records", func(t *testing.T) {
		changed, o := e2e.OnZone(t, http.MethodPost, zone+"/records", api.NewRecord{Name: "mail", Type: "a",
			Data: "192.0.2.25", TTL: 300})
		assert.Equal(t, "mail", changed.Record.Name)
		assert.Contains(t, stepNames(o), "petrel: zones")
		assert.NotContains(t, stepNames(o), "nginx", "the home's server has nothing to do with it")
		assert.Equal(t, "192.0.2.25", e2e.Answers(t, "petrel", "mail.chartroom.example", "A"))
		labtest.Eventually(t, func() bool {
			return e2e.Answers(t, "fulmar", "mail.chartroom.example", "A") == "192.0.2.25"
		})

		second, _ := e2e.OnZone(t, http.MethodPost, zone+"/records", api.NewRecord{Name: "mail", Type: "A",
			Data: "192.0.2.26"})
		assert.Equal(t, int64(300), second.Record.TTL, "that of its set")
		ttl, data := int64(600), "192.0.2.27"
		changed, _ = e2e.OnZone(t, http.MethodPatch, fmt.Sprintf("%s/records/%d", zone, second.Record.ID),
			api.RecordChange{TTL: &ttl, Data: &data})
		assert.Contains(t, strings.Join(changed.Corrections, "; "), "same time to live")
		assert.Equal(t, "192.0.2.25, 192.0.2.27", e2e.Answers(t, "petrel", "mail.chartroom.example", "A"))
		p := e2e.ProblemOf(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPatch,
				Path: fmt.Sprintf("%s/records/%d", zone, second.Record.ID), IfMatch: `"1"`,
				Body: api.RecordChange{Data: &data}}, nil))
		assert.Equal(t, http.StatusPreconditionFailed, p.Status)

		p = e2e.ProblemOf(t,
			i.Client.Post(ctx, zone+"/records", api.NewRecord{Name: "@", Type: "MX", Data: "10 mx.provider.test"}, nil))
		assert.Equal(t, api.ProblemBase+"needs-decision", p.Type, "the classic: a dot is missing")
		require.Len(t, p.Decide, 2)
		e2e.OnZone(t, http.MethodPost, zone+"/records", api.NewRecord{Name: "@", Type: "MX",
			Data: "10 " + p.Decide[0].Value})
		assert.Equal(t, "10 mx.provider.test.", e2e.Answers(t, "petrel", "chartroom.example", "MX"))
		for _, wrong := range []api.NewRecord{{Name: "mail", Type: "CNAME", Data: "www"},
			{Name: "@", Type: "MX", Data: "10 mx.provider.test."},
			{Name: "x.other.example.", Type: "A", Data: "192.0.2.1"}, {Name: "x", Type: "A", Data: "www"}} {
			p := e2e.ProblemOf(t, i.Client.Post(ctx, zone+"/records", wrong, nil))
			assert.Contains(t, []int{409, 422}, p.Status, "%+v: %s", wrong, p.Detail)
		}

		var preview api.Preview
		require.NoError(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPost, Path: zone + "/records",
				Query: url.Values{"preview": {"true"}}, Body: api.NewRecord{Name: "www", Type: "A",
					Data: "192.0.2.80"}}, &preview))
		assert.Contains(t, strings.Join(preview.Notes, "; "), "which follows from the site chartroom.example")
		require.NotEmpty(t, preview.Changes)
		assert.Equal(t, "petrel: zones", preview.Changes[0].Part)
		assert.Contains(t, preview.Changes[0].Diff, "+www.chartroom.example. 3600 A 192.0.2.80")
	})

	t.Run("an own record wins over a derived one, until it is reset", func(t *testing.T) {
		e2e.OnZone(t, http.MethodPost, zone+"/records", api.NewRecord{Name: "www", Type: "CNAME",
			Data: "pages.provider.test."})
		assert.Equal(t, "pages.provider.test.", e2e.Answers(t, "petrel", "www.chartroom.example", "A"))
		z := e2e.ZoneOf(t, "chartroom.example")
		assert.True(t, e2e.RecordOf(z, "www", "A")[0].Overruled)
		assert.False(t, e2e.RecordOf(z, "www", "CNAME")[0].Overruled)
		e2e.OnZone(t, http.MethodPost, zone+"/reset", api.ZoneReset{})
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "www.chartroom.example", "A"))
		assert.NotEmpty(t, e2e.RecordOf(e2e.ZoneOf(t, "chartroom.example"), "mail", "A"), "others stay")
		p := e2e.ProblemOf(t, i.Client.Post(ctx, zone+"/reset", api.ZoneReset{}, nil))
		assert.Equal(t, http.StatusConflict, p.Status)
	})

	t.Run("a zone file goes out and comes in, whole or not at all", func(t *testing.T) {
		var text strings.Builder
		require.NoError(t, i.Client.Download(ctx, zone+"/file", nil, &text))
		assert.Contains(t, text.String(), "$ORIGIN chartroom.example.")
		assert.Contains(t, text.String(), "mail\t600\tIN\tA\t192.0.2.25")
		before := e2e.ZoneOf(t, "chartroom.example").Records
		p := e2e.ProblemOf(t, i.Client.Post(ctx, zone+"/import", api.ZoneImport{Text: "a IN A 192.0.2.1\nb IN A " +
			"nonsense\nwww.other.example. A 192.0.2.1\n"}, nil))
		require.Len(t, p.Errors, 2)
		assert.Equal(t, "text.line_2", p.Errors[0].Name)
		assert.Equal(t, before, e2e.ZoneOf(t, "chartroom.example").Records)
		changed, _ := e2e.OnZone(t, http.MethodPost, zone+"/import", api.ZoneImport{Text: text.String()})
		assert.Zero(t, changed.Added, "everything is there already")
		changed, _ = e2e.OnZone(t, http.MethodPost, zone+"/import", api.ZoneImport{Replace: true, Text: `$TTL 1h
@ IN SOA ns.old.test. hostmaster.old.test. ( 2024010101 ; serial
   3600 600 1209600 300 )
@ IN NS ns.old.test.
@ 30 IN MX 10 mail
mail IN A 192.0.2.25
key._domainkey TXT ( "v=DKIM1; k=rsa; " "p=MIIB" )
ftp CNAME www
`})
		assert.Equal(t, 4, changed.Added)
		assert.Contains(t, strings.Join(changed.Corrections, "; "), "SOA of chartroom.example left out")
		assert.Contains(t, strings.Join(changed.Corrections, "; "), "time to live of 60 taken instead of 30")
		assert.Equal(t, `"v=DKIM1; k=rsa; " "p=MIIB"`,
			e2e.Answers(t, "petrel", "key._domainkey.chartroom.example", "TXT"))
		assert.Equal(t, "10 mail.chartroom.example.", e2e.Answers(t, "petrel", "chartroom.example", "MX"))
	})

	t.Run("a zone is transferred from where it was", func(t *testing.T) {
		require.NoError(t, i.PublicDNS.Serve("chartroom.example", "old A 192.0.2.99\n@ TXT \"from elsewhere\"\n"))
		changed, _ := e2e.OnZone(t, http.MethodPost, zone+"/import", api.ZoneImport{Server: publicdns.Elsewhere})
		assert.Equal(t, 2, changed.Added)
		assert.Equal(t, "192.0.2.99", e2e.Answers(t, "petrel", "old.chartroom.example", "A"))
		p := e2e.ProblemOf(t, i.Client.Post(ctx, zone+"/import", api.ZoneImport{Server: e2e.NS1}, nil))
		assert.Contains(t, p.Detail, "does not hand over", "our own name servers hand zones to nobody but each other")
	})

	t.Run("public DNS is checked", func(t *testing.T) {
		c := checkOf(t, "chartroom.example")
		assert.False(t, c.Right)
		assert.Contains(t, c.Problems[0].Fix, e2e.NS1, "it is delegated elsewhere")
		i.PublicDNS.Forget("chartroom.example")
		assert.Contains(t, checkOf(t, "chartroom.example").Verdict, "not delegated")
		i.PublicDNS.Delegate("chartroom.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		labtest.Eventually(t, func() bool { return checkOf(t, "chartroom.example").Right })
		c = checkOf(t, "chartroom.example")
		assert.Len(t, c.Servers, 4, "IPv6 too")
		var trace api.Trace
		require.NoError(t, i.Client.Get(ctx, "/trace", url.Values{"name": {"chartroom.example"}}, &trace))
		assert.True(t, trace.Right, trace.Verdict)

		// The resolver remembers what it has just been told.
		mail := e2e.RecordOf(e2e.ZoneOf(t, "chartroom.example"), "mail", "A")[0]
		data := "192.0.2.77"
		e2e.OnZone(t, http.MethodPatch, fmt.Sprintf("%s/records/%d", zone, mail.ID), api.RecordChange{Data: &data})
		labtest.Eventually(t, func() bool { return e2e.Answers(t, "fulmar", "mail.chartroom.example", "A") == data })
		set := setOf(checkOf(t, "chartroom.example"), "mail", "A")
		assert.Equal(t, "waiting", set.State)
		assert.Positive(t, set.Until)
		i.PublicDNS.Fail(true)
		c = checkOf(t, "chartroom.example")
		i.PublicDNS.Fail(false)
		assert.NotEmpty(t, c.Parent.Failed)
		assert.False(t, c.Right)
	})

	t.Run("signing, with the chain to the parent", func(t *testing.T) {
		on, off := true, false
		e2e.OnZone(t, http.MethodPatch, zone, api.ZoneChange{DNSSEC: &on})
		var s api.ZoneSigning
		labtest.Eventually(t, func() bool {
			require.NoError(t, i.Client.Get(ctx, zone+"/signing", nil, &s))
			return len(s.DS) == 1
		})
		assert.Len(t, s.Keys, 2)
		require.Len(t, s.CDS, 1)
		assert.True(t, strings.EqualFold(strings.ReplaceAll(s.CDS[0], " ", ""), strings.ReplaceAll(s.DS[0], " ", "")),
			"the zone offers the parent the same")
		assert.Contains(t, s.State, "give the registrar")
		i.PublicDNS.Delegate("chartroom.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2},
			DS: s.DS})
		require.NoError(t, i.Client.Get(ctx, zone+"/signing", nil, &s))
		assert.Contains(t, s.State, "chain is closed")
		p := e2e.ProblemOf(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: zone, Body: api.ZoneChange{DNSSEC: &off}},
				nil))
		assert.Equal(t, api.ProblemBase+"in-use", p.Type)
		p = e2e.ProblemOf(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: zone,
				Body: api.ZoneChange{Hosted: "elsewhere"}}, nil))
		assert.Equal(t, api.ProblemBase+"in-use", p.Type)
		i.PublicDNS.Delegate("chartroom.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2},
			DS: []string{"1 13 2 " + strings.Repeat("ab", 32)}})
		assert.Contains(t, checkOf(t, "chartroom.example").Verdict, "no key of the zone fits")
		i.PublicDNS.Delegate("chartroom.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		e2e.OnZone(t, http.MethodPatch, zone, api.ZoneChange{DNSSEC: &off})
		assert.Equal(t, "NOERROR", e2e.Answers(t, "petrel", "chartroom.example", "DNSKEY"))
	})

	t.Run("DNS hosted elsewhere", func(t *testing.T) {
		e2e.OnZone(t, http.MethodPatch, zone, api.ZoneChange{Hosted: "elsewhere"})
		assert.Equal(t, "REFUSED", e2e.Answers(t, "petrel", "chartroom.example", "A"))
		require.NoError(t, i.PublicDNS.Serve("chartroom.example", "@ A "+skua+"\n@ AAAA "+skua6+"\nwww A 192.0.2.5\n"))
		c := checkOf(t, "chartroom.example")
		assert.Equal(t, "right", setOf(c, "@", "A").State)
		assert.Equal(t, "different", setOf(c, "www", "A").State)
		assert.Equal(t, []string{"192.0.2.5"}, setOf(c, "www", "A").Seen)
		assert.Equal(t, "missing", setOf(c, "www", "AAAA").State)
		assert.Contains(t, c.Problems[1].Fix, skua6)
		p := e2e.ProblemOf(t,
			i.Client.Post(ctx, zone+"/records", api.NewRecord{Name: "x", Type: "A", Data: "192.0.2.1"},
				nil))
		assert.Contains(t, p.Detail, "elsewhere")
		require.NoError(t, i.PublicDNS.Change("chartroom.example", "@ A "+skua+"\n@ AAAA "+skua6+"\nwww CNAME @\n"))
		assert.Equal(t, "waiting", setOf(checkOf(t, "chartroom.example"), "www", "A").State,
			"the resolver remembers what was wrong")
		// and forgets
		i.PublicDNS.Delegate("chartroom.example", publicdns.Delegation{NameServers: []string{publicdns.Elsewhere}})
		c = checkOf(t, "chartroom.example")
		assert.True(t, c.Right, "an alias gives the same addresses: %+v", c)
		e2e.OnZone(t, http.MethodPatch, zone, api.ZoneChange{Hosted: "here"})
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "www.chartroom.example", "A"))
		assert.Equal(t, "192.0.2.99", e2e.Answers(t, "petrel", "old.chartroom.example", "A"), "own records were kept")
	})

	t.Run("templates add records to zones", func(t *testing.T) {
		p := e2e.ProblemOf(t,
			i.Client.Post(ctx, "/templates", api.NewTemplate{Name: "letters",
				Records: []api.NewRecord{{Name: "a b", Type: "TXT", Data: "x"}}}, nil))
		assert.Equal(t, "records.0", p.Errors[0].Name)
		require.NoError(t,
			i.Client.Post(ctx, "/templates", api.NewTemplate{Name: "letters",
				Records: []api.NewRecord{{Name: "@", Type: "TXT", Data: "v=spf1 mx -all"},
					{Name: "_dmarc", Type: "TXT", Data: "v=DMARC1; p=reject"},
					{Name: "www", Type: "A", Data: "192.0.2.1"}}}, nil))
		name := "letters"
		e2e.ChangeDomain(t, account.ID, "chartroom.example", api.DomainChange{Template: &name})
		assert.Equal(t, `"v=DMARC1; p=reject"`, e2e.Answers(t, "petrel", "_dmarc.chartroom.example", "TXT"))
		assert.NotContains(t, e2e.Answers(t, "petrel", "www.chartroom.example", "A"), "192.0.2.1",
			"what the site needs goes first")
		var preview api.Preview
		records := []api.NewRecord{{Name: "_dmarc", Type: "TXT", Data: "v=DMARC1; p=none"}}
		change := client.Call{Method: http.MethodPatch, Path: "/templates/letters",
			Query: url.Values{"preview": {"true"}}, Body: api.TemplateChange{Records: &records}}
		require.NoError(t, i.Client.Do(ctx, change, &preview))
		require.Len(t, preview.Effects, 1)
		assert.Contains(t, preview.Effects[0].Changes, "other records in its zone")
		var changed api.TemplateChanged
		change.Query = nil
		require.NoError(t, i.Client.Do(ctx, change, &changed))
		e2e.Watched(t, changed.Operation)
		assert.Equal(t, `"v=DMARC1; p=none"`, e2e.Answers(t, "petrel", "_dmarc.chartroom.example", "TXT"))
		none := ""
		e2e.ChangeDomain(t, account.ID, "chartroom.example", api.DomainChange{Template: &none})
	})

	t.Run("a zone changed by hand is drift, and repaired", func(t *testing.T) {
		e2e.On(t, "petrel",
			"for c in 'zone-begin chartroom.example' 'zone-unset chartroom.example www A' 'zone-commit "+
				"chartroom.example'; do knotc $c; done")
		var started api.Started
		require.NoError(t, i.Client.Post(ctx, "/servers/petrel/repair", nil, &started))
		o := e2e.Watched(t, started.Operation)
		require.Equal(t, "done", o.State, o.Failure)
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "www.chartroom.example", "A"))
		assert.Len(t, e2e.ToldDigest(t, "petrel"), 32,
			"a sweep keeps what the agent holds, so that it is not told again and again")
	})

	t.Run("the primary is dead", func(t *testing.T) {
		i.Servers["petrel"].Kill()
		assert.Equal(t, skua, e2e.Answers(t, "fulmar", "www.chartroom.example", "A"))
		var changed api.ZoneChanged
		require.NoError(t,
			i.Client.Post(ctx, zone+"/records", api.NewRecord{Name: "late", Type: "A", Data: "192.0.2.3"}, &changed),
			"it is decided now, and done when the server is back")
		require.NoError(t, i.Servers["petrel"].Start(ctx))
		o := e2e.Watched(t, changed.Operation)
		require.Equal(t, "done", o.State, o.Failure)
		labtest.Eventually(t, func() bool {
			return e2e.Answers(t, "fulmar", "late.chartroom.example", "A") == "192.0.2.3"
		})
	})

	t.Run("name servers under a reseller's names", func(t *testing.T) {
		limits := plans.Limits{}
		for _, info := range plans.AllLimits {
			limits[info.Key] = plans.Unlimited
		}
		limits[plans.BounceShare] = plans.Of(50)
		require.NoError(t,
			i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "pilots", Title: "Pilots", Limits: limits,
				Features: plans.Features{"dns": true}}, nil))
		require.NoError(t,
			i.Client.Post(ctx, "/plans", api.NewPlan{Name: "buoy", Reseller: "pilots",
				Limits: plans.Limits{plans.Disk: plans.Of(50 * plans.MiB), plans.Domains: plans.Of(1),
					plans.PHPWorkers: plans.Of(1)}, Features: plans.Features{"dns": true}}, nil))
		theirs := e2e.Opened(t, api.OpenAccount{Domain: "fairway.example", Server: "skua", Plan: "pilots.buoy",
			Reseller: "pilots", Customer: "Fairway", NewCustomer: true})
		set := client.Call{Method: http.MethodPut, Path: "/resellers/pilots/name-servers",
			Body: api.NameServers{Names: []string{"ns1.pilots.example", "ns2.pilots.example"}}}
		p := e2e.ProblemOf(t, i.Client.Do(ctx, set, nil))
		assert.Equal(t, api.ProblemBase+"needs-decision", p.Type)
		assert.Contains(t, p.Detail, "ns1.pilots.example has no address")
		require.NoError(t, i.PublicDNS.Serve("pilots.example", "ns1 A "+i.Servers["petrel"].Address.String()+
			"\nns2 A "+
			skua))
		p = e2e.ProblemOf(t, i.Client.Do(ctx, set, nil))
		assert.Contains(t, p.Detail, "ns2.pilots.example leads to "+skua+", not to fulmar")
		require.NoError(t, i.PublicDNS.Serve("pilots.example", "ns1 A "+i.Servers["petrel"].Address.String()+
			"\nns2 A "+
			i.Servers["fulmar"].Address.String()))
		// older answers are forgotten
		i.PublicDNS.Delegate("pilots.example", publicdns.Delegation{NameServers: []string{publicdns.Elsewhere}})
		var preview api.Preview
		set.Query = url.Values{"preview": {"true"}}
		require.NoError(t, i.Client.Do(ctx, set, &preview))
		require.Len(t, preview.Effects, 1)
		assert.Equal(t, "fairway.example", preview.Effects[0].Name)
		var changed api.NameServersChanged
		set.Query = nil
		require.NoError(t, i.Client.Do(ctx, set, &changed))
		o := e2e.Watched(t, changed.Operation)
		require.Equal(t, "done", o.State, o.Failure)
		assert.Equal(t, "ns1.pilots.example., ns2.pilots.example.",
			e2e.Answers(t, "petrel", "fairway.example", "NS"))
		assert.Equal(t, e2e.NS1+"., "+e2e.NS2+".", e2e.Answers(t, "petrel", "chartroom.example", "NS"),
			"others keep the installation's")
		e2e.CloseAccount(t, theirs)
		assert.Equal(t, "REFUSED", e2e.Answers(t, "petrel", "fairway.example", "NS"))
	})

	t.Run("the names of the name servers are nobody's to take", func(t *testing.T) {
		require.NoError(t, i.Client.Post(ctx, "/people", api.NewPerson{Name: "chartist", Customer: account.CustomerID,
			Activation: "password", Password: e2e.Password}, nil))
		customer := e2e.SignedIn(t, "chartist")
		p := e2e.RefusedAs(t, "domain-taken",
			customer.Post(ctx, e2e.Domains(account.ID), api.NewDomain{Domain: "ternisland.example"}, nil))
		assert.Contains(t, p.Detail, "belongs to the installation")
		e2e.Added(t, account.ID, api.NewDomain{Domain: "ternisland.example"}) // by an operator
		assert.Equal(t, i.Servers["petrel"].Address.String(), e2e.Answers(t, "petrel", e2e.NS1, "A"),
			"the addresses of the name servers are derived")
	})

	t.Run("a zone goes with its domain", func(t *testing.T) {
		e2e.Added(t, account.ID, api.NewDomain{Domain: "leeward.example"})
		assert.Equal(t, skua, e2e.Answers(t, "petrel", "leeward.example", "A"))
		var page api.ZonePage
		require.NoError(t, i.Client.Get(ctx, "/zones", url.Values{"search": {"lee"}}, &page))
		require.Len(t, page.Zones, 1)
		var started api.Started
		require.NoError(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodDelete,
				Path: "/accounts/chartroom/domains/leeward.example"}, &started))
		e2e.Watched(t, started.Operation)
		assert.Equal(t, "REFUSED", e2e.Answers(t, "petrel", "leeward.example", "A"))
		labtest.Eventually(t, func() bool { return e2e.Answers(t, "fulmar", "leeward.example", "A") == "REFUSED" })
	})
}

func setOf(c api.ZoneCheck, name, kind string) api.ZoneSet {
	at := slices.IndexFunc(c.Sets, func(s api.ZoneSet) bool { return s.Name == name && s.Type == kind })
	if at < 0 {
		return api.ZoneSet{}
	}
	return c.Sets[at]
}

func stepNames(o api.Operation) []string {
	var names []string
	for _, s := range o.Steps {
		names = append(names, s.Name)
	}
	return names
}
