package main

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"victualler/internal/api"
)

func addressCommands() []command {
	to := flagInfo{name: "to", value: "ADDRESS,…", usage: "the addresses that it leads to"}
	return []command{
		{noun: "address", verb: "list", args: "ACCOUNT", list: true, run: listAddresses,
			short: "List the addresses of an account that are no mailboxes'"},
		{noun: "address", verb: "add", args: "ADDRESS", preview: true, waits: true,
			short: "Add an address that leads to others",
			long: "Others are mailboxes and addresses of the account, for which what goes before the @ is enough, " +
				"and those of anybody. *@DOMAIN gets what no other address of the domain does.",
			flags: []flagInfo{inAccountFlag, to}, run: addAddress},
		{noun: "address", verb: "change", args: "ADDRESS", preview: true, waits: true,
			short: "Change where an address leads",
			long: "abuse@, hostmaster@, postmaster@ and webmaster@ exist with every domain that gets mail, and can " +
				"be pointed so.",
			flags: []flagInfo{inAccountFlag, to}, run: changeAddress},
		{noun: "address", verb: "remove", args: "ADDRESS", short: "Remove an address", preview: true, waits: true,
			flags: []flagInfo{inAccountFlag, yesFlag}, run: removeAddress},
		{noun: "address", verb: "trace", args: "ADDRESS", flags: []flagInfo{inAccountFlag}, run: traceAddress,
			short: "Show what would become of a message to an address"},
	}
}

func addressesPath(account string) string { return accountPath(account) + "/addresses" }

func (c *call) addressPath(ctx context.Context) (string, error) {
	account, err := c.accountOfAddress(ctx)
	return addressesPath(account) + "/" + url.PathEscape(c.args[0]), err
}

// addressesGiven reads a flag with addresses; nil where it is not given.
func (c *call) addressesGiven(flag string) *[]string {
	text := c.given(flag)
	if text == nil {
		return nil
	}
	list := []string{}
	for one := range strings.SplitSeq(*text, ",") {
		if one = strings.TrimSpace(one); one != "" && one != "none" {
			list = append(list, one)
		}
	}
	return &list
}

func listAddresses(ctx context.Context, c *call) error {
	var list api.MailAddressList
	if err := c.client.Get(ctx, addressesPath(c.args[0]), nil, &list); err != nil {
		return err
	}
	return printList(c, list.Addresses, false, "no addresses; add one with: victualler address add ADDRESS --to "+
		"ADDRESS",
		[]column[api.MailAddress]{
			col("ADDRESS", 0, func(a api.MailAddress) any { return a.Unicode }),
			col("LEADS TO", 0, func(a api.MailAddress) any {
				leads := strings.Join(a.Targets, ", ")
				if !a.Pointed && c.forPeople() {
					leads += " (automatic)"
				}
				return leads
			}),
			col("ADDED", 1, func(a api.MailAddress) any {
				if a.AddedAt == nil {
					return ""
				}
				return *a.AddedAt
			}),
		})
}

// targetsGiven reads --to, which must be given.
func (c *call) targetsGiven() ([]string, error) {
	targets := c.addressesGiven("to")
	if targets == nil || len(*targets) == 0 {
		return nil, usageError{"say where it leads, such as --to anna@ternferries.example"}
	}
	return *targets, nil
}

func addAddress(ctx context.Context, c *call) error {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return err
	}
	body := api.NewMailAddress{Address: c.args[0]}
	if body.Targets, err = c.targetsGiven(); err != nil {
		return err
	}
	return c.sayAddress(ctx, http.MethodPost, addressesPath(account), body)
}

func changeAddress(ctx context.Context, c *call) error {
	path, err := c.addressPath(ctx)
	if err != nil {
		return err
	}
	body := api.MailAddressChange{}
	if body.Targets, err = c.targetsGiven(); err != nil {
		return err
	}
	return c.sayAddress(ctx, http.MethodPatch, path, body)
}

// sayAddress makes a change and says where an address leads then.
func (c *call) sayAddress(ctx context.Context, method, path string, body any) error {
	var done api.MailAddressChanged
	previewed, err := c.change(ctx, method, path, body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("address %s leads to %s", done.Address.Unicode, strings.Join(done.Address.Targets, ", "))
	return c.startedIf(ctx, done.Operation)
}

func removeAddress(ctx context.Context, c *call) error {
	path, err := c.addressPath(ctx)
	if err != nil {
		return err
	}
	if err := c.confirm(ctx, "Remove the address "+c.args[0]+"?"); err != nil {
		return err
	}
	return c.work(ctx, http.MethodDelete, path, nil)
}

func traceAddress(ctx context.Context, c *call) error {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return err
	}
	var path api.MailPath
	query := url.Values{"address": {c.args[0]}}
	if err := c.client.Get(ctx, accountPath(account)+"/mail-path", query, &path); err != nil {
		return err
	}
	switch {
	case c.format() == "json":
		return c.json(path)
	case !c.forPeople():
		return printList(c, hopsOf(path), false, "", []column[api.MailPath]{
			col("ADDRESS", 0, func(p api.MailPath) any { return p.Unicode }),
			col("WHAT BECOMES OF IT", 0, func(p api.MailPath) any { return p.Says }),
		})
	}
	c.say("%s", strings.TrimSuffix(drawPath(path, "", ""), "\n"))
	return nil
}

// drawPath draws what becomes of a message as a tree. First precedes its first line, and rest those
// below it.
func drawPath(p api.MailPath, first, rest string) string {
	text := first + p.Unicode + "  " + p.Says + "\n"
	for i, next := range p.Next {
		branch, below := "├─ ", "│  "
		if i == len(p.Next)-1 {
			branch, below = "└─ ", "   "
		}
		text += drawPath(next, rest+branch, rest+below)
	}
	return text
}

// hopsOf are the hops of a path, one after the other.
func hopsOf(p api.MailPath) []api.MailPath {
	list := []api.MailPath{p}
	for _, next := range p.Next {
		list = append(list, hopsOf(next)...)
	}
	return list
}
