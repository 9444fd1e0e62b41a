package main

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
)

var operationStates = []string{"waiting", "running", "done", "failed", "cancelled"}

func operationCommands() []command {
	return []command{
		{noun: "operation", verb: "list", short: "List operations, newest first", list: true, usual: 20,
			flags: []flagInfo{{name: "state", value: "STATE", usage: orList(operationStates), values: operationStates},
				{name: "account", value: "ACCOUNT", usage: "only those on this account"},
				{name: "server", value: "LABEL", usage: "only those on this server"},
				{name: "since", value: "DATE", usage: "only those begun since this day or moment"}},
			run: listOperations},
		{noun: "operation", verb: "show", args: "NUMBER", short: "Show an operation with its steps",
			run: func(ctx context.Context, c *call) error {
				id, err := c.operationNumber()
				if err != nil {
					return err
				}
				var o api.Operation
				if err := c.client.Get(ctx, "/operations/"+strconv.FormatInt(id, 10), nil, &o); err != nil {
					return err
				}
				g := rows("STEP|STATE|TOOK|DETAIL")
				for _, s := range o.Steps {
					g.add(s.Title, s.State, took(&s.StartedAt, s.FinishedAt), s.Detail)
				}
				return c.show(o, g, func() error {
					c.fields("operation", fmt.Sprintf("%d %s", o.ID, o.Subject), "what", o.Title, "asked for by",
						o.Actor, "state", o.State, "begun", local(o.CreatedAt),
						"took", duration(o.StartedAt, o.FinishedAt), "failure", o.Failure, "note", o.Note)
					fmt.Fprintln(c.out)
					c.table(g)
					return nil
				})
			}},
		{noun: "operation", verb: "watch", args: "NUMBER", short: "Watch an operation until it ends",
			run: func(ctx context.Context, c *call) error {
				id, err := c.operationNumber()
				if err != nil {
					return err
				}
				return c.watch(ctx, id)
			}},
	}
}

func (c *call) operationNumber() (int64, error) {
	id, err := strconv.ParseInt(c.args[0], 10, 64)
	if err != nil || id < 1 {
		return 0, usageError{fmt.Sprintf("%q is not an operation's number; “victualler operation list” lists them",
			c.args[0])}
	}
	return id, nil
}

func listOperations(ctx context.Context, c *call) error {
	query := c.filters("state", "account", "server")
	if err := c.moments(query, "since"); err != nil {
		return err
	}
	all, more, err := collect(ctx, c, "/operations", query, func(p api.OperationPage) ([]api.Operation, string) {
		return p.Operations, p.Next
	})
	if err != nil {
		return err
	}
	return printList(c, all, more, c.filtered("no operations", "state", "account", "server", "since"),
		[]column[api.Operation]{
			col("NUMBER", 0, func(o api.Operation) any { return o.ID }),
			col("STATE", 0, func(o api.Operation) any { return o.State }),
			col("BEGUN", 1, func(o api.Operation) any { return o.CreatedAt }),
			col("TOOK", 2, func(o api.Operation) any { return took(o.StartedAt, o.FinishedAt) }),
			col("BY", 3, func(o api.Operation) any { return o.Actor }),
			col("WHAT", 0, func(o api.Operation) any { return o.Title }),
			col("KIND", 5, func(o api.Operation) any { return o.Kind }),
			col("FAILURE", 4, func(o api.Operation) any { return o.Failure }),
			col("SUBJECT", 0, func(o api.Operation) any { return o.Subject }),
		})
}

// took is a cell with how long something took; it is nothing before it has begun and while it runs.
func took(from, to *time.Time) any {
	if from == nil || to == nil {
		return nil
	}
	return to.Sub(*from)
}

func duration(from, to *time.Time) string {
	switch {
	case from == nil:
		return ""
	case to == nil:
		return "running"
	}
	return seconds(to.Sub(*from))
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.2f s", d.Seconds()) }

// started deals with work that has begun: it is watched, or its number printed.
func (c *call) started(ctx context.Context, operation int64) error {
	if c.on("no-wait") {
		c.say("%d", operation)
		return nil
	}
	return c.watch(ctx, operation)
}

// watch shows an operation's steps as they happen. On a terminal a step that
// runs is drawn in place; elsewhere each step is one line, when it has ended.
func (c *call) watch(ctx context.Context, id int64) error {
	view := &stepView{call: c, live: c.term.columns() > 0, printed: map[string]bool{}}
	last, err := c.client.Watch(ctx, id, func(o api.Operation) {
		if c.forPeople() {
			view.show(o)
		}
	})
	view.clear()
	if ctx.Err() != nil {
		return goesOn{id}
	}
	if err != nil {
		return err
	}
	c.outcome.operation = &last
	if last.State != "done" {
		return errors.New(last.Failure)
	}
	c.say("done in %s", duration(&last.CreatedAt, last.FinishedAt))
	return nil
}

// goesOn says that an operation was not waited for to its end.
type goesOn struct{ operation int64 }

func (e goesOn) Error() string {
	return fmt.Sprintf("interrupted; the operation goes on: victualler operation watch %d", e.operation)
}

func (e goesOn) Unwrap() error { return errInterrupted }

// stepView draws the steps of one operation.
type stepView struct {
	call    *call
	live    bool
	printed map[string]bool
	drawn   bool
}

func (v *stepView) show(o api.Operation) {
	v.clear()
	var now []string
	for _, s := range o.Steps {
		if s.State == "running" {
			now = append(now, s.Title)
			continue
		}
		if v.printed[s.Name] {
			continue
		}
		v.printed[s.Name] = true
		mark := "ok"
		if s.State != "done" {
			mark = s.State
		}
		fmt.Fprintf(v.call.out, "  %-12s %-9s %8s  %s\n", s.Title, mark, duration(&s.StartedAt, s.FinishedAt), s.Detail)
	}
	text := strings.Join(now, ", ")
	if o.Note != "" {
		text = o.Note
	}
	if v.live && text != "" && !o.Finished() {
		fmt.Fprintf(v.call.out, "  %s …", shortened(text, max(v.call.term.columns()-6, narrowest)))
		v.drawn = true
	}
}

// clear takes away the line that was drawn in place.
func (v *stepView) clear() {
	if v.drawn {
		fmt.Fprint(v.call.out, "\r\x1b[K")
		v.drawn = false
	}
}

// shortened is text for a line that is drawn for a moment.
func shortened(text string, columns int) string {
	if displayWidth(text) <= columns {
		return text
	}
	runes := []rune(text)
	for displayWidth(string(runes)) > columns-1 {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}
