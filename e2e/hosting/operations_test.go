package hosting

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
)

func TestOperations(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	opening, _ := e2e.Open(t, api.OpenAccount{Domain: "worked.example", Server: "skua"})
	closed := e2e.CloseAccount(t, opening.Account)
	list := func(query url.Values) []api.Operation {
		var page api.OperationPage
		require.NoError(t, i.Client.Get(ctx, "/operations", query, &page))
		return page.Operations
	}
	mine := list(url.Values{"account": {fmt.Sprint(opening.Account.ID)}})
	require.Len(t, mine, 2)
	assert.Equal(t, []int64{closed.ID, opening.Operation}, []int64{mine[0].ID, mine[1].ID}, "newest first")
	assert.Equal(t, "account.open", mine[1].Kind)
	assert.Equal(t, "worked.example", mine[1].Subject)
	assert.Len(t, mine[1].Steps, 7)
	for _, o := range list(url.Values{"server": {"skua"}, "state": {"done"}, "limit": {"500"}}) {
		assert.Equal(t, "done", o.State)
	}
	assert.Empty(t, list(url.Values{"account": {fmt.Sprint(opening.Account.ID)}, "state": {"failed"}}))

	seen := map[int64]bool{}
	query := url.Values{"limit": {"2"}, "account": {fmt.Sprint(opening.Account.ID)}}
	for {
		var page api.OperationPage
		require.NoError(t, i.Client.Get(ctx, "/operations", query, &page))
		for _, o := range page.Operations {
			assert.False(t, seen[o.ID])
			seen[o.ID] = true
		}
		if page.Next == "" {
			break
		}
		query.Set("cursor", page.Next)
	}
	assert.Len(t, seen, 2)
	for _, path := range []string{"/operations/999999", "/operations/999999/progress"} {
		assert.Equal(t, 404, e2e.ProblemOf(t, i.Client.Get(ctx, path, nil, nil)).Status, path)
	}
	assert.Equal(t, 404, e2e.ProblemOf(t, i.Client.Get(ctx, "/operations", url.Values{"server": {"auk"}}, nil)).Status)
	assert.Equal(t, 422,
		e2e.ProblemOf(t, i.Client.Get(ctx, "/operations", url.Values{"state": {"asleep"}}, nil)).Status)

	out, _, exit := e2e.Command(t, "operation", "watch", fmt.Sprint(opening.Operation))
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "done in")
	out, _, _ = e2e.Command(t, "operation", "show", fmt.Sprint(opening.Operation))
	assert.Regexp(t, `verification\s+done\s+\d+\.\d\d s\s+the sandbox of worked waits for requests to PHP 8.2`, out)
	out, _, _ = e2e.Command(t, "operation", "list", "--account", "worked", "-o", "csv")
	assert.Contains(t, out, "operator,Open account,account.open,,worked.example")
	_, stderr, exit := e2e.Command(t, "operation", "watch", "soon")
	assert.Equal(t, 2, exit)
	assert.Contains(t, stderr, "is not an operation's number")

	e2e.On(t, "skua", "echo 'nonsense;' > /etc/nginx/conf.d/byhand.conf")
	out, stderr, exit = e2e.Command(t, "account", "open", "failing.example", "--plan", "harbour", "--customer",
		"Tern Ferries", "--server", "skua")
	e2e.On(t, "skua", "rm /etc/nginx/conf.d/byhand.conf")
	assert.Equal(t, 1, exit)
	assert.Contains(t, out, "nginx        failed")
	assert.Contains(t, stderr, `unknown directive "nonsense"`)
	out, _, exit = e2e.Command(t, "account", "open", "later.example", "--plan", "harbour", "--customer", "Tern Ferries",
		"--no-wait")
	require.Equal(t, 0, exit)
	var number int64
	_, err := fmt.Sscan(out, &number)
	require.NoError(t, err, "only the number is printed")
	assert.Equal(t, "done", e2e.Watched(t, number).State)
	_, stderr, exit = e2e.Command(t, "account", "close", "later", "--yes")
	assert.Equal(t, 0, exit, stderr)
}

// A long list: pages, keys and the way back.
func TestLongListInConsole(t *testing.T) {
	i := e2e.Shared(t)
	e2e.ClosedAccounts(t, 120)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	first := func(domain string) browser.Action { return browser.Sees("tbody tr:first-child .name", domain) }
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?state=closed&search=row"), e2e.SignIn(),
		first("row001.example"),
		browser.Sees(".turner", "50 accounts on this page"),
		browser.Click(".turner button", "Next page"), first("row051.example"),
		browser.Click(".turner button", "Next page"),
		first("row101.example"), browser.Sees(".turner", "20 accounts"),
		browser.Click(".turner button", "Back"), first("row051.example"), browser.Click(".turner button", "First"),
		first("row001.example"))
	var address string
	e2e.Do(t, ctx, browser.Into(&address, chromedp.Location()))
	assert.False(t, strings.Contains(address, "cursor="))

	var focused string
	e2e.Do(t, ctx, chromedp.Focus(chromedp.CSS("tbody tr:first-child")), chromedp.KeyEvent(kb.ArrowDown),
		chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowUp),
		browser.Eval(&focused, `document.activeElement.textContent`))
	assert.Contains(t, focused, "row002.example", "arrows go through the rows")
	e2e.Do(t, ctx, chromedp.KeyEvent("\r"), browser.Sees("h1", "row002.example"), chromedp.NavigateBack(),
		first("row001.example"))

	var dark bool
	e2e.Do(t, ctx, chromedp.Click(chromedp.CSS(".person summary")), browser.Click(".menu button", "Dark"),
		browser.Eval(&dark, `document.documentElement.classList.contains('dark')`))
	assert.True(t, dark)
	e2e.Healthy(t, ctx, "dark")
	e2e.Do(t, ctx, chromedp.Reload(), first("row001.example"),
		browser.Eval(&dark, `document.documentElement.classList.contains('dark')`))
	assert.True(t, dark, "the choice is kept")
	e2e.Do(t, ctx, browser.Press("g"), browser.Press("s"), browser.Sees("h1", "Servers"), browser.Press("?"),
		browser.Sees(".el-dialog", "Search, or do"),
		browser.Click(".el-dialog button", "Close"),
		chromedp.Sleep(300*time.Millisecond), browser.Press("n"), browser.Sees("h1", "Open an account"))
}
