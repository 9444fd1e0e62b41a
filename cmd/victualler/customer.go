package main

import (
	"context"
	"fmt"
	"io"
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
		{name: "language", value: "LANGUAGE", usage: "of notices: en or de"}}
	return []command{
		{noun: "customer", verb: "add", args: "NAME", short: "Add a customer", output: true, preview: true,
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
				return c.print(customer, customerTable(customer))
			}},
		{noun: "customer", verb: "list", short: "List customers", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name or contact address"},
				{name: "reseller", value: "NAME", usage: "only this reseller's"},
				{name: "own", usage: "only the operator's, no reseller's"}},
			run: func(ctx context.Context, c *call) error {
				query := url.Values{"search": {c.value("search")}, "reseller": {c.value("reseller")},
					"own": {strconv.FormatBool(c.on("own"))}}
				all, err := collect(ctx, c, "/customers", query, 0, func(p api.CustomerPage) ([]api.Customer, string) {
					return p.Customers, p.Next
				})
				if err != nil {
					return err
				}
				return c.print(all, customerTable(all...))
			}},
		{noun: "customer", verb: "show", args: "CUSTOMER", short: "Show a customer, by number or name", output: true,
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				if err := c.client.Get(ctx, path(c), nil, &customer); err != nil {
					return err
				}
				if c.format() != "" {
					return c.print(customer, customerTable(customer))
				}
				fields(c.out, "customer", fmt.Sprintf("%d %s", customer.ID, customer.Name), "of", customer.Reseller,
					"contact", customer.Contact, "email", customer.Email, "phone", customer.Phone,
					"postal", strings.ReplaceAll(customer.Postal, "\n", ", "), "language", customer.Language,
					"accounts", strconv.FormatInt(customer.Accounts, 10), "since", local(customer.Since))
				return nil
			}},
		{noun: "customer", verb: "change", args: "CUSTOMER", short: "Change a customer", output: true, preview: true,
			long:  "What is left out stays; - empties it.",
			flags: append([]flagInfo{{name: "name", value: "NAME", usage: "a new name"}}, contact...),
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				if err := c.client.Get(ctx, path(c), nil, &customer); err != nil {
					return err
				}
				body := api.CustomerChange{Name: c.given("name"), Email: c.given("email"), Contact: c.given("contact"),
					Phone: c.given("phone"), Postal: c.given("postal"), Language: c.given("language")}
				previewed, err := c.changeIf(ctx, http.MethodPatch, "/customers/"+strconv.FormatInt(customer.ID, 10),
					body, &customer, tag(customer.Version))
				if err != nil || previewed {
					return err
				}
				return c.print(customer, customerTable(customer))
			}},
		{noun: "customer", verb: "remove", args: "CUSTOMER",
			short: "Remove a customer without accounts, with all contact data", preview: true,
			flags: []flagInfo{yesFlag},
			run:   func(ctx context.Context, c *call) error { return c.removed(ctx, path(c), "customer "+c.args[0]) }},
		{noun: "notes", verb: "show", args: "CUSTOMER", short: "Read staff's notes about a customer", output: true,
			run: func(ctx context.Context, c *call) error {
				var notes api.Notes
				if err := c.client.Get(ctx, path(c)+"/notes", nil, &notes); err != nil {
					return err
				}
				if c.format() == "" {
					fmt.Fprintln(c.out, notes.Notes)
					return nil
				}
				return c.print(notes, table{{"NOTES"}, {notes.Notes}})
			}},
		{noun: "notes", verb: "change", args: "CUSTOMER",
			short: "Replace staff's notes about a customer with standard input", preview: true,
			long: "They are for staff only: no customer can read them.",
			run: func(ctx context.Context, c *call) error {
				text, err := io.ReadAll(io.LimitReader(c.in, 64<<10))
				if err != nil {
					return err
				}
				_, err = c.change(ctx, http.MethodPut, path(c)+"/notes",
					api.Notes{Notes: strings.TrimSpace(string(text))}, nil)
				return err
			}},
	}
}

func customerTable(customers ...api.Customer) table {
	t := table{{"NUMBER", "CUSTOMER", "OF", "EMAIL", "LANGUAGE", "ACCOUNTS"}}
	for _, c := range customers {
		t = append(t, []string{strconv.FormatInt(c.ID, 10), c.Name, c.Reseller, c.Email, c.Language,
			strconv.FormatInt(c.Accounts, 10)})
	}
	return t
}
