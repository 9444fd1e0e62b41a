package selling

import (
	"context"
	"encoding/base32"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/totp"
	"victualler/internal/lab/labtest"
)

// tick clicks a checkbox by its label.
func tick(label string) browser.Action {
	return browser.Script(fmt.Sprintf(`document.querySelector('[aria-label=%q]').closest('.el-checkbox').click()`,
		label))
}

func TestConsoleForSelling(t *testing.T) {
	i := e2e.Shared(t)
	background := context.Background()
	require.NoError(t,
		i.Client.Post(background, "/plans", api.NewPlan{Name: "sloop",
			Limits: plans.Limits{plans.Disk: plans.Of(90 * plans.MiB), plans.Files: plans.Of(5000),
				plans.Domains: plans.Of(2), plans.PHPWorkers: plans.Of(2)}}, nil))
	a := e2e.Opened(t, api.OpenAccount{Domain: "sloop.example", Plan: "sloop", SignInName: "sloop",
		Customer: "Sloop Riders", NewCustomer: true, CustomerEmail: "s@post.example", Server: "skua"})
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/plans"), e2e.SignIn(), browser.Sees("td", "sloop"))
	e2e.Healthy(t, ctx, "plans")

	t.Run("plans are compared", func(t *testing.T) {
		e2e.Do(t, ctx, tick("Compare sloop"), tick("Compare harbour"), browser.Click("button", "Compare 2"),
			browser.Sees("tr.differs", "disk space"), browser.Sees("tr.differs td", "90M"),
			browser.Click("label", "Only what differs"),
			browser.Until(`document.querySelectorAll('tbody tr:not(.differs)').length === 0`))
		e2e.Healthy(t, ctx, "compare")
	})
	t.Run("a size without a unit is asked about", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/plans/add"), browser.Type("#plan-name", "yawl"),
			browser.Retype("#limit-disk", "20480"), browser.Sees("[role=alert]", "20480 what? write 20480M or 20G"))
		e2e.Healthy(t, ctx, "add a plan")
		e2e.Do(t, ctx, browser.Retype("#limit-disk", "20G"), browser.Retype("#limit-domains", "3"),
			browser.Click("button", "Preview"),
			browser.Sees(".preview li", "0 is kept as 1"),
			browser.Click("button", "Add the plan"), browser.Sees("h1", "yawl"))
		var p api.Plan
		require.NoError(t, i.Client.Get(background, "/plans/yawl", nil, &p))
		assert.Equal(t, plans.Of(20*plans.GiB), p.Limits[plans.Disk])
	})
	t.Run("one of many resellers is found, and so are their plans", func(t *testing.T) {
		share := plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(5),
			plans.PHPWorkers: plans.Of(2)}
		for n := range 40 {
			require.NoError(t,
				i.Client.Post(background, "/resellers", api.NewReseller{Name: fmt.Sprintf("many-%02d", n),
					Title: fmt.Sprintf("Many %02d", n), Limits: share}, nil))
		}
		require.NoError(t,
			i.Client.Post(background, "/plans", api.NewPlan{Name: "gig", Reseller: "many-37",
				Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(1),
					plans.PHPWorkers: plans.Of(1)}}, nil))
		require.NoError(t, i.Client.Post(background, "/customers", api.NewCustomer{Name: "Rowers", Reseller: "many-37"},
			nil))
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), browser.Type("#domain", "rowers.example"),
			browser.Find("#reseller", "many 37", "Many 37"),
			browser.Find("#plan", "gig", "many-37.gig"), browser.Sees(".hint", "60M disk"),
			browser.Find("#customer", "row", "Rowers"))
		e2e.Healthy(t, ctx, "open for a reseller")
		e2e.Do(t, ctx, browser.Click("button", "Preview"), browser.Sees(".preview", "open account rowers"))
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/plans?whose=many-37"), browser.Sees("td", "gig"),
			browser.Until(`document.querySelectorAll('tbody tr').length === 1`), browser.Sees(".filters", "Many 37"))
		e2e.Healthy(t, ctx, "plans of a reseller")
	})
	t.Run("a plan is changed after its effects were shown", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/plans/sloop"), browser.Shows("#limit-disk"),
			browser.Retype("#limit-disk", "70M"), browser.Click("button", "Preview the change"),
			browser.Sees(".effects", "disk space 90M → 70M"))
		e2e.Healthy(t, ctx, "plan with preview")
		e2e.Do(t, ctx, browser.Click("button", "Change the plan"),
			browser.Sees("section", "1 account may use more or less"),
			browser.Sees(".outcome", "Done in"))
		assert.EqualValues(t, 70*plans.MiB, *e2e.Limit(t, a.ID, plans.Disk).Value)
	})
	t.Run("an exception, a hold, a suspension", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/sloop/usage"), browser.Click("button", "Set by hand"),
			browser.Choose("#exception-what", "disk space"),
			browser.Type("#exception-value", "85M"), browser.Type("#exception-reason", "the regatta"),
			browser.Click(".el-dialog button", "Preview"), browser.Sees(".effects", "disk space 70M → 85M"))
		e2e.Healthy(t, ctx, "exception")
		e2e.Do(t, ctx, browser.Click(".el-dialog button", "Set exception"), browser.Sees("td", "the regatta"),
			browser.Sees("td", "exception by operator"))
		e2e.Do(t, ctx, browser.Click("button", "Freeze limits"),
			browser.Sees(".frozen", "Its limits are those of plan sloop"),
			browser.Click("button", "Follow the plan again"), browser.Gone(".frozen"))
		e2e.Healthy(t, ctx, "usage of an account")
		e2e.Do(t, ctx, browser.Click(".sections a", "Overview"), browser.Click("button", "Suspend…"),
			browser.Type("#suspend-why", "a test"),
			browser.Click(".el-dialog button", "Suspend"),
			browser.Sees(".warn", "a test"), browser.Sees(".state", "suspended"))
		labtest.Eventually(t, func() bool {
			status, _ := e2e.Page(t, "skua", "sloop.example", "/")
			return status == 503
		}, "visitors see no notice")
		e2e.Healthy(t, ctx, "suspended account")
		e2e.Do(t, ctx, browser.Click("button", "Resume"),
			browser.Until(`!document.body.textContent.includes('Suspended since')`))
	})
	t.Run("another plan for an account", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Another plan"), browser.Choose("#shift-plan", "harbour"),
			browser.Sees(".effects", "exceptions stay: disk"), browser.Click(".el-dialog button", "Change the plan"),
			browser.Until(`[...document.querySelectorAll('a')].some(e => e.textContent === 'harbour')`))
		e2e.Do(t, ctx, browser.Click("button", "Handover sheet"), browser.Sees("pre", "sloop.example"))
		e2e.Healthy(t, ctx, "handover sheet")
	})
	t.Run("a reseller with their share", func(t *testing.T) {
		require.NoError(t,
			i.Client.Post(background, "/resellers", api.NewReseller{Name: "gannet-co", Title: "Gannet & Co",
				Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(4)}}, nil))
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/resellers"), browser.Sees("td", "Gannet & Co"))
		e2e.Healthy(t, ctx, "resellers")
		e2e.Do(t, ctx, browser.Click("a", "Gannet & Co"), browser.Sees("td", "disk space"),
			browser.Sees("h2", "Who signs in for them"))
		e2e.Healthy(t, ctx, "reseller")
		e2e.Do(t, ctx, browser.Click("button", "Change the share"), browser.Retype("#limit-domains", "6"),
			browser.Click("button", "Preview the change"), browser.Sees(".preview th", "domains"),
			browser.Click("button", "Change the reseller"), browser.Sees("h1", "Gannet & Co"))
		e2e.Do(t, ctx, browser.Click("button", "Brand"), browser.Retype("#bar", "#777777"),
			browser.Click("button", "Save brand"),
			browser.Sees("[role=alert]", "neither light nor dark"))
		e2e.Healthy(t, ctx, "brand")
	})
	t.Run("customers with notes", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/customers/%d", i.Address(), a.CustomerID)),
			browser.Sees("h1", "Sloop Riders"), browser.Type("#notes", "pays in cash"),
			browser.Click("button", "Save notes"),
			browser.Until(`(b => b.classList.contains('is-disabled') && !b.classList.contains('is-loading'))(
				[...document.querySelectorAll('button')].find(b => b.textContent.includes('Save notes')))`),
			chromedp.Reload(), browser.Until(`document.querySelector('#notes')?.value === 'pays in cash'`))
		e2e.Healthy(t, ctx, "customer")
		e2e.Do(t, ctx, browser.Click("button", "Change"), browser.Retype("#contact", "Ola"),
			browser.Click("button", "Save changes"),
			browser.Sees("dd", "Ola"))
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/customers"), browser.Sees("td", "Sloop Riders"))
		e2e.Healthy(t, ctx, "customers")
	})
	t.Run("acting as a customer is never forgotten", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/customers/%d", i.Address(), a.CustomerID)),
			browser.Click("button", "Act as them"), browser.Shows(".acting"),
			browser.Sees(".acting", "act as customer Sloop Riders"), browser.Sees("h1", "sloop.example"))
		e2e.Healthy(t, ctx, "acting")
		var text string
		e2e.Do(t, ctx, browser.Into(&text, chromedp.Text(chromedp.CSS("nav"))))
		assert.NotContains(t, text, "Servers")
		e2e.Do(t, ctx, browser.Click("button", "Stop acting"), browser.Gone(".acting"),
			browser.Shows("nav"), browser.Sees("nav", "Servers"))
	})
	t.Run("who did what", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/events?search=sloop"), browser.Sees("td", "Set exception"),
			browser.Sees("td", "Suspend account"))
		e2e.Healthy(t, ctx, "events")
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/settings"), browser.Shows("#title"),
			browser.Retype("#console-address", "not an address"), browser.Click("button", "Save settings"),
			browser.Sees("[role=alert]", "is not an address"))
		e2e.Healthy(t, ctx, "settings")
	})
}

// codeThatLasts is the code of the step before, or after, the present one, at a moment when that
// one does not end before the code has been typed.
func codeThatLasts(secret []byte, steps int64) string {
	for time.Now().Unix()%30 > 15 {
		time.Sleep(100 * time.Millisecond)
	}
	return totp.Code(secret, totp.Step(time.Now())+steps)
}

func TestConsoleForPeople(t *testing.T) {
	i := e2e.Shared(t)
	ctx := e2e.OpenBrowser(t, 1280, 800)
	require.NoError(t, i.Client.Post(context.Background(), "/people", api.NewPerson{Name: "petrel-minder",
		Duty: "read-only", Activation: "password", Password: e2e.Password, MustChange: true}, nil))
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts"), browser.SignIn("petrel-minder", e2e.Password),
		browser.Sees("h1", "Before you go on"))
	e2e.Healthy(t, ctx, "before you go on")
	e2e.Do(t, ctx, browser.Type("#present", e2e.Password), browser.Type("#new-password", "petrel-minder"),
		browser.Sees(".strength", "others know about you"), browser.Retype("#new-password", "x"),
		browser.Click("button.link", "Make one"),
		browser.Until(`document.querySelector('#new-password').value.length === 16`),
		browser.Until(`/good|strong/.test(document.querySelector(".strength")?.textContent)`))
	var password string
	e2e.Do(t, ctx, browser.Into(&password, chromedp.Value(chromedp.CSS("#new-password"))),
		browser.Click("button", "Change the password"),
		browser.Sees("h1", "Accounts"))

	t.Run("who only reads is offered nothing else", func(t *testing.T) {
		var text string
		e2e.Do(t, ctx, browser.Into(&text, chromedp.Text(chromedp.CSS("main"))))
		assert.NotContains(t, text, "Open an account")
	})
	var secret []byte
	t.Run("a second factor", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/me"), browser.Click("button", "Set up"),
			browser.Shows("#code"))
		e2e.Healthy(t, ctx, "second factor")
		var text string
		e2e.Do(t, ctx, browser.Into(&text, chromedp.Text(chromedp.CSS("form code"))))
		var err error
		secret, err = base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(text, " ", ""))
		require.NoError(t, err)
		e2e.Do(t, ctx, browser.Type("#code", "000000"), browser.Click("button", "Switch it on"),
			browser.Sees("[role=alert]", "does not fit"),
			browser.Retype("#code", codeThatLasts(secret, -1)),
			browser.Click("button", "Switch it on"),
			browser.Sees(".codes", "Recovery codes"))
		e2e.Healthy(t, ctx, "recovery codes")
		e2e.Do(t, ctx, browser.Click("button", "I have saved them"),
			browser.Sees("section", "10 recovery codes are left"))
	})
	t.Run("tokens", func(t *testing.T) {
		e2e.Do(t, ctx, browser.Click("button", "Create a token"), browser.Type("#token-name", "probe"),
			browser.Click(".scopes label", "see accounts"))
		e2e.Healthy(t, ctx, "make a token")
		e2e.Do(t, ctx, browser.Click(".el-dialog button", "Create token"), browser.Sees(".secret", "victualler-"),
			browser.Click(".el-dialog button", "Done"), browser.Confirm("Close"), browser.Hides(".el-dialog"),
			browser.Sees("td", "probe"))
	})
	t.Run("signing in asks for the code", func(t *testing.T) {
		e2e.Do(t, ctx, chromedp.Click(chromedp.CSS(".person summary")), browser.Click(".menu button", "Sign out"),
			browser.SignIn("petrel-minder", password), browser.Shows("#sign-in-code"))
		e2e.Healthy(t, ctx, "sign-in with code")
		e2e.Do(t, ctx, browser.Type("#sign-in-code", codeThatLasts(secret, 0)+"\r"),
			browser.Sees("h1", "Overview"))
	})
	t.Run("a session that is about to end warns", func(t *testing.T) {
		e2e.SessionsEnd(t, "petrel-minder", 0, 3*time.Minute, 0)
		e2e.Do(t, ctx, chromedp.Reload(), browser.Sees("[role=alert]", "Your session ends in 3 min"),
			browser.Click("button", "Stay signed in"))
	})
	t.Run("a link chooses a password", func(t *testing.T) {
		sink := e2e.Mailing(t)
		require.NoError(t,
			i.Client.Post(context.Background(), "/people", api.NewPerson{Name: "by-link", Email: "by-link@post.example",
				Duty: "support", Activation: "link"}, nil))
		link := linkIn.FindStringSubmatch(e2e.Mailed(t, sink, "by-link@post.example").Text)[1]
		fresh := e2e.OpenBrowser(t, 1280, 800)
		e2e.Do(t, fresh, chromedp.Navigate(i.Address()+"/link#"+link), browser.Sees("h1", "Choose a password"))
		e2e.Healthy(t, fresh, "link")
		var address string
		e2e.Do(t, fresh, browser.Into(&address, chromedp.Location()))
		assert.NotContains(t, address, link, "it is out of the address at once")
		e2e.Do(t, fresh, browser.Click("button", "Deutsch"), browser.Sees("h1", "Passwort wählen"),
			browser.Into(&address, chromedp.Location()), browser.Click("button", "English"),
			browser.Sees("h1", "Choose a password"))
		assert.NotContains(t, address, link, "nor is it there in another language")
		e2e.Do(t, fresh, browser.Type("#new-password", e2e.Password),
			browser.Click("button", "Set the password and sign in"),
			browser.Sees("h1", "Overview"))
		e2e.Do(t, fresh, chromedp.Navigate(i.Address()+"/link#"+link), browser.Sees("h1", "The link has ended"))
	})
	t.Run("people", func(t *testing.T) {
		fresh := e2e.OpenBrowser(t, 1280, 800)
		e2e.Do(t, fresh, chromedp.Navigate(i.Address()+"/people?search=petrel-minder"), e2e.SignIn(),
			browser.Sees("td", "petrel-minder"))
		e2e.Healthy(t, fresh, "people")
		e2e.Do(t, fresh, browser.Click("a", "petrel-minder"), browser.Sees("h1", "petrel-minder"))
		e2e.Healthy(t, fresh, "person")
		e2e.Do(t, fresh, browser.Click("button", "Reset second factor"), browser.Confirm("Continue"),
			browser.Until(`!document.body.textContent.includes('Reset second factor')`),
			browser.Click("button", "New password"), browser.Click(".el-dialog button.link", "Make one"),
			browser.Until(`/good|strong/.test(document.querySelector(".strength")?.textContent)`),
			browser.Click(".el-dialog button", "Set the password"),
			browser.Until(`![...document.querySelectorAll('.el-dialog')].some(e => e.getClientRects().length)`))
		e2e.Do(t, ctx, chromedp.Reload(), browser.Sees("h1", "Sign in"))
	})
	t.Run("what others change is followed, what is typed stays", func(t *testing.T) {
		has := func(selector, value string) browser.Action {
			return browser.Until(fmt.Sprintf("document.querySelector(%q)?.value === %q", selector, value))
		}
		mailedTo := func(address string) {
			e2e.Patch(t, "/people/petrel-minder", api.PersonChange{Email: &address}, nil)
		}
		fresh := e2e.OpenBrowser(t, 1280, 800)
		e2e.Do(t, fresh, chromedp.Navigate(i.Address()+"/people/petrel-minder"), e2e.SignIn(), has("#email", ""))
		mailedTo("one@post.example")
		e2e.Do(t, fresh, has("#email", "one@post.example"), browser.Type("#networks", "192.0.2.0/24"))
		mailedTo("two@post.example")
		e2e.Do(t, fresh, browser.Sees(".outdated", "Somebody has changed this"), has("#email", "one@post.example"),
			browser.Click("button", "Save changes"), browser.Sees(".note", "changed"))
		e2e.Healthy(t, fresh, "person that somebody else has changed")
		e2e.Do(t, fresh, browser.Click("button", "Drop it"), has("#email", "two@post.example"), has("#networks", ""),
			browser.Gone(".outdated"))
	})
}
