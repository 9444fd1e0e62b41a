package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"victualler/internal/api"
)

var measures = []string{"allotted", "used"}

func resellerCommands() []command {
	path := func(c *call) string { return "/resellers/" + url.PathEscape(c.args[0]) }
	return []command{
		{noun: "reseller", verb: "add", args: "NAME", short: "Add a reseller with their share", preview: true,
			long: "The share is what they may hand out in all (measured as allotted) or their accounts may use in " +
				"all (measured as used).",
			flags: append(limitFlags(true), flagInfo{name: "title", value: "TEXT", usage: "as people read it",
				required: true},
				flagInfo{name: "email", value: "ADDRESS", usage: "contact address"}, flagInfo{name: "measure",
					value: "SUM", usage: "allotted (at first) or used", values: measures}),
			run: func(ctx context.Context, c *call) error {
				limits, features, err := c.limitsAndFeatures()
				if err != nil {
					return err
				}
				body := api.NewReseller{Name: c.args[0], Title: c.value("title"), Email: c.value("email"),
					Measure: c.value("measure"), Limits: limits, Features: features}
				previewed, err := c.change(ctx, http.MethodPost, "/resellers", body, nil)
				if err != nil || previewed {
					return err
				}
				return c.printShare(ctx, c.args[0])
			}},
		{noun: "reseller", verb: "list", short: "List resellers", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name or title"}},
			run: func(ctx context.Context, c *call) error {
				all, more, err := collect(ctx, c, "/resellers", c.filters("search"),
					func(p api.ResellerPage) ([]api.Reseller, string) { return p.Resellers, p.Next })
				if err != nil {
					return err
				}
				return printList(c, all, more, c.filtered("no resellers; add one with: victualler reseller add NAME",
					"search"), []column[api.Reseller]{
					col("RESELLER", 0, func(r api.Reseller) any { return r.Name }),
					col("TITLE", 1, func(r api.Reseller) any { return r.Title }),
					col("MEASURE", 3, func(r api.Reseller) any { return r.Measure }),
					col("CUSTOMERS", 2, func(r api.Reseller) any { return r.Customers }),
					col("ACCOUNTS", 0, func(r api.Reseller) any { return r.Accounts }),
					col("PLANS", 2, func(r api.Reseller) any { return r.Plans }),
					col("STATE", 0, func(r api.Reseller) any {
						if r.Suspension != nil {
							return "suspended"
						}
						return "active"
					}),
				})
			}},
		{noun: "reseller", verb: "show", args: "RESELLER",
			short: "Show a reseller's share: what is allotted, used and left",
			run:   func(ctx context.Context, c *call) error { return c.printShare(ctx, c.args[0]) }},
		{noun: "reseller", verb: "change", args: "RESELLER", short: "Change a reseller and their share", preview: true,
			long: "A share below what is given out needs a decision: --keep-over leaves what is given out: no " +
				"account can use more than the share itself, and nothing more can be given out there.",
			flags: append(limitFlags(false), flagInfo{name: "title", value: "TEXT", usage: "as people read it"},
				flagInfo{name: "email", value: "ADDRESS", usage: "contact address; - for none"},
				flagInfo{name: "measure", value: "SUM", usage: "allotted or used", values: measures},
				flagInfo{name: "keep-over",
					usage: "leave what is given out beyond the new share"}),
			run: func(ctx context.Context, c *call) error {
				limits, features, err := c.limitsAndFeatures()
				if err != nil {
					return err
				}
				body := api.ResellerChange{Title: c.value("title"), Email: c.given("email"),
					Measure: c.value("measure"), Limits: limits, Features: features}
				if c.on("keep-over") {
					body.Over = "keep"
				}
				if body.Title == "" && body.Email == nil && body.Measure == "" && len(limits)+len(features) == 0 {
					return c.nothingToChange()
				}
				var r api.Reseller
				if err := c.client.Get(ctx, path(c), nil, &r); err != nil {
					return err
				}
				previewed, err := c.changeIf(ctx, http.MethodPatch, path(c), body, nil, tag(r.Version))
				if err != nil || previewed {
					return err
				}
				return c.printShare(ctx, c.args[0])
			}},
		{noun: "reseller", verb: "suspend", args: "RESELLER", short: "Keep a reseller from signing in", preview: true,
			waits: true,
			flags: []flagInfo{{name: "why", value: "TEXT", usage: "the reason; they are told when they try to sign in",
				required: true},
				{name: "accounts", value: "stay|suspend", values: []string{"stay", "suspend"},
					usage: "whether their accounts stay as they are or are suspended with them", required: true}},
			run: func(ctx context.Context, c *call) error {
				return c.switchReseller(ctx, path(c)+"/suspend", api.SuspendReseller{Why: c.value("why"),
					Accounts: c.value("accounts")})
			}},
		{noun: "reseller", verb: "resume", args: "RESELLER", short: "Let a suspended reseller go on", preview: true,
			waits: true,
			run:   func(ctx context.Context, c *call) error { return c.switchReseller(ctx, path(c)+"/resume", nil) }},
		{noun: "reseller", verb: "remove", args: "RESELLER", short: "Remove a reseller without customers",
			preview: true,
			flags:   []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, path(c), "reseller "+c.args[0])
			}},
		{noun: "brand", verb: "show", args: "RESELLER", short: "Show how a reseller looks to their customers",
			run: func(ctx context.Context, c *call) error {
				var b api.BrandInForce
				if err := c.client.Get(ctx, path(c)+"/brand", nil, &b); err != nil {
					return err
				}
				return c.showFields(b, brandFields(b))
			}},
		{noun: "brand", verb: "change", args: "RESELLER", short: "Change how a reseller looks to their customers",
			preview: true,
			long:    "What is left out stays; - removes it.",
			flags: []flagInfo{{name: "title", value: "TEXT", usage: "stands where the installation's title does"},
				{name: "footer", value: "TEXT", usage: "below each page and notice"},
				{name: "bar", value: "COLOUR", usage: "of the bar, #rrggbb"},
				{name: "accent", value: "COLOUR", usage: "of links and buttons, #rrggbb"},
				{name: "sender-name", value: "TEXT", usage: "of notices"},
				{name: "sender", value: "ADDRESS", usage: "of notices"},
				{name: "name-servers", value: "NAMES", usage: "under which their customers know the name servers, " +
					"with commas between them; the first is the primary"},
				{name: "accept-unresolved", usage: "take name servers' names that do not lead to the name servers yet"},
				{name: "logo", value: "FILE", usage: "PNG, WebP or SVG, at most 256 KiB"}},
			run: changeBrand},
	}
}

func (c *call) switchReseller(ctx context.Context, path string, body any) error {
	var r api.ResellerSuspended
	previewed, err := c.change(ctx, http.MethodPost, path, body, &r)
	if err != nil || previewed {
		return err
	}
	state := "goes on"
	if r.Reseller.Suspension != nil {
		state = "is suspended"
	}
	c.say("%s %s; %s with them", r.Reseller.Name, state, counted(int(r.Accounts), "account"))
	return c.startedIf(ctx, r.Operation)
}

func (c *call) printShare(ctx context.Context, name string) error {
	var share api.Share
	if err := c.client.Get(ctx, "/resellers/"+url.PathEscape(name)+"/share", nil, &share); err != nil {
		return err
	}
	g := rows("LIMIT|SHARE|ALLOTTED|USED|LEFT|REMARK")
	for _, l := range share.Lines {
		var used, left any = amountOf(&l.Used, l.Unit), amountOf(l.Left, l.Unit)
		mark := ""
		if l.Bound {
			used, left, mark = "", "", "each account"
		}
		if l.Over {
			mark = strings.TrimSpace("over " + mark)
		}
		g.add(l.Title, amountOf(l.Share, l.Unit), amountOf(l.Allotted, l.Unit), used, left, mark)
	}
	if !c.forPeople() {
		return c.show(share, g, nil)
	}
	var r api.Reseller
	if err := c.client.Get(ctx, "/resellers/"+url.PathEscape(name), nil, &r); err != nil {
		return err
	}
	suspended := ""
	if r.Suspension != nil {
		suspended = fmt.Sprintf("%s (by %s, %s); their accounts %s", r.Suspension.Why, r.Suspension.By,
			local(r.Suspension.Since), map[bool]string{true: "too", false: "stay"}[r.With])
	}
	c.fields("reseller", r.Name, "title", r.Title, "email", r.Email, "suspended", suspended, "customers", r.Customers,
		"accounts", r.Accounts, "measured as", r.Measure+" (what is left follows from it)", "features",
		strings.Join(share.Features, ", "))
	fmt.Fprintln(c.out)
	c.table(g)
	return nil
}

func brandFields(b api.BrandInForce) *grid {
	return pairs("title", b.Title, "footer", b.Footer, "bar", b.Bar, "text on bar", b.OnBar, "accent", b.Accent,
		"accent on dark", b.DarkAccent, "sender", strings.TrimSpace(b.SenderName+" "+b.Sender), "logo", b.Logo)
}

func changeBrand(ctx context.Context, c *call) error {
	path := "/resellers/" + url.PathEscape(c.args[0]) + "/brand"
	var now api.BrandInForce
	if err := c.client.Get(ctx, path, nil, &now); err != nil {
		return err
	}
	b := now.Brand
	changed := false
	for name, to := range map[string]*string{"title": &b.Title, "footer": &b.Footer, "bar": &b.Bar, "accent": &b.Accent,
		"sender-name": &b.SenderName, "sender": &b.Sender} {
		if text := c.given(name); text != nil {
			*to, changed = *text, true
		}
	}
	if changed {
		previewed, err := c.changeIf(ctx, http.MethodPut, path, b, &now, tag(now.Version))
		if err != nil || previewed {
			return err
		}
	}
	if names := c.given("name-servers"); names != nil {
		var done api.NameServersChanged
		body := api.NameServers{Names: append([]string{}, words(*names)...),
			AcceptUnresolved: c.on("accept-unresolved")}
		previewed, err := c.change(ctx, http.MethodPut, "/resellers/"+url.PathEscape(c.args[0])+"/name-servers", body,
			&done)
		if err != nil || previewed {
			return err
		}
		c.say("accounts whose zones name them: %d", done.Accounts)
		if err := c.startedIf(ctx, done.Operation); err != nil {
			return err
		}
		changed = true
	}
	switch file := c.value("logo"); file {
	case "":
		if !changed {
			return c.nothingToChange()
		}
	case "-":
		if _, err := c.change(ctx, http.MethodDelete, path+"/logo", nil, nil); err != nil {
			return err
		}
	default:
		image, err := readFile(file)
		if err != nil {
			return err
		}
		if c.on("preview") {
			return errors.New("a logo has no preview; change it and look")
		}
		if err := c.client.Upload(ctx, path+"/logo", image); err != nil {
			return err
		}
	}
	if err := c.client.Get(ctx, path, nil, &now); err != nil {
		return err
	}
	return c.showFields(now, brandFields(now))
}
