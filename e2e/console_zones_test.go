package e2e

import (
	"net/netip"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/standins/world"
)

func TestConsoleForZones(t *testing.T) {
	i := shared(t)
	namedServers(t)
	account := opened(t, api.OpenAccount{Domain: "soundings.example", Server: "skua", Plan: "chart"})
	defer func() { closeAccount(t, account) }()
	i.World.Delegate("soundings.example", world.Delegation{NameServers: []string{ns1}, Glue: map[string][]netip.Addr{}})
	ctx := browser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/zones?search=sound"), signIn(), click("td a", "soundings.example"),
		sees("h1", "soundings.example"), sees("td", "the site soundings.example"))
	healthy(t, ctx, "zone")

	t.Run("a record with a missing dot is asked about, and added", func(t *testing.T) {
		do(t, ctx, click("button", "Add a record"), typeIn("#record-name", "@"), choose("#record-type", "MX"),
			typeIn("#record-data", "10 mx.provider.test"), click("button", "Add it"),
			sees("[role=alert]", "is mx.provider.test the whole name"))
		healthy(t, ctx, "record with a question")
		do(t, ctx, click(".draft button", "the whole name"),
			until(`document.querySelector('#record-data').value === '10 mx.provider.test.'`),
			click("button", "Preview"),
			sees(".preview", "+soundings.example. 3600 MX 10 mx.provider.test."), click("button", "Add it"),
			sees(".outcome", "Done in"), sees("td code", "10 mx.provider.test."))
		assert.Equal(t, "10 mx.provider.test.", answers(t, "petrel", "soundings.example", "MX"))
	})

	t.Run("an own record in the place of a derived one is shown, and reset", func(t *testing.T) {
		do(t, ctx, click("button", "Add a record"), typeIn("#record-name", "www"),
			typeIn("#record-data", "not an address"), click("button", "Add it"), sees(".warn", "no IPv4 address"),
			retype("#record-data", "192.0.2.9"), click("button", "Add it"),
			sees("td", "an own record stands in its place"))
		settled(t)
		do(t, ctx, chromedp.Evaluate("window.confirm = () => true", nil), click("button", "Reset 1, in whose place"),
			until(`!document.body.textContent.includes('an own record stands in its place')`))
		settled(t)
		assert.Equal(t, i.Servers["skua"].Address.String(), answers(t, "petrel", "www.soundings.example", "A"))
	})

	t.Run("the world is checked", func(t *testing.T) {
		do(t, ctx, click("button", "Check the world"), sees(".world", "the world asks other name servers than ours"),
			sees(".world dd", "have the registrar delegate it to "+ns1))
		healthy(t, ctx, "check of a zone")
		i.World.Delegate("soundings.example", world.Delegation{NameServers: []string{ns1, ns2}})
		do(t, ctx, click("button", "Ask again"), sees(".world", "everything is right"))
	})

	t.Run("a zone file with wrong lines is not taken over", func(t *testing.T) {
		do(t, ctx, click("button", "Import"), typeIn("#zone-text", "a IN A 192.0.2.1\nb IN A nonsense"),
			click(".el-dialog button", "Take them over"), sees(".lines li", "line 2"))
		healthy(t, ctx, "import")
		assert.Equal(t, "NXDOMAIN", answers(t, "petrel", "a.soundings.example", "A"))
		do(t, ctx, retype("#zone-text", "a IN A 192.0.2.1"), click(".el-dialog button", "Take them over"),
			sees("td code", "192.0.2.1"))
	})

	t.Run("signing", func(t *testing.T) {
		do(t, ctx, chromedp.Evaluate("window.confirm = () => true", nil), click("button", "Sign it"),
			sees("dt", "DS, for the registrar"))
		healthy(t, ctx, "signed zone")
	})
	require.NotEmpty(t, recordOf(zoneOf(t, "soundings.example"), "a", "A"))
}
