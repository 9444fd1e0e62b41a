package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func exceptionCommands() []command {
	path := func(c *call) string { return "/accounts/" + url.PathEscape(c.args[0]) + "/exceptions" }
	return []command{
		{noun: "exception", verb: "add", args: "ACCOUNT",
			short: "Set a limit or a feature of one account by hand, over its plan", preview: true, waits: true,
			long: "An exception for the same limit or feature is replaced. With --until, the plan's value returns " +
				"automatically.",
			flags: []flagInfo{{name: "limit", value: "KEY=VALUE", usage: "such as disk=30G or mailboxes=unlimited"},
				{name: "feature", value: "NAME=on|off", usage: "such as shell=on"},
				{name: "reason", value: "TEXT", usage: "why", required: true},
				{name: "until", value: "DATE", usage: "until this day has begun, such as 2026-12-31, or a moment as " +
					"in RFC 3339"}},
			run: func(ctx context.Context, c *call) error {
				body, err := newException(c)
				if err != nil {
					return err
				}
				return c.onTerms(ctx, http.MethodPut, path(c), body)
			}},
		{noun: "exception", verb: "list", args: "ACCOUNT", short: "List what is set by hand on an account",
			list: true,
			run: func(ctx context.Context, c *call) error {
				var l api.ExceptionList
				if err := c.client.Get(ctx, path(c), nil, &l); err != nil {
					return err
				}
				return printList(c, l.Exceptions, false, "nothing is set by hand", exceptionColumns)
			}},
		{noun: "exception", verb: "remove", args: "ACCOUNT", short: "Let the plan's value return", preview: true,
			waits: true,
			flags: []flagInfo{{name: "limit", value: "KEY", usage: "the limit"},
				{name: "feature", value: "NAME", usage: "the feature"}},
			run: func(ctx context.Context, c *call) error {
				what, key := "limits", c.value("limit")
				if key == "" {
					what, key = "features", c.value("feature")
				}
				if key == "" || c.value("limit") != "" && c.value("feature") != "" {
					return usageError{"name the limit or the feature: --limit KEY or --feature NAME"}
				}
				return c.onTerms(ctx, http.MethodDelete, path(c)+"/"+what+"/"+url.PathEscape(key), nil)
			}},
	}
}

func newException(c *call) (api.NewException, error) {
	body := api.NewException{Reason: c.value("reason")}
	switch {
	case (c.value("limit") == "") == (c.value("feature") == ""):
		return body, usageError{"name either a limit or a feature: --limit KEY=VALUE or --feature NAME=on"}
	case c.value("limit") != "":
		limits, err := parseLimits(c.value("limit"))
		if err != nil {
			return body, err
		}
		if len(limits) != 1 {
			return body, usageError{"one limit at a time"}
		}
		for key, amount := range limits {
			body.Limit, body.Amount = string(key), api.GivenAmount{Amount: amount, Given: true}
		}
	default:
		features, err := parseFeatures(c.value("feature"))
		if err != nil {
			return body, err
		}
		if len(features) != 1 {
			return body, usageError{"one feature at a time"}
		}
		for name, on := range features {
			body.Feature, body.On = string(name), &on
		}
	}
	end, err := parseMoment(c.value("until"))
	if err != nil {
		return body, err
	}
	body.EndsAt = end
	return body, nil
}

// parseMoment reads a day, which begins at midnight here, or a moment; "" is none.
func parseMoment(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return &day, nil
	}
	moment, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return nil, usageError{fmt.Sprintf("%q is neither a day, such as 2026-12-31, nor a moment, such as "+
			"2026-12-31T18:00:00Z", text)}
	}
	return &moment, nil
}

// onTerms changes what an account may use and tells what came of it.
func (c *call) onTerms(ctx context.Context, method, path string, body any) error {
	var changed api.TermsChanged
	previewed, err := c.change(ctx, method, path, body, &changed)
	if err != nil || previewed {
		return err
	}
	c.sayEffect(changed.Effect)
	return c.startedIf(ctx, changed.Operation)
}

var exceptionColumns = []column[api.Exception]{
	col("WHAT", 0, func(e api.Exception) any {
		if e.Limit != "" {
			return e.Limit
		}
		return e.Feature
	}),
	col("VALUE", 0, func(e api.Exception) any {
		if e.Limit != "" {
			info, _ := plans.Info(plans.Key(e.Limit))
			return amountOf(e.Amount, string(info.Unit))
		}
		return onOff(e.On)
	}),
	col("UNTIL", 0, func(e api.Exception) any {
		if e.EndsAt == nil {
			return "for good"
		}
		return local(*e.EndsAt)
	}),
	col("BY", 2, func(e api.Exception) any { return e.Author }),
	col("SET", 1, func(e api.Exception) any { return e.SetAt }),
	col("REASON", 0, func(e api.Exception) any { return strings.TrimSpace(e.Reason) }),
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}
