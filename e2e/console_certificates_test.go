package e2e

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

func TestConsoleForCertificates(t *testing.T) {
	withAuthority(t)
	i := shared(t)
	account := certified(t, api.OpenAccount{Domain: "lantern.example"})
	ctx := openBrowser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/certificates?search=lantern"), signIn(), browser.Sees("td", "89 days"))
	healthy(t, ctx, "certificates")
	do(t, ctx, browser.Click("td a", "lantern.example"), browser.Sees(".state", "valid"), browser.Sees("td", "in use"))
	healthy(t, ctx, "certificate")

	t.Run("a rehearsal, and an order", func(t *testing.T) {
		before := certificateOf(t, account.ID, "lantern.example").Serial
		do(t, ctx, browser.Click("button", "Rehearse"), browser.Sees("dd", "would pass over HTTP"))
		healthy(t, ctx, "rehearsal")
		do(t, ctx, browser.Click("button", "Order now"), browser.Sees(".outcome", "Done in"),
			browser.Sees("td", "retired"))
		assert.NotEqual(t, before, certificateOf(t, account.ID, "lantern.example").Serial)
	})

	t.Run("names that would fail are asked about", func(t *testing.T) {
		i.PublicDNS.Forget("lantern.example")
		require.NoError(t, i.PublicDNS.Serve("lantern.example", "@ A "+i.Servers["skua"].Address.String()+"\n"))
		do(t, ctx, browser.Click("button", "Order now"), browser.Sees("[role=alert]", "www.lantern.example would fail"),
			browser.Click("[role=alert] button", "Order for the others"), browser.Sees(".outcome", "Done in"),
			browser.Sees("dt", "www.lantern.example"))
		healthy(t, ctx, "a name left out")
	})

	t.Run("a request is made and what comes of it installed", func(t *testing.T) {
		do(t, ctx, browser.Click("button", "Signing request"), browser.Type("#organization", "Lantern Works"))
		healthy(t, ctx, "new signing request")
		do(t, ctx, browser.Type("#country", "1x"), browser.Click(".el-dialog button", "Make key"),
			browser.Sees("[role=alert]", "two capital letters"), browser.Retype("#country", "de"),
			browser.Click(".el-dialog button", "Make key"),
			browser.Until(
				`document.querySelector('[aria-label="Signing request"]')?.value.includes('BEGIN CERTIFICATE REQUEST')`),
			browser.Click(".el-dialog button", "Close"), browser.Sees("td", "Lantern Works, DE"))
		sells := openShop(t)
		key := newKey(t)
		text := pemChain(sells.sell(t, key.Public(), 5*24*time.Hour, "lantern.example"), sells.between)
		do(t, ctx, browser.Click("button", "Install a certificate"), browser.Paste("#brought", text),
			browser.Click(".el-dialog button", "Install"),
			browser.Sees("[role=alert]", "no key that is here"))
		healthy(t, ctx, "install with an error")
		do(t, ctx, browser.Paste("#brought-key", pemKey(t, key)),
			browser.Click(".el-dialog button", "Preview"), browser.Sees(".preview", "it ends in 4 days"),
			browser.Click(".el-dialog button", "Install"), browser.Sees(".outcome", "Done in"),
			browser.Sees(".state", "uploaded"))
		healthy(t, ctx, "uploaded")
		do(t, ctx, browser.Click("label", "automatic: from an authority"), browser.Click("button", "Save 1 change"),
			browser.Sees(".state", "valid"))
	})

	t.Run("a certificate is revoked", func(t *testing.T) {
		do(t, ctx, browser.Click("td button", "Revoke"), browser.Sees(".el-dialog", "The next one is ordered at once"))
		healthy(t, ctx, "revoke")
		do(t, ctx, browser.Click(".el-dialog label", "somebody else may have the key"),
			browser.Click(".el-dialog button", "Revoke"), browser.Sees("td", "revoked"))
		labtest.Eventually(t, func() bool { return certificateOf(t, account.ID, "lantern.example").State == "valid" })
	})

	t.Run("authorities", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/authorities"), browser.Sees("h2", "trial"))
		healthy(t, ctx, "authorities")
		do(t, ctx, browser.Click("button", "Change…"), browser.Click("button", "Add a bound"),
			browser.Click("button", "Save changes"),
			browser.Sees("dd", "300 orders in all within 3 hours"))
		healthy(t, ctx, "bounds")
		none := "none"
		does(t, "authority", "change", "trial", "--bounds", none)
		do(t, ctx, browser.Click("button", "Add an authority"), browser.Type("#directory", i.Authority.Directory()),
			chromedp.SetValue(chromedp.CSS("#root"), i.Authority.Root()),
			chromedp.SendKeys(chromedp.CSS("#root"), " "),
			browser.Click(".el-dialog button", "Ask the authority"), browser.Sees(".el-dialog", "authority.test"))
		healthy(t, ctx, "add an authority")
		do(t, ctx, browser.Type("#authority-name", "by-console"), browser.Click(".el-dialog label", "I agree"),
			browser.Click(".el-dialog button", "Add authority"), browser.Sees("h2", "by-console"))
		does(t, "authority", "remove", "by-console", "--yes")
	})

	phone := openBrowser(t, 390, 800)
	do(t, phone, chromedp.Navigate(i.Address()+"/certificates"), signIn(), browser.Sees("td", "lantern.example"))
	healthy(t, phone, "certificates on a phone")
	do(t, phone, chromedp.Navigate(i.Address()+"/accounts/"+account.SignInName+"/domains/lantern.example/certificate"),
		browser.Sees(".state", "valid"))
	healthy(t, phone, "certificate on a phone")
	var wide bool
	do(t, phone, browser.Eval(&wide, `document.documentElement.scrollWidth > innerWidth`))
	assert.False(t, wide)
	require.NoError(t, context.Cause(ctx))
}
