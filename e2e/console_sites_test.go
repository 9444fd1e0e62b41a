package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
)

func TestConsoleForSites(t *testing.T) {
	i := shared(t)
	background := context.Background()
	a := opened(t, api.OpenAccount{Domain: "pilots.example", SignInName: "pilots", Server: "skua"})
	detail := func(name string) (d api.DomainDetail) {
		t.Helper()
		require.NoError(t, i.Client.Get(background, domains(a.ID)+"/"+name, nil, &d))
		return d
	}
	finished := sees(".steps, ol", "verify")
	ctx := browser(t, 1280, 900)
	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/pilots"), signIn(), sees("td", "pilots.example"))

	t.Run("a redirect is added", func(t *testing.T) {
		do(t, ctx, click("button", "Add a domain"), typeIn("#new-domain", "old-pilots.example"),
			click("label", "Redirect"), typeIn("#target", "old-pilots.example/x"),
			click("button", "Add it"), sees("[role=alert]", "in a circle"))
		healthy(t, ctx, "adding a domain")
		do(t, ctx, retype("#target", "pilots.example/now"), click("button", "Add it"),
			sees("td", "301 → https://pilots.example/now"))
		settled(t)
		assert.Equal(t, "https://pilots.example/now/",
			visit(t, "skua", "http://old-pilots.example/").header.Get("Location"))
	})
	t.Run("settings are changed, looked at first, and kept", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/pilots/domains/pilots.example"), sees("h2", "Settings"),
			sees("label", "largest upload"))
		healthy(t, ctx, "a domain")
		do(t, ctx, retype("#setting-largest_upload", "20"), sees("[role=alert]", "20 what?"),
			retype("#setting-largest_upload", "20M"),
			retype("#setting-hsts", "30d"), click("button", "Keep 2 changes"),
			sees(".bar", "nothing can take that back"))
		healthy(t, ctx, "a decision")
		do(t, ctx, click("label", "I know that this cannot be taken back"), click("button", "Preview"),
			sees(".preview th", "largest upload"), sees(".preview pre", "client_max_body_size"),
			click("button", "Keep 2 changes"), finished, sees(".source", "set here"))
		settled(t)
		assert.Equal(t, "max-age=2592000",
			visit(t, "skua", "https://pilots.example/").header.Get("Strict-Transport-Security"))
		assert.Equal(t, 2, detail("pilots.example").Own)
	})
	t.Run("the server's own refusal stands at the field", func(t *testing.T) {
		do(t, ctx, retype("#setting-php_memory", "4G"), click("button", "Keep the change"),
			sees("[role=alert]", "at most 128M for this account"), click("button", "Leave it"))
	})
	t.Run("a folder is protected", func(t *testing.T) {
		do(t, ctx, click("button", "Protect a folder"), typeIn("#folder-path", "../x"), typeIn("#folder-user", "anna"),
			typeIn("#folder-password", "eight or more"),
			click("button", "Protect it"), sees("[role=alert]", "plain path"))
		healthy(t, ctx, "protecting a folder")
		do(t, ctx, retype("#folder-path", "crew"), click("button", "Protect it"), sees("td", "/crew"))
		assert.Equal(t, []string{"anna"}, detail("pilots.example").Protected[0].Users)
		settled(t)
		assert.Equal(t, 401, visit(t, "skua", "http://pilots.example/crew/").status)
	})
	t.Run("the log is followed, the name traced", func(t *testing.T) {
		do(t, ctx, click("button", "Follow"), sees("[role=status]", "following"))
		visit(t, "skua", "http://pilots.example/seen-by-many")
		do(t, ctx, sees("pre", "/seen-by-many"), click("button", "Stop"), click("button", "Trace the name"),
			sees(".trace", "visitors do not find it"))
		healthy(t, ctx, "a domain with its log and trace")
	})
	t.Run("templates", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/templates/add"), typeIn("#template-name", "pilotage"),
			retype("#setting-static_caching", "1h"), click("button", "Add it"), sees("h1", "pilotage"))
		healthy(t, ctx, "a template")
		changeDomain(t, a.ID, "pilots.example", api.DomainChange{Template: ptr("pilotage")})
		do(t, ctx, chromedp.Navigate(i.Address()+"/templates"), sees("td", "pilotage"),
			chromedp.Navigate(i.Address()+"/templates/pilotage"), sees("label", "compression"),
			retype("#setting-static_caching", "2h"), click("button", "Preview"), sees(".preview", "1h → 2h"),
			click("button", "Keep it, for 1 site"), finished)
		settled(t)
		for _, s := range detail("pilots.example").Settings {
			if s.Key == "static_caching" {
				assert.EqualValues(t, 7200, s.Value)
				assert.Equal(t, "template pilotage", s.Source)
			}
		}
	})
	t.Run("on a phone", func(t *testing.T) {
		do(t, ctx, chromedp.EmulateViewport(390, 800),
			chromedp.Navigate(i.Address()+"/accounts/pilots/domains/pilots.example"), sees("label", "largest upload"),
			until(`document.documentElement.scrollWidth <= innerWidth`))
		healthy(t, ctx, "a domain on a phone")
	})
}

func ptr[T any](v T) *T { return &v }
