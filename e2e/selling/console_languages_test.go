package selling

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
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

// kittiwake is a reseller with a plan and one customer's account, all of whom read German.
func kittiwake(t *testing.T) (reseller, customer *client.Client, account api.Account) {
	t.Helper()
	ctx := context.Background()
	c := e2e.Shared(t).Client
	limits := plans.Limits{plans.Disk: plans.Of(5 * plans.GiB), plans.Domains: plans.Of(20),
		plans.Subdomains: plans.Of(20), plans.Logins: plans.Of(9), plans.Processes: plans.Of(100),
		plans.Memory: plans.Of(plans.GiB), plans.CPU: plans.Of(100)}
	features := plans.Features{"dns": true, "certificates": true, "logins": true, "api": true}
	require.NoError(t, c.Post(ctx, "/resellers", api.NewReseller{Name: "kittiwake", Title: "Kittiwake & Söhne",
		Limits: limits, Features: features}, nil))
	limits = plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(3), plans.Logins: plans.Of(2)}
	require.NoError(t, c.Post(ctx, "/plans", api.NewPlan{Name: "nest", Reseller: "kittiwake", Limits: limits,
		Features: features}, nil))
	reseller = e2e.Person(t, api.NewPerson{Name: "kittiwake", Reseller: "kittiwake", Language: "de"})
	opening, o := e2e.Open(t, api.OpenAccount{Domain: "dreizehenmöwe.example", Plan: "kittiwake.nest",
		Reseller: "kittiwake", Customer: "Café Möwe", NewCustomer: true, Language: "de", SignInName: "dreizehen",
		Server: "skua"})
	require.Equal(t, "done", o.State, o.Failure)
	customer = e2e.Person(t, api.NewPerson{Name: "cafe-moewe", Customer: opening.Account.CustomerID, Language: "de"})
	return reseller, customer, opening.Account
}

// english are the texts that are said in other words in German: where one of them is on a German
// page, it was not looked up.
func english(t *testing.T) map[string]bool {
	t.Helper()
	found := map[string]bool{}
	for _, file := range []string{"../../console/src/languages/de.json",
		"../../internal/hosting/language/texts/de.json"} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		var texts map[string]any
		require.NoError(t, json.Unmarshal(data, &texts))
		for text, german := range texts {
			if text != german && !strings.ContainsAny(text, "{%") {
				found[text] = true
			}
		}
	}
	require.Greater(t, len(found), 1000)
	return found
}

// texts are all that people read or hear of a page.
const texts = `(() => {
	const list = new Set()
	const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT)
	while (walk.nextNode()) {
		const parent = walk.currentNode.parentElement
		if (!parent.closest('script, style, code, pre, kbd, .languages, textarea, details div')) list.add(walk.currentNode.textContent.trim())
	}
	for (const e of document.querySelectorAll(':not(label)')) // whose title is the key of a setting
		for (const name of ['title', 'placeholder', 'aria-label']) if (e.getAttribute(name)) list.add(e.getAttribute(name).trim())
	return [...list]
})()`

// Resellers and customers read German, whatever they look at; and nothing is wrong with any of
// these pages in the dark, on a phone, or from right to left.
func TestGermanPages(t *testing.T) {
	i := e2e.Shared(t)
	_, _, account := kittiwake(t)
	defer func() { e2e.CloseAccount(t, account) }()
	notGerman := english(t)
	delete(notGerman, i.Operator) // a name, too
	home := "/accounts/" + account.SignInName
	domain := home + "/domains/" + account.Domain
	sections := []string{home, home + "/websites", home + "/domains", home + "/certificates", home + "/mail",
		home + "/logins",
		home + "/usage", home + "/history", domain, domain + "/certificate", "/zones/" + account.Domain, "/me",
		"/operations", "/events", "/people", "/zones", "/certificates", "/domains", "/accounts"}
	for person, pages := range map[string][]string{
		"cafe-moewe": sections,
		"kittiwake": append(sections, "/", "/accounts/open", "/customers", "/customers/add",
			fmt.Sprintf("/customers/%d", account.CustomerID), "/plans", "/plans/kittiwake.nest", "/plans/add",
			"/templates",
			"/templates/add", "/resellers/kittiwake", "/resellers/kittiwake/brand", "/people/cafe-moewe",
			home+"/handover"),
	} {
		t.Run(person, func(t *testing.T) {
			ctx := e2e.OpenBrowser(t, 1280, 800)
			e2e.Do(t, ctx, browser.Dark(), chromedp.Navigate(i.Address()+"/"), browser.SignIn(person, e2e.Password),
				browser.Until(`document.documentElement?.lang === 'de'`), browser.Shows("h1"))
			for _, path := range pages {
				var seen []string
				e2e.Do(t, ctx, chromedp.Navigate(i.Address()+path), browser.Shows("h1"), loaded(),
					browser.Eval(&seen, texts))
				for _, text := range seen {
					assert.False(t, notGerman[text], "%s says in English: %s", path, text)
				}
				e2e.Healthy(t, ctx, "dark: "+path)
				for _, width := range []int64{1280, 390} {
					for _, direction := range []string{"ltr", "rtl"} {
						var over int
						e2e.Do(t, ctx, chromedp.EmulateViewport(width, 800),
							browser.Script(`document.documentElement.dir = '`+direction+`'; 0`),
							browser.Eval(&over, tooWide))
						assert.LessOrEqual(t, over, 0, "%s, %s, is wider than %d pixels", path, direction, width)
					}
				}
				e2e.Do(t, ctx, chromedp.EmulateViewport(1280, 800))
			}
		})
	}
}

// tooWide is by how many pixels a page is wider than the window, when it has settled.
const tooWide = `(async () => {
	const page = document.documentElement
	for (let tries = 0; page.scrollWidth > page.clientWidth && tries < 20; tries++)
		await new Promise((resolve) => setTimeout(resolve, 50))
	return page.scrollWidth - page.clientWidth
})()`

// loaded waits until a page has what it asked for.
func loaded() browser.Action {
	return browser.Until(`!document.querySelector('.el-skeleton, [aria-busy=true]') && document.fonts.status === 'loaded' &&
		performance.getEntriesByType('resource').every(e => e.responseEnd > 0)`)
}

// A language is chosen before or after the sign-in, and then holds for what the service says.
func TestLanguageIsChosen(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	c := e2e.Person(t, api.NewPerson{Name: "polyglot", Role: "operator"})
	page := e2e.OpenBrowser(t, 1280, 800)
	e2e.Do(t, page, chromedp.Navigate(i.Address()+"/plans/no-such-plan"), browser.Sees("h1", "Sign in"),
		browser.Click(".languages button", "Deutsch"), browser.Sees("h1", "Anmelden"),
		browser.Type("#sign-in-name", "polyglot"), browser.Type("#sign-in-password", "falsch geraten"),
		chromedp.KeyEvent(kb.Enter), browser.Sees(".card", "falscher Name oder falsches Passwort"),
		browser.Retype("#sign-in-password", e2e.Password), chromedp.KeyEvent(kb.Enter),
		browser.Sees("body", `"no-such-plan" gibt es hier nicht`))
	e2e.Healthy(t, page, "German")
	var session api.Session
	require.NoError(t, c.Get(ctx, "/session", nil, &session))
	assert.Equal(t, "de", session.Language, "what was chosen there holds everywhere")
	assert.Contains(t, e2e.ProblemOf(t, c.Get(ctx, "/accounts/nobody", nil, nil)).Detail, "gibt es hier nicht")
	_, stderr, _ := e2e.CommandWith(t, e2e.SessionOf(t, "polyglot", e2e.Password), "", "account", "show", "nobody")
	assert.Contains(t, stderr, "gibt es hier nicht")

	e2e.Do(t, page, browser.Click(".person summary", ""), browser.Click(".person .languages button", "English"),
		browser.Until(`document.documentElement?.lang === 'en'`),
		browser.Sees("body", `there is no plan "no-such-plan" here`))
	require.NoError(t, c.Get(ctx, "/session", nil, &session))
	assert.Equal(t, "en", session.Language)

	// Before anybody is known, the request says what is read.
	request, err := http.NewRequest(http.MethodGet, i.Address()+"/api/v1/session", nil)
	require.NoError(t, err)
	request.Header.Set("Accept-Language", "fr, de-CH;q=0.7, en;q=0.5")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	problem := e2e.Decode[api.Problem](t, response.Body)
	assert.Equal(t, "Nicht angemeldet", problem.Title)
	assert.Equal(t, "/api/v1/problems/not-signed-in", problem.Type, "codes are the same in every language")
	assert.Contains(t, e2e.ProblemOf(t, c.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/language",
		Body: api.LanguageChoice{Language: "tlh"}}, nil)).Detail, "choose one of en, de")
	var languages api.Languages
	require.NoError(t, c.Get(ctx, "/languages", nil, &languages))
	assert.True(t, slices.Contains(languages.Languages, "de"))
}

// Visitors are told in the language of the site's customer, also after that has changed.
func TestVisitorsPagesInTheCustomersLanguage(t *testing.T) {
	c := e2e.Shared(t).Client
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "visitors.example", Customer: "Visitors", NewCustomer: true,
		Language: "de", Server: "skua"})
	defer func() { e2e.CloseAccount(t, a) }()
	_, body := e2e.Page(t, "skua", "visitors.example", "/")
	assert.Contains(t, body, "Diese Adresse funktioniert.")
	status, body := e2e.Page(t, "skua", "visitors.example", "/nothing")
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, body, "Diese Seite gibt es hier nicht.")
	var started api.Started
	require.NoError(t, c.Post(ctx, fmt.Sprintf("/accounts/%d/suspend", a.ID), api.Suspend{Why: "a test"}, &started))
	require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	_, body = e2e.Page(t, "skua", "visitors.example", "/")
	assert.Contains(t, body, "vorübergehend abgeschaltet")

	english := "en"
	e2e.Patch(t, fmt.Sprintf("/customers/%d", a.CustomerID), api.CustomerChange{Language: &english}, nil)
	e2e.Settled(t)
	_, body = e2e.Page(t, "skua", "visitors.example", "/")
	assert.Contains(t, body, "switched off for the time being")
}
