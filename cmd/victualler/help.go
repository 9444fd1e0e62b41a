package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"victualler/internal/version"
)

func helpCommands() []command {
	return []command{
		{noun: "help", args: "[NOUN] [VERB]", short: "Say what there is, or how one command is used", stranger: true,
			stream: true,
			run: func(_ context.Context, c *call) error {
				if len(c.args) == 0 {
					printOverview(c.out)
					return nil
				}
				command, _, err := find(c.args)
				var help errHelp
				if errors.As(err, &help) {
					command, err = help.command, nil
				}
				if noun := singular(c.args[0]); err != nil && len(c.args) == 1 && slices.Contains(allNouns(), noun) {
					command, err = findNoun(noun), nil
				}
				if err == nil {
					printHelp(c.out, command)
				}
				return err
			}},
		{noun: "version", short: "Say which version this is", stranger: true, stream: true,
			run: func(_ context.Context, c *call) error {
				fmt.Fprintln(c.out, "victualler", version.Version)
				return nil
			}},
		{noun: "completion", verb: "bash", short: "Print completion for bash", stranger: true, stream: true,
			long: "Use it with: source <(victualler completion bash)", run: printCompletion(bashCompletion)},
		{noun: "completion", verb: "zsh", short: "Print completion for zsh", stranger: true, stream: true,
			long: "Use it with: source <(victualler completion zsh)", run: printCompletion(zshCompletion)},
		{noun: "completion", verb: "fish", short: "Print completion for fish", stranger: true, stream: true,
			long: "Use it with: victualler completion fish | source", run: printCompletion(fishCompletion)},
		{noun: "completion", verb: "words", args: "[WORD]…", hidden: true, stranger: true, stream: true,
			short: "Print what could stand for the last of some words", run: completeWords},
	}
}

// findNoun is the command of a noun without a verb, if there is one.
func findNoun(noun string) command {
	for _, c := range allCommands() {
		if c.noun == noun && c.verb == "" {
			return c
		}
	}
	return command{noun: noun}
}

// helpColumns is how wide helps are at most.
const helpColumns = 80

// printOverview prints what can be done with what.
func printOverview(out io.Writer) {
	fmt.Fprint(out, "victualler NOUN VERB [ARG…] [flags]\n")
	for _, g := range nouns {
		fmt.Fprintf(out, "\n%s\n", g.group)
		for _, noun := range g.nouns {
			text := strings.Join(verbsOf(noun), ", ")
			if c := findNoun(noun); c.run != nil {
				text = strings.ToLower(c.short[:1]) + c.short[1:]
			}
			printIndented(out, "  "+pad(noun, 12, false)+" ", text)
		}
	}
	fmt.Fprint(out, `
More: victualler help NOUN, victualler help NOUN VERB
Accounts are named by sign-in name, domain or number; flags go before or after
arguments. With -o json and -o csv, programs can read what is printed.
Exit codes: 0 done, 1 failed, 2 wrong use, 3 refused by a limit or a right,
4 unreachable, 130 interrupted.
`)
}

// printIndented prints text behind a label, wrapped.
func printIndented(out io.Writer, label, text string) {
	for n, line := range wrapWords(text, helpColumns-displayWidth(label)) {
		if n > 0 {
			label = strings.Repeat(" ", displayWidth(label))
		}
		fmt.Fprintln(out, strings.TrimRight(label+line, " "))
	}
}

// printHelp prints how a command is used, or all commands of a noun.
func printHelp(out io.Writer, c command) {
	if c.run == nil {
		for _, one := range allCommands() {
			if one.noun == c.noun && !one.hidden {
				fmt.Fprintln(out, strings.TrimSpace("victualler "+strings.TrimSpace(one.name())+" "+one.args))
				printIndented(out, "    ", one.short+".")
			}
		}
		fmt.Fprintf(out, "\nMore on one: victualler help %s VERB\n", c.noun)
		return
	}
	printIndented(out, "", c.usage())
	fmt.Fprintln(out)
	printIndented(out, "", c.short+".")
	if c.long != "" {
		printIndented(out, "", c.long)
	}
	flags := c.allFlags()
	if len(flags) == 0 {
		return
	}
	fmt.Fprintln(out)
	for _, f := range flags {
		label := "  " + strings.TrimSpace(dashed(f.name)+" "+f.value)
		if displayWidth(label) > 26 {
			fmt.Fprintln(out, label)
			label = ""
		}
		usage := f.usage
		if f.required {
			usage += "; needed"
		}
		printIndented(out, pad(label, 28, false), usage)
	}
}
