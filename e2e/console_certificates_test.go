package e2e

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

func TestConsoleForCertificates(t *testing.T) {
	withAuthority(t)
	i := shared(t)
	account := certified(t, api.OpenAccount{Domain: "lantern.example"})
	ctx := browser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/certificates?search=lantern"), signIn(), sees("td", "89 days"))
	healthy(t, ctx, "certificates")
	do(t, ctx, click("td a", "lantern.example"), sees(".state", "valid"), sees("td", "in use"))
	healthy(t, ctx, "certificate")

	t.Run("a rehearsal, and an order", func(t *testing.T) {
		before := certificateOf(t, account.ID, "lantern.example").Serial
		do(t, ctx, click("button", "Rehearse"), sees("dd", "would pass over HTTP"))
		healthy(t, ctx, "rehearsal")
		do(t, ctx, click("button", "Order now"), sees(".outcome", "Done in"), sees("td", "retired"))
		assert.NotEqual(t, before, certificateOf(t, account.ID, "lantern.example").Serial)
	})

	t.Run("names that would fail are asked about", func(t *testing.T) {
		i.World.Forget("lantern.example")
		require.NoError(t, i.World.Serve("lantern.example", "@ A "+i.Servers["skua"].Address.String()+"\n"))
		do(t, ctx, click("button", "Order now"), sees("[role=alert]", "www.lantern.example would fail"),
			click("[role=alert] button", "Order for the others"), sees(".outcome", "Done in"),
			sees("dt", "www.lantern.example"))
		healthy(t, ctx, "a name left out")
	})

	t.Run("a request is made and what comes of it installed", func(t *testing.T) {
		do(t, ctx, click("button", "Signing request"), typeIn("#organization", "Lantern Works"))
		healthy(t, ctx, "new signing request")
		do(t, ctx, typeIn("#country", "1x"), click(".el-dialog button", "Make key"),
			sees("[role=alert]", "two capital letters"), retype("#country", "de"),
			click(".el-dialog button", "Make key"),
			until(`document.querySelector('[aria-label="Signing request"]')?.value.includes('BEGIN CERTIFICATE REQUEST')`),
			click(".el-dialog button", "Close"), sees("td", "Lantern Works, DE"))
		sells := openShop(t)
		key := newKey(t)
		text := pemChain(sells.sell(t, key.Public(), 5*24*time.Hour, "lantern.example"), sells.between)
		paste := func(selector, text string) chromedp.Action {
			return chromedp.SetValue(selector, text, chromedp.ByQuery)
		}
		do(t, ctx, click("button", "Install one"), paste("#brought", text),
			chromedp.SendKeys("#brought", " ", chromedp.ByQuery), click(".el-dialog button", "Install it"),
			sees("[role=alert]", "no key that is here"))
		healthy(t, ctx, "install with an error")
		do(t, ctx, paste("#brought-key", pemKey(t, key)), chromedp.SendKeys("#brought-key", " ", chromedp.ByQuery),
			click(".el-dialog button", "Preview"), sees(".preview", "it ends in 4 days"),
			click(".el-dialog button", "Install it"), sees(".outcome", "Done in"), sees(".state", "uploaded"))
		healthy(t, ctx, "uploaded")
		do(t, ctx, click("label", "by itself, from an authority"), click("button", "Keep the change"),
			sees(".state", "valid"))
	})

	t.Run("a certificate is revoked", func(t *testing.T) {
		do(t, ctx, click("td button", "Revoke"), sees(".el-dialog", "The next one is ordered at once"))
		healthy(t, ctx, "revoke")
		do(t, ctx, click(".el-dialog label", "somebody else may have the key"),
			click(".el-dialog button", "Have it revoked"), sees("td", "revoked"))
		labtest.Eventually(t, func() bool { return certificateOf(t, account.ID, "lantern.example").State == "valid" })
	})

	t.Run("authorities", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/authorities"), sees("h2", "trial"))
		healthy(t, ctx, "authorities")
		do(t, ctx, click("button", "Change…"), click("button", "Add a bound"), click("button", "Keep the changes"),
			sees("dd", "300 orders in all within 3 hours"))
		healthy(t, ctx, "bounds")
		none := "none"
		does(t, "authority", "change", "trial", "--bounds", none)
		do(t, ctx, click("button", "Add an authority"), typeIn("#directory", i.Authority.Directory()),
			chromedp.SetValue("#root", i.Authority.Root(), chromedp.ByQuery),
			chromedp.SendKeys("#root", " ", chromedp.ByQuery),
			click(".el-dialog button", "Ask it"), sees(".el-dialog", "authority.test"))
		healthy(t, ctx, "add an authority")
		do(t, ctx, typeIn("#authority-name", "by-console"), click(".el-dialog label", "I agree"),
			click(".el-dialog button", "Add it"), sees("h2", "by-console"))
		does(t, "authority", "remove", "by-console", "--yes")
	})

	phone := browser(t, 390, 800)
	do(t, phone, chromedp.Navigate(i.Address()+"/certificates"), signIn(), sees("td", "lantern.example"))
	healthy(t, phone, "certificates on a phone")
	do(t, phone, chromedp.Navigate(i.Address()+"/accounts/"+account.SignInName+"/domains/lantern.example/certificate"),
		sees(".state", "valid"))
	healthy(t, phone, "certificate on a phone")
	var wide bool
	do(t, phone, chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide))
	assert.False(t, wide)
	require.NoError(t, context.Cause(ctx))
}
