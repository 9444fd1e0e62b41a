// Command victualler is the command-line client. It does what the console
// does, through the same API.
//
//	victualler NOUN VERB [ARG…] [flags]
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/refusal"
)

// Exit codes.
const (
	done        = 0
	failed      = 1
	wrongUse    = 2
	refused     = 3
	unreachable = 4
	// interrupted is what shells make of SIGINT.
	interrupted = 130
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second signal ends the program at once
	os.Exit(run(ctx, os.Args[1:], newTerminal(os.Stdin, os.Stdout, os.Stderr)))
}

func run(ctx context.Context, args []string, t *terminal) int {
	if len(args) == 0 {
		args = []string{"help"}
	}
	switch {
	case isHelp(args[0]):
		args = append([]string{"help"}, args[1:]...)
	case args[0] == "--version" || args[0] == "-version":
		args = append([]string{"version"}, args[1:]...)
	}
	c, err := parse(args)
	var help errHelp
	if errors.As(err, &help) {
		printHelp(t.out, help.command)
		return done
	}
	forPrograms := asksForJSON(args)
	if err == nil {
		err = c.execute(ctx, t)
		forPrograms = c.format() == "json"
	}
	if err == nil {
		return done
	}
	if forPrograms {
		_ = writeJSON(t.err, problemOf(err)) // there is nowhere left to tell
	} else {
		fmt.Fprintln(t.err, "victualler:", visible(sentence(err)+c.hint(ctx, err)+c.decisions(err)))
	}
	return exitCode(err)
}

// execute runs a command.
func (c *call) execute(ctx context.Context, t *terminal) (err error) {
	c.term, c.out = t, t.out
	c.session, err = loadSession()
	if err == nil && !c.stranger && c.session.Token == "" {
		err = errNoSession
	}
	if err != nil {
		return err
	}
	c.client = c.session.client()
	if err := c.run(ctx, c); err != nil {
		if c.outcome.operation != nil { // programs get to know how far it came
			err = errors.Join(err, c.finish())
		}
		return err
	}
	return c.finish()
}

// asksForJSON reports whether a line that cannot be parsed asks for JSON.
func asksForJSON(args []string) bool {
	for n, arg := range args {
		name, value, given := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		if !given && n+1 < len(args) {
			value = args[n+1]
		}
		if arg != name && name == "o" && value == "json" {
			return true
		}
	}
	return false
}

// refusedKinds are refusals by a limit or a right, or for the state of something else.
var refusedKinds = []refusal.Kind{refusal.LimitReached, refusal.NotAllowed, refusal.NotSignedIn, refusal.ServerClosed,
	refusal.ServerFull, refusal.NoServer, refusal.Suspended, refusal.MustDoFirst, refusal.NeedsDecision}

// exitCode tells scripts what kind of end it was.
func exitCode(err error) int {
	var usage usageError
	var problem *api.Problem
	var silent *client.Unreachable
	var several severalFailed
	switch {
	case err == nil:
		return done
	case errors.As(err, &several):
		return several.code()
	case errors.Is(err, errInterrupted), errors.Is(err, context.Canceled):
		return interrupted
	case errors.As(err, &usage):
		return wrongUse
	case errors.As(err, &silent):
		return unreachable
	case errors.As(err, &problem):
		switch kind := kindOf(problem); {
		case slices.Contains(refusedKinds, kind):
			return refused
		case kind == refusal.InvalidInput || kind == refusal.WeakPassword:
			return wrongUse
		case kind == refusal.ServerUnreachable || kind == refusal.DatabaseUnreachable:
			return unreachable
		}
	}
	return failed
}

func kindOf(problem *api.Problem) refusal.Kind {
	return refusal.Kind(strings.TrimPrefix(problem.Type, api.ProblemBase))
}

// sentence is an error as one paragraph.
func sentence(err error) string {
	text := strings.Join(strings.Fields(err.Error()), " ")
	var problem *api.Problem
	if errors.As(err, &problem) && kindOf(problem) == refusal.NotSignedIn {
		text += " (victualler session start ADDRESS)"
	}
	return text
}

// decisions are lines with the flags by which the decisions that are asked for are told, such as
// accept_unresolved=true by --accept-unresolved, and over=keep by --keep-over.
func (c *call) decisions(err error) string {
	var problem *api.Problem
	if c == nil || !errors.As(err, &problem) {
		return ""
	}
	var lines strings.Builder
	for _, d := range problem.Decide {
		name := strings.ReplaceAll(d.Field, "_", "-")
		if d.Value != "true" {
			name = d.Value + "-" + name
		}
		if slices.ContainsFunc(c.allFlags(), func(f flagInfo) bool { return f.name == name }) {
			fmt.Fprintf(&lines, "\n  --%s: %s", name, d.Means)
		}
	}
	return lines.String()
}

// problemOf is an error as a problem document (RFC 9457). What the service has not said itself has
// no type of its own.
func problemOf(err error) *api.Problem {
	var problem *api.Problem
	if errors.As(err, &problem) {
		return problem
	}
	title := map[int]string{wrongUse: "Wrong use", unreachable: "The service does not answer",
		interrupted: "Interrupted"}[exitCode(err)]
	if title == "" {
		title = "It failed"
	}
	return &api.Problem{Type: "about:blank", Title: title, Detail: sentence(err)}
}
