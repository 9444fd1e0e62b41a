package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"victualler/internal/client"
	"victualler/internal/hosting/nearest"
)

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
	// list says that it prints a list, of which usual rows at first; 0 are all.
	list  bool
	usual int
	// many are the flags that select accounts, instead of naming them.
	many []flagInfo
	// preview adds --preview, waits --no-wait.
	preview, waits bool
	// stream says that what it prints is a text or a file, for which there is no choice of form.
	stream bool
	// stranger says that the command needs no session.
	stranger bool
	// hidden commands are in no help.
	hidden bool
	run    func(context.Context, *call) error
}

func (c command) name() string { return c.noun + " " + c.verb }

// flagInfo is one flag. A flag without a value name is a switch.
type flagInfo struct {
	name, value, usage string
	required           bool
	// values are all that it takes, if that is known here.
	values []string
}

// allCommands is the table of all commands, one file for each noun, in the order of the help.
func allCommands() []command {
	return slices.Concat(
		searchCommands(),
		accountCommands(),
		exceptionCommands(),
		loginCommands(),
		databaseCommands(), databaseContentCommands(),
		kitCommands(),
		mailboxCommands(), addressCommands(), distributionCommands(), messageCommands(), queueCommands(),
		domainCommands(),
		siteCommands(),
		zoneCommands(),
		certificateCommands(),
		uploadCommands(),
		authorityCommands(),
		customerCommands(),
		planCommands(),
		resellerCommands(),
		documentCommands(),
		serverCommands(),
		operationCommands(),
		eventCommands(),
		settingsCommands(),
		personCommands(),
		sessionCommands(),
		personalCommands(),
		helpCommands(),
	)
}

// nouns are grouped by the work, in the order of the help.
var nouns = []struct {
	group string
	nouns []string
}{
	{"Everything", []string{"overview", "search"}},
	{"Accounts", []string{"account", "exception", "login"}},
	{"Websites and DNS", []string{"domain", "site", "folder", "kit", "template", "zone", "record"}},
	{"Mail", []string{"mailbox", "address", "list", "message", "queue"}},
	{"Databases", []string{"database"}},
	{"Certificates", []string{"certificate", "authority"}},
	{"Customers and plans", []string{"customer", "notes", "plan", "reseller", "brand"}},
	{"Servers and what happens", []string{"server", "operation", "event", "settings"}},
	{"People and yourself", []string{"person", "session", "password", "factor", "language", "token", "scope"}},
	{"This program", []string{"help", "completion", "version"}},
}

// plurals are those that do not only add an s.
var plurals = map[string]string{"authorities": "authority", "people": "person", "mailboxes": "mailbox",
	"addresses": "address", "note": "notes", "setting": "settings"}

// singular is the noun that is meant, whatever its case and number.
func singular(typed string) string {
	noun := strings.ToLower(typed)
	if one, is := plurals[noun]; is {
		return one
	}
	known := allNouns()
	if one, is := strings.CutSuffix(noun, "s"); is && !slices.Contains(known, noun) && slices.Contains(known, one) {
		return one
	}
	return noun
}

func allNouns() []string {
	var all []string
	for _, g := range nouns {
		all = append(all, g.nouns...)
	}
	return all
}

// verbsOf lists what can be done with a noun.
func verbsOf(noun string) []string {
	var verbs []string
	for _, c := range allCommands() {
		if c.noun == noun && !c.hidden {
			verbs = append(verbs, c.verb)
		}
	}
	return verbs
}

// call is one command with what was typed.
type call struct {
	command
	args     []string
	values   map[string]*string
	switches map[string]*bool
	term     *terminal
	// out is where what was asked for is written.
	out     io.Writer
	client  *client.Client
	session *session
	outcome outcome
}

// value is what was given with a flag. A flag that the command does not have is a mistake in the
// program.
func (c *call) value(name string) string { return *c.values[name] }
func (c *call) on(name string) bool      { return *c.switches[name] }

// has reports whether the command has a flag, or a switch.
func (c *call) has(name string) bool { return c.values[name] != nil || c.switches[name] != nil }

// previews reports whether only what would be done is asked for.
func (c *call) previews() bool { return c.preview && c.on("preview") }

// usageError is a mistake in what was typed.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

// errHelp asks for the help of a command.
type errHelp struct{ command command }

func (errHelp) Error() string { return "help is asked for" }

// parse finds the command and reads its flags, before and after arguments alike.
func parse(args []string) (*call, error) {
	command, rest, err := find(args)
	if err != nil {
		return nil, err
	}
	c := &call{command: command, values: map[string]*string{}, switches: map[string]*bool{}}
	flags := flag.NewFlagSet(command.name(), flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	for _, f := range c.allFlags() {
		if f.value == "" {
			c.switches[f.name] = flags.Bool(f.name, false, f.usage)
		} else {
			c.values[f.name] = flags.String(f.name, "", f.usage)
		}
	}
	// The flag package stops at the first argument: take it out and go on.
	for len(rest) > 0 {
		if err := flags.Parse(rest); err != nil {
			return nil, c.flagError(err)
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
	return c, c.check()
}

// find finds the command by its noun and verb; rest is what follows.
func find(args []string) (c command, rest []string, err error) {
	if strings.HasPrefix(args[0], "-") {
		return c, nil,
			usageError{"begin with what it is about and what to do, such as victualler account list; flags " +
				"come after that"}
	}
	noun, verb := singular(args[0]), ""
	if len(args) > 1 {
		verb = strings.ToLower(args[1])
	}
	verbs := verbsOf(noun)
	commands := allCommands()
	at := func(verb string) int {
		return slices.IndexFunc(commands, func(c command) bool { return c.noun == noun && c.verb == verb })
	}
	// Parts of a thing have verbs of their own, such as database user add.
	part, parts := strings.TrimSuffix(verb, "s"), []string{}
	for _, v := range verbs {
		if rest, is := strings.CutPrefix(v, part+" "); is {
			parts = append(parts, rest)
		}
	}
	if len(parts) > 0 {
		return findPart(commands, noun, part, parts, args)
	}
	switch n := at(verb); {
	case n >= 0:
		return commands[n], args[min(2, len(args)):], nil
	case at("") >= 0: // a noun that is a command without a verb
		return commands[at("")], args[1:], nil
	case len(verbs) == 0:
		return c, nil, usageError{fmt.Sprintf("there is no %q%s; “victualler help” lists what there is", args[0],
			nearest.Hint(noun, allNouns()))}
	case verb == "":
		return c, nil, usageError{fmt.Sprintf("say what to do: victualler %s %s", noun, strings.Join(verbs, "|"))}
	case isHelp(verb):
		return c, nil, errHelp{command{noun: noun}}
	}
	return c, nil, usageError{fmt.Sprintf("%s cannot %q%s; it can %s", noun, args[1], nearest.Hint(verb, verbs),
		strings.Join(verbs, ", "))}
}

// findPart is find for the verbs of a part of a noun.
func findPart(commands []command, noun, part string, verbs, args []string) (c command, rest []string, err error) {
	name := noun + " " + part
	if len(args) < 3 {
		return c, nil, usageError{fmt.Sprintf("say what to do: victualler %s %s", name, strings.Join(verbs, "|"))}
	}
	verb := strings.ToLower(args[2])
	for _, one := range commands {
		if one.noun == noun && one.verb == part+" "+verb {
			return one, args[3:], nil
		}
	}
	if isHelp(verb) {
		return c, nil, errHelp{command{noun: noun}}
	}
	return c, nil, usageError{fmt.Sprintf("%s cannot %q%s; it can %s", name, args[2], nearest.Hint(verb, verbs),
		strings.Join(verbs, ", "))}
}

func isHelp(word string) bool {
	return slices.Contains([]string{"help", "-h", "-help", "--help"}, word)
}

// flagError says in our words what the flag package has found.
func (c *call) flagError(err error) error {
	if errors.Is(err, flag.ErrHelp) {
		return errHelp{c.command}
	}
	text := err.Error()
	var names []string
	for _, f := range c.allFlags() {
		names = append(names, f.name)
	}
	if name, is := strings.CutPrefix(text, "flag provided but not defined: -"); is {
		hint := ""
		if near := nearest.Word(name, names); near != "" {
			hint = "; did you mean " + dashed(near) + "?"
		}
		return usageError{fmt.Sprintf("%s has no flag --%s%s; see victualler help %s", c.name(),
			strings.TrimLeft(name, "-"), hint, c.name())}
	}
	if name, is := strings.CutPrefix(text, "flag needs an argument: -"); is {
		f := c.allFlags()[slices.Index(names, name)]
		return usageError{fmt.Sprintf("%s needs a value: %s %s", dashed(name), dashed(name), f.value)}
	}
	return usageError{text + "; see victualler help " + c.name()}
}

func dashed(name string) string {
	if len(name) == 1 {
		return "-" + name
	}
	return "--" + name
}

// check refuses what the table of commands says is wrong.
func (c *call) check() error {
	want := strings.Fields(c.command.args)
	least := slices.IndexFunc(want, func(a string) bool { return strings.HasPrefix(a, "[") })
	if least < 0 {
		least = len(want)
	}
	most := len(want)
	if strings.HasSuffix(c.command.args, "…") {
		most = len(c.args)
	}
	switch {
	case len(c.args) < least:
		return usageError{fmt.Sprintf("%s is missing; usage: %s", strings.TrimSuffix(want[len(c.args)], "…"),
			c.usage())}
	case len(c.args) > most:
		return usageError{fmt.Sprintf("%q is too much; usage: %s", c.args[most], c.usage())}
	}
	for _, f := range c.allFlags() {
		if f.required && c.value(f.name) == "" {
			return usageError{"--" + f.name + " is needed; usage: " + c.usage()}
		}
		if f.value == "" || len(f.values) == 0 {
			continue
		}
		if v := c.value(f.name); v != "" && !slices.Contains(f.values, v) {
			return usageError{fmt.Sprintf("%s takes %s, not %q%s", dashed(f.name), orList(f.values), v,
				nearest.Hint(v, f.values))}
		}
	}
	return nil
}

// outputs are the forms of what is printed.
var outputs = []string{"table", "json", "csv"}

func (c command) allFlags() []flagInfo {
	all := slices.Clone(c.flags)
	all = append(all, c.many...)
	if c.list {
		all = append(all, listFlags(c.usual)...)
	}
	if c.preview {
		all = append(all, flagInfo{name: "preview", usage: "show what would be done, and do nothing"})
	}
	if c.waits {
		all = append(all, flagInfo{name: "no-wait", usage: "print the operation's number and do not wait for it"})
	}
	if !c.stream {
		all = append(all, flagInfo{name: "o", value: "FORMAT", usage: "table, json or csv", values: outputs})
	}
	return all
}

func (c command) usage() string {
	text := "victualler " + strings.TrimSpace(c.name())
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

// orList lists words as in a sentence: “a, b or c”.
func orList(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
