package main

import (
	"context"
	"net/url"
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
		{noun: "event", verb: "list", short: "List who did what, newest first", list: true, usual: 50,
			flags: filters,
			run: func(ctx context.Context, c *call) error {
				query, err := eventQuery(c)
				if err != nil {
					return err
				}
				all, more, err := collect(ctx, c, "/events", query, func(p api.EventPage) ([]api.Event, string) {
					return p.Events, p.Next
				})
				if err != nil {
					return err
				}
				return printList(c, all, more, c.filtered("nothing has happened", "search", "actor", "action",
					"account", "since", "until"), []column[api.Event]{
					col("WHEN", 0, func(e api.Event) any { return e.At }),
					col("WHO", 0, func(e api.Event) any {
						if e.OnBehalf != "" {
							return e.Actor + " as " + e.OnBehalf
						}
						return e.Actor
					}),
					col("FROM", 2, func(e api.Event) any { return e.Address }),
					col("WHAT", 0, func(e api.Event) any { return e.Title }),
					col("ACTION", 3, func(e api.Event) any { return e.Action }),
					col("SUBJECT", 1, func(e api.Event) any { return e.Subject }),
					col("CHANGES", 0, func(e api.Event) any {
						var changes []string
						for _, f := range e.Fields {
							changes = append(changes, f.Title+": "+beforeAfter(f))
						}
						return strings.Join(changes, "; ")
					}),
				})
			}},
		{noun: "event", verb: "export", short: "Write the record of who did what to standard output", stream: true,
			flags: append([]flagInfo{{name: "format", value: "FORMAT",
				usage: "csv (the default) or jsonl: one JSON document on each line", values: []string{"csv", "jsonl"}}},
				filters...),
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
	query := c.filters("search", "actor", "action", "account")
	return query, c.moments(query, "since", "until")
}

// moments adds flags with days or moments to what a list is asked for by.
func (c *call) moments(query url.Values, names ...string) error {
	for _, name := range names {
		moment, err := parseMoment(c.value(name))
		if err != nil {
			return usageError{"--" + name + ": " + err.Error()}
		}
		if moment != nil {
			query.Set(name, moment.UTC().Format(time.RFC3339))
		}
	}
	return nil
}
