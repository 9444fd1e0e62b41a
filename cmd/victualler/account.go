package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
)

func accountCommands() []command {
	return []command{
		{noun: "account", verb: "open", args: "DOMAIN", short: "Open an account", preview: true, waits: true,
			long: "The domain may be typed with https://, www. or capitals; what is put right is said.",
			flags: []flagInfo{{name: "plan", value: "PLAN", usage: "the plan", required: true},
				{name: "customer", value: "NAME", usage: "the customer's name", required: true},
				{name: "new-customer", usage: "add the customer as well"},
				{name: "email", value: "ADDRESS", usage: "contact address of a new customer"},
				{name: "language", value: "LANGUAGE", usage: "of a new customer's notices: en or de"},
				{name: "reseller", value: "NAME", usage: "whose customer it is"},
				{name: "activation", value: "HOW", usage: "how the customer gets to sign in: link, password, or none"},
				{name: "password-stdin",
					usage: "read the first password from standard input, for --activation password"},
				{name: "must-change", usage: "have the first password changed at the first sign-in"},
				{name: "read-only", usage: "make a sign-in that may look and change nothing"},
				{name: "sign-in-name", value: "NAME", usage: "proposed from the domain if absent"},
				{name: "server", value: "LABEL", usage: "chosen by free space if absent"},
				{name: "key", value: "KEY", usage: "Idempotency-Key, for scripts that repeat a request"}},
			run: openAccount},
		{noun: "account", verb: "list", short: "List accounts", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of a domain, sign-in name or customer"},
				{name: "state", value: "STATE", usage: "opening, active, suspended, closing or closed"},
				{name: "server", value: "LABEL", usage: "only on this server"},
				{name: "plan", value: "PLAN", usage: "only on this plan"},
				{name: "customer", value: "CUSTOMER", usage: "only of this customer, by number or name"},
				{name: "reseller", value: "NAME", usage: "only of this reseller's customers"},
				{name: "most", value: "N", usage: "how many (default: all)"}},
			run: listAccounts},
		{noun: "account", verb: "show", args: "ACCOUNT", short: "Show an account", output: true, run: showAccount},
		{noun: "account", verb: "repair", args: "ACCOUNT", short: "Make the server match the account again",
			preview: true, waits: true,
			run: func(ctx context.Context, c *call) error {
				return c.work(ctx, http.MethodPost, "/accounts/"+url.PathEscape(c.args[0])+"/repair", nil)
			}},
		{noun: "account", verb: "change", args: "ACCOUNT…",
			short: "Put accounts on another plan, or freeze their present limits", preview: true, waits: true,
			long: "All of them are changed, or none. Nothing is deleted: what is over a new limit cannot grow.",
			flags: []flagInfo{{name: "plan", value: "PLAN", usage: "put them on this plan"},
				{name: "drop-exceptions",
					usage: "remove what was set by hand, instead of keeping it over the new plan"},
				{name: "freeze", usage: "keep the present limits when the plan changes"},
				{name: "unfreeze", usage: "follow the plan again"}},
			run: changeAccounts},
		{noun: "account", verb: "suspend", args: "ACCOUNT",
			short: "Show visitors a notice; everything the account has stays", preview: true, waits: true,
			flags: []flagInfo{{name: "why", value: "TEXT", usage: "the reason; whoever signs in is told",
				required: true}},
			run: func(ctx context.Context, c *call) error {
				return c.work(ctx, http.MethodPost, "/accounts/"+url.PathEscape(c.args[0])+"/suspend",
					api.Suspend{Why: c.value("why")})
			}},
		{noun: "account", verb: "resume", args: "ACCOUNT", short: "Bring back what was before the suspension",
			preview: true, waits: true,
			run: func(ctx context.Context, c *call) error {
				return c.work(ctx, http.MethodPost, "/accounts/"+url.PathEscape(c.args[0])+"/resume", nil)
			}},
		{noun: "account", verb: "handover", args: "ACCOUNT",
			short: "Print the handover sheet, or mail it to the customer", output: true, preview: true,
			flags: []flagInfo{{name: "mail", usage: "mail it to the customer's contact address"}}, run: handOver},
		{noun: "account", verb: "close", args: "ACCOUNT", short: "Close an account and delete everything it has",
			preview: true, waits: true,
			flags: []flagInfo{{name: "yes", usage: "do not ask"}}, run: closeAccount},
	}
}

func openAccount(ctx context.Context, c *call) error {
	body := api.OpenAccount{Domain: c.args[0], Plan: c.value("plan"), Customer: c.value("customer"),
		NewCustomer: c.on("new-customer"), Reseller: c.value("reseller"),
		CustomerEmail: c.value("email"), SignInName: c.value("sign-in-name"), Server: c.value("server"),
		Language:   c.value("language"),
		Activation: c.value("activation"), MustChange: c.on("must-change"), ReadOnly: c.on("read-only")}
	if c.on("password-stdin") {
		password, err := readPassword(c, bufio.NewReader(c.in), "")
		if err != nil {
			return err
		}
		body.Password = password
	}
	if c.on("preview") {
		return c.showPreview(ctx, http.MethodPost, "/accounts", body, "")
	}
	var opening api.Opening
	if err := c.client.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: body, Key: c.value("key")},
		&opening); err != nil {
		return err
	}
	if c.on("no-wait") {
		return c.started(ctx, opening.Operation)
	}
	for _, text := range opening.Corrections {
		fmt.Fprintln(c.out, "note:", text)
	}
	a := opening.Account
	why := ""
	if opening.Placement != "" {
		why = " (" + opening.Placement + ")"
	}
	fmt.Fprintf(c.out, "opening %s as %s on %s%s\n", a.Name, a.SignInName, a.Server, why)
	return c.started(ctx, opening.Operation)
}

func changeAccounts(ctx context.Context, c *call) error {
	if c.value("plan") != "" {
		var shifted api.Shifted
		previewed, err := c.change(ctx, http.MethodPost, "/plans/"+url.PathEscape(c.value("plan"))+"/accounts",
			api.Shift{Accounts: c.args, DropExceptions: c.on("drop-exceptions")}, &shifted)
		if err != nil || previewed {
			return err
		}
		for _, e := range shifted.Effects {
			printEffect(c.out, e)
		}
		return c.startedIf(ctx, shifted.Operation)
	}
	if c.on("freeze") == c.on("unfreeze") {
		return usageError{"say what to change: --plan PLAN, --freeze or --unfreeze"}
	}
	for _, account := range c.args {
		var changed api.TermsChanged
		previewed, err := c.change(ctx, http.MethodPut, "/accounts/"+url.PathEscape(account)+"/frozen-terms",
			api.Freeze{Frozen: c.on("freeze")}, &changed)
		if err != nil {
			return err
		}
		if previewed {
			continue
		}
		fmt.Fprintf(c.out, "%s %s\n", changed.Effect.Account, map[bool]string{true: "keeps its present limits",
			false: "follows its plan again"}[c.on("freeze")])
		if err := c.startedIf(ctx, changed.Operation); err != nil {
			return err
		}
	}
	return nil
}

func handOver(ctx context.Context, c *call) error {
	path := "/accounts/" + url.PathEscape(c.args[0]) + "/handover"
	var sheet api.Handover
	if c.on("mail") {
		previewed, err := c.change(ctx, http.MethodPost, path+"/mail", nil, &sheet)
		if err == nil && !previewed {
			fmt.Fprintf(c.out, "on its way to %s\n", sheet.To)
		}
		return err
	}
	if err := c.client.Get(ctx, path, nil, &sheet); err != nil {
		return err
	}
	if c.format() == "" {
		fmt.Fprint(c.out, sheet.Text)
		return nil
	}
	t := table{{"WHAT", "VALUE"}, {"account", sheet.Account}, {"customer", sheet.Customer}, {"console", sheet.Console},
		{"domains", strings.Join(sheet.Domains, " ")},
		{"addresses", strings.Join(sheet.Addresses, " ")}, {"name servers", strings.Join(sheet.NameServers, " ")},
		{"people", strings.Join(sheet.People, " ")}}
	return c.print(sheet, t)
}

func listAccounts(ctx context.Context, c *call) error {
	most := 0
	if text := c.value("most"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return usageError{"--most takes a number above 0"}
		}
		most = n
	}
	query := url.Values{"limit": {"500"}, "search": {c.value("search")}, "state": {c.value("state")},
		"server": {c.value("server")}, "plan": {c.value("plan")},
		"customer": {c.value("customer")}, "reseller": {c.value("reseller")}}
	all, err := collect(ctx, c, "/accounts", query, most, func(p api.AccountPage) ([]api.Account, string) {
		return p.Accounts, p.Next
	})
	if err != nil {
		return err
	}
	t := table{{"DOMAIN", "SIGN-IN NAME", "CUSTOMER", "PLAN", "SERVER", "STATE", "DISK", "OF"}}
	for _, a := range all {
		t = append(t, []string{a.Name, a.SignInName, a.Customer, a.Plan, a.Server, stateOf(a), size(a.DiskUsed),
			limit(a.DiskLimit)})
	}
	if len(all) == 0 && (c.format() == "" || c.format() == "table") {
		if c.value("search")+c.value("state")+c.value("server")+c.value("plan")+c.value("customer")+c.value(
			"reseller") != "" {
			fmt.Fprintln(c.out, "no account fits; closed ones are listed only with --state closed")
		} else {
			fmt.Fprintln(c.out,
				"no accounts; open one with: victualler account open DOMAIN --plan PLAN --customer NAME")
		}
		return nil
	}
	return c.print(all, t)
}

// stateOf is an account's state with what an operator should know beside it.
func stateOf(a api.Account) string {
	text := a.State
	if a.Frozen {
		text += ", frozen"
	}
	if a.Drifts > 0 {
		text += ", drift"
	}
	return text
}

func showAccount(ctx context.Context, c *call) error {
	var a api.AccountDetail
	if err := c.client.Get(ctx, "/accounts/"+url.PathEscape(c.args[0]), nil, &a); err != nil {
		return err
	}
	t := table{{"LIMIT", "ALLOWED", "USED", "LEFT", "FROM"}}
	for _, l := range a.Allowance {
		used, left := "", ""
		if l.Used != nil {
			used, left = written(l.Used, l.Unit), written(l.Left, l.Unit)
		}
		t = append(t, []string{l.Title, written(l.Value, l.Unit), used, left, l.Source})
	}
	var on []string
	for _, f := range a.Features {
		if f.On {
			on = append(on, f.Feature)
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
	if c.format() == "json" || c.format() == "csv" {
		return c.print(a, t)
	}
	name := a.Name
	if a.Name != a.Domain {
		name += " (" + a.Domain + ")"
	}
	fields(c.out, "account", fmt.Sprintf("%s, number %d", a.SignInName, a.ID), "domain", name, "customer", customer,
		"plan", a.Plan, "state", stateOf(a.Account), "suspended", suspended, "frozen", frozen,
		"server", a.Server+" ("+a.Address+")", "why there", a.Placement, "home", a.Home, "disk",
		size(a.DiskUsed)+" of "+limit(a.DiskLimit),
		"opened", local(a.OpenedAt), "features", strings.Join(on, ", "))
	fmt.Fprintln(c.out)
	domains := table{{"DOMAIN", "SERVED AS"}}
	for _, d := range a.Domains {
		domains = append(domains, []string{d.Unicode, servedAs(d)})
	}
	if len(a.Domains) > 0 {
		domains.write(c.out, width(c.out))
		fmt.Fprintln(c.out)
	}
	t.write(c.out, width(c.out))
	if len(a.Excepted) > 0 {
		fmt.Fprintln(c.out, "\nset by hand:")
		exceptionTable(a.Excepted).write(c.out, width(c.out))
	}
	printWarnings(c.out, a.Warnings)
	printDrift(c, a.Drift)
	return nil
}

// printWarnings shows what does not work because of what is in the home.
func printWarnings(out io.Writer, list []api.Warning) {
	for _, w := range list {
		subject := ""
		if w.Subject != "" {
			subject = w.Subject + ": "
		}
		fmt.Fprintf(out, "\nwarning, since %s: %s%s\n", local(w.Since), subject, strings.TrimSpace(w.What+" "+w.Seen))
		if w.Mend != "" {
			fmt.Fprintf(out, "  %s\n", w.Mend)
		}
	}
}

func closeAccount(ctx context.Context, c *call) error {
	var a api.AccountDetail
	path := "/accounts/" + url.PathEscape(c.args[0])
	if err := c.client.Get(ctx, path, nil, &a); err != nil {
		return err
	}
	if !c.on("preview") {
		if err := c.confirm(fmt.Sprintf("Close %s (%s, customer %s) and delete %s in %s?", a.SignInName, a.Name,
			a.Customer, size(a.DiskUsed), a.Home)); err != nil {
			return err
		}
	}
	return c.work(ctx, http.MethodPost, "/accounts/"+strconv.FormatInt(a.ID, 10)+"/close",
		api.CloseAccount{SignInName: a.SignInName})
}
