package main

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
)

func searchCommands() []command {
	return []command{
		{noun: "overview", short: "Say what needs somebody now", run: overview},
		{noun: "search", args: "WORD", short: "Find accounts, domains, customers, resellers, servers and zones",
			list: true, usual: 50, run: search},
	}
}

// overview prints what needs somebody, the most urgent first.
func overview(ctx context.Context, c *call) error {
	var o api.Overview
	if err := c.client.Get(ctx, "/overview", nil, &o); err != nil {
		return err
	}
	needs := gridOf(o.Attention, []column[api.Attention]{
		col("CASES", 0, func(a api.Attention) any { return a.Cases }),
		col("WHAT", 0, func(a api.Attention) any { return a.Title }),
		col("WHICH", 1, func(a api.Attention) any { return strings.Join(a.Worst, ", ") }),
	})
	return c.show(o, needs, func() error {
		if len(o.Attention) == 0 {
			fmt.Fprintln(c.out, "nothing needs anybody now")
		}
		for _, a := range o.Attention {
			which := strings.Join(a.Worst, ", ")
			if more := a.Cases - int64(len(a.Worst)); more > 0 {
				which += fmt.Sprintf(" and %d more", more)
			}
			printIndented(c.out, "▲ ", a.Title+": "+which)
		}
		return nil
	})
}

// found is one line of what the search finds.
type found struct {
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	About string `json:"about"`
}

// search asks every list for a word. What the person may not see is left out, as it is everywhere.
func search(ctx context.Context, c *call) error {
	word := c.args[0]
	var all []found
	more := false
	query := func() url.Values { return url.Values{"search": {word}} }
	for _, list := range []func() ([]found, bool, error){
		func() ([]found, bool, error) {
			var list api.ServerList
			err := c.client.Get(ctx, "/servers", nil, &list)
			return pick(list.Servers, func(s api.Server) found {
				return found{"server", s.Label, strings.Join(s.Roles, ", ") + " " + s.Address}
			}, word), false, err
		},
		func() ([]found, bool, error) {
			items, cut, err := collect(ctx, c, "/accounts", query(), accountsOf)
			return lines(items, func(a api.Account) found {
				return found{"account", a.SignInName, a.Name + ", " + a.Customer + ", on " + a.Server + ", " + a.State}
			}), cut, err
		},
		func() ([]found, bool, error) {
			items, cut, err := collect(ctx, c, "/domains", query(),
				func(p api.DomainPage) ([]api.DomainLine, string) { return p.Domains, p.Next })
			return lines(items, func(d api.DomainLine) found {
				return found{"domain", d.Unicode, string(d.ServedAs) + " of " + d.Account}
			}), cut, err
		},
		func() ([]found, bool, error) {
			items, cut, err := collect(ctx, c, "/zones", query(),
				func(p api.ZonePage) ([]api.Zone, string) { return p.Zones, p.Next })
			return lines(items, func(z api.Zone) found {
				return found{"zone", z.Unicode, "of " + z.Account + ", DNS hosted " + z.Hosted}
			}), cut, err
		},
		func() ([]found, bool, error) {
			items, cut, err := collect(ctx, c, "/customers", query(),
				func(p api.CustomerPage) ([]api.Customer, string) { return p.Customers, p.Next })
			return lines(items, func(u api.Customer) found {
				return found{"customer", u.Name, strings.TrimSpace(fmt.Sprintf("number %d %s", u.ID, u.Email))}
			}), cut, err
		},
		func() ([]found, bool, error) {
			items, cut, err := collect(ctx, c, "/resellers", query(),
				func(p api.ResellerPage) ([]api.Reseller, string) { return p.Resellers, p.Next })
			return lines(items, func(r api.Reseller) found { return found{"reseller", r.Name, r.Title} }), cut, err
		},
	} {
		items, cut, err := list()
		if err != nil {
			if kindOf(problemOf(err)) == refusal.NotAllowed {
				continue
			}
			return err
		}
		all, more = append(all, items...), more || cut
	}
	// What is called just that comes first.
	slices.SortStableFunc(all, func(a, b found) int { return cmp.Compare(apart(a.Name, word), apart(b.Name, word)) })
	return printList(c, all, more, fmt.Sprintf("nothing is called anything like %q", word), []column[found]{
		col("KIND", 0, func(f found) any { return f.Kind }),
		col("NAME", 0, func(f found) any { return f.Name }),
		col("ABOUT", 1, func(f found) any { return f.About }),
	})
}

// apart is how far a name is from a word: 0 is the word itself, 1 begins with it, 2 has it in it.
func apart(name, word string) int {
	name, word = strings.ToLower(name), strings.ToLower(word)
	switch {
	case name == word:
		return 0
	case strings.HasPrefix(name, word):
		return 1
	}
	return 2
}

func lines[T any](items []T, line func(T) found) []found {
	var out []found
	for _, item := range items {
		out = append(out, line(item))
	}
	return out
}

// pick is like lines, for a list that the service does not search: only what has the word in it.
func pick[T any](items []T, line func(T) found, word string) []found {
	return slices.DeleteFunc(lines(items, line), func(f found) bool {
		return !strings.Contains(strings.ToLower(f.Name+" "+f.About), strings.ToLower(word))
	})
}
