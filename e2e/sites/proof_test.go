package sites

import (
	"context"
	"net/netip"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
	"victualler/internal/standins/publicdns"
)

// A customer brings domains: one that DNS shows to be theirs by a record, one whose zone is given
// to our name servers already, and one that is somebody else's.
func TestDomainsThatHaveToBeProved(t *testing.T) {
	i := e2e.Shared(t)
	e2e.NamedServers(t)
	ctx := context.Background()
	account := e2e.Opened(t, api.OpenAccount{Domain: "tideline.example", Server: "skua", Plan: "chart"})
	defer func() { e2e.CloseAccount(t, account) }()
	victim := e2e.Opened(t, api.OpenAccount{Domain: "eddystone.example", Server: "skua", Plan: "chart"})
	defer func() { e2e.CloseAccount(t, victim) }()
	e2e.Patch(t, "/settings", api.SettingsChange{DomainProof: e2e.Pointer("require")}, nil)
	defer e2e.Patch(t, "/settings", api.SettingsChange{DomainProof: e2e.Pointer("off")}, nil)
	customer := e2e.Person(t, api.NewPerson{Name: "tideline", Customer: account.CustomerID})
	bring := func(name string) api.DomainChanged {
		var added api.DomainChanged
		require.NoError(t, customer.Post(ctx, "/accounts/tideline.example/domains", api.NewDomain{Domain: name},
			&added))
		require.NotNil(t, added.Domain.Proof)
		e2e.Watched(t, added.Operation)
		return added
	}

	bring("eddystone.example")
	_, body := e2e.Page(t, "skua", "eddystone.example", "/")
	assert.Contains(t, body, "eddystone.example", "whose it is has it as before")
	i.PublicDNS.Delegate("eddystone.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2},
		Glue: map[string][]netip.Addr{}})
	defer i.PublicDNS.Forget("eddystone.example")
	p := e2e.ProblemOf(t, customer.Post(ctx, "/accounts/tideline.example/domains/eddystone.example/proof",
		api.ProofRequest{}, nil))
	assert.Contains(t, p.Detail, "somebody else has or had it")

	i.PublicDNS.Delegate("ebb.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2},
		Glue: map[string][]netip.Addr{}})
	defer i.PublicDNS.Forget("ebb.example")
	bring("ebb.example")
	labtest.Eventually(t, func() bool { // asked by itself
		status, _ := e2e.Page(t, "skua", "ebb.example", "/")
		return status == 200
	})

	flow := bring("flow.example")
	status, _ := e2e.Page(t, "skua", "flow.example", "/")
	assert.Equal(t, 421, status, "nothing is served for it")
	assert.Contains(t, e2e.Does(t, "domain", "show", "flow.example"), flow.Domain.Proof.Text)
	e2e.Refuses(t, 1, "domain", "prove", "flow.example")
	tab := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, tab, chromedp.Navigate(i.Address()+"/accounts/tideline.example/domains/flow.example"),
		browser.SignIn("tideline", e2e.Password), browser.Sees("h2", "Not served yet"),
		browser.Sees("dd code", flow.Domain.Proof.Text), browser.Click("button", "Ask DNS now"),
		browser.Sees("[role=alert]", "there is no TXT record"))
	e2e.Healthy(t, tab, "domain that waits")
	require.NoError(t, i.PublicDNS.Serve("flow.example", "_hosting-proof TXT \""+flow.Domain.Proof.Text+"\"\n"))
	e2e.Do(t, tab, browser.Click("button", "Ask DNS now"), browser.Sees(".outcome", "Done in"),
		browser.Until(`!document.body.textContent.includes('Not served yet')`))
	status, _ = e2e.Page(t, "skua", "flow.example", "/")
	assert.Equal(t, 200, status)
}
