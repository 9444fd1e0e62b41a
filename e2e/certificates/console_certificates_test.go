package certificates

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

func TestConsoleForCertificates(t *testing.T) {
	withAuthority(t)
	i := e2e.Shared(t)
	account := certified(t, api.OpenAccount{Domain: "lantern.example"})
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/certificates?search=lantern"), e2e.SignIn(),
		browser.Sees("td", "89 days"))
	e2e.Healthy(t, ctx, "certificates")
	e2e.Do(t, ctx, browser.Click("td a", "lantern.example"), browser.Sees(".state", "valid"),
		browser.Sees("td", "in use"))
	e2e.Healthy(t, ctx, "certificate")

	t.Run("a rehearsal, and an order", func(t *testing.T) {
		before := certificateOf(t, account.ID, "lantern.example").Serial
		e2e.Do(t, ctx, browser.Click("button", "Rehearse"), browser.Sees("dd", "would pass over HTTP"))
		e2e.Healthy(t, ctx, "rehearsal")
		e2e.Do(t, ctx, browser.Click("button", "Order now"), browser.Sees(".outcome", "Done in"),
			browser.Sees("td", "retired"))
		assert.NotEqual(t, before, certificateOf(t, account.ID, "lantern.example").Serial)
	})

	t.Run("names that would fail are asked about", func(t *testing.T) {
		i.PublicDNS.Forget("lantern.example")
		require.NoError(t, i.PublicDNS.Serve("lantern.example", "@ A "+i.Servers["skua"].Address.String()+"\n"))
		e2e.Do(t, ctx, browser.Click("button", "Order now"),
			browser.Sees("[role=alert]", "www.lantern.example would fail"),
			browser.Click("[role=alert] button", "Order for the others"), browser.Sees(".outcome", "Done in"),
			browser.Sees("dt", "www.lantern.example"))
		e2e.Healthy(t, ctx, "a name left out")
	})

	t.Run("a request is made and what comes of it installed", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Signing request"), browser.Type("#organization", "Lantern Works"))
		e2e.Healthy(t, ctx, "new signing request")
		e2e.Do(t, ctx, browser.Type("#country", "1x"), browser.Click(".el-dialog button", "Make key"),
			browser.Sees("[role=alert]", "two capital letters"), browser.Retype("#country", "de"),
			browser.Click(".el-dialog button", "Make key"),
			browser.Until(
				`document.querySelector('[aria-label="Signing request"]')?.value.includes('BEGIN CERTIFICATE REQUEST')`),
			browser.Click(".el-dialog button", "Close"), browser.Sees("td", "Lantern Works, DE"))
		sells := openShop(t)
		key := newKey(t)
		text := pemChain(sells.sell(t, key.Public(), 5*24*time.Hour, "lantern.example"), sells.between)
		e2e.Do(t, ctx, browser.Click("button", "Install a certificate"), browser.Paste("#brought", text),
			browser.Click(".el-dialog button", "Install"), browser.Sees("[role=alert]", "no key that is here"))
		e2e.Healthy(t, ctx, "install with an error")
		e2e.Do(t, ctx, browser.Paste("#brought-key", pemKey(t, key)),
			browser.Click(".el-dialog button", "Preview"), browser.Sees(".preview", "it ends in 4 days"),
			browser.Click(".el-dialog button", "Install"), browser.Sees(".outcome", "Done in"),
			browser.Sees(".state", "uploaded"))
		e2e.Healthy(t, ctx, "uploaded")
		e2e.Do(t, ctx, browser.Click("label", "automatic: from an authority"), browser.Click("button", "Save 1 change"),
			browser.Sees(".state", "valid"))
	})

	t.Run("a certificate is revoked", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("td button", "Revoke"),
			browser.Sees(".el-dialog", "The next one is ordered at once"))
		e2e.Healthy(t, ctx, "revoke")
		e2e.Do(t, ctx, browser.Click(".el-dialog label", "somebody else may have the key"),
			browser.Click(".el-dialog button", "Revoke"), browser.Sees("td", "revoked"))
		labtest.Eventually(t, func() bool { return issued(t, account.ID, "lantern.example") })
	})

	t.Run("authorities", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/authorities"), browser.Sees("h2", "trial"))
		e2e.Healthy(t, ctx, "authorities")
		e2e.Do(t, ctx, browser.Click("button", "Change…"), browser.Click("button", "Add a bound"),
			browser.Click("button", "Save changes"), browser.Sees("dd", "300 orders in all within 3 hours"))
		e2e.Healthy(t, ctx, "bounds")
		none := "none"
		e2e.Does(t, "authority", "change", "trial", "--bounds", none)
		e2e.Do(t, ctx, browser.Click("button", "Add an authority"), browser.Type("#directory", i.Authority.Directory()),
			chromedp.SetValue(chromedp.CSS("#root"), i.Authority.Root()),
			chromedp.SendKeys(chromedp.CSS("#root"), " "),
			browser.Click(".el-dialog button", "Ask the authority"), browser.Sees(".el-dialog", "authority.test"))
		e2e.Healthy(t, ctx, "add an authority")
		e2e.Do(t, ctx, browser.Type("#authority-name", "by-console"), browser.Click(".el-dialog label", "I agree"),
			browser.Click(".el-dialog button", "Add authority"), browser.Sees("h2", "by-console"))
		e2e.Does(t, "authority", "remove", "by-console", "--yes")
	})

	phone := e2e.OpenBrowser(t, 390, 800)
	e2e.Do(t, phone, chromedp.Navigate(i.Address()+"/certificates"), e2e.SignIn(),
		browser.Sees("td", "lantern.example"))
	e2e.Healthy(t, phone, "certificates on a phone")
	e2e.Do(t, phone,
		chromedp.Navigate(i.Address()+"/accounts/"+account.SignInName+"/domains/lantern.example/certificate"),
		browser.Sees(".state", "valid"))
	e2e.Healthy(t, phone, "certificate on a phone")
	var wide bool
	e2e.Do(t, phone, browser.Eval(&wide, `document.documentElement.scrollWidth > innerWidth`))
	assert.False(t, wide)
	require.NoError(t, context.Cause(ctx))
}
