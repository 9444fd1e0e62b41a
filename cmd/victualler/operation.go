package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/term"

	"victualler/internal/api"
)

func operationCommands() []command {
	return []command{
		{noun: "operation", verb: "list", short: "List operations, newest first", output: true,
			flags: []flagInfo{{name: "state", value: "STATE", usage: "waiting, running, done or failed"},
				{name: "account", value: "ACCOUNT", usage: "only those on this account"},
				{name: "server", value: "SERVER", usage: "only those on this server"},
				{name: "most", value: "N", usage: "how many (default 20)"}},
			run: listOperations},
		{noun: "operation", verb: "show", args: "NUMBER", short: "Show an operation with its steps", output: true,
			run: func(ctx context.Context, c *call) error {
				id, err := c.operationNumber()
				if err != nil {
					return err
				}
				var o api.Operation
				if err := c.client.Get(ctx, "/operations/"+strconv.FormatInt(id, 10), nil, &o); err != nil {
					return err
				}
				t := table{{"STEP", "STATE", "TOOK", "DETAIL"}}
				for _, s := range o.Steps {
					t = append(t, []string{s.Name, s.State, duration(&s.StartedAt, s.FinishedAt), s.Detail})
				}
				if c.format() == "" || c.format() == "table" {
					fields(c.out, "operation", fmt.Sprintf("%d %s %s", o.ID, o.Kind, o.Subject), "asked for by",
						o.Actor, "state", o.State, "begun", local(o.CreatedAt),
						"took", duration(o.StartedAt, o.FinishedAt), "failure", o.Failure, "note", o.Note)
					fmt.Fprintln(c.out)
				}
				return c.print(o, t)
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
		return 0, usageError{fmt.Sprintf("%q is not an operation's number", c.args[0])}
	}
	return id, nil
}

func listOperations(ctx context.Context, c *call) error {
	most := c.value("most")
	if most == "" {
		most = "20"
	}
	var list api.OperationPage
	query := url.Values{"limit": {most}, "state": {c.value("state")}, "account": {c.value("account")},
		"server": {c.value("server")}}
	if err := c.client.Get(ctx, "/operations", query, &list); err != nil {
		return err
	}
	t := table{{"NUMBER", "KIND", "SUBJECT", "STATE", "BY", "BEGUN", "TOOK"}}
	for _, o := range list.Operations {
		t = append(t, []string{strconv.FormatInt(o.ID, 10), o.Kind, o.Subject, o.State, o.Actor, local(o.CreatedAt),
			duration(o.StartedAt, o.FinishedAt)})
	}
	return c.print(list, t)
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
		fmt.Fprintln(c.out, operation)
		return nil
	}
	return c.watch(ctx, operation)
}

// watch shows an operation's steps as they happen. On a terminal a step that
// runs is drawn in place; elsewhere each step is one line, when it has ended.
func (c *call) watch(ctx context.Context, id int64) error {
	view := &stepView{call: c, printed: map[string]bool{}}
	if f, ok := c.out.(*os.File); ok {
		view.live = term.IsTerminal(int(f.Fd()))
	}
	last, err := c.client.Watch(ctx, id, view.show)
	view.clear()
	if err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("not waited for; the operation goes on: victualler operation watch %d", id)
		}
		return err
	}
	if last.State == "failed" {
		return errors.New(last.Failure)
	}
	fmt.Fprintf(c.out, "done in %s\n", duration(&last.CreatedAt, last.FinishedAt))
	return nil
}

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
			now = append(now, s.Name)
			continue
		}
		if v.printed[s.Name] {
			continue
		}
		v.printed[s.Name] = true
		mark := "ok"
		if s.State == "failed" {
			mark = "failed"
		}
		fmt.Fprintf(v.call.out, "  %-12s %-6s %8s  %s\n", s.Name, mark, duration(&s.StartedAt, s.FinishedAt), s.Detail)
	}
	text := strings.Join(now, ", ")
	if o.Note != "" {
		text = o.Note
	}
	if v.live && text != "" && !o.Finished() {
		fmt.Fprintf(v.call.out, "  %s …", cut(text, max(width(v.call.out)-6, 20)))
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
