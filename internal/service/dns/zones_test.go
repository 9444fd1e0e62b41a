package dns_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/dns"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// named is a bench with a web server, two name servers and the account
// of ferries.example with the feature dns.
func named(t *testing.T) (*servicetest.Bench, api.AccountDetail) {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Server("petrel", "dns")
	b.Server("fulmar", "dns")
	_, err := b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{
		NameServers: &[]string{"ns1.tern.test", "ns2.tern.test"}})
	require.NoError(t, err)
	b.Plan("harbour", plans.Limits{plans.Subdomains: plans.Of(3)}, "dns", "dnssec")
	b.Plan("bare", nil)
	b.Customer("Tern Ferries", "")
	return b, b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour",
		Customer: "Tern Ferries", Server: "skua"})
}

func record(t *testing.T, b *servicetest.Bench, zone, name, kind string) []api.ZoneRecord {
	t.Helper()
	z, err := b.DNS.Zone(t.Context(), b.Operator, zone)
	require.NoError(t, err)
	var list []api.ZoneRecord
	for _, r := range z.Records {
		if r.Name == name && r.Type == kind {
			list = append(list, r)
		}
	}
	return list
}

func TestZonesFollowDomains(t *testing.T) {
	ctx := t.Context()
	b, account := named(t)
	assert.Equal(t, "192.0.2.21", record(t, b, "ferries.example", "@", "A")[0].Data)
	for _, name := range []string{"second.example", "shop.ferries.example"} {
		_, err := b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: name})
		require.NoError(t, err)
	}
	b.Work()
	list, err := b.DNS.ZoneList(ctx, b.Operator, dns.ZoneFilter{}, "", 10)
	require.NoError(t, err)
	require.Len(t, list.Zones, 2, "a name below another one has its records there")
	assert.NotEmpty(t, record(t, b, "ferries.example", "shop", "A"))

	m, held := b.Agents.On(2).InForce(account.ID)
	require.True(t, held, "the primary name server has the zones")
	assert.Len(t, m.Zones, 2)
	assert.Empty(t, m.Sites)
	home, _ := b.Agents.On(1).InForce(account.ID)
	assert.Empty(t, home.Zones)
	_, held = b.Agents.On(3).InForce(account.ID)
	assert.False(t, held, "the secondary transfers them")
	assert.True(t, b.Agents.On(2).Server.DNS.Primary)

	t.Run("a zone goes with its domain", func(t *testing.T) {
		_, err := b.Domains.RemoveDomain(ctx, b.Operator, account.SignInName, "second.example")
		require.NoError(t, err)
		b.Work()
		m, _ := b.Agents.On(2).InForce(account.ID)
		assert.Len(t, m.Zones, 1)
		_, err = b.DNS.Zone(ctx, b.Operator, "second.example")
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("others' are not there", func(t *testing.T) {
		_, err := b.DNS.Zone(ctx, b.Customer("Auk", ""), "ferries.example")
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("nothing is left when the account is closed", func(t *testing.T) {
		_, err := b.Accounts.CloseAccount(ctx, b.Operator, account.SignInName, account.SignInName)
		require.NoError(t, err)
		b.Work()
		_, held := b.Agents.On(2).InForce(account.ID)
		assert.False(t, held)
		list, err := b.DNS.ZoneList(ctx, b.Operator, dns.ZoneFilter{}, "", 10)
		require.NoError(t, err)
		assert.Empty(t, list.Zones)
	})
}

func TestRecords(t *testing.T) {
	ctx := t.Context()
	b, account := named(t)
	for name, in := range map[string]api.NewRecord{
		"no address":               {Name: "a", Type: "A", Data: "not an address"},
		"a type there is not":      {Name: "a", Type: "BOAT", Data: "x"},
		"a name outside the zone":  {Name: "a.other.example.", Type: "A", Data: "192.0.2.9"},
		"SOA is ours":              {Name: "@", Type: "SOA", Data: "a b 1 2 3 4 5"},
		"a CNAME beside others":    {Name: "@", Type: "CNAME", Data: "elsewhere.test."},
		"a time to live too short": {Name: "a", Type: "A", Data: "192.0.2.9", TTL: 5},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.DNS.AddRecord(ctx, b.Operator, "ferries.example", in)
			servicetest.Refused(t, refusal.InvalidInput, err)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	changed, err := b.DNS.AddRecord(ctx, b.Operator, "ferries.example", api.NewRecord{Name: "mail", Type: "a",
		Data: "192.0.2.9"})
	require.NoError(t, err)
	require.NotNil(t, changed.Record)
	assert.Equal(t, "A", changed.Record.Type)
	b.Work()
	m, _ := b.Agents.On(2).InForce(account.ID)
	assert.Contains(t, m.Zones[0].Records, recordOf("mail", "A", 3600, "192.0.2.9"))

	t.Run("all of a set have one time to live", func(t *testing.T) {
		second, err := b.DNS.AddRecord(ctx, b.Operator, "ferries.example", api.NewRecord{Name: "mail", Type: "A",
			Data: "192.0.2.10"})
		require.NoError(t, err)
		ttl := int64(600)
		changed, err := b.DNS.ChangeRecord(ctx, b.Operator, "ferries.example", second.Record.ID, 0,
			api.RecordChange{TTL: &ttl})
		require.NoError(t, err)
		assert.NotEmpty(t, changed.Corrections)
		for _, r := range record(t, b, "ferries.example", "mail", "A") {
			assert.EqualValues(t, 600, r.TTL)
		}
	})
	t.Run("a change that changes nothing", func(t *testing.T) {
		r := record(t, b, "ferries.example", "mail", "A")[0]
		_, err := b.DNS.ChangeRecord(ctx, b.Operator, "ferries.example", r.ID, 0, api.RecordChange{Data: &r.Data})
		servicetest.Refused(t, refusal.InvalidInput, err)
	})
	t.Run("own ones replace derived ones, until reset", func(t *testing.T) {
		p := b.Preview(b.Operator, func(a usecase.Actor) error {
			_, err := b.DNS.AddRecord(ctx, a, "ferries.example", api.NewRecord{Name: "www", Type: "A",
				Data: "192.0.2.99"})
			return err
		})
		require.NotEmpty(t, p.Notes)
		_, err := b.DNS.AddRecord(ctx, b.Operator, "ferries.example", api.NewRecord{Name: "www", Type: "A",
			Data: "192.0.2.99"})
		require.NoError(t, err)
		file, err := b.DNS.ZoneFile(ctx, b.Operator, "ferries.example")
		require.NoError(t, err)
		assert.Contains(t, file, "192.0.2.99")
		assert.Equal(t, 1, strings.Count(file, "\nwww\t"))
		_, err = b.DNS.ResetZone(ctx, b.Operator, "ferries.example", api.ZoneReset{Name: "www"})
		require.NoError(t, err)
		file, err = b.DNS.ZoneFile(ctx, b.Operator, "ferries.example")
		require.NoError(t, err)
		assert.NotContains(t, file, "192.0.2.99")
		_, err = b.DNS.ResetZone(ctx, b.Operator, "ferries.example", api.ZoneReset{})
		servicetest.Refused(t, refusal.WrongState, err)
	})
	t.Run("removing", func(t *testing.T) {
		r := record(t, b, "ferries.example", "mail", "A")[0]
		_, err := b.DNS.RemoveRecord(ctx, b.Operator, "ferries.example", r.ID)
		require.NoError(t, err)
		_, err = b.DNS.RemoveRecord(ctx, b.Operator, "ferries.example", r.ID)
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("a version that was overtaken", func(t *testing.T) {
		data := "192.0.2.77"
		r := record(t, b, "ferries.example", "mail", "A")[0]
		_, err := b.DNS.ChangeRecord(ctx, b.Operator, "ferries.example", r.ID, 1, api.RecordChange{Data: &data})
		servicetest.Refused(t, refusal.Changed, err)
	})
}

func TestImportZone(t *testing.T) {
	ctx := t.Context()
	b, account := named(t)
	const text = "$TTL 300\n@ IN MX 10 mail\nmail IN A 192.0.2.9\n"
	p := b.Preview(b.Operator, func(a usecase.Actor) error {
		_, err := b.DNS.ImportZone(ctx, a, "ferries.example", api.ZoneImport{Text: text})
		return err
	})
	assert.NotEmpty(t, p.Summary)
	changed, err := b.DNS.ImportZone(ctx, b.Operator, "ferries.example", api.ZoneImport{Text: text})
	require.NoError(t, err)
	assert.Equal(t, 2, changed.Added)
	b.Work()
	m, _ := b.Agents.On(2).InForce(account.ID)
	assert.Contains(t, m.Zones[0].Records, recordOf("mail", "A", 300, "192.0.2.9"))

	_, err = b.DNS.ImportZone(ctx, b.Operator, "ferries.example",
		api.ZoneImport{Text: "a IN A 192.0.2.1\nb IN A nonsense\n"})
	r := servicetest.Refused(t, refusal.InvalidInput, err)
	require.Len(t, r.Fields, 1)
	assert.Equal(t, "text.line_2", r.Fields[0].Name, "it says which line")
	assert.Empty(t, record(t, b, "ferries.example", "a", "A"), "all or none")
	_, err = b.DNS.ImportZone(ctx, b.Operator, "ferries.example", api.ZoneImport{})
	servicetest.Refused(t, refusal.InvalidInput, err)
	t.Run("replacing what is there", func(t *testing.T) {
		_, err := b.DNS.ImportZone(ctx, b.Operator, "ferries.example", api.ZoneImport{Text: "c IN A 192.0.2.3\n",
			Replace: true})
		require.NoError(t, err)
		assert.Empty(t, record(t, b, "ferries.example", "mail", "A"))
		assert.NotEmpty(t, record(t, b, "ferries.example", "c", "A"))
	})
}

func TestChangeZone(t *testing.T) {
	ctx := t.Context()
	b, account := named(t)
	on := true
	_, err := b.DNS.ChangeZone(ctx, b.Operator, "ferries.example", 0, api.ZoneChange{DNSSEC: &on})
	require.NoError(t, err)
	b.Work()
	m, _ := b.Agents.On(2).InForce(account.ID)
	assert.True(t, m.Zones[0].Signed)

	t.Run("without the feature", func(t *testing.T) {
		b.Account(b.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Tern Ferries",
			Server: "skua"})
		z, err := b.DNS.Zone(ctx, b.Operator, "bare.example")
		require.NoError(t, err)
		assert.Equal(t, "elsewhere", z.Hosted)
		assert.NotEmpty(t, z.Why)
		_, err = b.DNS.ChangeZone(ctx, b.Operator, "bare.example", 0, api.ZoneChange{Hosted: "here"})
		servicetest.Refused(t, refusal.NotAllowed, err)
		_, err = b.DNS.AddRecord(ctx, b.Operator, "bare.example", api.NewRecord{Name: "a", Type: "A",
			Data: "192.0.2.1"})
		servicetest.Refused(t, refusal.WrongState, err)
	})
}
