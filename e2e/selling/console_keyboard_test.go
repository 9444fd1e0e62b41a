package selling

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

// typed types what somebody without a mouse types into what has the keyboard.
func typed(text string) browser.Action { return browser.Keys(strings.Split(text, "")...) }

// called is what a screen reader would call the element that has the keyboard.
const called = `(() => {
	const e = document.activeElement
	return e === document.body ? '' : (e.labels?.[0]?.textContent || e.getAttribute('aria-label') || e.textContent || '').replace(/\s+/g, ' ').trim()
})()`

// tab goes from element to element until one with a name has the keyboard.
func tab(name string) browser.Action {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		var passed []string
		for range 150 {
			var now string
			if _, err := browser.Eval(&now, called)(ctx, target); err != nil {
				return err
			}
			if now == name {
				return nil
			}
			passed = append(passed, now)
			if _, err := chromedp.KeyEvent(kb.Tab)(ctx, target); err != nil {
				return err
			}
		}
		return fmt.Errorf("the keyboard does not reach %q, but: %q", name, passed)
	})
}

// press goes to an element and presses Enter on it.
func press(name string) browser.Action { return chromedp.Steps(tab(name), chromedp.KeyEvent(kb.Enter)) }

// choose presses Enter in a select field, which keeps it from the form around it: the browser's
// debugging protocol would submit that all the same, see [browser.Press].
func choose() browser.Action {
	return browser.Script("document.activeElement.dispatchEvent(new KeyboardEvent('keydown', " +
		"{key: 'Enter', code: 'Enter', bubbles: true, cancelable: true}))")
}

func signInTyping(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	in := func(field string) browser.Action {
		return browser.Until(fmt.Sprintf("document.activeElement?.id === %q", field))
	}
	// What is typed before a field has the focus is nobody's.
	e2e.Do(t, ctx, chromedp.Navigate(e2e.Inst.Address()+"/"), in("sign-in-name"), typed(name),
		chromedp.KeyEvent(kb.Tab), in("sign-in-password"), typed(e2e.Password), chromedp.KeyEvent(kb.Enter),
		browser.Gone("#sign-in-name"), browser.Shows("h1"))
}

// phalarope is a reseller with a plan.
func phalarope(t *testing.T) {
	t.Helper()
	c := e2e.Shared(t).Client
	limits := plans.Limits{plans.Disk: plans.Of(5 * plans.GiB), plans.Domains: plans.Of(9)}
	require.NoError(t, c.Post(context.Background(), "/resellers", api.NewReseller{Name: "phalarope",
		Title: "Phalarope", Limits: limits}, nil))
	limits = plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(3)}
	require.NoError(t, c.Post(context.Background(), "/plans", api.NewPlan{Name: "ledge", Reseller: "phalarope",
		Limits: limits}, nil))
	e2e.Person(t, api.NewPerson{Name: "phalarope", Reseller: "phalarope"})
}

// A reseller adds a customer and opens an account for them, and the customer adds a domain: by the
// keyboard alone.
func TestByKeyboard(t *testing.T) {
	e2e.Shared(t)
	phalarope(t)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	signInTyping(t, ctx, "phalarope")
	e2e.Do(t, ctx, press("Customers"), browser.Sees("h1", "Customers"), press("Add a customer"),
		browser.Sees("h1", "Add a customer"), tab("Name"), typed("Cliff Café"), press("Add the customer"),
		browser.Sees("h1", "Cliff Café"), press("Open an account"), browser.Sees("h1", "Open an account"),
		tab("Domain"), typed("cliffcafe.example"), browser.Sees("li.good", "can be used"), tab("Plan"),
		choose(), browser.Sees(".el-select-dropdown__item", "ledge"), chromedp.KeyEvent(kb.ArrowDown), choose(),
		press("Open the account"), browser.Sees("main a", "Go to the account"), press("Go to the account"),
		browser.Sees("h1", "cliffcafe.example"))
	var a api.Account
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/accounts/cliffcafe", nil, &a))
	defer func() { e2e.CloseAccount(t, a) }()
	assert.Equal(t, "Cliff Café", a.Customer)

	e2e.Person(t, api.NewPerson{Name: "cliff", Customer: a.CustomerID})
	own := e2e.OpenBrowser(t, 1280, 800)
	signInTyping(t, own, "cliff")
	e2e.Do(t, own, browser.Sees("h1", "cliffcafe.example"), press("Domains and DNS"), press("Add a domain"),
		browser.Shows("#new-domain"), tab("Domain"), typed("terrace.example"), chromedp.KeyEvent(kb.Enter),
		browser.Sees("td", "terrace.example"), browser.Hides(".el-dialog"), press("cliff"), press("Sign out"),
		browser.Shows("#sign-in-name"))
}

// A thousand customers, one of them with a long name and one whose name is written from right to
// left, are turned over and found; nothing is wider than the window.
func TestThousandCustomers(t *testing.T) {
	c := e2e.Shared(t).Client
	ctx := context.Background()
	long, arabic := strings.Repeat("Donaudampfschifffahrt ", 8), "مخبز الميناء"
	add := func(name string) (added api.Customer) {
		require.NoError(t, c.Post(ctx, "/customers", api.NewCustomer{Name: name, Reseller: "thousand"}, &added))
		return added
	}
	require.NoError(t,
		c.Post(ctx, "/resellers", api.NewReseller{Name: "thousand", Title: "Thousand", Limits: plans.Limits{}}, nil))
	added := []api.Customer{add(arabic), add(strings.TrimSpace(long))}
	for n := len(added); n < 1000; n++ {
		added = append(added, add(fmt.Sprintf("Customer %03d", n)))
	}
	defer func() {
		for _, one := range added {
			assert.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete,
				Path: fmt.Sprintf("/customers/%d", one.ID)}, nil))
		}
	}()
	e2e.Person(t, api.NewPerson{Name: "thousand", Reseller: "thousand"})
	tab := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, tab, chromedp.Navigate(e2e.Inst.Address()+"/customers"), browser.SignIn("thousand", e2e.Password),
		browser.Sees("td", "Customer 051"), browser.Sees(".turner", "50 customers on this page"))
	fits := func(what string) {
		for _, width := range []int64{1280, 390} {
			var over int
			e2e.Do(t, tab, chromedp.EmulateViewport(width, 800), browser.Eval(&over, tooWide))
			assert.LessOrEqual(t, over, 0, "%s at %d", what, width)
		}
		e2e.Do(t, tab, chromedp.EmulateViewport(1280, 800))
	}
	fits("the first page")
	for n := 1; n < 20; n++ {
		e2e.Do(t, tab, browser.Click("button", "Next page"), browser.Sees("td", fmt.Sprintf("Customer %03d", n*50+2)))
	}
	e2e.Do(t, tab, browser.Sees("td", "Donaudampf"), browser.Sees("td", arabic))
	fits("the last page")
	e2e.Do(t, tab, browser.Retype("main input[type=search]", arabic),
		browser.Until(`document.querySelectorAll('tbody tr').length === 1`), browser.Click("td a", arabic),
		browser.Sees("h1", arabic), browser.Click("button", "Change"),
		browser.Sees("h1", "Change \u2068"+arabic+"\u2069"))
	e2e.Healthy(t, tab, "a name from right to left")
	fits("a name from right to left")
}
