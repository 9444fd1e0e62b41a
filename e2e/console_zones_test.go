package e2e

import (
	"net/netip"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/standins/publicdns"
)

func TestConsoleForZones(t *testing.T) {
	i := shared(t)
	namedServers(t)
	account := opened(t, api.OpenAccount{Domain: "soundings.example", Server: "skua", Plan: "chart"})
	defer func() { closeAccount(t, account) }()
	i.PublicDNS.Delegate("soundings.example", publicdns.Delegation{NameServers: []string{ns1},
		Glue: map[string][]netip.Addr{}})
	ctx := openBrowser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/zones?search=sound"), signIn(),
		browser.Click("td a", "soundings.example"),
		browser.Sees("h1", "soundings.example"), browser.Sees("td", "the site soundings.example"))
	healthy(t, ctx, "zone")

	t.Run("a record with a missing dot is asked about, and added", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Add a record"), browser.Type("#record-name", "@"),
			browser.Choose("#record-type", "MX"),
			browser.Type("#record-data", "10 mx.provider.test"), browser.Click("button", "Add record"),
			browser.Sees("[role=alert]", "is mx.provider.test the whole name"))
		healthy(t, ctx, "record with a question")
		do(t, ctx, browser.Click(".draft button", "the whole name"),
			browser.Until(`document.querySelector('#record-data').value === '10 mx.provider.test.'`),
			browser.Click("button", "Preview"),
			browser.Sees(".preview", "+soundings.example. 3600 MX 10 mx.provider.test."),
			browser.Click("button", "Add record"),
			browser.Sees(".outcome", "Done in"), browser.Sees("td code", "10 mx.provider.test."))
		assert.Equal(t, "10 mx.provider.test.", answers(t, "petrel", "soundings.example", "MX"))
	})

	t.Run("an own record that replaces a derived one is shown, and reset", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Add a record"), browser.Type("#record-name", "www"),
			browser.Type("#record-data", "not an address"), browser.Click("button", "Add record"),
			browser.Sees(".warn", "no IPv4 address"),
			browser.Retype("#record-data", "192.0.2.9"), browser.Click("button", "Add record"),
			browser.Sees("td", "replaced by an own record"))
		settled(t)
		do(t, ctx, browser.Click("button", "Reset 1, in whose place"), browser.Confirm("Remove"),
			browser.Until(`!document.body.textContent.includes('replaced by an own record')`))
		settled(t)
		assert.Equal(t, i.Servers["skua"].Address.String(), answers(t, "petrel", "www.soundings.example", "A"))
	})

	t.Run("public DNS is checked", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Check public DNS"),
			browser.Sees("section.public", "public DNS has other name servers than ours"),
			browser.Sees("section.public dd", "have the registrar delegate it to "+ns1))
		healthy(t, ctx, "check of a zone")
		i.PublicDNS.Delegate("soundings.example", publicdns.Delegation{NameServers: []string{ns1, ns2}})
		do(t, ctx, browser.Click("button", "Ask again"), browser.Sees("section.public", "everything is right"))
	})

	t.Run("a zone file with wrong lines is not taken over", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Import"), browser.Type("#zone-text", "a IN A 192.0.2.1\nb IN A nonsense"),
			browser.Click(".el-dialog button", "Import records"), browser.Sees(".lines li", "line 2"))
		healthy(t, ctx, "import")
		assert.Equal(t, "NXDOMAIN", answers(t, "petrel", "a.soundings.example", "A"))
		do(t, ctx, browser.Retype("#zone-text", "a IN A 192.0.2.1"),
			browser.Click(".el-dialog button", "Import records"),
			browser.Sees("td code", "192.0.2.1"))
	})

	t.Run("signing", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Sign the zone"), browser.Confirm("Change"),
			browser.Sees("dt", "DS, for the registrar"))
		healthy(t, ctx, "signed zone")
	})
	require.NotEmpty(t, recordOf(zoneOf(t, "soundings.example"), "a", "A"))
}
