package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
)

func completionCommands() []command {
	return []command{
		{noun: "completion", verb: "bash", short: "Print completion for bash", stranger: true,
			long: "Use it with: source <(victualler completion bash)",
			run: func(_ context.Context, c *call) error {
				printCompletion(c.out)
				return nil
			}},
	}
}

func sorted() []command {
	all := slices.Clone(allCommands())
	slices.SortStableFunc(all, func(a, b command) int { return strings.Compare(a.noun, b.noun) })
	return all
}

// printHelp prints all commands, or those of one noun.
func printHelp(out io.Writer, args []string) {
	only := ""
	if len(args) > 1 {
		only = args[1]
	}
	if only == "" {
		fmt.Fprint(out, "victualler NOUN VERB [ARG…] [flags]\n\n")
	}
	for _, c := range sorted() {
		if only == "" || c.noun == only {
			fmt.Fprintf(out, "  %-28s %s\n", strings.TrimSpace(c.noun+" "+c.verb+" "+c.args), c.short)
		}
	}
	fmt.Fprint(out, `
Accounts are named by sign-in name, domain or number; flags go before or after arguments.
More on one: victualler NOUN VERB --help
Exit codes: 0 done, 1 failed, 2 wrong use, 3 refused by a limit or a right, 4 unreachable.
`)
}

func printCommandHelp(out io.Writer, c command) {
	fmt.Fprintf(out, "%s\n\n%s.\n", c.usage(), c.short)
	if c.long != "" {
		fmt.Fprintln(out, c.long)
	}
	if flags := c.allFlags(); len(flags) > 0 {
		fmt.Fprintln(out)
		for _, f := range flags {
			dashes := "--"
			if len(f.name) == 1 {
				dashes = "-"
			}
			fmt.Fprintf(out, "  %-28s %s\n", strings.TrimSpace(dashes+f.name+" "+f.value), f.usage)
		}
	}
}

// printCompletion makes a completion function of the table of commands.
func printCompletion(out io.Writer) {
	verbs := map[string][]string{}
	var nouns []string
	for _, c := range sorted() {
		if verbs[c.noun] == nil {
			nouns = append(nouns, c.noun)
		}
		verbs[c.noun] = append(verbs[c.noun], c.verb)
	}
	fmt.Fprintf(out, "_victualler() {\n\tlocal word=${COMP_WORDS[COMP_CWORD]} list=\n\tcase $COMP_CWORD in\n\t1) "+
		"list=%q ;;\n\t2) case ${COMP_WORDS[1]} in\n", strings.Join(nouns, " "))
	for _, noun := range nouns {
		fmt.Fprintf(out, "\t\t%s) list=%q ;;\n", noun, strings.Join(verbs[noun], " "))
	}
	fmt.Fprint(out, "\t\tesac ;;\n\t*) case \"${COMP_WORDS[1]} ${COMP_WORDS[2]}\" in\n")
	for _, c := range sorted() {
		var flags []string
		for _, f := range c.allFlags() {
			if len(f.name) > 1 {
				flags = append(flags, "--"+f.name)
			} else {
				flags = append(flags, "-"+f.name)
			}
		}
		if len(flags) > 0 {
			fmt.Fprintf(out, "\t\t%q) list=%q ;;\n", c.noun+" "+c.verb, strings.Join(flags, " "))
		}
	}
	fmt.Fprint(out, "\t\tesac ;;\n\tesac\n\tCOMPREPLY=($(compgen -W \"$list\" -- \"$word\"))\n}\ncomplete -F "+
		"_victualler victualler\n")
}
