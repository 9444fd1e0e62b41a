package budgets

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"regexp"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
)

// source is what a page loads at once.
var source = regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`)

// The console is there within a second, its first script is small, and it asks nobody else for
// anything.
func TestConsoleBudgets(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "budget.example", Server: "skua"})
	defer func() { e2e.CloseAccount(t, a) }()
	get := func(path string) string {
		t.Helper()
		response, err := http.Get(i.Address() + path)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return string(text)
	}
	compressed := 0
	for _, m := range source.FindAllStringSubmatch(get("/"), -1) {
		var small bytes.Buffer
		w := gzip.NewWriter(&small)
		_, err := w.Write([]byte(get(m[1])))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		compressed += small.Len()
	}
	t.Logf("initial script: %d kB compressed", compressed/1000)
	assert.Positive(t, compressed)
	assert.Less(t, compressed, 200_000)

	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts"), e2e.SignIn(), browser.Sees("h1", "Accounts"))
	fastest := time.Hour
	for n := 0; n < 5 || n < 20 && fastest >= time.Second; n++ { // something else may be going on
		began := time.Now()
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts"), browser.Shows("tbody tr"))
		fastest = min(fastest, time.Since(began))
	}
	t.Logf("the list of accounts is there after %s", fastest)
	assert.Less(t, fastest, time.Second)
	var foreign []string
	e2e.Do(t, ctx, browser.Eval(&foreign, `performance.getEntriesByType('resource').map(e => e.name)
		.filter(name => !name.startsWith(location.origin))`))
	assert.Empty(t, foreign)
}
