package main

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// column is one of a list of R.
type column[R any] struct {
	heading
	value func(R) any
}

// col is a column; see [heading].
func col[R any](title string, minor int, value func(R) any) column[R] {
	return column[R]{heading{title, minor}, value}
}

// listFlags are the flags of all lists; usual is how many rows are listed at first, 0 are all.
func listFlags(usual int) []flagInfo {
	flags := []flagInfo{{name: "limit", value: "N", usage: "how many rows"},
		{name: "sort", value: "COLUMNS", usage: "by which to sort, such as disk or -opened,domain; - is downwards"},
		{name: "columns", value: "COLUMNS", usage: "which to show, in this order"},
		{name: "wide", usage: "leave no column out and wrap none, however narrow the terminal is"}}
	if usual > 0 {
		flags[0].usage += fmt.Sprintf("; %d at first", usual)
		flags = append(flags, flagInfo{name: "all", usage: "all rows"})
	}
	return flags
}

// most is how many rows are asked for; 0 are all.
func (c *call) most() (int, error) {
	text := c.value("limit")
	switch {
	case c.has("all") && c.on("all"):
		if text != "" {
			return 0, usageError{"--limit and --all exclude each other"}
		}
		return 0, nil
	case text == "":
		return c.usual, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, usageError{fmt.Sprintf("--limit takes a number above 0, not %q", text)}
	}
	return n, nil
}

// filters are the flags of a list that the service has under the same names.
func (c *call) filters(names ...string) url.Values {
	query := url.Values{}
	for _, name := range names {
		if v := c.value(name); v != "" {
			query.Set(strings.ReplaceAll(name, "-", "_"), v)
		}
	}
	return query
}

// collect reads a list page by page, as far as it is asked for; more says that there are others.
func collect[P, R any](ctx context.Context, c *call, path string, query url.Values,
	page func(P) ([]R, string)) (items []R, more bool, err error) {
	most, err := c.most()
	if err != nil {
		return nil, false, err
	}
	if c.value("sort") != "" {
		most = 0 // those that come first are known when all are
	}
	return pages(ctx, c, path, query, most, page)
}

// pages reads a list page by page; most 0 is no bound.
func pages[P, R any](ctx context.Context, c *call, path string, query url.Values, most int,
	page func(P) ([]R, string)) (items []R, more bool, err error) {
	const largest = 500
	query.Set("limit", strconv.Itoa(largest))
	if most > 0 {
		query.Set("limit", strconv.Itoa(min(most, largest)))
	}
	for {
		var p P
		if err := c.client.Get(ctx, path, query, &p); err != nil {
			return items, false, err
		}
		list, next := page(p)
		items = append(items, list...)
		if most > 0 && len(items) >= most {
			return items[:most], len(items) > most || next != "", nil
		}
		if next == "" {
			return items, false, nil
		}
		query.Set("cursor", next)
	}
}

// gridOf makes a table of things.
func gridOf[R any](items []R, columns []column[R]) *grid {
	g := &grid{}
	for _, column := range columns {
		g.columns = append(g.columns, column.heading)
	}
	for _, item := range items {
		row := make([]any, len(columns))
		for i, column := range columns {
			row[i] = column.value(item)
		}
		g.rows = append(g.rows, row)
	}
	return g
}

// listOf is what programs get of every list.
type listOf[R any] struct {
	Items []R `json:"items"`
	// More says that there are others, which were not asked for.
	More bool `json:"more"`
}

// printList prints a list. None is what people are told where it is empty.
func printList[R any](c *call, items []R, more bool, none string, columns []column[R]) error {
	g := gridOf(items, columns)
	if keys := words(c.value("sort")); len(keys) > 0 {
		order, err := g.sortBy(keys)
		if err != nil {
			return err
		}
		sorted := make([]R, len(items))
		for to, from := range order {
			sorted[to] = items[from]
		}
		items = sorted
	}
	most, err := c.most()
	if err != nil {
		return err
	}
	if most > 0 && len(items) > most {
		items, g.rows, more = items[:most], g.rows[:most], true
	}
	if keys := words(c.value("columns")); len(keys) > 0 {
		if err := g.pick(keys); err != nil {
			return err
		}
	}
	switch c.format() {
	case "json":
		return c.json(listOf[R]{append([]R{}, items...), more})
	case "csv":
		err = g.writeCSV(c.out)
		c.outcome.printed = true
	default:
		if len(items) == 0 {
			fmt.Fprintln(c.term.err, none)
			return nil
		}
		left := g.write(c.out, c.term.columns(), c.on("wide"))
		if len(left) > 0 {
			fmt.Fprintf(c.term.err, "(left out: %s; --wide shows all)\n", strings.ToLower(strings.Join(left, ", ")))
		}
	}
	if more {
		fmt.Fprintf(c.term.err, "(the first %d; there are more: --limit N%s)\n", len(items),
			map[bool]string{true: " or --all"}[c.has("all")])
	}
	return err
}

// words are those of a list with commas.
func words(text string) []string {
	var all []string
	for _, word := range strings.Split(text, ",") {
		if word = strings.TrimSpace(word); word != "" {
			all = append(all, word)
		}
	}
	return all
}

// filtered says why a list may be empty: because of the flags that were
// given, or of nothing at all.
func (c *call) filtered(nothing string, flags ...string) string {
	given := slices.DeleteFunc(flags, func(name string) bool {
		return c.values[name] == nil || c.value(name) == ""
	})
	if len(given) == 0 {
		return nothing
	}
	for i, name := range given {
		given[i] = "--" + name + " " + c.value(name)
	}
	return "nothing matches " + strings.Join(given, " ")
}
