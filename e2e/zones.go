package e2e

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/standins/publicdns"
)

// The installation's name servers, by the servers behind them.
const (
	NS1 = "ns1.ternisland.example" // petrel, the primary
	NS2 = "ns2.ternisland.example" // fulmar
)

// NamedServers gives the installation's name servers their names, in the settings and in public
// DNS, and makes a plan with DNS.
func NamedServers(t *testing.T) {
	t.Helper()
	i := Shared(t)
	names := []string{NS1, NS2}
	Patch(t, "/settings", api.SettingsChange{NameServers: &names}, nil)
	glue := map[string][]netip.Addr{}
	for n, label := range []string{"petrel", "fulmar"} {
		a := i.Servers[label].Address
		glue[names[n]] = []netip.Addr{a, lab.Address6(a)}
	}
	i.PublicDNS.Delegate("ternisland.example", publicdns.Delegation{NameServers: names, Glue: glue})
	err := i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "chart",
		Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(9),
			plans.Subdomains: plans.Of(9), plans.Mirrors: plans.Of(9), plans.PHPWorkers: plans.Of(2)},
		Features: plans.Features{"dns": true, "dnssec": true}}, nil)
	if err != nil {
		require.Equal(t, api.ProblemBase+"name-taken", ProblemOf(t, err).Type)
	}
}

// Answers asks one of our name servers, and returns data in the order of its text.
func Answers(t *testing.T, label, name, kind string) string {
	t.Helper()
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	m.RecursionDesired = false
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	reply, err := dns.ExchangeContext(ctx, m, netip.AddrPortFrom(Inst.Servers[label].Address, 53).String())
	if err != nil {
		return err.Error()
	}
	var data []string
	for _, rr := range reply.Answer {
		data = append(data, strings.TrimPrefix(rr.String(), rr.Header().String()))
	}
	if len(data) == 0 {
		return dns.RcodeToString[reply.Rcode]
	}
	slices.Sort(data)
	return strings.Join(data, ", ")
}

// OnZone changes a zone and waits for its operation.
func OnZone(t *testing.T, method, path string, body any) (api.ZoneChanged, api.Operation) {
	t.Helper()
	var changed api.ZoneChanged
	require.NoError(t, Inst.Client.Do(context.Background(), client.Call{Method: method, Path: path, Body: body},
		&changed), "%s %s", method, path)
	o := Watched(t, changed.Operation)
	require.Equal(t, "done", o.State, o.Failure)
	return changed, o
}

// ZoneOf is a zone with its records.
func ZoneOf(t *testing.T, name string) api.ZoneDetail {
	t.Helper()
	var z api.ZoneDetail
	require.NoError(t, Inst.Client.Get(context.Background(), "/zones/"+name, nil, &z))
	return z
}

// RecordOf lists the records of a zone under a name, of a kind.
func RecordOf(z api.ZoneDetail, name, kind string) []api.ZoneRecord {
	return slices.DeleteFunc(slices.Clone(z.Records), func(r api.ZoneRecord) bool {
		return r.Name != name || r.Type != kind
	})
}
