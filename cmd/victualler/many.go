package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"victualler/internal/api"
)

// selectionFlags select accounts by what they have in common, instead of by name.
var selectionFlags = []flagInfo{searchFlag,
	{name: "plan", value: "PLAN", usage: "all accounts on this plan"},
	{name: "customer", value: "CUSTOMER", usage: "all of this customer, by number or name"},
	resellerFlag, serverFlag, yesFlag}

// changeSelectionFlags are those of commands with which a plan and a customer are given.
var changeSelectionFlags = []flagInfo{searchFlag,
	{name: "from-plan", value: "PLAN", usage: "all accounts on this plan"},
	{name: "from-customer", value: "CUSTOMER", usage: "all of this customer, by number or name"},
	resellerFlag, serverFlag, yesFlag}

var (
	searchFlag = flagInfo{name: "search", value: "TEXT",
		usage: "all accounts with this in a domain, sign-in name or customer's name"}
	resellerFlag = flagInfo{name: "reseller", value: "NAME", usage: "all of this reseller's customers"}
	serverFlag   = flagInfo{name: "server", value: "LABEL", usage: "all on this server"}
	yesFlag      = flagInfo{name: "yes", usage: "do not ask"}
)

// selection is what the flags say, as lists are asked for.
func (c *call) selection() url.Values {
	query := url.Values{}
	for _, f := range c.many {
		if f.value != "" && c.value(f.name) != "" {
			query.Set(strings.TrimPrefix(f.name, "from-"), c.value(f.name))
		}
	}
	return query
}

// selected are the accounts that were named, or that the flags select.
func (c *call) selected(ctx context.Context) ([]api.Account, error) {
	query := c.selection()
	switch {
	case len(query) > 0 && len(c.args) > 0:
		return nil, usageError{"name accounts, or select them with flags, but not both"}
	case len(query) > 0:
		all, _, err := pages(ctx, c, "/accounts", query, 0, accountsOf)
		if err == nil && len(all) == 0 {
			err = errors.New("no account is selected; nothing was done")
		}
		return all, err
	case len(c.args) == 0:
		var flags []string
		for _, f := range c.many {
			if f.value != "" {
				flags = append(flags, dashed(f.name))
			}
		}
		return nil, usageError{"name an account, or select some with " + orList(flags) + "; usage: " + c.usage()}
	}
	var all []api.Account
	for _, reference := range c.args {
		var a api.AccountDetail
		if err := c.client.Get(ctx, accountPath(reference), nil, &a); err != nil {
			return nil, err
		}
		all = append(all, a.Account)
	}
	return all, nil
}

func accountPath(reference string) string { return "/accounts/" + url.PathEscape(reference) }

// confirmMany shows which accounts are meant, and asks once. One that was named itself is not asked
// for.
func (c *call) confirmMany(ctx context.Context, accounts []api.Account, question string) error {
	if c.previews() || c.on("yes") || len(accounts) == 1 && len(c.args) == 1 {
		return nil
	}
	c.showSelected(accounts)
	return c.confirm(ctx, fmt.Sprintf("%s %s?", question, counted(len(accounts), "account")))
}

func (c *call) showSelected(accounts []api.Account) {
	g := rows("DOMAIN|SIGN-IN NAME|CUSTOMER|PLAN|SERVER|STATE")
	g.columns[2].minor, g.columns[3].minor, g.columns[4].minor = 3, 2, 1
	for _, a := range accounts {
		g.add(a.Name, a.SignInName, a.Customer, a.Plan, a.Server, stateOf(a))
	}
	g.write(c.term.err, c.term.columns(), false)
}

// counted writes a number of things: “1 account”, “3 accounts”.
func counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "s") {
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// atOnce is how many accounts are worked on side by side.
const atOnce = 8

// one is what became of one of many.
type one struct {
	Account   string         `json:"account"`
	Result    any            `json:"result,omitempty"`
	Operation *api.Operation `json:"operation,omitempty"`
	Problem   *api.Problem   `json:"problem,omitempty"`
	err       error
}

// task is what is done to one of many: it returns the service's answer, and the number of an
// operation to wait for, or 0.
type task struct {
	name string
	run  func(ctx context.Context) (answer any, operation int64, err error)
}

// runMany runs tasks side by side, each with a line of its own, and sums up.
func (c *call) runMany(ctx context.Context, tasks []task) error {
	return c.sumUp(c.runSideBySide(ctx, tasks, newBoard(c)))
}

func (c *call) runSideBySide(ctx context.Context, tasks []task, b *board) []one {
	results := make([]one, len(tasks))
	slots := make(chan struct{}, atOnce)
	var group sync.WaitGroup
	for n, t := range tasks {
		slots <- struct{}{}
		if ctx.Err() != nil {
			results[n] = one{Account: t.name, err: errInterrupted}
			<-slots
			continue
		}
		group.Go(func() {
			defer func() { <-slots }()
			results[n] = c.runOne(ctx, t, b)
		})
	}
	group.Wait()
	b.end()
	return results
}

func (c *call) runOne(ctx context.Context, t task, b *board) one {
	began := time.Now()
	result := one{Account: t.name}
	b.begin(t.name)
	answer, operation, err := t.run(ctx)
	result.Result = answer
	text := ""
	switch {
	case err != nil:
	case operation != 0 && c.has("no-wait") && c.on("no-wait"):
		text = fmt.Sprintf("operation %d", operation)
	default:
		if operation != 0 {
			var last api.Operation
			last, err = c.client.Watch(ctx, operation, func(o api.Operation) { b.update(t.name, running(o)) })
			if ctx.Err() != nil {
				err = goesOn{operation}
			}
			if err == nil {
				result.Operation = &last
			}
			if err == nil && last.State != "done" {
				err = errors.New(last.Failure)
			}
		}
		text = "done in " + seconds(time.Since(began))
	}
	if err != nil {
		result.err, result.Problem, text = err, problemOf(err), sentence(err)
	}
	b.finish(t.name, text)
	return result
}

// sumUp tells how many of the tasks are done. The exit code is that of what failed, if that is the
// same for all.
func (c *call) sumUp(results []one) error {
	var errs []error
	for _, r := range results {
		if r.err != nil {
			errs = append(errs, r.err)
		}
	}
	if c.format() == "json" {
		if err := c.json(listOf[one]{results, false}); err != nil {
			return err
		}
	} else if c.format() == "csv" {
		c.outcome.printed = true
		g := rows("ACCOUNT|STATE|REASON")
		for _, r := range results {
			state, reason := "done", ""
			if r.err != nil {
				state, reason = "failed", sentence(r.err)
			}
			g.add(r.Account, state, reason)
		}
		if err := g.writeCSV(c.out); err != nil {
			return err
		}
	}
	c.say("%d of %d done", len(results)-len(errs), len(results))
	if len(errs) == 0 {
		return nil
	}
	return severalFailed{errs, len(results)}
}

// severalFailed says that some of many have failed.
type severalFailed struct {
	errs []error
	of   int
}

func (e severalFailed) Error() string {
	return fmt.Sprintf("%d of %s failed", len(e.errs), counted(e.of, "account"))
}

// code is the exit code: that of all that failed, if it is one.
func (e severalFailed) code() int {
	code := exitCode(e.errs[0])
	for _, err := range e.errs[1:] {
		if exitCode(err) != code {
			return failed
		}
	}
	return code
}

// board shows what is done side by side: what has ended on lines above, and what runs below, which
// is drawn again and again on a terminal.
type board struct {
	call  *call
	mu    sync.Mutex
	names []string // in progress
	texts map[string]string
	drawn int
}

func newBoard(c *call) *board { return &board{call: c, texts: map[string]string{}} }

func (b *board) begin(name string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.names = append(b.names, name)
	b.texts[name] = "…"
	b.draw()
}

func (b *board) update(name, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.texts[name] = text
	b.draw()
}

func (b *board) finish(name, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.clear()
	for n, other := range b.names {
		if other == name {
			b.names = append(b.names[:n], b.names[n+1:]...)
			break
		}
	}
	b.call.say("%s", name+"  "+text)
	b.draw()
}

func (b *board) end() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.clear()
}

// clear takes away the lines that were drawn.
func (b *board) clear() {
	if b.drawn > 0 {
		fmt.Fprintf(b.call.out, "\x1b[%dA\x1b[J", b.drawn)
		b.drawn = 0
	}
}

func (b *board) draw() {
	columns := b.call.term.columns()
	if columns == 0 || !b.call.forPeople() {
		return
	}
	b.clear()
	for _, name := range b.names {
		fmt.Fprintln(b.call.out, shortened(name+"  "+b.texts[name], columns-1))
		b.drawn++
	}
}

// running says what an operation is at.
func running(o api.Operation) string {
	var now []string
	for _, s := range o.Steps {
		if s.State == "running" {
			now = append(now, s.Title)
		}
	}
	if o.Note != "" {
		return o.Note
	}
	return strings.TrimSpace(strings.Join(now, ", ") + " …")
}
