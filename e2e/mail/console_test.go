package mail

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// A mailbox is added, changed and removed in the console, and works.
func TestConsole(t *testing.T) {
	i := e2e.Shared(t)
	require.NoError(t, i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "console-post",
		Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB), plans.Domains: plans.Of(1),
			plans.PHPWorkers: plans.Of(1), plans.Mailboxes: plans.Of(3), plans.MailboxSize: plans.Of(50 * plans.MiB),
			plans.Addresses: plans.Of(3), plans.Lists: plans.Of(1), plans.SendsPerHour: plans.Of(10)},
		Features: plans.Features{"mail": true}}, nil))
	e2e.Opened(t, api.OpenAccount{Domain: "postcards.example", Plan: "console-post", SignInName: "postcards",
		Customer: "Postcards", NewCustomer: true, CustomerEmail: "postcards@post.test", Server: "skua"})
	skua := i.Servers["skua"].Address
	ctx := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/postcards/mail"), e2e.SignIn(),
		browser.Sees(".empty", "No mailbox yet"))
	e2e.Healthy(t, ctx, "no mailbox")
	e2e.Do(t, ctx, browser.Click("button", "Add a mailbox"), browser.Type("#mailbox-local", "Ann a"),
		browser.Click(".el-dialog button.link", "Make one"), browser.Click(".el-dialog button", "Add mailbox"),
		browser.Sees("[role=alert]", "write ann.a"))
	e2e.Healthy(t, ctx, "add a mailbox")
	var password string
	e2e.Do(t, ctx, browser.Into(&password, chromedp.Value(chromedp.CSS("#mailbox-password"))),
		browser.Retype("#mailbox-local", "anna"), browser.Retype("#mailbox-size", "20"),
		browser.Click(".el-dialog button", "Add mailbox"), browser.Sees("[role=alert]", "20 what? write 20M"),
		browser.Retype("#mailbox-size", "20M"), browser.Click(".el-dialog button", "Add mailbox"),
		browser.Sees("td", "anna@postcards.example"), browser.Sees("td", "20M"),
		browser.Sees(".steps li", "verification"))
	_, err := mailtest.Inbox(skua, "anna@postcards.example", password)
	assert.NoError(t, err)
	e2e.Healthy(t, ctx, "mailboxes")
	e2e.Do(t, ctx, browser.Click("td button", "Change"), browser.Retype("#mailbox-size", "60M"),
		browser.Click(".el-dialog button", "Save mailbox"), browser.Sees("[role=alert]", "holds 50M at most"),
		browser.Retype("#mailbox-size", "30M"), browser.Click(".el-dialog button", "Save mailbox"),
		browser.Sees("td", "30M"))

	// Where mail goes.
	e2e.Do(t, ctx, browser.Click("button", "Add an address"), browser.Type("#address-local", "sales"),
		browser.Type("#address-targets", "anna\nbo@harbourmail.test"), browser.Click(".el-dialog button",
			"Add address"),
		browser.Sees("td", "sales@postcards.example"), browser.Sees("td", "bo@harbourmail.test"))
	e2e.Healthy(t, ctx, "addresses")
	e2e.Do(t, ctx, browser.Type("#trace", "sales+x@postcards.example"), browser.Click("form.trace button", "Trace"),
		browser.Sees(".path", "passed on to somebody else's server"), browser.Sees(".path", "stored in the mailbox"))
	e2e.Healthy(t, ctx, "the path of a message")
	require.NoError(t, mailtest.Deliver(skua, "ida@harbourmail.test", "sales@postcards.example", "to sales"))
	require.Error(t, mailtest.Deliver(skua, "ida@harbourmail.test", "slaes@postcards.example", "to sales"))
	e2e.Do(t, ctx, browser.Click("a", "What became of messages"), browser.Sees("td", "slaes@postcards.example"),
		browser.Sees("td", "in the mailbox anna@postcards.example"))
	e2e.Healthy(t, ctx, "messages")
	e2e.Do(t, ctx, browser.Click("td a", "slaes@postcards.example"), browser.Sees("dd", "ida@harbourmail.test"))
	e2e.Healthy(t, ctx, "a message")
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/messages/waiting?account=postcards"),
		browser.Sees(".empty", "No message waits"))
	e2e.Healthy(t, ctx, "messages that wait")

	// A list, and who is on it.
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/postcards/mail"), browser.Click("button", "Add a list"),
		browser.Type("#list-local", "crew"), browser.Type("#list-owners", "bo@harbourmail.test"),
		browser.Type("#list-members", "anna\nbo@harbourmail.test"), browser.Click(".el-dialog button", "Add list"),
		browser.Sees("td", "crew@postcards.example"), browser.Sees("td", "Its members; what others send waits"))
	e2e.Healthy(t, ctx, "lists")
	e2e.Do(t, ctx, browser.Click("td button", "Members"), browser.Sees(".members li", "bo@harbourmail.test"),
		browser.Type(".add textarea", "cy@harbourmail.test"), browser.Click(".add button", "Add"),
		browser.Sees(".members li", "cy@harbourmail.test"))
	e2e.Healthy(t, ctx, "members of a list")
	e2e.Do(t, ctx, browser.Click(".el-dialog button", "Close"))
	// The holder of the mailbox, who is nobody else here.
	require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", "anna@postcards.example",
		"a picture of the quay"))
	labtest.Eventually(t, func() bool {
		var page api.MessagePage
		require.NoError(t, i.Client.Get(context.Background(),
			"/messages?sender=eve@harbourmail.test&outcome=delivered&"+
				"recipient=anna@postcards.example", nil, &page))
		return len(page.Messages) > 0
	})
	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/mailbox"),
		browser.Type("#mailbox-address", "anna@postcards.example"), browser.Type("#mailbox-password", "wrong"),
		browser.Click("button", "Sign in"), browser.Sees("[role=alert]", "wrong address or password"),
		browser.Retype("#mailbox-password", password), browser.Click("button", "Sign in"), browser.Shows("#own-reply"))
	e2e.Do(t, ctx, browser.Sees("td", "From eve@harbourmail.test"))
	e2e.Do(t, ctx, browser.Click("button", "Where does a message to me go?"),
		browser.Sees(".hop", "stored in the mailbox"), browser.Click("button", "Would others take my messages?"),
		browser.Sees("li.wrong", "does not say who may send its mail"))
	e2e.Healthy(t, ctx, "one's own mailbox")
	e2e.Do(t, ctx, browser.Type("#own-reply", "Away."), browser.Click("button", "Save"),
		browser.Sees("[role=status]", "Whoever writes is told"), browser.Click("button", "Add a filter"),
		browser.Type("fieldset .value input", "tide"), browser.Type("fieldset input[placeholder^=Folder]", "Tides"),
		browser.Click("button", "Save filters"), browser.Sees("[role=status]", "are sorted so"))
	e2e.Healthy(t, ctx, "filters")
	var box api.MailboxList
	require.NoError(t, i.Client.Get(context.Background(), "/accounts/postcards/mailboxes", nil, &box))
	assert.Equal(t, "Tides", box.Mailboxes[0].Filters[0].Folder)
	assert.Equal(t, "Away.", box.Mailboxes[0].Reply.Text)

	e2e.Do(t, ctx, chromedp.Navigate(i.Address()+"/accounts/postcards/mail"), browser.Click("td button", "Remove"),
		browser.Confirm("Remove"), browser.Sees(".empty", "No mailbox yet"), browser.Sees("td",
			"sales@postcards.example"))
	_, err = mailtest.Inbox(skua, "anna@postcards.example", password)
	assert.Error(t, err)
}
