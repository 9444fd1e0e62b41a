package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"

	"victualler/internal/api"
)

func resellerCommands() []command {
	path := func(c *call) string { return "/resellers/" + url.PathEscape(c.args[0]) }
	return []command{
		{noun: "reseller", verb: "add", args: "NAME", short: "Add a reseller with their share", preview: true,
			output: true,
			long: "The share is what they may hand out in all (measured as allotted) or their accounts may use in " +
				"all (measured as used).",
			flags: append(limitFlags(true), flagInfo{name: "title", value: "TEXT", usage: "as people read it",
				required: true},
				flagInfo{name: "email", value: "ADDRESS", usage: "contact address"}, flagInfo{name: "measure",
					value: "SUM", usage: "allotted (the default) or used"}),
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
		{noun: "reseller", verb: "list", short: "List resellers", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name or title"}},
			run: func(ctx context.Context, c *call) error {
				all, err := collect(ctx, c, "/resellers", url.Values{"search": {c.value("search")}}, 0,
					func(p api.ResellerPage) ([]api.Reseller, string) {
						return p.Resellers, p.Next
					})
				if err != nil {
					return err
				}
				t := table{{"RESELLER", "TITLE", "MEASURE", "CUSTOMERS", "ACCOUNTS", "PLANS", "STATE"}}
				for _, r := range all {
					state := "active"
					if r.Suspension != nil {
						state = "suspended"
					}
					t = append(t, []string{r.Name, r.Title, r.Measure, strconv.FormatInt(r.Customers, 10),
						strconv.FormatInt(r.Accounts, 10), strconv.FormatInt(r.Plans, 10), state})
				}
				return c.print(all, t)
			}},
		{noun: "reseller", verb: "show", args: "NAME",
			short: "Show a reseller's share: what is allotted, used and left", output: true,
			run: func(ctx context.Context, c *call) error { return c.printShare(ctx, c.args[0]) }},
		{noun: "reseller", verb: "change", args: "NAME", short: "Change a reseller and their share", preview: true,
			output: true,
			long: "A share below what is given out needs a decision: --keep-over leaves what is given out: no " +
				"account can use more than the share itself, and nothing more can be given out there.",
			flags: append(limitFlags(false), flagInfo{name: "title", value: "TEXT", usage: "as people read it"},
				flagInfo{name: "email", value: "ADDRESS", usage: "contact address; - for none"},
				flagInfo{name: "measure", value: "SUM", usage: "allotted or used"}, flagInfo{name: "keep-over",
					usage: "leave what is given out beyond the new share"}),
			run: func(ctx context.Context, c *call) error {
				limits, features, err := c.limitsAndFeatures()
				if err != nil {
					return err
				}
				var r api.Reseller
				if err := c.client.Get(ctx, path(c), nil, &r); err != nil {
					return err
				}
				body := api.ResellerChange{Title: c.value("title"), Email: c.given("email"),
					Measure: c.value("measure"), Limits: limits, Features: features}
				if c.on("keep-over") {
					body.Over = "keep"
				}
				previewed, err := c.changeIf(ctx, http.MethodPatch, path(c), body, nil, tag(r.Version))
				if err != nil || previewed {
					return err
				}
				return c.printShare(ctx, c.args[0])
			}},
		{noun: "reseller", verb: "suspend", args: "NAME", short: "Keep a reseller from signing in", preview: true,
			waits: true,
			flags: []flagInfo{{name: "why", value: "TEXT", usage: "the reason; they are told when they try to sign in",
				required: true},
				{name: "accounts", value: "stay|suspend",
					usage: "whether their accounts stay as they are or are suspended with them", required: true}},
			run: func(ctx context.Context, c *call) error {
				return c.switchReseller(ctx, path(c)+"/suspend", api.SuspendReseller{Why: c.value("why"),
					Accounts: c.value("accounts")})
			}},
		{noun: "reseller", verb: "resume", args: "NAME", short: "Let a suspended reseller go on", preview: true,
			waits: true,
			run:   func(ctx context.Context, c *call) error { return c.switchReseller(ctx, path(c)+"/resume", nil) }},
		{noun: "reseller", verb: "remove", args: "NAME", short: "Remove a reseller without customers", preview: true,
			flags: []flagInfo{yesFlag},
			run:   func(ctx context.Context, c *call) error { return c.removed(ctx, path(c), "reseller "+c.args[0]) }},
		{noun: "brand", verb: "show", args: "RESELLER", short: "Show how a reseller looks to their customers",
			output: true,
			run: func(ctx context.Context, c *call) error {
				var b api.BrandInForce
				if err := c.client.Get(ctx, path(c)+"/brand", nil, &b); err != nil {
					return err
				}
				return c.print(b, brandTable(b))
			}},
		{noun: "brand", verb: "change", args: "RESELLER", short: "Change how a reseller looks to their customers",
			preview: true,
			long:    "What is left out stays; - takes it away.",
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
	fmt.Fprintf(c.out, "%s %s; %d accounts with them\n", r.Reseller.Name, state, r.Accounts)
	return c.startedIf(ctx, r.Operation)
}

func (c *call) printShare(ctx context.Context, name string) error {
	var share api.Share
	if err := c.client.Get(ctx, "/resellers/"+url.PathEscape(name)+"/share", nil, &share); err != nil {
		return err
	}
	t := table{{"LIMIT", "SHARE", "ALLOTTED", "USED", "LEFT", ""}}
	for _, l := range share.Lines {
		used, left, mark := written(&l.Used, l.Unit), written(l.Left, l.Unit), ""
		if l.Bound {
			used, left, mark = "", "", "each account"
		}
		if l.Over {
			mark = strings.TrimSpace("over " + mark)
		}
		t = append(t, []string{l.Title, written(l.Share, l.Unit), written(l.Allotted, l.Unit), used, left, mark})
	}
	if c.format() == "" {
		var r api.Reseller
		if err := c.client.Get(ctx, "/resellers/"+url.PathEscape(name), nil, &r); err != nil {
			return err
		}
		suspended := ""
		if r.Suspension != nil {
			suspended = fmt.Sprintf("%s (by %s, %s); their accounts %s", r.Suspension.Why, r.Suspension.By,
				local(r.Suspension.Since), map[bool]string{true: "too", false: "stay"}[r.With])
		}
		fields(c.out, "reseller", r.Name, "title", r.Title, "email", r.Email, "suspended", suspended, "customers",
			strconv.FormatInt(r.Customers, 10), "accounts", strconv.FormatInt(r.Accounts, 10),
			"measured as", r.Measure+" (what is left follows from it)", "features", strings.Join(share.Features, ", "))
		fmt.Fprintln(c.out)
	}
	return c.print(share, t)
}

func brandTable(b api.BrandInForce) table {
	return table{{"WHAT", "VALUE"}, {"title", b.Title}, {"footer", b.Footer}, {"bar", b.Bar}, {"text on bar", b.OnBar},
		{"accent", b.Accent}, {"accent on dark", b.DarkAccent},
		{"sender", strings.TrimSpace(b.SenderName + " " + b.Sender)}, {"logo", b.Logo}}
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
		body := api.NameServers{Names: append([]string{}, list(*names)...), AcceptUnresolved: c.on("accept-unresolved")}
		previewed, err := c.change(ctx, http.MethodPut, "/resellers/"+url.PathEscape(c.args[0])+"/name-servers", body,
			&done)
		if err != nil || previewed {
			return err
		}
		fmt.Fprintf(c.out, "accounts whose zones name them: %d\n", done.Accounts)
		if err := c.startedIf(ctx, done.Operation); err != nil {
			return err
		}
		changed = true
	}
	switch file := c.value("logo"); file {
	case "":
		if !changed {
			return usageError{"say what to change; see victualler brand change --help"}
		}
	case "-":
		if _, err := c.change(ctx, http.MethodDelete, path+"/logo", nil, nil); err != nil {
			return err
		}
	default:
		image, err := os.ReadFile(file)
		if err != nil {
			return usageError{err.Error()}
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
	brandTable(now).write(c.out, width(c.out))
	return nil
}
