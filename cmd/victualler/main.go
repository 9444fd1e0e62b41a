// Command victualler is the command-line client. It does what the console
// does, through the same API.
//
//	victualler NOUN VERB [ARG…] [flags]
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
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
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// command is one line of the table from which help, completion and parsing come.
type command struct {
	noun, verb string
	// args names the positional arguments, such as "DOMAIN"; [ARG] may
	// be left out, ARG… may be repeated.
	args  string
	short string
	// long is further help, if there is more to say.
	long string
	// flags are this command's own.
	flags []flagInfo
	// output adds -o, preview --preview, and waits --no-wait.
	output, preview, waits bool
	// stranger says that the command needs no session.
	stranger bool
	run      func(context.Context, *call) error
}

// flagInfo is one flag. A flag without a value name is a switch.
type flagInfo struct {
	name, value, usage string
	required           bool
}

// allCommands is the table of all commands, one file for each noun, in the order of the help.
func allCommands() []command {
	return slices.Concat(
		accountCommands(),
		authorityCommands(),
		uploadCommands(),
		certificateCommands(),
		customerCommands(),
		domainCommands(),
		eventCommands(),
		exceptionCommands(),
		completionCommands(),
		loginCommands(),
		operationCommands(),
		personCommands(),
		personalCommands(),
		planCommands(),
		resellerCommands(),
		serverCommands(),
		sessionCommands(),
		settingsCommands(),
		siteCommands(),
		zoneCommands(),
	)
}

// call is one command with what was typed.
type call struct {
	command
	args     []string
	values   map[string]*string
	switches map[string]*bool
	in       io.Reader
	out, err io.Writer
	client   *client.Client
	session  *session
}

func (c *call) value(name string) string { return *c.values[name] }
func (c *call) on(name string) bool      { return *c.switches[name] }

// format is the form of output that was asked for; the usual one is
// empty, as for commands without a choice.
func (c *call) format() string {
	if !c.output {
		return ""
	}
	return c.value("o")
}

// usageError is a mistake in what was typed.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

func run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 0 || slices.Contains([]string{"help", "-h", "-help", "--help"}, args[0]) {
		printHelp(out, args)
		return done
	}
	c, err := parse(args)
	if err != nil {
		if errors.Is(err, flag.ErrHelp) {
			printCommandHelp(out, c.command)
			return done
		}
		fmt.Fprintln(errOut, "victualler:", err)
		return wrongUse
	}
	c.in, c.out, c.err = in, out, errOut
	c.session, err = loadSession()
	if err == nil && !c.stranger && c.session.Token == "" {
		err = errNoSession
	}
	if err == nil {
		c.client = c.session.client()
		err = c.run(ctx, c)
	}
	if err != nil {
		fmt.Fprintln(errOut, "victualler:", sentence(err))
	}
	return exitCode(err)
}

// parse finds the command and reads its flags, before and after arguments alike.
func parse(args []string) (*call, error) {
	noun := args[0]
	verb := ""
	if len(args) > 1 {
		verb = args[1]
	}
	commands := allCommands()
	index := slices.IndexFunc(commands, func(c command) bool { return c.noun == noun && c.verb == verb })
	if index < 0 {
		return &call{}, usageError{unknown(noun, verb)}
	}
	c := &call{command: commands[index], values: map[string]*string{}, switches: map[string]*bool{}}
	flags := flag.NewFlagSet(noun+" "+verb, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	for _, f := range c.allFlags() {
		if f.value == "" {
			c.switches[f.name] = flags.Bool(f.name, false, f.usage)
		} else {
			c.values[f.name] = flags.String(f.name, "", f.usage)
		}
	}
	// The flag package stops at the first argument: take it out and go on.
	for rest := args[2:]; len(rest) > 0; {
		if err := flags.Parse(rest); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return c, err
			}
			return c, usageError{err.Error() + "; see victualler " + noun + " " + verb + " --help"}
		}
		ended := len(rest) > flags.NArg() && rest[len(rest)-flags.NArg()-1] == "--"
		rest = flags.Args()
		if ended {
			c.args = append(c.args, rest...)
			break
		}
		if len(rest) > 0 {
			c.args, rest = append(c.args, rest[0]), rest[1:]
		}
	}
	want := strings.Fields(c.command.args)
	least := slices.IndexFunc(want, func(a string) bool { return strings.HasPrefix(a, "[") })
	if least < 0 {
		least = len(want)
	}
	most := len(want)
	if strings.HasSuffix(c.command.args, "…") {
		most = len(c.args)
	}
	if len(c.args) < least || len(c.args) > most {
		return c, usageError{"usage: " + c.usage()}
	}
	for _, f := range c.flags {
		if f.required && c.value(f.name) == "" {
			return c, usageError{"--" + f.name + " is needed; usage: " + c.usage()}
		}
	}
	if c.output && !slices.Contains([]string{"", "table", "json", "csv"}, c.format()) {
		return c, usageError{"-o takes table, json or csv"}
	}
	return c, nil
}

func (c command) allFlags() []flagInfo {
	all := slices.Clone(c.flags)
	if c.preview {
		all = append(all, flagInfo{name: "preview", usage: "show what would be done, and do nothing"})
	}
	if c.waits {
		all = append(all, flagInfo{name: "no-wait", usage: "print the operation's number and do not wait for it"})
	}
	if c.output {
		all = append(all, flagInfo{name: "o", value: "FORMAT", usage: "table, json or csv"})
	}
	return all
}

func (c command) usage() string {
	text := "victualler " + c.noun + " " + c.verb
	if c.args != "" {
		text += " " + c.args
	}
	for _, f := range c.flags {
		if f.required {
			text += " --" + f.name + " " + f.value
		}
	}
	if len(c.allFlags()) > 0 {
		text += " [flags]"
	}
	return text
}

func unknown(noun, verb string) string {
	var verbs, all []string
	for _, c := range allCommands() {
		if c.noun == noun {
			verbs = append(verbs, c.verb)
		}
		if !slices.Contains(all, c.noun) {
			all = append(all, c.noun)
		}
	}
	if len(verbs) > 0 {
		if verb == "" {
			return fmt.Sprintf("say what to do: victualler %s %s", noun, strings.Join(verbs, "|"))
		}
		return fmt.Sprintf("%s knows %s, not %q", noun, strings.Join(verbs, ", "), verb)
	}
	slices.Sort(all)
	return fmt.Sprintf("there is no %q; the nouns are %s (see victualler help)", noun, strings.Join(all, ", "))
}

// exitCode tells scripts what kind of end it was.
func exitCode(err error) int {
	var usage usageError
	var problem *api.Problem
	var silent *client.Unreachable
	switch {
	case err == nil:
		return done
	case errors.As(err, &usage):
		return wrongUse
	case errors.As(err, &silent):
		return unreachable
	case errors.As(err, &problem):
		switch refusal.Kind(strings.TrimPrefix(problem.Type, api.ProblemBase)) {
		case refusal.LimitReached, refusal.NotAllowed, refusal.NotSignedIn, refusal.ServerClosed, refusal.ServerFull,
			refusal.NoServer, refusal.Suspended, refusal.MustDoFirst, refusal.NeedsDecision:
			return refused
		case refusal.InvalidInput, refusal.WeakPassword:
			return wrongUse
		case refusal.ServerUnreachable, refusal.DatabaseUnreachable:
			return unreachable
		}
	}
	return failed
}

// sentence is an error as one paragraph.
func sentence(err error) string {
	text := strings.Join(strings.Fields(err.Error()), " ")
	var problem *api.Problem
	if errors.As(err, &problem) && strings.HasSuffix(problem.Type, "/"+string(refusal.NotSignedIn)) {
		text += " (victualler session start ADDRESS)"
	}
	return text
}
