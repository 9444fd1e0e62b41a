package main

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func init() {
	commands = append(commands,
		command{noun: "plan", verb: "add", args: "NAME", short: "Add a plan", output: true,
			long: "Sizes are written as 500M, 20G or 1.5T. A limit that is left out is 0.",
			flags: []flagInfo{{name: "limits", value: "LIST", usage: "such as disk=20G,domains=5,mailboxes=unlimited", required: true},
				{name: "features", value: "LIST", usage: "such as mail,databases,certificates"}},
			run: addPlan},
		command{noun: "plan", verb: "list", short: "List plans", output: true, run: listPlans},
		command{noun: "plan", verb: "show", args: "NAME", short: "Show a plan", output: true,
			run: func(ctx context.Context, c *call) error {
				var p api.Plan
				if err := c.client.Get(ctx, "/plans/"+url.PathEscape(c.args[0]), nil, &p); err != nil {
					return err
				}
				return c.print(p, planTable(p))
			}})
}

func planTable(p api.Plan) table {
	t := table{{"LIMIT", "KEY", "ALLOWED"}}
	for _, info := range plans.AllLimits {
		t = append(t, []string{info.What, string(info.Key), p.Limits[info.Key].Format(info.Unit)})
	}
	for _, f := range plans.AllFeatures {
		t = append(t, []string{"feature", string(f), map[bool]string{true: "on", false: "off"}[p.Features[f]]})
	}
	return t
}

func listPlans(ctx context.Context, c *call) error {
	all := []api.Plan{}
	for query := (url.Values{"limit": {"500"}}); ; {
		var list api.PlanPage
		if err := c.client.Get(ctx, "/plans", query, &list); err != nil {
			return err
		}
		all = append(all, list.Plans...)
		if list.Next == "" {
			break
		}
		query.Set("cursor", list.Next)
	}
	t := table{{"PLAN", "ACCOUNTS", "DISK", "DOMAINS", "MAILBOXES", "DATABASES", "TRAFFIC"}}
	for _, p := range all {
		row := []string{p.Name, strconv.FormatInt(p.Accounts, 10)}
		for _, key := range []plans.Key{plans.Disk, plans.Domains, plans.Mailboxes, plans.Databases, plans.Traffic} {
			info, _ := plans.Info(key)
			row = append(row, p.Limits[key].Format(info.Unit))
		}
		t = append(t, row)
	}
	return c.print(all, t)
}

func addPlan(ctx context.Context, c *call) error {
	body := api.NewPlan{Name: c.args[0], Limits: plans.Limits{}, Features: plans.Features{}}
	for _, pair := range list(c.value("limits")) {
		key, text, found := strings.Cut(pair, "=")
		info, known := plans.Info(plans.Key(key))
		if !found || !known {
			return usageError{fmt.Sprintf("%q is not a limit; write KEY=VALUE with one of %s", pair, limitKeys())}
		}
		amount, err := parseAmount(text, info.Unit)
		if err != nil {
			return usageError{fmt.Sprintf("%s: %v", key, err)}
		}
		body.Limits[info.Key] = amount
	}
	for _, f := range list(c.value("features")) {
		body.Features[plans.Feature(f)] = true
	}
	var p api.Plan
	if err := c.client.Post(ctx, "/plans", body, &p); err != nil {
		return err
	}
	return c.print(p, planTable(p))
}

func list(text string) []string {
	var items []string
	for _, item := range strings.Split(text, ",") {
		if item = strings.TrimSpace(item); item != "" {
			items = append(items, item)
		}
	}
	return items
}

func limitKeys() string {
	var keys []string
	for _, info := range plans.AllLimits {
		keys = append(keys, string(info.Key))
	}
	return strings.Join(keys, ", ")
}

func parseAmount(text string, unit plans.Unit) (plans.Amount, error) {
	if text == "unlimited" {
		return plans.Unlimited, nil
	}
	if unit == plans.Bytes {
		n, err := plans.ParseSize(text)
		return plans.Of(n), err
	}
	n, err := strconv.ParseInt(strings.TrimSuffix(text, "%"), 10, 64)
	if err != nil {
		return plans.Amount{}, fmt.Errorf("%q is not a number; write a number or unlimited", text)
	}
	return plans.Of(n), nil
}
