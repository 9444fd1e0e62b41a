package hosting

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
)

// An operator comes for what needs them, finds an account, and suspends it: by the keyboard alone.
func TestOperatorByKeyboard(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "keyboard.example", Server: "skua"})
	defer func() { e2e.CloseAccount(t, a) }()
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/"), browser.Shows("#sign-in-name"),
		browser.Keys(strings.Split(i.Operator, "")...), browser.Keys(kb.Tab),
		browser.Keys(strings.Split(i.Password, "")...), browser.Keys(kb.Enter),
		browser.Sees("h2", "What needs you now"), browser.Sees("figcaption", "accounts"))
	e2e.Healthy(t, ctx, "overview")

	e2e.Do(t, ctx, browser.Press("/"), chromedp.KeyEvent("suspend keyb"),
		browser.Sees("#hits li[aria-selected=true]", "Suspend keyboard.example"))
	e2e.Healthy(t, ctx, "search with an action")
	e2e.Do(t, ctx, browser.Keys(kb.Enter), browser.Shows("#suspend-why"),
		browser.Until(`document.querySelector('.el-dialog').contains(document.activeElement)`),
		browser.Type("#suspend-why", "a test\r"), browser.Sees(".warn", "Suspended since"))
	e2e.Do(t, ctx, browser.Hides(".el-dialog"), browser.Press("/"), chromedp.KeyEvent("resume keyb"),
		browser.Sees("#hits li[aria-selected=true]", "Resume keyboard.example"), browser.Keys(kb.Enter),
		browser.Confirm("Resume"), browser.Until(`!document.body.textContent.includes('Suspended since')`))

	e2e.Do(t, ctx, browser.Press("g"), browser.Press("d"), browser.Sees("h1", "Domains"),
		browser.Sees("td", "keyboard.example"))
	e2e.Healthy(t, ctx, "domains")
	e2e.Do(t, ctx, browser.Press("["), browser.Hides(".rail"), browser.Press("["), browser.Shows(".rail"),
		browser.Press("?"), browser.Sees(".el-dialog", "Show or hide the areas"))
	e2e.Healthy(t, ctx, "shortcuts")
}

// Each section of an account has its own address, and nothing is wrong with it.
func TestAccountSections(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "sections.example", Server: "skua"})
	defer func() { e2e.CloseAccount(t, a) }()
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/"+a.SignInName), e2e.SignIn(),
		browser.Sees("h1", "sections.example"))
	for _, s := range []struct{ label, path, sees, text string }{
		{"Websites", "websites", "td", "sections.example"},
		{"Domains and DNS", "domains", "td", "sections.example"},
		{"Certificates", "certificates", "td", "sections.example"},
		{"Mail", "mail", "h2", "Mailboxes"},
		{"Files and logins", "logins", "td", a.SignInName},
		{"Usage and limits", "usage", "td", "disk space"},
		{"History", "history", "td", "Open account"},
	} {
		e2e.Do(t, ctx, browser.Click(".sections a", s.label), browser.Sees(".sections a.here", s.label),
			browser.Sees(s.sees, s.text))
		var address string
		e2e.Do(t, ctx, browser.Into(&address, chromedp.Location()))
		assert.Equal(t, i.Address()+"/accounts/"+a.SignInName+"/"+s.path, address)
		e2e.Healthy(t, ctx, s.label)
	}
	e2e.Do(t, ctx, chromedp.NavigateBack(), browser.Sees("td", "disk space"))
}

// Several accounts are selected, some without a mouse, and repaired together; columns are chosen,
// and that is kept.
func TestManyInTheConsole(t *testing.T) {
	i := e2e.Shared(t)
	var opened []api.Account
	for n := range 3 {
		opened = append(opened, e2e.Opened(t, api.OpenAccount{Domain: fmt.Sprintf("flock%d.example", n),
			Server: "skua"}))
	}
	defer func() {
		for _, a := range opened {
			e2e.CloseAccount(t, a)
		}
	}()
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts?search=flock"), e2e.SignIn(),
		browser.Until(`document.querySelectorAll('tbody tr').length === 3`),
		chromedp.Focus(chromedp.CSS("tbody tr:first-child")), browser.Keys(" ", kb.ArrowDown, " "),
		browser.Sees(".selection", "2 accounts selected"))
	e2e.Healthy(t, ctx, "a selection")
	e2e.Do(t, ctx, browser.Click(".selection button", "Repair"), browser.Sees(".el-dialog li", "flock1.example"),
		browser.Click(".el-dialog button", "Repair"), browser.Sees(".el-dialog [role=status]", "2 accounts done"))
	e2e.Healthy(t, ctx, "several accounts repaired")
	e2e.Do(t, ctx, browser.Click(".el-dialog button", "Close"), browser.Hides(".el-dialog"),
		browser.Gone(".selection"))

	e2e.Do(t, ctx, browser.Sees("th", "Plan"), browser.Click(`button[aria-label="Choose columns"]`, ""),
		browser.Click("[popover] label", "Plan"),
		browser.Until(`![...document.querySelectorAll('th')].some(e => e.textContent === 'Plan')`))
	e2e.Healthy(t, ctx, "columns")
	e2e.Do(t, ctx, chromedp.Reload(), browser.Sees("td", "flock0.example"),
		browser.Until(`![...document.querySelectorAll('th')].some(e => e.textContent === 'Plan')`))

	// What somebody else does is seen without doing anything.
	extra := e2e.Opened(t, api.OpenAccount{Domain: "flock9.example", Server: "skua"})
	opened = append(opened, extra)
	e2e.Do(t, ctx, browser.Sees("td", "flock9.example"))
}

func TestUnsavedFormsWarn(t *testing.T) {
	i := e2e.Shared(t)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/customers/add"), e2e.SignIn(), browser.Type("#name", "Half Typed"),
		browser.Click("nav a", "Servers"), browser.Sees(".question", "is not saved"),
		browser.Click(".question button", "Cancel"), browser.Hides(".question"),
		browser.Until(`document.querySelector('#name').value === 'Half Typed'`),
		browser.Click("nav a", "Servers"), browser.Confirm("Leave"), browser.Sees("h1", "Servers"))
}

// A customer begins at their account, finds its sections in the rail, and is offered nothing that
// they cannot use.
func TestCustomerArrangement(t *testing.T) {
	i := e2e.Shared(t)
	opening, o := e2e.Open(t, api.OpenAccount{Domain: "homely.example", Server: "skua", Customer: "Homely",
		NewCustomer: true, CustomerEmail: "homely@post.example", SignInName: "homely", Activation: "password",
		Password: e2e.Password})
	require.Equal(t, "done", o.State, o.Failure)
	defer func() { e2e.CloseAccount(t, opening.Account) }()
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/"), browser.SignIn("homely", e2e.Password),
		browser.Sees("h1", "homely.example"), browser.Sees(".rail a.here", "Overview"))
	e2e.Healthy(t, ctx, "a customer's home")
	var rail string
	e2e.Do(t, ctx, browser.Into(&rail, chromedp.Text(chromedp.CSS(".rail"))))
	for _, label := range []string{"Websites", "Domains and DNS", "Certificates", "Files and logins", "Usage"} {
		assert.Contains(t, rail, label)
	}
	for _, label := range []string{"Servers", "Plans", "Customers", "Settings", "All accounts"} {
		assert.NotContains(t, rail, label)
	}
	e2e.Do(t, ctx, browser.Click(".rail a", "Usage and limits"), browser.Sees("td", "disk space"),
		browser.Sees(".rail a.here", "Usage and limits"))
	var text string
	e2e.Do(t, ctx, browser.Into(&text, chromedp.Text(chromedp.CSS("main"))))
	assert.NotContains(t, text, "Set by hand")
	assert.NotContains(t, text, "Freeze limits")
	phone := e2e.OpenBrowser(t, 390, 844)
	e2e.Do(t, phone, chromedp.Navigate(i.Address()+"/"), browser.SignIn("homely", e2e.Password),
		browser.Sees("h1", "homely.example"), browser.Hides(".rail"), browser.Click(".sections a", "Files and logins"),
		browser.Sees("h2", "File transfer"))
	for _, path := range []string{"", "/websites", "/domains", "/certificates", "/logins", "/usage", "/history"} {
		var overflow int
		e2e.Do(t, phone, chromedp.Navigate(i.Address()+"/accounts/homely"+path), browser.Sees("h1", "homely.example"),
			browser.Eval(&overflow, `document.documentElement.scrollWidth - document.documentElement.clientWidth`))
		assert.LessOrEqual(t, overflow, 0, "the page is wider than the phone: %s", path)
	}
	e2e.Healthy(t, phone, "a section on a phone")
	e2e.Do(t, phone, browser.Click("button.menu", "Areas"), browser.Shows(".rail.over"))
	e2e.Healthy(t, phone, "the rail on a phone")
}
