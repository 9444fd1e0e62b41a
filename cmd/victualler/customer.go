package main

import (
	"context"
	"net/url"
	"strconv"

	"victualler/internal/api"
)

func init() {
	commands = append(commands,
		command{noun: "customer", verb: "add", args: "NAME", short: "Add a customer", output: true,
			flags: []flagInfo{{name: "email", value: "ADDRESS", usage: "contact address"}},
			run: func(ctx context.Context, c *call) error {
				var customer api.Customer
				if err := c.client.Post(ctx, "/customers", api.NewCustomer{Name: c.args[0], Email: c.value("email")}, &customer); err != nil {
					return err
				}
				return c.print(customer, customerTable(customer))
			}},
		command{noun: "customer", verb: "list", short: "List customers", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name"}},
			run: func(ctx context.Context, c *call) error {
				all := []api.Customer{}
				for query := (url.Values{"limit": {"500"}, "search": {c.value("search")}}); ; {
					var list api.CustomerPage
					if err := c.client.Get(ctx, "/customers", query, &list); err != nil {
						return err
					}
					all = append(all, list.Customers...)
					if list.Next == "" {
						break
					}
					query.Set("cursor", list.Next)
				}
				return c.print(all, customerTable(all...))
			}})
}

func customerTable(customers ...api.Customer) table {
	t := table{{"CUSTOMER", "EMAIL", "ACCOUNTS"}}
	for _, c := range customers {
		t = append(t, []string{c.Name, c.Email, strconv.FormatInt(c.Accounts, 10)})
	}
	return t
}
