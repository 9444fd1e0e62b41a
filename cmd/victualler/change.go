package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

// change asks for a change, or with --preview for what it would do, which is then printed.
func (c *call) change(ctx context.Context, method, path string, body, out any) (previewed bool, err error) {
	return c.changeIf(ctx, method, path, body, out, "")
}

// changeIf is change for what has been read before: the change is refused if somebody was quicker.
func (c *call) changeIf(ctx context.Context, method, path string, body, out any, etag string) (previewed bool,
	err error) {
	if c.preview && c.on("preview") {
		return true, c.showPreview(ctx, method, path, body, etag)
	}
	return false, c.client.Do(ctx, client.Call{Method: method, Path: path, Body: body, IfMatch: etag}, out)
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

// showPreview asks what a change would do and prints it.
func (c *call) showPreview(ctx context.Context, method, path string, body any, etag string) error {
	var p api.Preview
	if err := c.client.Do(ctx, client.Call{Method: method, Path: path, Query: url.Values{"preview": {"true"}},
		Body: body, IfMatch: etag}, &p); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "would %s\n", p.Summary)
	for _, note := range p.Notes {
		fmt.Fprintln(c.out, "note:", note)
	}
	for _, r := range p.Records {
		for _, f := range r.Fields {
			fmt.Fprintf(c.out, "  %s: %s\n", f.Name, beforeAfter(f))
		}
	}
	for _, e := range p.Effects {
		printEffect(c.out, e)
	}
	if len(p.Steps) > 0 {
		fmt.Fprintf(c.out, "steps: %s\n", strings.Join(p.Steps, ", "))
		if len(p.Changes) == 0 {
			fmt.Fprintln(c.out, "everything is as it should be already")
		} else {
			fmt.Fprintln(c.out, "on the server, that would be:")
		}
	}
	for _, change := range p.Changes {
		fmt.Fprintf(c.out, "\n%s: %s %s\n", change.Part, change.Subject, change.Detail)
		if change.Diff != "" {
			fmt.Fprintln(c.out, strings.TrimRight(change.Diff, "\n"))
		}
	}
	fmt.Fprintln(c.out, "\nnothing was done")
	return nil
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

// printEffect tells what a change means for one account.
func printEffect(out io.Writer, e api.Effect) {
	fmt.Fprintf(out, "%s (%s)\n", e.Name, e.Account)
	for _, line := range []struct {
		label string
		texts []string
	}{{"gains", e.Gains}, {"loses", e.Losses}, {"over", e.Over}} {
		if len(line.texts) > 0 {
			fmt.Fprintf(out, "  %-6s %s\n", line.label, strings.Join(line.texts, ", "))
		}
	}
	for _, text := range e.Changes {
		fmt.Fprintln(out, " ", text)
	}
	if e.Unchanged != "" {
		fmt.Fprintf(out, "  %-6s %s\n", "keeps", e.Unchanged)
	}
	if len(e.Gains)+len(e.Losses)+len(e.Over)+len(e.Changes) == 0 && e.Unchanged == "" {
		fmt.Fprintln(out, "  nothing changes for it")
	}
}

// collect reads all pages of a list; most 0 is no bound.
func collect[P, R any](ctx context.Context, c *call, path string, query url.Values, most int,
	rows func(P) ([]R, string)) ([]R, error) {
	all := []R{}
	if query.Get("limit") == "" {
		query.Set("limit", "500")
	}
	for {
		var page P
		if err := c.client.Get(ctx, path, query, &page); err != nil {
			return all, err
		}
		list, next := rows(page)
		all = append(all, list...)
		if most > 0 && len(all) >= most {
			return all[:most], nil
		}
		if next == "" {
			return all, nil
		}
		query.Set("cursor", next)
	}
}

// removed removes something after asking, or shows what that would do.
func (c *call) removed(ctx context.Context, path, what string) error {
	if !c.on("preview") {
		if err := c.confirm("Remove " + what + "?"); err != nil {
			return err
		}
	}
	previewed, err := c.change(ctx, http.MethodDelete, path, nil, nil)
	if err == nil && !previewed {
		fmt.Fprintf(c.out, "%s is removed\n", what)
	}
	return err
}

// yesFlag is the flag of commands that ask.
var yesFlag = flagInfo{name: "yes", usage: "do not ask"}

// written writes an amount in its unit; nil is unlimited.
func written(n *int64, unit string) string {
	if n == nil {
		return plans.Unlimited.Format(plans.Unit(unit))
	}
	return plans.Of(*n).Format(plans.Unit(unit))
}

// parseLimits reads a list such as disk=20G,domains=5,mailboxes=unlimited.
func parseLimits(text string) (plans.Limits, error) {
	limits := plans.Limits{}
	for _, pair := range list(text) {
		key, value, found := strings.Cut(pair, "=")
		info, known := plans.Info(plans.Key(key))
		if !found || !known {
			return nil, usageError{fmt.Sprintf("%q is not a limit; write KEY=VALUE with one of %s", pair, limitKeys())}
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
	for _, item := range list(text) {
		name, value, found := strings.Cut(item, "=")
		if found && value != "on" && value != "off" {
			return nil, usageError{fmt.Sprintf("%q: a feature is on or off", item)}
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
