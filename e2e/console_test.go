package e2e

import (
	"context"
	"fmt"
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

	"victualler/internal/api"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

// browser opens headless Chromium on the console. Errors that a page writes to
// its own console, refused by the content security policy among them, fail the test.
func browser(t *testing.T, width, height int64) context.Context {
	t.Helper()
	require.NoError(t, lab.InstallPackages(context.Background(), func(s string) { t.Log(s) }, "chromium"))
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox,
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-quic", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx, chromedp.WithErrorf(func(string, ...any) {}))
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 5*time.Minute)
	t.Cleanup(cancel)
	chromedp.ListenTarget(ctx, func(event any) {
		switch e := event.(type) {
		case *network.EventLoadingFailed: // worth knowing when something else fails
			if !e.Canceled {
				t.Logf("a request of the page failed: %s %s %s", e.Type, e.ErrorText, e.BlockedReason)
			}
		case *network.EventResponseReceived:
			if e.Response.Status >= 400 {
				t.Logf("a request of the page was answered with %d: %s", e.Response.Status, e.Response.URL)
			}
		case *runtime.EventExceptionThrown:
			t.Errorf("the page throws: %s", e.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			if strings.Contains(e.Entry.Text, "Content Security Policy") {
				t.Errorf("the page breaks its policy: %s", e.Entry.Text)
			}
		case *runtime.EventConsoleAPICalled:
			if e.Type == runtime.APITypeError {
				for _, what := range e.Args {
					t.Errorf("the page complains: %s %s", what.Value, what.Description)
				}
			}
		}
	})
	require.NoError(t, chromedp.Run(ctx, log.Enable(), network.Enable(), chromedp.EmulateViewport(width, height)))
	return ctx
}

func do(t *testing.T, ctx context.Context, actions ...chromedp.Action) {
	t.Helper()
	if err := chromedp.Run(ctx, actions...); err != nil {
		var text string
		var png []byte
		late, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = chromedp.Run(late, chromedp.Text("body", &text, chromedp.ByQuery), chromedp.CaptureScreenshot(&png))
		if len(png) > 0 {
			os.WriteFile("/tmp/victualler-console-failure.png", png, 0o600)
		}
		require.NoError(t, err, "the page shows:\n%s", text)
	}
}

// until waits until an expression is true. A page that has just been gone to may change its context
// under the question, which is then asked again.
func until(expression string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			err := chromedp.Poll(expression, nil, chromedp.WithPollingTimeout(time.Minute)).Do(ctx)
			if err == nil || !strings.Contains(err.Error(), "Cannot find context") {
				return err
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// sees waits until an element has a text in it.
func sees(selector, text string) chromedp.Action {
	return until(fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector,
		text))
}

// click clicks the first element of a kind that has a text in it.
func click(selector, text string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		find := fmt.Sprintf(
			`[...document.querySelectorAll(%q)].find(e => e.textContent.includes(%q) && e.getClientRects().length)`,
			selector, text)
		if err := until(find + " !== undefined").Do(ctx); err != nil {
			return fmt.Errorf("no %s with %q: %w", selector, text, err)
		}
		err := chromedp.Evaluate(find+".click()", nil).Do(ctx)
		if err != nil && strings.Contains(err.Error(), "navigated or closed") {
			return nil // the click has led elsewhere before it could be told of
		}
		return err
	})
}

func typeIn(selector, text string) chromedp.Action {
	return chromedp.SendKeys(selector, text, chromedp.ByQuery, chromedp.NodeVisible)
}

// pressed is a key that a page takes for itself. Chromium's debugging protocol
// would type the character all the same, which a keyboard does not.
func pressed(key string) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf("document.body.dispatchEvent(new KeyboardEvent('keydown', {key: %q, "+
		"bubbles: true, cancelable: true}))", key), nil)
}

// retype types over what a field holds.
func retype(selector, text string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Focus(selector, chromedp.ByQuery, chromedp.NodeVisible),
		chromedp.Evaluate(fmt.Sprintf("document.querySelector(%q).select()", selector), nil),
		chromedp.KeyEvent(text),
	}
}

// choose picks an option of a select field.
func choose(field, option string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Click(field, chromedp.ByQuery, chromedp.NodeVisible),
		click(".el-select-dropdown__item", option),
	}
}

func signIn() chromedp.Tasks {
	return chromedp.Tasks{
		typeIn("#sign-in-name", inst.Operator),
		typeIn("#sign-in-password", inst.Password),
		click("button", "Sign in"),
	}
}

// healthy runs axe-core on the page and expects nothing serious.
func healthy(t *testing.T, ctx context.Context, what string) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "the console is built before the tests (make test)")
	var found []string
	// A colour that is still changing has no contrast worth measuring.
	do(t, ctx,
		until(`document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)`),
		chromedp.Evaluate(string(axe)+`; 0`, nil),
		chromedp.Evaluate(`axe.run({resultTypes: ['violations']}).then(r => r.violations.filter(v => ['serious', 'critical'].includes(v.impact))
			.map(v => v.id + ': ' + v.help + ' – ' + v.nodes.slice(0, 3).map(n => n.html).join(' ')))`, &found, func(p *runtime.EvaluateParams) *runtime.EvaluateParams {
			return p.WithAwaitPromise(true)
		}))
	assert.Empty(t, found, what)
}

func TestConsole(t *testing.T) {
	i := shared(t)
	ctx := browser(t, 1280, 800)
	standing := opened(t, api.OpenAccount{Domain: "beacon.example", Server: "fulmar"})
	defer func() { closeAccount(t, standing) }()

	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), typeIn("#sign-in-name", i.Operator),
		typeIn("#sign-in-password", "wrong"),
		click("button", "Sign in"), sees("[role=alert]", "do not fit"))
	healthy(t, ctx, "sign-in")
	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=beacon"), signIn(), sees("td", "beacon.example"))
	healthy(t, ctx, "accounts")

	t.Run("the list keeps its filters in the address", func(t *testing.T) {
		do(t, ctx, retype(`input[aria-label="Search accounts"]`, "nothing-like-it"), sees("h2", "No account fits"))
		var address string
		do(t, ctx, chromedp.Location(&address))
		assert.Contains(t, address, "search=")
	})

	t.Run("an account is opened with the form", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), typeIn("#domain", "beacon.example"),
			sees("[role=alert]", "hosted here already"),
			chromedp.Reload(), typeIn("#domain", "https://WWW.Gannet-Rock.example/"), sees("li", "left out “https://”"),
			sees("li", "gannet-rock.example can be used"),
			until(`document.querySelector('#sign-in-name').value === 'gannetrock'`),
			retype("#sign-in-name", "root"), sees("[role=alert]", "is reserved"),
			retype("#sign-in-name", "gannet"),
			choose("#plan", "harbour"), sees(".hint", "100M disk"), choose("#server", "skua"),
			chromedp.Click("#customer", chromedp.ByQuery), typeIn("#customer", "tern"),
			click(".el-select-dropdown__item", "Tern Ferries"))
		healthy(t, ctx, "open an account")
		do(t, ctx, click("button", "Preview"), sees("h2", "Would open account gannet for gannet-rock.example on skua"),
			sees("code", "/etc/nginx/victualler/accounts/gannet.conf"))
		healthy(t, ctx, "preview")
		assert.Empty(t, traces(t, "skua", "gannet"), "a preview makes nothing")
		do(t, ctx, click("button", "Open the account"), sees(".outcome", "Done in"), sees(".steps li", "verify"))
		status, _ := page(t, "skua", "gannet-rock.example", "/")
		assert.Equal(t, 200, status)
		do(t, ctx, click("a", "Go to the account"), sees("h1", "gannet-rock.example"))
		healthy(t, ctx, "account")
	})

	t.Run("drift is seen and repaired by a click", func(t *testing.T) {
		conf := "/etc/nginx/victualler/accounts/gannet.conf"
		on(t, "skua", "sed -i 's/index index.php/index oops.php/' "+conf)
		do(t, ctx, chromedp.Navigate(i.Address()+"/servers/skua"), click("button", "Sweep now"),
			sees("pre", "index oops.php"), sees("summary", conf))
		healthy(t, ctx, "server with drift")
		do(t, ctx, click("button", "Repair"), sees(".outcome", "Done in"),
			sees("section", "Nothing: the server holds what it should"))
		assert.Contains(t, on(t, "skua", "cat "+conf), "index index.php")
	})

	t.Run("an account is closed after its name was typed", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/gannet"), click("button", "Close the account"),
			sees("li", "deleted for good"),
			typeIn("#close-name", "ganne"))
		healthy(t, ctx, "close an account")
		var disabled bool
		do(t, ctx,
			chromedp.Evaluate(
				`[...document.querySelectorAll('.el-dialog button')].find(b => b.textContent.includes('Close the account')).disabled`,
				&disabled))
		assert.True(t, disabled)
		do(t, ctx, typeIn("#close-name", "t"), click(".el-dialog button", "Close the account"),
			sees(".outcome", "Done in"))
		assert.Empty(t, traces(t, "skua", "gannet"))
	})

	t.Run("any account is found from the keyboard", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/operations"), sees("td", "account.close"))
		healthy(t, ctx, "operations")
		do(t, ctx, pressed("/"), chromedp.KeyEvent("beac"), sees("#hits li", "beacon.example"), chromedp.KeyEvent("\r"),
			sees("h1", "beacon.example"))
	})

	t.Run("a session that ends keeps the form", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), typeIn("#domain", "kept.example"),
			sees("li", "kept.example can be used"))
		password := resetPassword(t)
		do(t, ctx, typeIn("#domain", "x"), sees("h1", "Your session has ended"), typeIn("#sign-in-password", password),
			click("button", "Sign in"),
			chromedp.WaitNotPresent("#sign-in-title", chromedp.ByQuery), sees("li", "kept.examplex can be used"))
	})

	t.Run("servers", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/servers"), sees("td", "skua"), sees("td", "good"))
		healthy(t, ctx, "servers")
		do(t, ctx, click("button", "Add a server"), typeIn("#label", "skua"), typeIn("#address", "10.0.0.9"),
			click(".el-dialog button", "Add the server"), sees("[role=alert]", "already"))
	})

	t.Run("pages that are not there", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/nowhere"), sees("h1", "There is no such page"),
			chromedp.Navigate(i.Address()+"/accounts/nobody"), sees("[role=alert]", "there is no account"))
		response, err := http.Get(i.Address() + "/assets/nothing.js")
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 404, response.StatusCode)
	})
}

func TestConsoleWithoutAnswers(t *testing.T) {
	i := shared(t)
	ctx := browser(t, 1280, 800)
	do(t, ctx, network.Enable(), chromedp.Navigate(i.Address()+"/servers"), signIn(), sees("td", "skua"))
	do(t, ctx, network.SetBlockedURLs([]string{"*/api/v1/session"}), chromedp.Reload(),
		sees("[role=alert]", "The service does not answer"))
	healthy(t, ctx, "the session cannot be asked for")
	do(t, ctx, network.SetBlockedURLs([]string{}), click("button", "Load the page again"), sees("td", "skua"))
	do(t, ctx, network.SetBlockedURLs([]string{"*.js"}), click("nav a", "Operations"),
		sees("[role=alert]", "The page could not be loaded"))
	do(t, ctx, network.SetBlockedURLs([]string{}), click("button", "Load the page again"), sees("td", "skua"))
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
	ctx := browser(t, 390, 844)
	do(t, ctx, chromedp.Navigate(i.Address()+"/"), signIn(), sees("h1", "Accounts"))
	for _, path := range []string{"/accounts", "/accounts/open", "/servers", "/servers/skua", "/operations", "/plans",
		"/plans/harbour", "/plans/compare?plan=harbour&plan=nothing",
		"/customers", "/resellers", "/people", "/events", "/settings", "/me"} {
		do(t, ctx, chromedp.Navigate(i.Address()+path), chromedp.WaitVisible("main h1", chromedp.ByQuery))
		var overflow int
		labtest.Eventually(t, func() bool {
			do(t, ctx, chromedp.Evaluate(`document.documentElement.scrollWidth - document.documentElement.clientWidth`,
				&overflow))
			return overflow <= 0
		}, "the page is wider than the phone: "+path)
	}
}
