package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/language"
)

// accountNeeds are what accounts can need somebody for.
var accountNeeds = []string{"drift", "warning", "disk"}

var accountStates = []string{"opening", "active", "suspended", "closing", "closed"}

func accountCommands() []command {
	return []command{
		{noun: "account", verb: "open", args: "[DOMAIN]", short: "Open an account, or many from a file",
			preview: true,
			waits:   true,
			long: "The domain may be typed with https://, www. or capitals; what is corrected is said. With --file, " +
				"one account is opened for each line: of CSV, with a first line that names the fields, or of JSON. " +
				"The fields are domain, plan, customer, new_customer, customer_email, language, reseller, " +
				"sign_in_name, server and activation; flags give what lines leave out. If it is cut off, run it " +
				"again: what is open already is not opened twice.",
			flags: []flagInfo{{name: "plan", value: "PLAN", usage: "the plan"},
				{name: "customer", value: "CUSTOMER", usage: "the customer, by number or name"},
				{name: "new-customer", usage: "add the customer as well"},
				{name: "email", value: "ADDRESS", usage: "contact address of a new customer"},
				{name: "language", value: "LANGUAGE",
					usage:  "of a new customer's notices, and of pages that visitors see: " + orList(languages),
					values: languages},
				{name: "reseller", value: "NAME", usage: "whose customer it is"},
				{name: "activation", value: "HOW", usage: "how the customer gets to sign in: link, password, or none",
					values: activations},
				{name: "password-stdin",
					usage: "read the first password from standard input, for --activation password"},
				{name: "must-change", usage: "have the first password changed at the first sign-in"},
				{name: "read-only", usage: "make a sign-in that may look and change nothing"},
				{name: "sign-in-name", value: "NAME", usage: "proposed from the domain if absent"},
				{name: "server", value: "LABEL", usage: "chosen by free space if absent"},
				{name: "kit", value: "KIT", usage: "what the site begins with"},
				{name: "answers", value: "LIST", usage: "what is answered to the kit's questions: " +
					"“title=Our book; keeper=…”"},
				{name: "file", value: "FILE", usage: "open an account for each line of this file; - is standard input"},
				{name: "key", value: "KEY", usage: "Idempotency-Key, for scripts that repeat a request"}, yesFlag},
			run: openAccount},
		{noun: "account", verb: "list", short: "List accounts", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of a domain, sign-in name or customer"},
				{name: "state", value: "STATE", usage: orList(accountStates), values: accountStates},
				{name: "server", value: "LABEL", usage: "only on this server"},
				{name: "plan", value: "PLAN", usage: "only on this plan"},
				{name: "customer", value: "CUSTOMER", usage: "only of this customer, by number or name"},
				{name: "reseller", value: "NAME", usage: "only of this reseller's customers"},
				{name: "needs", value: "WHAT", usage: "only those that need somebody: " + orList(accountNeeds),
					values: accountNeeds}},
			run: listAccounts},
		{noun: "account", verb: "show", args: "ACCOUNT", short: "Show an account", run: showAccount},
		{noun: "account", verb: "change", args: "[ACCOUNT]…",
			short:   "Put accounts on another plan, freeze their limits, or give them to another customer",
			preview: true, waits: true,
			many: changeSelectionFlags,
			long: "All of them are changed, or none. Nothing is deleted: what is over a new limit cannot grow.",
			flags: []flagInfo{{name: "plan", value: "PLAN", usage: "put them on this plan"},
				{name: "drop-exceptions",
					usage: "remove what was set by hand, instead of keeping it over the new plan"},
				{name: "customer", value: "CUSTOMER", usage: "give them to this customer, by number or name"},
				{name: "freeze", usage: "keep the present limits when the plan changes"},
				{name: "unfreeze", usage: "follow the plan again"}},
			run: changeAccounts},
		{noun: "account", verb: "suspend", args: "[ACCOUNT]…",
			short: "Show visitors a notice; everything the account has stays", preview: true, waits: true,
			many: selectionFlags,
			flags: []flagInfo{{name: "why", value: "TEXT", usage: "the reason; whoever signs in is told",
				required: true}},
			run: func(ctx context.Context, c *call) error {
				return c.eachAccount(ctx, "Suspend", "/suspend", api.Suspend{Why: c.value("why")})
			}},
		{noun: "account", verb: "resume", args: "[ACCOUNT]…", short: "Bring back what was before the suspension",
			preview: true, waits: true, many: selectionFlags,
			run: func(ctx context.Context, c *call) error { return c.eachAccount(ctx, "Resume", "/resume", nil) }},
		{noun: "account", verb: "suspend-mail", args: "[ACCOUNT]…", preview: true, waits: true, many: selectionFlags,
			short: "Suspend sending, receiving or both, while the sites go on",
			long: "Without --sending and --receiving, both. While receiving is suspended, whoever writes is told to " +
				"try again later.",
			flags: []flagInfo{{name: "sending", usage: "nothing is sent or passed on"},
				{name: "receiving", usage: "whoever writes is told to try again later"},
				{name: "why", value: "TEXT", usage: "the reason", required: true}},
			run: func(ctx context.Context, c *call) error {
				body := api.SuspendMail{Sending: c.on("sending"), Receiving: c.on("receiving"), Why: c.value("why")}
				if !body.Sending && !body.Receiving {
					body.Sending, body.Receiving = true, true
				}
				return c.eachAccount(ctx, "Suspend mail of", "/suspend-mail", body)
			}},
		{noun: "account", verb: "resume-mail", args: "[ACCOUNT]…", short: "End a suspension of mail",
			preview: true, waits: true, many: selectionFlags,
			run: func(ctx context.Context, c *call) error {
				return c.eachAccount(ctx, "Resume mail of", "/resume-mail", nil)
			}},
		{noun: "account", verb: "repair", args: "[ACCOUNT]…", short: "Make the server match the account again",
			preview: true, waits: true, many: selectionFlags,
			run: func(ctx context.Context, c *call) error { return c.eachAccount(ctx, "Repair", "/repair", nil) }},
		{noun: "account", verb: "handover", args: "ACCOUNT",
			short: "Print the handover sheet, or mail it to the customer", preview: true,
			flags: []flagInfo{{name: "mail", usage: "mail it to the customer's contact address"}}, run: handOver},
		{noun: "account", verb: "close", args: "[ACCOUNT]…", short: "Close accounts and delete everything they have",
			preview: true, waits: true, many: selectionFlags,
			long: "Asks to type the account's sign-in name, or the number of accounts.",
			run:  closeAccounts},
	}
}

var (
	languages   = language.Tags()
	activations = []string{"link", "password", "none"}
)

func openAccount(ctx context.Context, c *call) error {
	body := api.OpenAccount{Plan: c.value("plan"), Customer: c.value("customer"), NewCustomer: c.on("new-customer"),
		Reseller: c.value("reseller"), CustomerEmail: c.value("email"), SignInName: c.value("sign-in-name"),
		Server: c.value("server"), Language: c.value("language"), Activation: c.value("activation"),
		MustChange: c.on("must-change"), ReadOnly: c.on("read-only")}
	if file := c.value("file"); file != "" {
		if len(c.args) > 0 {
			return usageError{"name a domain, or give --file, but not both"}
		}
		return c.openFromFile(ctx, file, body)
	}
	switch {
	case len(c.args) == 0:
		return usageError{"DOMAIN is missing; usage: victualler account open DOMAIN --plan PLAN --customer CUSTOMER"}
	case body.Plan == "":
		return usageError{"--plan is needed; “victualler plan list” lists plans"}
	case body.Customer == "":
		return usageError{"--customer is needed; for somebody new, add --new-customer"}
	case c.value("answers") != "" && c.value("kit") == "":
		return usageError{"--answers are to a kit's questions; name the kit with --kit"}
	}
	body.Domain = c.args[0]
	if kit := c.value("kit"); kit != "" {
		given, err := answers(split(c.value("answers"), ";"))
		if err != nil {
			return err
		}
		if err := c.askOfKit(ctx, kit, given); err != nil {
			return err
		}
		body.Kit = &api.NewSiteKit{Kit: kit, Answers: given}
	}
	if c.on("password-stdin") {
		password, err := c.readPassword(ctx, "")
		if err != nil {
			return err
		}
		body.Password = password
	}
	if c.previews() {
		return c.showPreview(ctx, http.MethodPost, "/accounts", body, "")
	}
	var opening api.Opening
	if err := c.client.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: body, Key: c.value("key"),
		Note: c.note}, &opening); err != nil {
		return err
	}
	c.outcome.answer = opening
	a := opening.Account
	why := ""
	if opening.Placement != "" {
		why = " (" + opening.Placement + ")"
	}
	if !c.on("no-wait") {
		c.say("opening %s as %s on %s%s", a.Name, a.SignInName, a.Server, why)
	}
	if err := c.started(ctx, opening.Operation); err != nil {
		return err
	}
	return c.startedIf(ctx, opening.KitOperation)
}

// eachAccount asks for work on accounts: a POST without further
// questions, or on several, after one.
func (c *call) eachAccount(ctx context.Context, verb, path string, body any) error {
	accounts, err := c.selected(ctx)
	if err != nil {
		return err
	}
	if err := c.confirmMany(ctx, accounts, verb); err != nil {
		return err
	}
	return c.workOn(ctx, accounts, path, func(api.Account) any { return body })
}

// workOn posts to a path below each of some accounts.
func (c *call) workOn(ctx context.Context, accounts []api.Account, path string, body func(api.Account) any) error {
	if len(accounts) == 1 {
		return c.work(ctx, http.MethodPost, belowAccount(accounts[0], path), body(accounts[0]))
	}
	return changeEach[api.Started](ctx, c, accounts, http.MethodPost, path, body)
}

// belowAccount is a path below an account's.
func belowAccount(a api.Account, path string) string {
	return accountPath(strconv.FormatInt(a.ID, 10)) + path
}

// changeEach asks for the same change of each of some accounts side by side, at a path below it, or
// previews them. T is the service's answer.
func changeEach[T api.Begun](ctx context.Context, c *call, accounts []api.Account, method, path string,
	body func(api.Account) any) error {
	if c.previews() {
		return c.previewMany(ctx, accounts, method, path, body)
	}
	var tasks []task
	for _, a := range accounts {
		tasks = append(tasks, task{a.SignInName, func(ctx context.Context) (any, int64, error) {
			var answer T
			err := c.client.Do(ctx, client.Call{Method: method, Path: belowAccount(a, path), Body: body(a)}, &answer)
			return answer, answer.OperationNumber(), err
		}})
	}
	return c.runMany(ctx, tasks)
}

func closeAccounts(ctx context.Context, c *call) error {
	accounts, err := c.selected(ctx)
	if err != nil {
		return err
	}
	if len(accounts) == 1 {
		var a api.AccountDetail
		if err := c.client.Get(ctx, accountPath(strconv.FormatInt(accounts[0].ID, 10)), nil, &a); err != nil {
			return err
		}
		err = c.confirmName(ctx, fmt.Sprintf("This closes %s (%s, customer %s) and deletes %s in %s.", a.SignInName,
			a.Name, a.Customer, size(a.DiskUsed), a.Home), a.SignInName)
	} else {
		if !c.previews() && !c.on("yes") {
			c.showSelected(accounts)
		}
		err = c.confirmName(ctx, fmt.Sprintf("This closes these %d accounts and deletes everything they have.",
			len(accounts)), strconv.Itoa(len(accounts)))
	}
	if err != nil {
		return err
	}
	return c.workOn(ctx, accounts, "/close", func(a api.Account) any {
		return api.CloseAccount{SignInName: a.SignInName}
	})
}

func changeAccounts(ctx context.Context, c *call) error {
	chosen := 0
	for _, is := range []bool{c.value("plan") != "", c.value("customer") != "", c.on("freeze"), c.on("unfreeze")} {
		if is {
			chosen++
		}
	}
	if chosen != 1 {
		return usageError{"say one thing to change: --plan PLAN, --customer CUSTOMER, --freeze or --unfreeze"}
	}
	accounts, err := c.selected(ctx)
	if err != nil {
		return err
	}
	if err := c.confirmMany(ctx, accounts, "Change"); err != nil {
		return err
	}
	if plan := c.value("plan"); plan != "" {
		body := api.Shift{DropExceptions: c.on("drop-exceptions")}
		for _, a := range accounts {
			body.Accounts = append(body.Accounts, strconv.FormatInt(a.ID, 10))
		}
		var shifted api.Shifted
		previewed, err := c.change(ctx, http.MethodPost, "/plans/"+url.PathEscape(plan)+"/accounts", body, &shifted)
		if err != nil || previewed {
			return err
		}
		for _, e := range shifted.Effects {
			c.sayEffect(e)
		}
		return c.startedIf(ctx, shifted.Operation)
	}
	if customer := c.value("customer"); customer != "" {
		return c.giveAccounts(ctx, accounts, customer)
	}
	body := api.Freeze{Frozen: c.on("freeze")}
	const path = "/frozen-terms"
	if len(accounts) > 1 {
		return changeEach[api.TermsChanged](ctx, c, accounts, http.MethodPut, path, func(api.Account) any {
			return body
		})
	}
	var changed api.TermsChanged
	previewed, err := c.change(ctx, http.MethodPut, belowAccount(accounts[0], path), body, &changed)
	if err != nil || previewed {
		return err
	}
	c.say("%s %s", changed.Effect.Account, map[bool]string{true: "keeps its present limits",
		false: "follows its plan again"}[body.Frozen])
	return c.startedIf(ctx, changed.Operation)
}

// giveAccounts gives accounts to another customer.
func (c *call) giveAccounts(ctx context.Context, accounts []api.Account, customer string) error {
	body := api.NewOwner{Customer: customer}
	const path = "/customer"
	if len(accounts) > 1 {
		return changeEach[api.Started](ctx, c, accounts, http.MethodPut, path, func(api.Account) any { return body })
	}
	previewed, err := c.change(ctx, http.MethodPut, belowAccount(accounts[0], path), body, nil)
	if err == nil && !previewed {
		c.say("%s is %s’s", accounts[0].Name, customer)
	}
	return err
}

func handOver(ctx context.Context, c *call) error {
	path := accountPath(c.args[0]) + "/handover"
	var sheet api.Handover
	if c.on("mail") {
		previewed, err := c.change(ctx, http.MethodPost, path+"/mail", nil, &sheet)
		if err == nil && !previewed {
			c.say("on its way to %s", sheet.To)
		}
		return err
	}
	if c.on("preview") {
		return usageError{"--preview is for --mail; without it, nothing is sent"}
	}
	if err := c.client.Get(ctx, path, nil, &sheet); err != nil {
		return err
	}
	return c.show(sheet, pairs("account", sheet.Account, "customer", sheet.Customer, "console", sheet.Console,
		"domains", sheet.Domains, "addresses", sheet.Addresses, "name servers", sheet.NameServers, "people",
		sheet.People), func() error {
		fmt.Fprint(c.out, sheet.Text)
		return nil
	})
}

func accountsOf(p api.AccountPage) ([]api.Account, string) { return p.Accounts, p.Next }

func listAccounts(ctx context.Context, c *call) error {
	filters := []string{"search", "state", "server", "plan", "customer", "reseller", "needs"}
	all, more, err := collect(ctx, c, "/accounts", c.filters(filters...), accountsOf)
	if err != nil {
		return err
	}
	none := c.filtered("no accounts; open one with: victualler account open DOMAIN --plan PLAN --customer CUSTOMER",
		filters...)
	return printList(c, all, more, none, []column[api.Account]{
		col("DOMAIN", 0, func(a api.Account) any { return a.Name }),
		col("SIGN-IN NAME", 0, func(a api.Account) any { return a.SignInName }),
		col("CUSTOMER", 2, func(a api.Account) any { return a.Customer }),
		col("RESELLER", 4, func(a api.Account) any { return a.Reseller }),
		col("PLAN", 1, func(a api.Account) any { return a.Plan }),
		col("SERVER", 1, func(a api.Account) any { return a.Server }),
		col("STATE", 0, func(a api.Account) any { return stateOf(a) }),
		col("DISK", 0, func(a api.Account) any { return sizeOf(a.DiskUsed) }),
		col("DISK LIMIT", 1, func(a api.Account) any { return amount{a.DiskLimit, "bytes"} }),
		col("OPENED", 5, func(a api.Account) any { return a.OpenedAt }),
		col("NUMBER", 6, func(a api.Account) any { return a.ID }),
	})
}

// stateOf is an account's state with what an operator should know beside it.
func stateOf(a api.Account) string {
	text := a.State
	if a.Frozen {
		text += ", frozen"
	}
	if a.MailState != "" {
		text += ", mail suspended"
	}
	if a.Drifts > 0 {
		text += ", drift"
	}
	return text
}

func showAccount(ctx context.Context, c *call) error {
	var a api.AccountDetail
	if err := c.client.Get(ctx, accountPath(c.args[0]), nil, &a); err != nil {
		return err
	}
	limits := rows("LIMIT|ALLOWED|USED|LEFT|FROM")
	for _, l := range a.Allowance {
		var used, left any = "", ""
		if l.Used != nil {
			used, left = amountOf(l.Used, l.Unit), amountOf(l.Left, l.Unit)
		}
		limits.add(l.Title, amountOf(l.Value, l.Unit), used, left, l.Source)
	}
	return c.show(a, limits, func() error {
		c.printAccount(a)
		if len(a.Domains) > 0 {
			domains := rows("DOMAIN|SERVED AS")
			for _, d := range a.Domains {
				domains.add(d.Unicode, servedAs(d))
			}
			c.table(domains)
			fmt.Fprintln(c.out)
		}
		c.table(limits)
		if len(a.Excepted) > 0 {
			fmt.Fprintln(c.out, "\nset by hand:")
			c.table(gridOf(a.Excepted, exceptionColumns))
		}
		c.printWarnings(a.Warnings)
		c.printDrift(a.Drift)
		return nil
	})
}

func (c *call) printAccount(a api.AccountDetail) {
	var on []string
	for _, f := range a.Features {
		if f.On {
			on = append(on, f.Title)
		}
	}
	customer := a.Customer
	if a.Reseller != "" {
		customer += " (of " + a.Reseller + ")"
	}
	suspended, frozen := "", ""
	if a.Suspension != nil {
		suspended = a.Suspension.Why + " (by " + a.Suspension.By + ", " + local(a.Suspension.Since) + ")"
	}
	if a.FrozenTerms != nil {
		frozen = "limits of plan " + a.FrozenTerms.Plan + " since " + local(a.FrozenTerms.Since)
	}
	name := a.Name
	if a.Name != a.Domain {
		name += " (" + a.Domain + ")"
	}
	c.fields("account", fmt.Sprintf("%s, number %d", a.SignInName, a.ID), "domain", name, "customer", customer,
		"plan", a.Plan, "state", stateOf(a.Account), "suspended", suspended, "frozen", frozen,
		"server", a.Server+" ("+a.Address+")", "why there", a.Placement, "home", a.Home, "disk",
		size(a.DiskUsed)+" of "+limit(a.DiskLimit),
		"opened", local(a.OpenedAt), "features", strings.Join(on, ", "))
	fmt.Fprintln(c.out)
}

// printWarnings shows what does not work because of what is in the home.
func (c *call) printWarnings(list []api.Warning) {
	for _, w := range list {
		subject := ""
		if w.Subject != "" {
			subject = w.Subject + ": "
		}
		fmt.Fprintln(c.out)
		c.paragraph("", fmt.Sprintf("warning, since %s: %s%s", local(w.Since), subject,
			strings.TrimSpace(w.What+" "+w.Seen)))
		if w.Mend != "" {
			c.paragraph("  ", w.Mend)
		}
	}
}
