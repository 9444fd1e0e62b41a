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
	"victualler/internal/hosting/plans"
)

func init() {
	commands = append(commands,
		command{noun: "account", verb: "open", args: "DOMAIN", short: "Open an account", preview: true, waits: true,
			long: "The domain may be typed with https://, www. or capitals; what is put right is said.",
			flags: []flagInfo{{name: "plan", value: "PLAN", usage: "the plan", required: true}, {name: "customer", value: "NAME", usage: "the customer's name", required: true},
				{name: "new-customer", usage: "add the customer as well"}, {name: "email", value: "ADDRESS", usage: "contact address of a new customer"},
				{name: "sign-in-name", value: "NAME", usage: "proposed from the domain if absent"}, {name: "server", value: "LABEL", usage: "chosen by free space if absent"},
				{name: "key", value: "KEY", usage: "Idempotency-Key, for scripts that repeat a request"}},
			run: openAccount},
		command{noun: "account", verb: "list", short: "List accounts", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of a domain, sign-in name or customer"}, {name: "state", value: "STATE", usage: "opening, active, closing or closed"},
				{name: "server", value: "LABEL", usage: "only on this server"}, {name: "plan", value: "PLAN", usage: "only on this plan"}, {name: "most", value: "N", usage: "how many (default: all)"}},
			run: listAccounts},
		command{noun: "account", verb: "show", args: "ACCOUNT", short: "Show an account", output: true, run: showAccount},
		command{noun: "account", verb: "repair", args: "ACCOUNT", short: "Make the server match the account again", preview: true, waits: true,
			run: func(ctx context.Context, c *call) error {
				path := "/accounts/" + url.PathEscape(c.args[0]) + "/repair"
				if c.on("preview") {
					return c.showPreview(ctx, path, nil)
				}
				var started api.Started
				if err := c.client.Post(ctx, path, nil, &started); err != nil {
					return err
				}
				return c.started(ctx, started.Operation)
			}},
		command{noun: "account", verb: "close", args: "ACCOUNT", short: "Close an account and delete everything it has", preview: true, waits: true,
			flags: []flagInfo{{name: "yes", usage: "do not ask"}}, run: closeAccount})
}

func openAccount(ctx context.Context, c *call) error {
	body := api.OpenAccount{Domain: c.args[0], Plan: c.value("plan"), Customer: c.value("customer"), NewCustomer: c.on("new-customer"),
		CustomerEmail: c.value("email"), SignInName: c.value("sign-in-name"), Server: c.value("server")}
	if c.on("preview") {
		return c.showPreview(ctx, "/accounts", body)
	}
	var opening api.Opening
	if err := c.client.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: body, Key: c.value("key")}, &opening); err != nil {
		return err
	}
	if c.on("no-wait") {
		return c.started(ctx, opening.Operation)
	}
	for _, text := range opening.Corrections {
		fmt.Fprintln(c.out, "note:", text)
	}
	a := opening.Account
	fmt.Fprintf(c.out, "opening %s as %s on %s (%s)\n", a.Name, a.SignInName, a.Server, opening.Placement)
	return c.started(ctx, opening.Operation)
}

// showPreview asks what a change would do and prints it.
func (c *call) showPreview(ctx context.Context, path string, body any) error {
	var p api.Preview
	if err := c.client.Do(ctx, client.Call{Method: http.MethodPost, Path: path, Query: url.Values{"preview": {"true"}}, Body: body}, &p); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "would %s\n", p.Summary)
	for _, note := range p.Notes {
		fmt.Fprintln(c.out, "note:", note)
	}
	fmt.Fprintf(c.out, "steps: %s\n", strings.Join(p.Steps, ", "))
	if len(p.Changes) == 0 {
		fmt.Fprintln(c.out, "everything is as it should be already")
	} else {
		fmt.Fprintln(c.out, "differences that would be put right:")
	}
	for _, change := range p.Changes {
		fmt.Fprintf(c.out, "\n%s: %s %s\n", change.Part, change.Subject, change.What)
		if change.Diff != "" {
			fmt.Fprintln(c.out, strings.TrimRight(change.Diff, "\n"))
		}
	}
	fmt.Fprintln(c.out, "\nnothing was done")
	return nil
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
	query := url.Values{"limit": {"500"}, "search": {c.value("search")}, "state": {c.value("state")}, "server": {c.value("server")}, "plan": {c.value("plan")}}
	all := []api.Account{}
	for {
		var list api.AccountPage
		if err := c.client.Get(ctx, "/accounts", query, &list); err != nil {
			return err
		}
		all = append(all, list.Accounts...)
		if most > 0 && len(all) >= most {
			all = all[:most]
			break
		}
		if list.Next == "" {
			break
		}
		query.Set("cursor", list.Next)
	}
	t := table{{"DOMAIN", "SIGN-IN NAME", "CUSTOMER", "PLAN", "SERVER", "STATE", "DISK", "OF"}}
	for _, a := range all {
		t = append(t, []string{a.Name, a.SignInName, a.Customer, a.Plan, a.Server, stateOf(a), size(a.DiskUsed), limit(a.DiskLimit)})
	}
	if len(all) == 0 && (c.value("o") == "" || c.value("o") == "table") {
		if c.value("search")+c.value("state")+c.value("server")+c.value("plan") != "" {
			fmt.Fprintln(c.out, "no account fits; closed ones are listed only with --state closed")
		} else {
			fmt.Fprintln(c.out, "no accounts; open one with: victualler account open DOMAIN --plan PLAN --customer NAME")
		}
		return nil
	}
	return c.print(all, t)
}

// stateOf is an account's state with what an operator should know beside it.
func stateOf(a api.Account) string {
	if a.Drifts > 0 {
		return a.State + ", drift"
	}
	return a.State
}

func showAccount(ctx context.Context, c *call) error {
	var a api.AccountDetail
	if err := c.client.Get(ctx, "/accounts/"+url.PathEscape(c.args[0]), nil, &a); err != nil {
		return err
	}
	t := table{{"LIMIT", "ALLOWED", "USED", "FROM"}}
	for _, l := range a.Allowance {
		used := ""
		if l.Used != nil {
			used = plans.Of(*l.Used).Format(plans.Unit(l.Unit))
		}
		allowed := plans.Unlimited
		if l.Value != nil {
			allowed = plans.Of(*l.Value)
		}
		t = append(t, []string{l.What, allowed.Format(plans.Unit(l.Unit)), used, l.Source})
	}
	if c.value("o") == "json" || c.value("o") == "csv" {
		return c.print(a, t)
	}
	name := a.Name
	if a.Name != a.Domain {
		name += " (" + a.Domain + ")"
	}
	fields(c.out, "account", fmt.Sprintf("%s, number %d", a.SignInName, a.ID), "domain", name, "customer", a.Customer, "plan", a.Plan, "state", stateOf(a.Account),
		"server", a.Server+" ("+a.Address+")", "why there", a.Placement, "home", a.Home, "disk", size(a.DiskUsed)+" of "+limit(a.DiskLimit),
		"opened", local(a.OpenedAt), "features", strings.Join(a.Features, ", "))
	fmt.Fprintln(c.out)
	domains := table{{"DOMAIN", "SERVED AS", "DOCUMENT ROOT"}}
	for _, d := range a.Domains {
		domains = append(domains, []string{d.Unicode, d.ServedAs, a.Home + "/" + d.Root})
	}
	if len(a.Domains) > 0 {
		domains.write(c.out, width(c.out))
		fmt.Fprintln(c.out)
	}
	t.write(c.out, width(c.out))
	printDrift(c, a.Drift)
	return nil
}

func closeAccount(ctx context.Context, c *call) error {
	var a api.AccountDetail
	path := "/accounts/" + url.PathEscape(c.args[0])
	if err := c.client.Get(ctx, path, nil, &a); err != nil {
		return err
	}
	path = "/accounts/" + strconv.FormatInt(a.ID, 10) + "/close"
	body := api.CloseAccount{SignInName: a.SignInName}
	if c.on("preview") {
		return c.showPreview(ctx, path, body)
	}
	if err := c.confirm(fmt.Sprintf("Close %s (%s, customer %s) and delete %s in %s?", a.SignInName, a.Name, a.Customer, size(a.DiskUsed), a.Home)); err != nil {
		return err
	}
	var started api.Started
	if err := c.client.Post(ctx, path, body, &started); err != nil {
		return err
	}
	return c.started(ctx, started.Operation)
}
