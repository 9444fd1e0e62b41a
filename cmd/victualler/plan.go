package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func planCommands() []command {
	path := func(c *call) string { return "/plans/" + url.PathEscape(c.args[0]) }
	return []command{
		{noun: "plan", verb: "add", args: "NAME", short: "Add a plan", preview: true,
			long: "Sizes are written as 500M, 20G or 1.5T. A limit that is left out is 0, or as in the plan named " +
				"with --like.",
			flags: append(limitFlags(false), flagInfo{name: "like", value: "PLAN",
				usage: "take what is left out from this plan"},
				flagInfo{name: "reseller", value: "NAME", usage: "add it for this reseller"}, flagInfo{name: "template",
					value: "NAME", usage: "a template for new sites"}),
			run: addPlan},
		{noun: "plan", verb: "list", short: "List plans", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of a name"},
				{name: "reseller", value: "NAME", usage: "only this reseller's"},
				{name: "own", usage: "only the operator's; with --reseller, theirs and the operator's"}},
			run: listPlans},
		{noun: "plan", verb: "show", args: "PLAN", short: "Show a plan",
			run: func(ctx context.Context, c *call) error {
				var p api.Plan
				if err := c.client.Get(ctx, path(c), nil, &p); err != nil {
					return err
				}
				for _, w := range p.Warnings {
					c.note(strings.TrimPrefix(strings.TrimPrefix(w.Name, "limits."), "features.") + ": " + w.Message)
				}
				return c.printPlan(p)
			}},
		{noun: "plan", verb: "compare", args: "PLAN…", short: "Compare 2 to 6 plans side by side",
			long:  "Lines that differ are marked with ≠.",
			flags: []flagInfo{{name: "differing", usage: "print only what differs"}}, run: comparePlans},
		{noun: "plan", verb: "change", args: "PLAN", short: "Change a plan, and with it the accounts on it",
			preview: true, waits: true,
			long: "Only what is named changes. Exceptions stay, and accounts with frozen limits keep them. Nothing " +
				"is deleted: what is over a new limit cannot grow.",
			flags: append(limitFlags(false), flagInfo{name: "name", value: "NAME", usage: "a new name"},
				flagInfo{name: "freeze", value: "WHICH", values: []string{"none", "over", "all"},
					usage: "which accounts keep their present limits: none, " +
						"over (those that would be over a limit) or all"},
				flagInfo{name: "template", value: "NAME", usage: "a template for new sites; - for none"}),
			run: changePlan},
		{noun: "plan", verb: "remove", args: "PLAN", short: "Remove a plan that no account is on", preview: true,
			flags: []flagInfo{yesFlag},
			run:   func(ctx context.Context, c *call) error { return c.removed(ctx, path(c), "plan "+c.args[0]) }},
	}
}

func planName(p api.Plan) string { return qualified(p.Reseller, p.Name) }

// qualified is how something is called that may be a reseller's: RESELLER.NAME where it is.
func qualified(reseller, name string) string {
	if reseller == "" {
		return name
	}
	return reseller + "." + name
}

func (c *call) printPlan(p api.Plan) error {
	g := rows("LIMIT|KEY|ALLOWED")
	for _, info := range plans.AllLimits {
		g.add(info.Title, string(info.Key), given(p.Limits[info.Key], info.Unit))
	}
	for _, f := range plans.AllFeatures {
		g.add("feature", string(f), onOff(p.Features[f]))
	}
	if p.Template != "" {
		g.add("new sites follow", "template", p.Template)
	}
	return c.show(p, g, nil)
}

func listPlans(ctx context.Context, c *call) error {
	query := c.filters("search", "reseller")
	query.Set("own", strconv.FormatBool(c.on("own")))
	all, more, err := collect(ctx, c, "/plans", query, func(p api.PlanPage) ([]api.Plan, string) {
		return p.Plans, p.Next
	})
	if err != nil {
		return err
	}
	columns := []column[api.Plan]{col("PLAN", 0, func(p api.Plan) any { return planName(p) }),
		col("ACCOUNTS", 0, func(p api.Plan) any { return p.Accounts })}
	for n, key := range []plans.Key{plans.Disk, plans.Domains, plans.Mailboxes, plans.Databases, plans.Traffic} {
		info, _ := plans.Info(key)
		columns = append(columns, col(strings.ToUpper(string(key)), n, func(p api.Plan) any {
			return given(p.Limits[key], info.Unit)
		}))
	}
	return printList(c, all, more, c.filtered("no plans; add one with: victualler plan add NAME --limits LIST",
		"search", "reseller"), columns)
}

func comparePlans(ctx context.Context, c *call) error {
	var comparison api.PlanComparison
	if err := c.client.Get(ctx, "/compare/plans", url.Values{"plan": c.args}, &comparison); err != nil {
		return err
	}
	g := rows("|LIMIT|" + strings.Join(comparison.Plans, "|"))
	for _, row := range comparison.Rows {
		if c.on("differing") && !row.Differs {
			continue
		}
		line := []any{map[bool]string{true: "≠", false: ""}[row.Differs], row.Title}
		for _, n := range row.Amounts {
			line = append(line, amountOf(n, row.Unit))
		}
		for _, on := range row.On {
			line = append(line, onOff(on))
		}
		g.add(line...)
	}
	return c.show(comparison, g, nil)
}

func addPlan(ctx context.Context, c *call) error {
	limits, features, err := c.limitsAndFeatures()
	if err != nil {
		return err
	}
	if c.value("limits") == "" && c.value("like") == "" {
		return usageError{"--limits or --like is needed; usage: " + c.usage()}
	}
	var p api.Plan
	previewed, err := c.change(ctx, http.MethodPost, "/plans", api.NewPlan{Name: c.args[0],
		Reseller: c.value("reseller"), Like: c.value("like"), Limits: limits, Features: features,
		Template: c.value("template")}, &p)
	if err != nil || previewed {
		return err
	}
	return c.printPlan(p)
}

func changePlan(ctx context.Context, c *call) error {
	limits, features, err := c.limitsAndFeatures()
	if err != nil {
		return err
	}
	body := api.PlanChange{Name: c.value("name"), Limits: limits, Features: features, Freeze: c.value("freeze"),
		Template: c.given("template")}
	if body.Name == "" && len(limits)+len(features) == 0 && body.Template == nil {
		return c.nothingToChange()
	}
	var before api.Plan
	path := "/plans/" + url.PathEscape(c.args[0])
	if err := c.client.Get(ctx, path, nil, &before); err != nil {
		return err
	}
	var changed api.PlanChanged
	previewed, err := c.changeIf(ctx, http.MethodPatch, path, body, &changed, tag(before.Version))
	if err != nil || previewed {
		return err
	}
	c.say("%s changed; %d of %d accounts may use more or less than before, %d keep their present limits",
		planName(changed.Plan), changed.Accounts, changed.Plan.Accounts, changed.Frozen)
	return c.startedIf(ctx, changed.Operation)
}

func limitKeys() []string {
	var keys []string
	for _, info := range plans.AllLimits {
		keys = append(keys, string(info.Key))
	}
	return keys
}

func featureKeys() []string {
	var keys []string
	for _, f := range plans.AllFeatures {
		keys = append(keys, string(f))
	}
	return keys
}

func parseAmount(text string, unit plans.Unit) (plans.Amount, error) {
	if text == "unlimited" {
		return plans.Unlimited, nil
	}
	if unit == plans.Bytes {
		n, err := plans.ParseSize(text)
		return plans.Of(n), err
	}
	n, err := strconv.ParseInt(strings.TrimRight(text, "%s"), 10, 64)
	if err != nil {
		return plans.Amount{}, fmt.Errorf("%q is not a number; write a number or unlimited", text)
	}
	return plans.Of(n), nil
}
