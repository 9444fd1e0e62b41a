package e2e

import (
	"context"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

// openBrowser opens headless Chromium on the console. Errors that a page writes to its own console,
// refused by the content security policy among them, fail the test.
func openBrowser(t *testing.T, width, height int64) context.Context {
	t.Helper()
	require.NoError(t, lab.InstallPackages(context.Background(), func(s string) { t.Log(s) }, "chromium"))
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	t.Cleanup(cancel)
	ctx, stop, err := browser.Open(ctx, browser.Options{Width: width, Height: height})
	require.NoError(t, err)
	t.Cleanup(stop)
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *network.EventLoadingFailed: // worth knowing when something else fails
			if !e.Canceled {
				t.Logf("a request of the page failed: %s %s", e.Type, e.ErrorText)
			}
		case *network.EventResponseReceived:
			if e.Response.Status >= 400 {
				t.Logf("a request of the page was answered with %d: %s", e.Response.Status, e.Response.URL)
			}
		case *runtime.EventExceptionThrown:
			t.Errorf("the page throws: %+v", e.ExceptionDetails)
		case *log.EventEntryAdded:
			if strings.Contains(e.Entry.Text, "Content Security Policy") {
				t.Errorf("the page breaks its policy: %s", e.Entry.Text)
			}
		case *runtime.EventConsoleAPICalled:
			if e.Type == runtime.ConsoleAPICalledTypeError {
				for _, what := range e.Args {
					t.Errorf("the page complains: %s %s", what.Value, what.Description)
				}
			}
		}
	}))
	return ctx
}

func do(t *testing.T, ctx context.Context, actions ...browser.Action) {
	t.Helper()
	if err := chromedp.Do(ctx, actions...); err != nil {
		late, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		text, _ := chromedp.Run(late, chromedp.Text(chromedp.CSS("body")))
		if png, _ := chromedp.Run(late, chromedp.CaptureScreenshot()); len(png) > 0 {
			os.WriteFile("/tmp/victualler-console-failure.png", png, 0o600)
		}
		require.NoError(t, err, "the page shows:\n%s", text)
	}
}

func signIn() browser.Action { return browser.SignIn(inst.Operator, inst.Password) }

// healthy runs axe-core on the page and expects nothing serious.
func healthy(t *testing.T, ctx context.Context, what string) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "the console is built before the tests (make test)")
	var found []string
	// A colour that is still changing has no contrast worth measuring.
	do(t, ctx,
		browser.Until(
			`document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)`),
		browser.Script(string(axe)+`; 0`),
		browser.Eval(&found, `axe.run({resultTypes: ['violations']}).then(r => r.violations.filter(v => ['serious', 'critical'].includes(v.impact))
			.map(v => v.id + ': ' + v.help + ' – ' + v.nodes.slice(0, 3).map(n => n.html).join(' ')))`))
	assert.Empty(t, found, what)
}

func TestConsole(t *testing.T) {
	i := shared(t)
	ctx := openBrowser(t, 1280, 800)
	standing := opened(t, api.OpenAccount{Domain: "beacon.example", Server: "fulmar"})
	defer func() { closeAccount(t, standing) }()

	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), browser.Type("#sign-in-name", i.Operator),
		browser.Type("#sign-in-password", "wrong"),
		browser.Click("button", "Sign in"), browser.Sees("[role=alert]", "wrong name or password"))
	healthy(t, ctx, "sign-in")
	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), signIn(), browser.Sees("td", "beacon.example"))
	healthy(t, ctx, "accounts")

	t.Run("the list keeps its filters in the address", func(t *testing.T) {
		do(t, ctx, browser.Retype(`input[aria-label="Search accounts"]`, "nothing-like-it"),
			browser.Sees("h2", "No account fits"))
		var address string
		do(t, ctx, browser.Into(&address, chromedp.Location()))
		assert.Contains(t, address, "search=")
	})

	t.Run("an account is opened with the form", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), browser.Type("#domain", "beacon.example"),
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
		healthy(t, ctx, "open an account")
		do(t, ctx, browser.Click("button", "Preview"),
			browser.Sees("h2", "Would open account gannet for gannet-rock.example on skua"),
			browser.Sees("code", "/etc/nginx/victualler/accounts/gannet.conf"))
		healthy(t, ctx, "preview")
		assert.Empty(t, traces(t, "skua", "gannet"), "a preview makes nothing")
		do(t, ctx, browser.Click("button", "Open the account"), browser.Sees(".outcome", "Done in"),
			browser.Sees(".steps li", "verify"))
		status, _ := page(t, "skua", "gannet-rock.example", "/")
		assert.Equal(t, 200, status)
		do(t, ctx, browser.Click("a", "Go to the account"), browser.Sees("h1", "gannet-rock.example"))
		healthy(t, ctx, "account")
	})

	t.Run("drift is seen and repaired by a click", func(t *testing.T) {
		conf := "/etc/nginx/victualler/accounts/gannet.conf"
		on(t, "skua", "sed -i 's/index index.php/index oops.php/' "+conf)
		do(t, ctx, chromedp.Navigate(i.Address()+"/servers/skua"), browser.Click("button", "Sweep now"),
			browser.Sees("pre", "index oops.php"), browser.Sees("summary", conf))
		healthy(t, ctx, "server with drift")
		do(t, ctx, browser.Click("button", "Repair"), browser.Sees(".outcome", "Done in"),
			browser.Sees("section", "Nothing: the server holds what it should"))
		assert.Contains(t, on(t, "skua", "cat "+conf), "index index.php")
	})

	t.Run("an account is closed after its name was typed", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/gannet"), browser.Click("button", "Close the account"),
			browser.Sees("li", "deleted for good"),
			browser.Type("#close-name", "ganne"))
		healthy(t, ctx, "close an account")
		var disabled bool
		do(t, ctx,
			browser.Eval(&disabled,
				`[...document.querySelectorAll('.el-dialog button')].find(b => b.textContent.includes('Close the account')).disabled`))
		assert.True(t, disabled)
		do(t, ctx, browser.Type("#close-name", "t"), browser.Click(".el-dialog button", "Close the account"),
			browser.Sees(".outcome", "Done in"))
		assert.Empty(t, traces(t, "skua", "gannet"))
	})

	t.Run("any account is found from the keyboard", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/operations"), browser.Sees("td", "account.close"))
		healthy(t, ctx, "operations")
		do(t, ctx, browser.Press("/"), chromedp.KeyEvent("beac"), browser.Sees("#hits li", "beacon.example"),
			chromedp.KeyEvent("\r"),
			browser.Sees("h1", "beacon.example"))
	})

	t.Run("a session that ends keeps the form", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), browser.Type("#domain", "kept.example"),
			browser.Sees("li", "kept.example can be used"))
		password := resetPassword(t)
		do(t, ctx, browser.Type("#domain", "x"), browser.Sees("h1", "Your session has ended"),
			browser.Type("#sign-in-password", password),
			browser.Click("button", "Sign in"),
			browser.Gone("#sign-in-title"), browser.Sees("li", "kept.examplex can be used"))
	})

	t.Run("servers", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/servers"), browser.Sees("td", "skua"), browser.Sees("td", "good"))
		healthy(t, ctx, "servers")
		do(t, ctx, browser.Click("button", "Add a server"), browser.Type("#label", "skua"),
			browser.Type("#address", "10.0.0.9"),
			browser.Click(".el-dialog button", "Add the server"), browser.Sees("[role=alert]", "already"))
	})

	t.Run("pages that are not there", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/nowhere"), browser.Sees("h1", "There is no such page"),
			chromedp.Navigate(i.Address()+"/accounts/nobody"), browser.Sees("[role=alert]", "there is no account"))
		response, err := http.Get(i.Address() + "/assets/nothing.js")
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 404, response.StatusCode)
	})
}

func TestConsoleWithoutAnswers(t *testing.T) {
	i := shared(t)
	ctx := openBrowser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/servers"), signIn(), browser.Sees("td", "skua"))
	do(t, ctx, browser.Block("*://*:*/api/v1/session"), chromedp.Reload(),
		browser.Sees("[role=alert]", "The service does not answer"))
	healthy(t, ctx, "the session cannot be asked for")
	do(t, ctx, browser.Block(), browser.Click("button", "Load the page again"), browser.Sees("td", "skua"))
	do(t, ctx, browser.Block("*://*:*/*.js"), browser.Click("nav a", "Operations"),
		browser.Sees("[role=alert]", "The page could not be loaded"))
	do(t, ctx, browser.Block(), browser.Click("button", "Load the page again"), browser.Sees("td", "skua"))
}

// resetPassword gives the operator a new password and signs the tests' own
// client in with it.
func resetPassword(t *testing.T) string {
	t.Helper()
	out, err := inst.Daemon("operator", "reset", inst.Operator).Output()
	require.NoError(t, err)
	_, password, found := strings.Cut(strings.TrimSpace(string(out)), ": ")
	require.True(t, found)
	inst.Password = password
	_, err = inst.Client.SignIn(context.Background(), api.SignIn{Name: inst.Operator, Password: password})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(inst.OperatorFile(), []byte(inst.Operator+" "+password+"\n"), 0o600))
	return password
}

func TestConsoleOnAPhone(t *testing.T) {
	i := shared(t)
	ctx := openBrowser(t, 390, 844)
	do(t, ctx, chromedp.Navigate(i.Address()+"/"), signIn(), browser.Sees("h1", "Accounts"))
	for _, path := range []string{"/accounts", "/accounts/open", "/servers", "/servers/skua", "/operations", "/plans",
		"/plans/harbour", "/plans/compare?plan=harbour&plan=nothing",
		"/customers", "/resellers", "/people", "/events", "/settings", "/me"} {
		do(t, ctx, chromedp.Navigate(i.Address()+path), browser.Shows("main h1"))
		var overflow int
		labtest.Eventually(t, func() bool {
			do(t, ctx,
				browser.Eval(&overflow, `document.documentElement.scrollWidth - document.documentElement.clientWidth`))
			return overflow <= 0
		}, "the page is wider than the phone: "+path)
	}
}
