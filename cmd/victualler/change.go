package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/plans"
)

// change asks for a change, or with --preview for what it would do, which is then printed.
func (c *call) change(ctx context.Context, method, path string, body, out any) (previewed bool, err error) {
	return c.changeIf(ctx, method, path, body, out, "")
}

// changeIf is change for what has been read before: the change is refused if somebody was quicker.
func (c *call) changeIf(ctx context.Context, method, path string, body, out any, etag string) (previewed bool,
	err error) {
	if c.previews() {
		return true, c.showPreview(ctx, method, path, body, etag)
	}
	err = c.client.Do(ctx, client.Call{Method: method, Path: path, Body: body, IfMatch: etag, Note: c.note}, out)
	if err == nil {
		c.outcome.answer = out
	}
	return false, err
}

// work asks for a change that goes on on a server, and watches it.
func (c *call) work(ctx context.Context, method, path string, body any) error {
	var started api.Started
	previewed, err := c.change(ctx, method, path, body, &started)
	if err != nil || previewed {
		return err
	}
	return c.started(ctx, started.Operation)
}

// startedIf watches an operation, if there is one.
func (c *call) startedIf(ctx context.Context, operation int64) error {
	if operation == 0 {
		return nil
	}
	return c.started(ctx, operation)
}

// tag is the entity tag of a version.
func tag(version int64) string { return fmt.Sprintf(`"%d"`, version) }

// askPreview asks what a change would do.
func (c *call) askPreview(ctx context.Context, method, path string, body any, etag string) (api.Preview, error) {
	var p api.Preview
	err := c.client.Do(ctx, client.Call{Method: method, Path: path, Query: url.Values{"preview": {"true"}},
		Body: body, IfMatch: etag}, &p)
	return p, err
}

// showPreview asks what a change would do and prints it.
func (c *call) showPreview(ctx context.Context, method, path string, body any, etag string) error {
	p, err := c.askPreview(ctx, method, path, body, etag)
	if err != nil {
		return err
	}
	if c.format() == "json" {
		return c.json(p)
	}
	c.printPreview(p)
	c.say("\nnothing was done")
	return nil
}

// previewMany prints what changes of several accounts would do.
func (c *call) previewMany(ctx context.Context, accounts []api.Account, method, path string,
	body func(api.Account) any) error {
	var items []one
	var errs []error
	for _, a := range accounts {
		p, err := c.askPreview(ctx, method, belowAccount(a, path), body(a), "")
		if ctx.Err() != nil {
			return errInterrupted
		}
		item := one{Account: a.SignInName, Result: p}
		if err != nil {
			item.Result, item.Problem = nil, problemOf(err)
			errs = append(errs, err)
			c.say("would fail for %s: %s\n", a.SignInName, sentence(err))
		} else if c.forPeople() {
			c.printPreview(p)
			fmt.Fprintln(c.out)
		}
		items = append(items, item)
	}
	c.say("nothing was done")
	if c.format() == "json" {
		if err := c.json(listOf[one]{items, false}); err != nil {
			return err
		}
	}
	if len(errs) > 0 {
		return severalFailed{errs, len(accounts)}
	}
	return nil
}

func (c *call) printPreview(p api.Preview) {
	c.say("would %s", p.Summary)
	for _, note := range p.Notes {
		c.paragraph("", "note: "+note)
	}
	for _, r := range p.Records {
		if len(p.Records) > 1 {
			c.say("  %s", r.Subject)
		}
		for _, f := range r.Fields {
			c.say("  %s: %s", f.Title, beforeAfter(f))
		}
	}
	for _, e := range p.Effects {
		c.sayEffect(e)
	}
	if len(p.Steps) > 0 {
		c.say("steps: %s", strings.Join(p.Steps, ", "))
		if len(p.Changes) == 0 {
			c.say("everything is as it should be already")
		} else {
			c.say("on the server, that would be:")
		}
	}
	for _, change := range p.Changes {
		c.say("\n%s: %s %s", change.Part, change.Subject, change.Detail)
		if change.Diff != "" {
			c.say("%s", strings.TrimRight(change.Diff, "\n"))
		}
	}
}

func beforeAfter(f api.Difference) string {
	switch {
	case f.Before == "":
		return f.After
	case f.After == "":
		return f.Before + " → (none)"
	}
	return f.Before + " → " + f.After
}

// sayEffect tells what a change means for one account.
func (c *call) sayEffect(e api.Effect) {
	c.say("%s (%s)", e.Name, e.Account)
	for _, line := range []struct {
		label string
		texts []string
	}{{"gains", e.Gains}, {"loses", e.Losses}, {"over", e.Over}} {
		if len(line.texts) > 0 {
			c.say("  %-6s %s", line.label, strings.Join(line.texts, ", "))
		}
	}
	for _, text := range e.Changes {
		c.say("  %s", text)
	}
	if e.Unchanged != "" {
		c.say("  %-6s %s", "keeps", e.Unchanged)
	}
	if len(e.Gains)+len(e.Losses)+len(e.Over)+len(e.Changes) == 0 && e.Unchanged == "" {
		c.say("  nothing changes for it")
	}
}

// removed removes something after asking, or shows what that would do.
func (c *call) removed(ctx context.Context, path, what string) error {
	if err := c.confirm(ctx, "Remove "+what+"?"); err != nil {
		return err
	}
	return c.remove(ctx, path, what)
}

// remove is removed without a question.
func (c *call) remove(ctx context.Context, path, what string) error {
	previewed, err := c.change(ctx, http.MethodDelete, path, nil, nil)
	if err == nil && !previewed {
		c.say("%s is removed", what)
	}
	return err
}

// given is an amount as a cell.
func given(a plans.Amount, unit plans.Unit) amount {
	if a.Unlimited {
		return amount{nil, unit}
	}
	return amount{&a.N, unit}
}

// amountOf is an amount in its unit; nil is unlimited.
func amountOf(n *int64, unit string) amount { return amount{n, plans.Unit(unit)} }

// parseLimits reads a list such as disk=20G,domains=5,mailboxes=unlimited.
func parseLimits(text string) (plans.Limits, error) {
	limits := plans.Limits{}
	for _, pair := range words(text) {
		key, value, found := strings.Cut(pair, "=")
		info, known := plans.Info(plans.Key(key))
		if !found || !known {
			return nil, usageError{fmt.Sprintf("%q is not a limit; write KEY=VALUE with one of %s%s", pair,
				strings.Join(limitKeys(), ", "), nearest.Hint(key, limitKeys()))}
		}
		amount, err := parseAmount(value, info.Unit)
		if err != nil {
			return nil, usageError{fmt.Sprintf("%s: %v", key, err)}
		}
		limits[info.Key] = amount
	}
	return limits, nil
}

// parseFeatures reads a list such as mail,dns,shell=off.
func parseFeatures(text string) (plans.Features, error) {
	features := plans.Features{}
	for _, item := range words(text) {
		name, value, found := strings.Cut(item, "=")
		if found && value != "on" && value != "off" {
			return nil, usageError{fmt.Sprintf("%q: a feature is on or off", item)}
		}
		if !slices.Contains(featureKeys(), name) {
			return nil, usageError{fmt.Sprintf("%q is not a feature; there are %s%s", name,
				strings.Join(featureKeys(), ", "), nearest.Hint(name, featureKeys()))}
		}
		features[plans.Feature(name)] = value != "off"
	}
	return features, nil
}

// limitFlags are the flags by which limits and features are given.
func limitFlags(required bool) []flagInfo {
	return []flagInfo{{name: "limits", value: "LIST", usage: "such as disk=20G,domains=5,mailboxes=unlimited",
		required: required},
		{name: "features", value: "LIST", usage: "such as mail,dns,shell=off"}}
}

func (c *call) limitsAndFeatures() (plans.Limits, plans.Features, error) {
	limits, err := parseLimits(c.value("limits"))
	if err != nil {
		return nil, nil, err
	}
	features, err := parseFeatures(c.value("features"))
	return limits, features, err
}

// switchGiven is a flag that says on or off; nil where it is not given.
func (c *call) switchGiven(name string) (*bool, error) {
	on := c.value(name) == "on"
	switch c.value(name) {
	case "":
		return nil, nil
	case "on", "off":
		return &on, nil
	}
	return nil, usageError{fmt.Sprintf("--%s is on or off, not %q", name, c.value(name))}
}

// pointsGiven is a flag with a number of points; nil where it is not given.
func (c *call) pointsGiven(name string) (*float64, error) {
	text := c.value(name)
	if text == "" {
		return nil, nil
	}
	points, err := strconv.ParseFloat(text, 64)
	if err != nil || points < 0 || points > 1000 {
		return nil, usageError{fmt.Sprintf("--%s is a number of points such as 6 or 6.5, not %q", name, text)}
	}
	return &points, nil
}

// given returns what a flag says, or nil where it was left out; "-" is empty.
func (c *call) given(name string) *string {
	text := c.value(name)
	switch text {
	case "":
		return nil
	case "-":
		text = ""
	}
	return &text
}
