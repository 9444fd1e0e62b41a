package sites

import (
	"net/netip"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/standins/publicdns"
)

func TestConsoleForZones(t *testing.T) {
	i := e2e.Shared(t)
	e2e.NamedServers(t)
	account := e2e.Opened(t, api.OpenAccount{Domain: "soundings.example", Server: "skua", Plan: "chart"})
	defer func() { e2e.CloseAccount(t, account) }()
	i.PublicDNS.Delegate("soundings.example", publicdns.Delegation{NameServers: []string{e2e.NS1},
		Glue: map[string][]netip.Addr{}})
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/zones?search=sound"), e2e.SignIn(),
		browser.Click("td a", "soundings.example"),
		browser.Sees("h1", "soundings.example"), browser.Sees("td", "the site soundings.example"))
	e2e.Healthy(t, ctx, "zone")

	t.Run("a record with a missing dot is asked about, and added", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Add a record"), browser.Type("#record-name", "@"),
			browser.Choose("#record-type", "MX"),
			browser.Type("#record-data", "10 mx.provider.test"), browser.Click("button", "Add record"),
			browser.Sees("[role=alert]", "is mx.provider.test the whole name"))
		e2e.Healthy(t, ctx, "record with a question")
		e2e.Do(t, ctx, browser.Click(".draft button", "the whole name"),
			browser.Until(`document.querySelector('#record-data').value === '10 mx.provider.test.'`),
			browser.Click("button", "Preview"),
			browser.Sees(".preview", "+soundings.example. 3600 MX 10 mx.provider.test."),
			browser.Click("button", "Add record"),
			browser.Sees(".outcome", "Done in"), browser.Sees("td code", "10 mx.provider.test."))
		assert.Equal(t, "10 mx.provider.test.", e2e.Answers(t, "petrel", "soundings.example", "MX"))
	})

	t.Run("an own record that replaces a derived one is shown, and reset", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Add a record"), browser.Type("#record-name", "www"),
			browser.Type("#record-data", "not an address"), browser.Click("button", "Add record"),
			browser.Sees(".warn", "no IPv4 address"),
			browser.Retype("#record-data", "192.0.2.9"), browser.Click("button", "Add record"),
			browser.Sees("td", "replaced by an own record"))
		e2e.Settled(t)
		e2e.Do(t, ctx, browser.Click("button", "Reset 1 replaced record"), browser.Confirm("Remove"),
			browser.Until(`!document.body.textContent.includes('replaced by an own record')`))
		e2e.Settled(t)
		assert.Equal(t, i.Servers["skua"].Address.String(), e2e.Answers(t, "petrel", "www.soundings.example", "A"))
	})

	t.Run("public DNS is checked", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Check public DNS"),
			browser.Sees("section.public", "public DNS has other name servers than ours"),
			browser.Sees("section.public dd", "have the registrar delegate it to "+e2e.NS1))
		e2e.Healthy(t, ctx, "check of a zone")
		i.PublicDNS.Delegate("soundings.example", publicdns.Delegation{NameServers: []string{e2e.NS1, e2e.NS2}})
		e2e.Do(t, ctx, browser.Click("button", "Ask again"), browser.Sees("section.public", "everything is right"))
	})

	t.Run("a zone file with wrong lines is not taken over", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Import"),
			browser.Type("#zone-text", "a IN A 192.0.2.1\nb IN A nonsense"),
			browser.Click(".el-dialog button", "Import records"), browser.Sees(".lines li", "line 2"))
		e2e.Healthy(t, ctx, "import")
		assert.Equal(t, "NXDOMAIN", e2e.Answers(t, "petrel", "a.soundings.example", "A"))
		e2e.Do(t, ctx, browser.Retype("#zone-text", "a IN A 192.0.2.1"),
			browser.Click(".el-dialog button", "Import records"),
			browser.Sees("td code", "192.0.2.1"))
	})

	t.Run("signing", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Sign the zone"), browser.Confirm("Change"),
			browser.Sees("dt", "DS, for the registrar"))
		e2e.Healthy(t, ctx, "signed zone")
	})
	require.NotEmpty(t, e2e.RecordOf(e2e.ZoneOf(t, "soundings.example"), "a", "A"))
}
