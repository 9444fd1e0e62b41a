package e2e

import (
	"context"
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
	"victualler/internal/lab"
)

// OpenBrowser opens headless Chromium on the console. Errors that a page writes to its own console,
// refused by the content security policy among them, fail the test.
func OpenBrowser(t *testing.T, width, height int64) context.Context {
	t.Helper()
	require.NoError(t, lab.InstallPackages(context.Background(), func(s string) { t.Log(s) }, "chromium"))
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	t.Cleanup(cancel)
	ctx, stop, err := browser.Open(ctx, browser.Options{Width: width, Height: height,
		Only: []string{strings.TrimPrefix(Inst.Address(), "http://")}})
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

// Do does something in a page; when that fails, the failure tells what the page shows.
func Do(t *testing.T, ctx context.Context, actions ...browser.Action) {
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

// SignIn signs in as the first operator.
func SignIn() browser.Action { return browser.SignIn(Inst.Operator, Inst.Password) }

// cutOff lists what fields say before something is typed where there is no room for all of it.
const cutOff = `[...document.querySelectorAll('input[placeholder]')].filter(e => innerWidth > 1000 && !e.value &&
	e.getClientRects().length).filter(e => {
		const style = getComputedStyle(e), pen = document.createElement('canvas').getContext('2d')
		pen.font = style.font
		return pen.measureText(e.placeholder).width > e.clientWidth - parseFloat(style.paddingLeft) - parseFloat(style.paddingRight)
	}).map(e => 'cut off: ' + e.placeholder)`

// Healthy runs axe-core on the page and expects nothing serious, nor a hint that is cut off.
func Healthy(t *testing.T, ctx context.Context, what string) {
	t.Helper()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "the console is built before the tests (make test)")
	var found []string
	// A colour that is still changing has no contrast worth measuring.
	Do(t, ctx,
		browser.Until(
			`document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)`),
		browser.Script(string(axe)+`; 0`),
		browser.Eval(&found, `axe.run({resultTypes: ['violations']}).then(r => r.violations.filter(v => ['serious', 'critical'].includes(v.impact))
			.map(v => v.id + ': ' + v.help + ' – ' + v.nodes.slice(0, 3).map(n => n.html).join(' ')))`))
	assert.Empty(t, found, what)
	Do(t, ctx, browser.Eval(&found, cutOff))
	assert.Empty(t, found, what)
}
