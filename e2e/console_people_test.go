package e2e

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

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/totp"
	"victualler/internal/lab/labtest"
)

// enter signs somebody in on the page that is shown.
func enter(name, password string) chromedp.Tasks {
	return chromedp.Tasks{typeIn("#sign-in-name", name), typeIn("#sign-in-password", password),
		click("button", "Sign in")}
}

// tick clicks a checkbox by its label.
func tick(label string) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf(`document.querySelector('[aria-label=%q]').closest('.el-checkbox').click()`,
		label), nil)
}

// agree has the page's questions answered with yes.
func agree() chromedp.Action { return chromedp.Evaluate(`window.confirm = () => true`, nil) }

func TestConsoleForSelling(t *testing.T) {
	i := shared(t)
	background := context.Background()
	require.NoError(t,
		i.Client.Post(background, "/plans", api.NewPlan{Name: "sloop",
			Limits: plans.Limits{plans.Disk: plans.Of(90 * plans.MiB), plans.Files: plans.Of(5000),
				plans.Domains: plans.Of(2), plans.PHPWorkers: plans.Of(2)}}, nil))
	a := opened(t, api.OpenAccount{Domain: "sloop.example", Plan: "sloop", SignInName: "sloop",
		Customer: "Sloop Riders", NewCustomer: true, CustomerEmail: "s@post.example", Server: "skua"})
	ctx := browser(t, 1280, 800)
	do(t, ctx, chromedp.Navigate(i.Address()+"/plans"), signIn(), sees("td", "sloop"))
	healthy(t, ctx, "plans")

	t.Run("plans are compared", func(t *testing.T) {
		do(t, ctx, tick("Compare sloop"), tick("Compare harbour"), click("button", "Compare 2"),
			sees("tr.differs", "disk space"), sees("tr.differs td", "90M"), click("label", "Only what differs"),
			until(`document.querySelectorAll('tbody tr:not(.differs)').length === 0`))
		healthy(t, ctx, "compare")
	})
	t.Run("a size without a unit is asked about", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/plans/add"), typeIn("#plan-name", "yawl"),
			retype("#limit-disk", "20480"), sees("[role=alert]", "20480 what? write 20480M or 20G"))
		healthy(t, ctx, "add a plan")
		do(t, ctx, retype("#limit-disk", "20G"), retype("#limit-domains", "3"), click("button", "Preview"),
			sees(".preview li", "0 is kept as 1"),
			click("button", "Add the plan"), sees("h1", "yawl"))
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
		find := func(field, text, option string) chromedp.Tasks {
			return chromedp.Tasks{chromedp.Click(field, chromedp.ByQuery, chromedp.NodeVisible),
				chromedp.SendKeys(field, text, chromedp.ByQuery), click(".el-select-dropdown__item", option)}
		}
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/open"), typeIn("#domain", "rowers.example"),
			find("#reseller", "many 37", "Many 37"),
			find("#plan", "gig", "many-37.gig"), sees(".hint", "60M disk"), find("#customer", "row", "Rowers"))
		healthy(t, ctx, "open for a reseller")
		do(t, ctx, click("button", "Preview"), sees(".preview", "open account rowers"))
		do(t, ctx, chromedp.Navigate(i.Address()+"/plans?whose=many-37"), sees("td", "gig"),
			until(`document.querySelectorAll('tbody tr').length === 1`), sees(".filters", "Many 37"))
		healthy(t, ctx, "plans of a reseller")
	})
	t.Run("a plan is changed after its effects were shown", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/plans/sloop"), chromedp.WaitVisible("#limit-disk", chromedp.ByQuery),
			retype("#limit-disk", "70M"), click("button", "Preview the change"),
			sees(".effects", "disk space 90M → 70M"))
		healthy(t, ctx, "plan with preview")
		do(t, ctx, click("button", "Change the plan"), sees("section", "1 account may use more or less"),
			sees(".outcome", "Done in"))
		assert.EqualValues(t, 70*plans.MiB, *limit(t, a.ID, plans.Disk).Value)
	})
	t.Run("an exception, a hold, a suspension", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/sloop"), click("button", "Set by hand"),
			chromedp.Click("#exception-what", chromedp.ByQuery), click(".el-select-dropdown__item", "disk space"),
			typeIn("#exception-value", "85M"), typeIn("#exception-reason", "the regatta"),
			click(".el-dialog button", "Preview"), sees(".effects", "disk space 70M → 85M"))
		healthy(t, ctx, "exception")
		do(t, ctx, click(".el-dialog button", "Set it"), sees("td", "the regatta"), sees("td", "exception by operator"))
		do(t, ctx, click("button", "Freeze limits"), sees(".frozen", "Its limits are those of plan sloop"),
			click("button", "Follow the plan again"), chromedp.WaitNotPresent(".frozen", chromedp.ByQuery))
		do(t, ctx, click("button", "Suspend…"), typeIn("#suspend-why", "a test"), click(".el-dialog button", "Suspend"),
			sees(".warn", "a test"), sees(".state", "suspended"))
		labtest.Eventually(t, func() bool {
			status, _ := page(t, "skua", "sloop.example", "/")
			return status == 503
		}, "visitors see no notice")
		healthy(t, ctx, "suspended account")
		do(t, ctx, click("button", "Resume"), until(`!document.body.textContent.includes('Suspended since')`))
	})
	t.Run("another plan for an account", func(t *testing.T) {
		do(t, ctx, click("button", "Another plan"), choose("#shift-plan", "harbour"),
			sees(".effects", "exceptions stay: disk"), click(".el-dialog button", "Change the plan"),
			until(`[...document.querySelectorAll('a')].some(e => e.textContent === 'harbour')`))
		do(t, ctx, click("button", "Handover sheet"), sees("pre", "sloop.example"))
		healthy(t, ctx, "handover sheet")
	})
	t.Run("a reseller with their share", func(t *testing.T) {
		require.NoError(t,
			i.Client.Post(background, "/resellers", api.NewReseller{Name: "gannet-co", Title: "Gannet & Co",
				Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(4)}}, nil))
		do(t, ctx, chromedp.Navigate(i.Address()+"/resellers"), sees("td", "Gannet & Co"))
		healthy(t, ctx, "resellers")
		do(t, ctx, click("a", "Gannet & Co"), sees("td", "disk space"), sees("h2", "Who signs in for them"))
		healthy(t, ctx, "reseller")
		do(t, ctx, click("button", "Change the share"), retype("#limit-domains", "6"),
			click("button", "Preview the change"), sees(".preview th", "domains"),
			click("button", "Change the reseller"), sees("h1", "Gannet & Co"))
		do(t, ctx, click("button", "Brand"), retype("#bar", "#777777"), click("button", "Keep the brand"),
			sees("[role=alert]", "neither light nor dark"))
		healthy(t, ctx, "brand")
	})
	t.Run("customers with notes", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/customers/%d", i.Address(), a.CustomerID)),
			sees("h1", "Sloop Riders"), typeIn("#notes", "pays in cash"), click("button", "Keep the notes"),
			chromedp.Reload(), until(`document.querySelector('#notes')?.value === 'pays in cash'`))
		healthy(t, ctx, "customer")
		do(t, ctx, click("button", "Change"), retype("#contact", "Ola"), click("button", "Keep the changes"),
			sees("dd", "Ola"))
		do(t, ctx, chromedp.Navigate(i.Address()+"/customers"), sees("td", "Sloop Riders"))
		healthy(t, ctx, "customers")
	})
	t.Run("acting as a customer is never forgotten", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/customers/%d", i.Address(), a.CustomerID)),
			click("button", "Act as them"), chromedp.WaitVisible(".acting", chromedp.ByQuery),
			sees(".acting", "act as customer Sloop Riders"), sees("td", "sloop.example"))
		healthy(t, ctx, "acting")
		var text string
		do(t, ctx, chromedp.Text("nav", &text, chromedp.ByQuery))
		assert.NotContains(t, text, "Servers")
		do(t, ctx, click("button", "Stop acting"), chromedp.WaitNotPresent(".acting", chromedp.ByQuery),
			chromedp.WaitVisible("nav", chromedp.ByQuery), sees("nav", "Servers"))
	})
	t.Run("who did what", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/events?search=sloop"), sees("td", "exception.set"),
			sees("td", "account.suspend"))
		healthy(t, ctx, "events")
		do(t, ctx, chromedp.Navigate(i.Address()+"/settings"), chromedp.WaitVisible("#title", chromedp.ByQuery),
			retype("#console-address", "not an address"), click("button", "Keep the settings"),
			sees("[role=alert]", "is not an address"))
		healthy(t, ctx, "settings")
	})
}

func TestConsoleForPeople(t *testing.T) {
	i := shared(t)
	ctx := browser(t, 1280, 800)
	require.NoError(t, i.Client.Post(context.Background(), "/people", api.NewPerson{Name: "petrel-minder",
		Duty: "read-only", Activation: "password", Password: walkPassword, MustChange: true}, nil))
	do(t, ctx, chromedp.Navigate(i.Address()+"/accounts"), enter("petrel-minder", walkPassword),
		sees("h1", "Before you go on"))
	healthy(t, ctx, "before you go on")
	do(t, ctx, typeIn("#present", walkPassword), typeIn("#new-password", "petrel-minder"),
		sees(".strength", "others know about you"), retype("#new-password", "x"), click("button.link", "Make one"),
		until(`document.querySelector('#new-password').value.length === 16`),
		until(`/good|strong/.test(document.querySelector(".strength")?.textContent)`))
	var password string
	do(t, ctx, chromedp.Value("#new-password", &password, chromedp.ByQuery), click("button", "Change the password"),
		sees("h1", "Accounts"))

	t.Run("who only reads is offered nothing else", func(t *testing.T) {
		var text string
		do(t, ctx, chromedp.Text("main", &text, chromedp.ByQuery))
		assert.NotContains(t, text, "Open an account")
	})
	var secret []byte
	t.Run("a second factor", func(t *testing.T) {
		do(t, ctx, chromedp.Navigate(i.Address()+"/me"), click("button", "Set it up"),
			chromedp.WaitVisible("#code", chromedp.ByQuery))
		healthy(t, ctx, "second factor")
		var text string
		do(t, ctx, chromedp.Text("form code", &text, chromedp.ByQuery))
		var err error
		secret, err = base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(text, " ", ""))
		require.NoError(t, err)
		do(t, ctx, typeIn("#code", "000000"), click("button", "Switch it on"), sees("[role=alert]", "does not fit"),
			retype("#code", totp.Code(secret, totp.Step(time.Now())-1)), click("button", "Switch it on"),
			sees(".codes", "Recovery codes"))
		healthy(t, ctx, "recovery codes")
		do(t, ctx, click("button", "I have kept them"), sees("section", "10 recovery codes are left"))
	})
	t.Run("tokens", func(t *testing.T) {
		do(t, ctx, click("button", "Make a token"), typeIn("#token-name", "probe"),
			click(".scopes label", "see accounts"))
		healthy(t, ctx, "make a token")
		do(t, ctx, click(".el-dialog button", "Make it"), sees(".secret", "victualler-"), agree(),
			click(".el-dialog button", "Done"), sees("td", "probe"))
	})
	t.Run("signing in asks for the code", func(t *testing.T) {
		do(t, ctx, chromedp.Click(".more summary", chromedp.ByQuery), click(".menu button", "Sign out"),
			enter("petrel-minder", password), chromedp.WaitVisible("#sign-in-code", chromedp.ByQuery))
		healthy(t, ctx, "sign-in with code")
		do(t, ctx, typeIn("#sign-in-code", totp.Code(secret, totp.Step(time.Now()))+"\r"), sees("h1", "Accounts"))
	})
	t.Run("a session that is about to end warns", func(t *testing.T) {
		sql(t, "update sessions set ends_at = now() + interval '3 minutes' from people where people.id = person_id "+
			"and people.name = 'petrel-minder'")
		do(t, ctx, chromedp.Reload(), sees("[role=alert]", "Your session ends in 3 min"),
			click("button", "Stay signed in"))
	})
	t.Run("a link chooses a password", func(t *testing.T) {
		sink := mailing(t)
		require.NoError(t,
			i.Client.Post(context.Background(), "/people", api.NewPerson{Name: "by-link", Email: "by-link@post.example",
				Duty: "support", Activation: "link"}, nil))
		link := linkIn.FindStringSubmatch(mailed(t, sink, "by-link@post.example").Text)[1]
		fresh := browser(t, 1280, 800)
		do(t, fresh, chromedp.Navigate(i.Address()+"/link#"+link), sees("h1", "Choose a password"))
		healthy(t, fresh, "link")
		var address string
		do(t, fresh, chromedp.Location(&address))
		assert.NotContains(t, address, link, "it is out of the address at once")
		do(t, fresh, typeIn("#new-password", walkPassword), click("button", "Set the password and sign in"),
			sees("h1", "Accounts"))
		do(t, fresh, chromedp.Navigate(i.Address()+"/link#"+link), sees("h1", "The link has ended"))
	})
	t.Run("people", func(t *testing.T) {
		fresh := browser(t, 1280, 800)
		do(t, fresh, chromedp.Navigate(i.Address()+"/people?search=petrel-minder"), signIn(),
			sees("td", "petrel-minder"))
		healthy(t, fresh, "people")
		do(t, fresh, click("a", "petrel-minder"), sees("h1", "petrel-minder"))
		healthy(t, fresh, "person")
		do(t, fresh, agree(), click("button", "Second factor off"),
			until(`!document.body.textContent.includes('Second factor off')`),
			click("button", "New password"), click(".el-dialog button.link", "Make one"),
			until(`/good|strong/.test(document.querySelector(".strength")?.textContent)`),
			click(".el-dialog button", "Set the password"),
			until(`![...document.querySelectorAll('.el-dialog')].some(e => e.getClientRects().length)`))
		do(t, ctx, chromedp.Reload(), sees("h1", "Sign in"))
	})
}
