package main

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
)

func eventCommands() []command {
	filters := []flagInfo{{name: "search", value: "TEXT",
		usage: "part of an actor, an action, a subject or an address"},
		{name: "actor", value: "NAME", usage: "only what they did"},
		{name: "action", value: "ACTION", usage: "only this, or all of a kind, such as plan"},
		{name: "account", value: "ACCOUNT", usage: "only what concerns this account"},
		{name: "since", value: "DATE", usage: "not before this day or moment"},
		{name: "until", value: "DATE", usage: "before this day or moment"}}
	return []command{
		{noun: "event", verb: "list", short: "List who did what, newest first", output: true,
			flags: append([]flagInfo{{name: "most", value: "N", usage: "how many (default 50)"}}, filters...),
			run: func(ctx context.Context, c *call) error {
				query, err := eventQuery(c)
				if err != nil {
					return err
				}
				most := 50
				if text := c.value("most"); text != "" {
					if most, err = strconv.Atoi(text); err != nil || most < 1 {
						return usageError{"--most takes a number above 0"}
					}
				}
				query.Set("limit", strconv.Itoa(min(most, 500)))
				all, err := collect(ctx, c, "/events", query, most, func(p api.EventPage) ([]api.Event, string) {
					return p.Events, p.Next
				})
				if err != nil {
					return err
				}
				t := table{{"WHEN", "WHO", "FROM", "ACTION", "SUBJECT", "CHANGES"}}
				for _, e := range all {
					who := e.Actor
					if e.OnBehalf != "" {
						who += " as " + e.OnBehalf
					}
					var changes []string
					for _, f := range e.Fields {
						changes = append(changes, f.Name+": "+beforeAfter(f))
					}
					t = append(t, []string{local(e.At), who, e.Address, e.Action, e.Subject,
						strings.Join(changes, "; ")})
				}
				return c.print(all, t)
			}},
		{noun: "event", verb: "export", short: "Write the record of who did what to standard output",
			flags: append([]flagInfo{{name: "format", value: "FORMAT",
				usage: "csv (the default) or jsonl: one JSON document on each line"}}, filters...),
			run: func(ctx context.Context, c *call) error {
				query, err := eventQuery(c)
				if err != nil {
					return err
				}
				if c.value("format") != "" {
					query.Set("format", c.value("format"))
				}
				return c.client.Download(ctx, "/export/events", query, c.out)
			}},
	}
}

func eventQuery(c *call) (url.Values, error) {
	query := url.Values{}
	for _, name := range []string{"search", "actor", "action", "account"} {
		if c.value(name) != "" {
			query.Set(name, c.value(name))
		}
	}
	for _, name := range []string{"since", "until"} {
		moment, err := parseMoment(c.value(name))
		if err != nil {
			return nil, err
		}
		if moment != nil {
			query.Set(name, moment.UTC().Format(time.RFC3339))
		}
	}
	return query, nil
}
