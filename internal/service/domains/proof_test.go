package domains_test

import (
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/resolve"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// publicDNS is what a resolver answers: records by name and type.
type publicDNS struct {
	mu      sync.Mutex
	records map[string]string
}

func (p *publicDNS) set(name, kind, data string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.records[name+". "+kind] = fmt.Sprintf("%s. 60 IN %s %s", name, kind, data)
}

// ServeDNS implements dns.Handler.
func (p *publicDNS) ServeDNS(w dns.ResponseWriter, question *dns.Msg) {
	reply := new(dns.Msg).SetReply(question)
	p.mu.Lock()
	q := question.Question[0]
	if text, known := p.records[strings.ToLower(q.Name)+" "+dns.TypeToString[q.Qtype]]; known {
		rr, err := dns.NewRR(text)
		if err == nil {
			reply.Answer = append(reply.Answer, rr)
		}
	}
	p.mu.Unlock()
	_ = w.WriteMsg(reply)
}

// withDNS has a bench ask a resolver of the test's.
func withDNS(t *testing.T, b *servicetest.Bench) *publicDNS {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &publicDNS{records: map[string]string{}}
	server := &dns.Server{PacketConn: conn, Handler: p}
	go func() { _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	b.Base.Resolver = resolve.New(conn.LocalAddr().String())
	return p
}

// proving is a bench where domains have to be proved, with accounts of two customers.
func proving(t *testing.T, mode string) (b *servicetest.Bench, public *publicDNS, tern, auk usecase.Actor) {
	t.Helper()
	b, _ = harbour(t)
	public = withDNS(t, b)
	_, err := b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{DomainProof: &mode})
	require.NoError(t, err)
	tern, auk = b.Customer("Tern Cargo", ""), b.Customer("Auk Boats", "")
	b.Plan("pier", plans.Limits{plans.Domains: plans.Of(20), plans.Subdomains: plans.Of(20)})
	b.Account(b.Operator, api.OpenAccount{Domain: "cargo.example", Plan: "pier", Customer: "Tern Cargo"})
	b.Account(b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour", Customer: "Auk Boats"})
	return b, public, tern, auk
}

func served(b *servicetest.Bench, account string) []string {
	row, err := b.Accounts.Account(b.Context(), b.Operator, account)
	if err != nil {
		return []string{err.Error()}
	}
	m, _ := b.Agents.On(1).InForce(row.ID)
	var list []string
	for _, s := range m.Sites {
		list = append(list, s.Domain.String())
	}
	return list
}

func TestDomainsAreServedWhenProved(t *testing.T) {
	ctx := t.Context()
	b, public, tern, auk := proving(t, "require")
	added, err := b.Domains.AddDomain(ctx, tern, "cargo", api.NewDomain{Domain: "skerry.example"})
	require.NoError(t, err)
	b.Work()
	p := added.Domain.Proof
	require.NotNil(t, p)
	assert.True(t, p.Waiting)
	assert.Equal(t, "_hosting-proof.skerry.example", p.Record)
	assert.Len(t, p.Text, 32)
	assert.Equal(t, []string{"cargo.example"}, served(b, "cargo"))
	_, err = b.DNS.Zone(ctx, tern, "skerry.example")
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.Certs.Certificate(ctx, tern, "cargo", "skerry.example")
	assert.Contains(t, servicetest.Refused(t, refusal.WrongState, err).Error(), "nothing shows that it is yours")
	detail, err := b.Accounts.Account(ctx, tern, "cargo")
	require.NoError(t, err)
	require.Len(t, detail.Warnings, 1)
	assert.Contains(t, detail.Warnings[0].Mend, p.Text)

	// It keeps nobody else from the name, and nobody learns who else has it.
	again, err := b.Domains.AddDomain(ctx, auk, "auk", api.NewDomain{Domain: "skerry.example"})
	require.NoError(t, err)
	assert.NotEqual(t, p.Text, again.Domain.Proof.Text)
	taken, err := b.Accounts.CheckDomain(ctx, auk, "ferries.example")
	require.NoError(t, err)
	assert.Empty(t, taken.Taken)
	preview := b.Preview(auk, func(a usecase.Actor) error {
		_, err := b.Domains.AddDomain(ctx, a, "auk", api.NewDomain{Domain: "ferries.example"})
		return err
	})
	free := b.Preview(auk, func(a usecase.Actor) error {
		_, err := b.Domains.AddDomain(ctx, a, "auk", api.NewDomain{Domain: "nobodys.example"})
		return err
	})
	assert.Equal(t, strings.ReplaceAll(fmt.Sprint(free.Notes), "nobodys", "ferries"), fmt.Sprint(preview.Notes))
	_, err = b.Domains.AddDomain(ctx, tern, "cargo", api.NewDomain{Domain: "skerry.example"})
	servicetest.Refused(t, refusal.DomainTaken, err)

	_, err = b.Domains.ProveDomain(ctx, tern, "cargo", "skerry.example", false)
	assert.Contains(t, servicetest.Refused(t, refusal.WrongState, err).Error(), "there is no TXT record at")
	_, err = b.Domains.ProveDomain(ctx, tern, "cargo", "skerry.example", true)
	servicetest.Refused(t, refusal.NotAllowed, err)
	_, err = b.Domains.ProveDomain(ctx, tern, "auk", "skerry.example", false)
	servicetest.Refused(t, refusal.NotFound, err)

	public.set("skerry.example", "A", "192.0.2.10")
	public.set(p.Record, "TXT", `"`+again.Domain.Proof.Text+`"`)
	_, err = b.Domains.ProveDomain(ctx, tern, "cargo", "skerry.example", false)
	assert.Contains(t, servicetest.Refused(t, refusal.WrongState, err).Error(), "says something else")
	public.set(p.Record, "TXT", `"`+p.Text+`"`)
	b.Pass(2 * time.Minute)
	require.NoError(t, b.Domains.CheckProofs(ctx))
	b.Work()
	assert.Equal(t, []string{"cargo.example", "skerry.example"}, served(b, "cargo"))
	assert.Equal(t, []string{"auk.example"}, served(b, "auk"), "the other one still waits")
	_, err = b.DNS.Zone(ctx, tern, "skerry.example")
	assert.NoError(t, err)
	_, err = b.Certs.Certificate(ctx, tern, "cargo", "skerry.example")
	assert.NoError(t, err)
	assert.Contains(t, b.Events("cargo"), "domain.prove account 2 cargo")

	// What lies below is proved with it.
	below, err := b.Domains.AddDomain(ctx, tern, "cargo", api.NewDomain{Domain: "shop.skerry.example"})
	require.NoError(t, err)
	assert.Nil(t, below.Domain.Proof)
	// Who proves what somebody else has is told, and gets nothing by it.
	public.set(p.Record, "TXT", `"`+again.Domain.Proof.Text+`"`)
	_, err = b.Domains.ProveDomain(ctx, auk, "auk", "skerry.example", false)
	servicetest.Refused(t, refusal.DomainTaken, err)
	b.Work()
	assert.Equal(t, []string{"auk.example"}, served(b, "auk"))
}

func TestWhatLeadsHereIsProved(t *testing.T) {
	ctx := t.Context()
	b, public, tern, auk := proving(t, "require")
	server, err := b.Store.ServerByID(ctx, 1)
	require.NoError(t, err)
	ours := usecase.AddressesOf(server)[0]
	for _, name := range []string{"skerry.example", "claimed.example", "blog.ferries.example", "former.example"} {
		public.set(name, "A", ours)
	}
	public.set("away.example", "A", "198.51.100.7")

	// Another customer had the name: that it still leads here is no proof.
	_, err = b.Domains.AddDomain(ctx, b.Operator, "ferries", api.NewDomain{Domain: "former.example"})
	require.NoError(t, err)
	_, err = b.Domains.RemoveDomain(ctx, b.Operator, "ferries", "former.example")
	require.NoError(t, err)
	b.Work()
	_, err = b.Domains.AddDomain(ctx, auk, "auk", api.NewDomain{Domain: "claimed.example"})
	require.NoError(t, err)
	for _, name := range []string{"skerry.example", "claimed.example", "blog.ferries.example", "former.example",
		"away.example"} {
		added, err := b.Domains.AddDomain(ctx, tern, "cargo", api.NewDomain{Domain: name})
		require.NoError(t, err)
		assert.NotNil(t, added.Domain.Proof, name)
	}
	require.NoError(t, b.Domains.CheckProofs(ctx))
	b.Work()
	assert.Equal(t, []string{"cargo.example", "skerry.example"}, served(b, "cargo"))
	d, err := b.Domains.Domain(ctx, tern, "cargo", "former.example")
	require.NoError(t, err)
	assert.Contains(t, d.Proof.Failed, "somebody else has or had it")

	vouched, err := b.Domains.ProveDomain(ctx, b.Operator, "cargo", "former.example", true)
	require.NoError(t, err)
	assert.Nil(t, vouched.Domain.Proof)
	// When nothing is asked any longer, who waits is served, but for what others have.
	off := "off"
	_, err = b.Settings.ChangeSettings(ctx, b.Operator, 0, api.SettingsChange{DomainProof: &off})
	require.NoError(t, err)
	b.Pass(2 * time.Minute)
	require.NoError(t, b.Domains.CheckProofs(ctx))
	b.Work()
	assert.Contains(t, served(b, "cargo"), "away.example")
	assert.NotContains(t, served(b, "cargo"), "blog.ferries.example")
}

func TestWarningsOfWhatIsNotProved(t *testing.T) {
	ctx := t.Context()
	b, public, tern, auk := proving(t, "warn")
	added, err := b.Domains.AddDomain(ctx, tern, "cargo", api.NewDomain{Domain: "skerry.example"})
	require.NoError(t, err)
	b.Work()
	require.NotNil(t, added.Domain.Proof)
	assert.False(t, added.Domain.Proof.Waiting)
	assert.Equal(t, []string{"cargo.example", "skerry.example"}, served(b, "cargo"))
	_, err = b.Domains.AddDomain(ctx, auk, "auk", api.NewDomain{Domain: "skerry.example"})
	servicetest.Refused(t, refusal.DomainTaken, err)
	byOperator, err := b.Domains.AddDomain(ctx, b.Operator, "cargo", api.NewDomain{Domain: "byus.example"})
	require.NoError(t, err)
	assert.Nil(t, byOperator.Domain.Proof)
	d, err := b.Domains.Domain(ctx, tern, "cargo", "skerry.example")
	require.NoError(t, err)
	require.Len(t, d.Warnings, 1)
	public.set(added.Domain.Proof.Record, "TXT", `"`+added.Domain.Proof.Text+`"`)
	require.NoError(t, b.Domains.CheckProofs(ctx))
	d, err = b.Domains.Domain(ctx, tern, "cargo", "skerry.example")
	require.NoError(t, err)
	assert.Empty(t, d.Warnings)
}

// A reseller opens an account whose domain is not proved yet: the
// account is there, its site is not.
func TestAccountsWhoseDomainWaits(t *testing.T) {
	ctx := t.Context()
	b, public, _, _ := proving(t, "require")
	reseller := b.Reseller("harbour-house", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB),
		plans.Domains: plans.Of(20), plans.PHPWorkers: plans.Of(20)})
	b.PlanOf("harbour-house", "quay", nil)
	_, err := b.Selling.AddCustomer(ctx, reseller, api.NewCustomer{Name: "Eider"})
	require.NoError(t, err)
	account := b.Account(reseller, api.OpenAccount{Domain: "eider.example", Plan: "quay", Customer: "Eider"})
	require.Len(t, account.Domains, 1)
	p := account.Domains[0].Proof
	require.NotNil(t, p)
	assert.Empty(t, served(b, account.SignInName))
	public.set(p.Record, "TXT", `"`+p.Text+`"`)
	_, err = b.Domains.ProveDomain(ctx, reseller, account.SignInName, "eider.example", false)
	require.NoError(t, err)
	b.Work()
	assert.Equal(t, []string{"eider.example"}, served(b, account.SignInName))
}
