package hosting

import (
	"context"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

func TestConsole(t *testing.T) {
	i := e2e.Shared(t)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	standing := e2e.Opened(t, api.OpenAccount{Domain: "beacon.example", Server: "fulmar"})
	defer func() { e2e.CloseAccount(t, standing) }()

	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), browser.Type("#sign-in-name", i.Operator),
		browser.Type("#sign-in-password", "wrong"),
		browser.Click("button", "Sign in"), browser.Sees("[role=alert]", "wrong name or password"))
	e2e.Healthy(t, ctx, "sign-in")
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), e2e.SignIn(),
		browser.Sees("td", "beacon.example"))
	e2e.Healthy(t, ctx, "accounts")

	t.Run("the list keeps its filters in the address", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Retype(`input[aria-label="Search accounts"]`, "nothing-like-it"),
			browser.Sees("h2", "No account fits"))
		var address string
		e2e.Do(t, ctx, browser.Into(&address, chromedp.Location()))
		assert.Contains(t, address, "search=")
	})

	t.Run("an account is opened with the form", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), browser.Type("#domain", "beacon.example"),
			browser.Sees("[role=alert]", "hosted here already"),
			chromedp.Reload(), browser.Type("#domain", "https://WWW.Gannet-Rock.example/"),
			browser.Sees("li", "left out “https://”"),
			browser.Sees("li", "gannet-rock.example can be used"),
			browser.Until(`document.querySelector('#sign-in-name').value === 'gannetrock'`),
			browser.Retype("#sign-in-name", "root"), browser.Sees("[role=alert]", "is reserved"),
			browser.Retype("#sign-in-name", "gannet"),
			browser.Choose("#plan", "harbour"), browser.Sees(".hint", "100M disk"), browser.Choose("#server", "skua"),
			chromedp.Click(chromedp.CSS("#customer")), browser.Type("#customer", "tern"),
			browser.Click(".el-select-dropdown__item", "Tern Ferries"))
		e2e.Healthy(t, ctx, "open an account")
		e2e.Do(t, ctx, browser.Click("button", "Preview"),
			browser.Sees("h2", "Would open account gannet for gannet-rock.example on skua"),
			browser.Sees("code", "/etc/nginx/victualler/accounts/gannet.conf"))
		e2e.Healthy(t, ctx, "preview")
		assert.Empty(t, e2e.Traces(t, "skua", "gannet"), "a preview makes nothing")
		e2e.Do(t, ctx, browser.Click("button", "Open the account"), browser.Sees(".outcome", "Done in"),
			browser.Sees(".steps li", "verification"))
		status, _ := e2e.Page(t, "skua", "gannet-rock.example", "/")
		assert.Equal(t, 200, status)
		e2e.Do(t, ctx, browser.Click("a", "Go to the account"), browser.Sees("h1", "gannet-rock.example"))
		e2e.Healthy(t, ctx, "account")
	})

	t.Run("drift is seen and repaired by a click", func(t *testing.T) {
		conf := "/etc/nginx/victualler/accounts/gannet.conf"
		e2e.On(t, "skua", "sed -i 's/index index.php/index oops.php/' "+conf)
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/servers/skua"), browser.Click("button", "Sweep now"),
			browser.Sees("pre", "index oops.php"), browser.Sees("summary", conf))
		e2e.Healthy(t, ctx, "server with drift")
		e2e.Do(t, ctx, browser.Click("button", "Repair"), browser.Sees(".outcome", "Done in"),
			browser.Sees("section", "Nothing: the server holds what it should"))
		assert.Contains(t, e2e.On(t, "skua", "cat "+conf), "index index.php")
	})

	t.Run("an account is closed after its name was typed", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/gannet"), browser.Click("button", "Close the account"),
			browser.Sees("li", "deleted for good"), browser.Type("#close-name", "ganne"))
		e2e.Healthy(t, ctx, "close an account")
		var disabled bool
		e2e.Do(t, ctx,
			browser.Eval(&disabled,
				`[...document.querySelectorAll('.el-dialog button')].find(b => b.textContent.includes('Close the account')).disabled`))
		assert.True(t, disabled)
		e2e.Do(t, ctx, browser.Type("#close-name", "t"), browser.Click(".el-dialog button", "Close the account"),
			browser.Sees(".outcome", "Done in"))
		assert.Empty(t, e2e.Traces(t, "skua", "gannet"))
	})

	t.Run("any account is found from the keyboard", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/operations"), browser.Sees("td", "Close account"))
		e2e.Healthy(t, ctx, "operations")
		e2e.Do(t, ctx, browser.Press("/"), chromedp.KeyEvent("beac"), browser.Sees("#hits li", "beacon.example"),
			chromedp.KeyEvent("\r"), browser.Sees("h1", "beacon.example"))
	})

	t.Run("a session that ends keeps the form", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), browser.Type("#domain", "kept.example"),
			browser.Sees("li", "kept.example can be used"))
		password := resetPassword(t)
		e2e.Do(t, ctx, browser.Type("#domain", "x"), browser.Sees("h1", "Your session has ended"),
			browser.Type("#sign-in-password", password),
			browser.Click("button", "Sign in"),
			browser.Gone("#sign-in-title"), browser.Sees("li", "kept.examplex can be used"))
	})

	t.Run("servers", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/servers"), browser.Sees("td", "skua"),
			browser.Sees("td", "good"))
		e2e.Healthy(t, ctx, "servers")
		e2e.Do(t, ctx, browser.Click("button", "Add a server"), browser.Type("#label", "skua"),
			browser.Type("#address", "10.0.0.9"),
			browser.Click(".el-dialog button", "Add the server"), browser.Sees("[role=alert]", "already"))
	})

	t.Run("pages that are not there", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/nowhere"), browser.Sees("h1", "There is no such page"),
			chromedp.Navigate(i.Address()+"/accounts/nobody"), browser.Sees("[role=alert]", "there is no account"))
		response, err := http.Get(i.Address() + "/assets/nothing.js")
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 404, response.StatusCode)
	})
}

func TestConsoleWithoutAnswers(t *testing.T) {
	i := e2e.Shared(t)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/servers"), e2e.SignIn(), browser.Sees("td", "skua"))
	e2e.Do(t, ctx, browser.Block("*://*:*/api/v1/session"), chromedp.Reload(),
		browser.Sees("[role=alert]", "The service does not answer"))
	e2e.Healthy(t, ctx, "the session cannot be asked for")
	e2e.Do(t, ctx, browser.Block(), browser.Click("button", "Load the page again"), browser.Sees("td", "skua"))
	e2e.Do(t, ctx, browser.Block("*://*:*/*.js"), browser.Click("nav a", "Operations"),
		browser.Sees("[role=alert]", "The page could not be loaded"))
	e2e.Do(t, ctx, browser.Block(), browser.Click("button", "Load the page again"), browser.Sees("td", "skua"))
}

// resetPassword gives the operator a new password and signs the tests' own
// client in with it.
func resetPassword(t *testing.T) string {
	t.Helper()
	out, err := e2e.Inst.Daemon("operator", "reset", e2e.Inst.Operator).Output()
	require.NoError(t, err)
	_, password, found := strings.Cut(strings.TrimSpace(string(out)), ": ")
	require.True(t, found)
	e2e.Inst.Password = password
	_, err = e2e.Inst.Client.SignIn(context.Background(), api.SignIn{Name: e2e.Inst.Operator, Password: password})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(e2e.Inst.OperatorFile(), []byte(e2e.Inst.Operator+" "+password+"\n"), 0o600))
	return password
}

func TestConsoleOnAPhone(t *testing.T) {
	i := e2e.Shared(t)
	ctx := e2e.OpenBrowser(t, 390, 844)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/"), e2e.SignIn(), browser.Sees("h1", "Overview"))
	for _, path := range []string{"/", "/accounts", "/accounts/open", "/domains", "/zones", "/certificates", "/servers",
		"/servers/skua", "/operations", "/plans",
		"/plans/harbour", "/plans/compare?plan=harbour&plan=nothing",
		"/customers", "/resellers", "/people", "/events", "/settings", "/me"} {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+path), browser.Shows("main h1"))
		var overflow int
		labtest.Eventually(t, func() bool {
			e2e.Do(t, ctx,
				browser.Eval(&overflow, `document.documentElement.scrollWidth - document.documentElement.clientWidth`))
			return overflow <= 0
		}, "the page is wider than the phone: "+path)
	}
}
