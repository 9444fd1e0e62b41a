package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
)

func customerCommands() []command {
	path := func(c *call) string { return "/customers/" + url.PathEscape(c.args[0]) }
	contact := []flagInfo{{name: "email", value: "ADDRESS", usage: "contact address"},
		{name: "contact", value: "NAME", usage: "whom to ask for"},
		{name: "phone", value: "NUMBER", usage: "telephone"},
		{name: "postal", value: "TEXT", usage: "postal address"},
		{name: "language", value: "LANGUAGE", usage: "of notices, and of pages that visitors see: " + orList(languages),
			values: languages}}
	return []command{
		{noun: "customer", verb: "add", args: "NAME", short: "Add a customer", preview: true,
			flags: append([]flagInfo{{name: "reseller", value: "NAME", usage: "add them for this reseller"}},
				contact...),
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				previewed, err := c.change(ctx, http.MethodPost, "/customers", api.NewCustomer{Name: c.args[0],
					Reseller: c.value("reseller"), Email: c.value("email"), Contact: c.value("contact"),
					Phone: c.value("phone"), Postal: c.value("postal"), Language: c.value("language")}, &customer)
				if err != nil || previewed {
					return err
				}
				return c.showCustomer(customer)
			}},
		{noun: "customer", verb: "list", short: "List customers", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name or contact address"},
				{name: "reseller", value: "NAME", usage: "only this reseller's"},
				{name: "own", usage: "only the operator's, no reseller's"}},
			run: func(ctx context.Context, c *call) error {
				query := c.filters("search", "reseller")
				query.Set("own", strconv.FormatBool(c.on("own")))
				all, more, err := collect(ctx, c, "/customers", query,
					func(p api.CustomerPage) ([]api.Customer, string) { return p.Customers, p.Next })
				if err != nil {
					return err
				}
				return printList(c, all, more, c.filtered("no customers; add one with: victualler customer add NAME",
					"search", "reseller"), customerColumns)
			}},
		{noun: "customer", verb: "show", args: "CUSTOMER", short: "Show a customer, by number or name",
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				if err := c.client.Get(ctx, path(c), nil, &customer); err != nil {
					return err
				}
				return c.showCustomer(customer)
			}},
		{noun: "customer", verb: "change", args: "CUSTOMER", short: "Change a customer", preview: true,
			long:  "What is left out stays; - empties it.",
			flags: append([]flagInfo{{name: "name", value: "NAME", usage: "a new name"}}, contact...),
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				if err := c.client.Get(ctx, path(c), nil, &customer); err != nil {
					return err
				}
				body := api.CustomerChange{Name: c.given("name"), Email: c.given("email"), Contact: c.given("contact"),
					Phone: c.given("phone"), Postal: c.given("postal"), Language: c.given("language")}
				if body == (api.CustomerChange{}) {
					return c.nothingToChange()
				}
				previewed, err := c.changeIf(ctx, http.MethodPatch, "/customers/"+strconv.FormatInt(customer.ID, 10),
					body, &customer, tag(customer.Version))
				if err != nil || previewed {
					return err
				}
				return c.showCustomer(customer)
			}},
		{noun: "customer", verb: "remove", args: "CUSTOMER",
			short: "Remove a customer without accounts, with all contact data", preview: true,
			flags: []flagInfo{yesFlag},
			run:   func(ctx context.Context, c *call) error { return c.removed(ctx, path(c), "customer "+c.args[0]) }},
		{noun: "notes", verb: "show", args: "CUSTOMER", short: "Read staff's notes about a customer",
			run: func(ctx context.Context, c *call) error {
				var notes api.Notes
				if err := c.client.Get(ctx, path(c)+"/notes", nil, &notes); err != nil {
					return err
				}
				return c.show(notes, rows("NOTES", []any{notes.Notes}), func() error {
					fmt.Fprintln(c.out, notes.Notes)
					return nil
				})
			}},
		{noun: "notes", verb: "change", args: "CUSTOMER", short: "Change staff's notes about a customer",
			preview: true, flags: []flagInfo{{name: "clear", usage: "remove the notes"}},
			long: "Opens them in $EDITOR, or replaces them with standard input. They are for staff only: no customer " +
				"can read them.",
			run: func(ctx context.Context, c *call) error { return changeNotes(ctx, c, path(c)+"/notes") }},
	}
}

func changeNotes(ctx context.Context, c *call, path string) error {
	text := ""
	if !c.on("clear") {
		var notes api.Notes
		if err := c.client.Get(ctx, path, nil, &notes); err != nil {
			return err
		}
		typed, err := c.edited(ctx, notes.Notes)
		if err != nil {
			return err
		}
		switch text = strings.TrimSpace(typed); text {
		case "":
			return usageError{"there is no text; to remove the notes, use --clear"}
		case strings.TrimSpace(notes.Notes):
			c.say("the notes are as they were")
			return nil
		}
	}
	previewed, err := c.change(ctx, http.MethodPut, path, api.Notes{Notes: text}, nil)
	if err == nil && !previewed {
		c.say("the notes of %s are %s", c.args[0], map[bool]string{true: "removed", false: "saved"}[text == ""])
	}
	return err
}

var customerColumns = []column[api.Customer]{
	col("NUMBER", 0, func(c api.Customer) any { return c.ID }),
	col("CUSTOMER", 0, func(c api.Customer) any { return c.Name }),
	col("RESELLER", 1, func(c api.Customer) any { return c.Reseller }),
	col("EMAIL", 2, func(c api.Customer) any { return c.Email }),
	col("LANGUAGE", 3, func(c api.Customer) any { return c.Language }),
	col("ACCOUNTS", 0, func(c api.Customer) any { return c.Accounts }),
}

func (c *call) showCustomer(customer api.Customer) error {
	g := pairs("number", customer.ID, "customer", customer.Name, "reseller", customer.Reseller,
		"contact", customer.Contact, "email", customer.Email, "phone", customer.Phone, "postal",
		strings.ReplaceAll(customer.Postal, "\n", ", "), "language", customer.Language, "accounts", customer.Accounts,
		"since", customer.Since)
	return c.showFields(customer, g)
}
