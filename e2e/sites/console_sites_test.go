package sites

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
)

func TestConsoleForSites(t *testing.T) {
	i := e2e.Shared(t)
	background := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "pilots.example", SignInName: "pilots", Server: "skua"})
	detail := func(name string) (d api.DomainDetail) {
		t.Helper()
		require.NoError(t, i.Client.Get(background, e2e.Domains(a.ID)+"/"+name, nil, &d))
		return d
	}
	finished := browser.Sees(".steps, ol", "verification")
	ctx := e2e.OpenBrowser(t, 1280, 900)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/pilots/domains"), e2e.SignIn(),
		browser.Sees("td", "pilots.example"))

	t.Run("a redirect is added", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Add a domain"), browser.Type("#new-domain", "old-pilots.example"),
			browser.Click("label", "Redirect"), browser.Type("#target", "old-pilots.example/x"),
			browser.Click("button", "Add domain"), browser.Sees("[role=alert]", "in a circle"))
		e2e.Healthy(t, ctx, "adding a domain")
		e2e.Do(t, ctx, browser.Retype("#target", "pilots.example/now"), browser.Click("button", "Add domain"),
			browser.Sees("td", "old-pilots.example"), browser.Click(".sections a", "Websites"),
			browser.Sees("td", "301 → https://pilots.example/now"))
		e2e.Healthy(t, ctx, "websites of an account")
		e2e.Settled(t)
		assert.Equal(t, "https://pilots.example/now/",
			e2e.Visit(t, "skua", "http://old-pilots.example/").Header.Get("Location"))
	})
	t.Run("settings are changed, looked at first, and kept", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/pilots/domains/pilots.example"),
			browser.Sees("h2", "Settings"), browser.Sees("label", "largest upload"))
		e2e.Healthy(t, ctx, "a domain")
		e2e.Do(t, ctx, browser.Retype("#setting-largest_upload", "20"), browser.Sees("[role=alert]", "20 what?"),
			browser.Retype("#setting-largest_upload", "20M"),
			browser.Retype("#setting-hsts", "30d"), browser.Click("button", "Save 2 changes"),
			browser.Sees(".bar", "nothing can take that back"))
		e2e.Healthy(t, ctx, "a decision")
		e2e.Do(t, ctx, browser.Click("label", "I know that this cannot be undone"), browser.Click("button", "Preview"),
			browser.Sees(".preview th", "largest upload"), browser.Sees(".preview pre", "client_max_body_size"),
			browser.Click("button", "Save 2 changes"), finished, browser.Sees(".source", "set here"))
		e2e.Settled(t)
		assert.Equal(t, "max-age=2592000",
			e2e.Visit(t, "skua", "https://pilots.example/").Header.Get("Strict-Transport-Security"))
		assert.Equal(t, 2, detail("pilots.example").Own)
	})
	t.Run("the server's own refusal stands at the field", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Retype("#setting-php_memory", "4G"), browser.Click("button", "Save 1 change"),
			browser.Sees("[role=alert]", "at most 128M for this account"), browser.Click("button", "Cancel"))
	})
	t.Run("a folder is protected", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Protect a folder"), browser.Type("#folder-path", "../x"),
			browser.Type("#folder-user", "anna"),
			browser.Type("#folder-password", "eight or more"),
			browser.Click("button", "Protect folder"), browser.Sees("[role=alert]", "plain path"))
		e2e.Healthy(t, ctx, "protecting a folder")
		e2e.Do(t, ctx, browser.Retype("#folder-path", "crew"), browser.Click("button", "Protect folder"),
			browser.Sees("td", "/crew"))
		assert.Equal(t, []string{"anna"}, detail("pilots.example").Protected[0].Users)
		e2e.Settled(t)
		assert.Equal(t, 401, e2e.Visit(t, "skua", "http://pilots.example/crew/").Status)
	})
	t.Run("the log is followed, the name traced", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Follow"), browser.Sees("[role=status]", "following"))
		e2e.Visit(t, "skua", "http://pilots.example/seen-by-many")
		e2e.Do(t, ctx, browser.Sees("pre", "/seen-by-many"), browser.Click("button", "Stop"),
			browser.Click("button", "Trace the name"),
			browser.Sees(".trace", "visitors do not find it"))
		e2e.Healthy(t, ctx, "a domain with its log and trace")
	})
	t.Run("templates", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/templates/add"), browser.Type("#template-name", "pilotage"),
			browser.Retype("#setting-static_caching", "1h"), browser.Click("button", "Add template"),
			browser.Sees("h1", "pilotage"))
		e2e.Healthy(t, ctx, "a template")
		e2e.ChangeDomain(t, a.ID, "pilots.example", api.DomainChange{Template: e2e.Pointer("pilotage")})
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/templates"), browser.Sees("td", "pilotage"),
			chromedp.Navigate(i.Address()+"/templates/pilotage"), browser.Sees("label", "compression"),
			browser.Retype("#setting-static_caching", "2h"), browser.Click("button", "Preview"),
			browser.Sees(".preview", "1h → 2h"),
			browser.Click("button", "Save, for 1 site"), finished)
		e2e.Settled(t)
		for _, s := range detail("pilots.example").Settings {
			if s.Key == "static_caching" {
				assert.EqualValues(t, 7200, s.Value)
				assert.Equal(t, "template pilotage", s.Source)
			}
		}
	})
	t.Run("on a phone", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.EmulateViewport(390, 800),
			chromedp.Navigate(i.Address()+"/accounts/pilots/domains/pilots.example"),
			browser.Sees("label", "largest upload"),
			browser.Until(`document.documentElement.scrollWidth <= innerWidth`))
		e2e.Healthy(t, ctx, "a domain on a phone")
	})
}
