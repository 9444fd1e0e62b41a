package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"victualler/internal/api"
)

func init() {
	path := func(c *call) string { return "/accounts/" + url.PathEscape(c.args[0]) + "/domains" }
	commands = append(commands,
		command{noun: "domain", verb: "add", args: "ACCOUNT DOMAIN", short: "Add a domain to an account, served as a site of its own", preview: true, waits: true,
			run: func(ctx context.Context, c *call) error {
				var added api.DomainAdded
				previewed, err := c.change(ctx, http.MethodPost, path(c), api.NewDomain{Domain: c.args[1]}, &added)
				if err != nil || previewed {
					return err
				}
				for _, text := range added.Corrections {
					fmt.Fprintln(c.out, "note:", text)
				}
				fmt.Fprintf(c.out, "adding %s, which counts as one of the %s\n", added.Domain.Unicode, added.Domain.CountsAs)
				return c.started(ctx, added.Operation)
			}},
		command{noun: "domain", verb: "list", args: "ACCOUNT", short: "List the domains of an account", output: true,
			run: func(ctx context.Context, c *call) error {
				var a api.AccountDetail
				if err := c.client.Get(ctx, "/accounts/"+url.PathEscape(c.args[0]), nil, &a); err != nil {
					return err
				}
				t := table{{"DOMAIN", "COUNTS AS", "SERVED AS", "DOCUMENT ROOT"}}
				for _, d := range a.Domains {
					t = append(t, []string{d.Unicode, d.CountsAs, d.ServedAs, a.Home + "/" + d.Root})
				}
				return c.print(a.Domains, t)
			}},
		command{noun: "domain", verb: "remove", args: "ACCOUNT DOMAIN", short: "Take a domain from an account; its files stay", preview: true, waits: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if !c.on("preview") {
					if err := c.confirm("Take " + c.args[1] + " from " + c.args[0] + "? Its files stay."); err != nil {
						return err
					}
				}
				return c.work(ctx, http.MethodDelete, path(c)+"/"+url.PathEscape(c.args[1]), nil)
			}})
}
