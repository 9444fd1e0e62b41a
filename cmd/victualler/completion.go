package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/refusal"
)

// The shells ask the program itself what could stand at a place, so that names are completed too.
const (
	bashCompletion = `_victualler() {
	local IFS=$'\n'
	COMPREPLY=($("${COMP_WORDS[0]}" completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _victualler victualler
`
	zshCompletion = `#compdef victualler
_victualler() {
	local -a found
	found=("${(@f)$(${words[1]} completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
	found=(${found:#})
	(( ${#found} )) && compadd -Q -- "${found[@]}" || _files
}
compdef _victualler victualler
`
	fishCompletion = `function __victualler_words
	set -l words (commandline -opc) (commandline -ct)
	$words[1] completion words -- $words[2..-1] 2>/dev/null
end
complete -c victualler -f -a '(__victualler_words)'
`
)

func printCompletion(script string) func(context.Context, *call) error {
	return func(_ context.Context, c *call) error {
		fmt.Fprint(c.out, script)
		return nil
	}
}

// patience is how long a shell waits for names.
const patience = 2 * time.Second

// completeWords prints what could stand for the last of the words, one on a line.
func completeWords(ctx context.Context, c *call) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	last := ""
	if len(c.args) > 0 {
		last = c.args[len(c.args)-1]
	}
	for _, word := range c.candidates(ctx) {
		if strings.HasPrefix(word, last) {
			fmt.Fprintln(c.out, word)
		}
	}
	return nil
}

// firstWords is the first word of each, once.
func firstWords(list []string) []string {
	var words []string
	for _, text := range list {
		word, _, _ := strings.Cut(text, " ")
		if !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	return words
}

// candidates are all words that could stand for the last one.
func (c *call) candidates(ctx context.Context) []string {
	words := c.args
	switch len(words) {
	case 0, 1:
		return allNouns()
	case 2:
		if verbs := verbsOf(singular(words[0])); !slices.Equal(verbs, []string{""}) {
			return firstWords(verbs)
		}
	case 3:
		var of []string
		for _, verb := range verbsOf(singular(words[0])) {
			if rest, is := strings.CutPrefix(verb, strings.TrimSuffix(words[1], "s")+" "); is {
				of = append(of, rest)
			}
		}
		if len(of) > 0 {
			return of
		}
	}
	command, rest, err := find(words)
	if err != nil || len(rest) == 0 {
		return nil
	}
	last, before := rest[len(rest)-1], rest[:len(rest)-1]
	flags := command.allFlags()
	if strings.HasPrefix(last, "-") {
		var names []string
		for _, f := range flags {
			names = append(names, dashed(f.name))
		}
		return names
	}
	position := 0
	for n := 0; n < len(before); n++ {
		name, is := strings.CutPrefix(before[n], "-")
		if !is {
			position++
			continue
		}
		at := slices.IndexFunc(flags, func(f flagInfo) bool { return f.name == strings.TrimPrefix(name, "-") })
		if at < 0 || flags[at].value == "" {
			continue
		}
		if n++; n == len(before) { // the last word is the value
			if len(flags[at].values) > 0 {
				return flags[at].values
			}
			return c.namesOf(ctx, flags[at].value, flags[at].name)
		}
	}
	args := strings.Fields(command.args)
	if len(args) == 0 {
		return nil
	}
	arg := args[min(position, len(args)-1)]
	if position >= len(args) && !strings.HasSuffix(arg, "…") {
		return nil
	}
	return c.namesOf(ctx, strings.Trim(arg, "[]…"), "")
}

// namesOf asks the service for the names that an argument or a flag takes; it has none for those
// that are new, or that are no names.
func (c *call) namesOf(ctx context.Context, what, flag string) []string {
	if c.session.Token == "" {
		return nil
	}
	switch {
	case flag == "reseller" || what == "RESELLER":
		return namesIn(ctx, c, "/resellers", func(p api.ResellerPage) []api.Reseller { return p.Resellers },
			func(r api.Reseller) string { return r.Name })
	case what == "ACCOUNT":
		return namesIn(ctx, c, "/accounts", func(p api.AccountPage) []api.Account { return p.Accounts },
			func(a api.Account) string { return a.SignInName })
	case what == "DOMAIN":
		return namesIn(ctx, c, "/domains", func(p api.DomainPage) []api.DomainLine { return p.Domains },
			func(d api.DomainLine) string { return d.Unicode })
	case what == "ZONE":
		return namesIn(ctx, c, "/zones", func(p api.ZonePage) []api.Zone { return p.Zones },
			func(z api.Zone) string { return z.Unicode })
	case what == "PLAN":
		return namesIn(ctx, c, "/plans", func(p api.PlanPage) []api.Plan { return p.Plans }, planName)
	case what == "CUSTOMER" || flag == "customer":
		return namesIn(ctx, c, "/customers", func(p api.CustomerPage) []api.Customer { return p.Customers },
			func(x api.Customer) string { return x.Name })
	case what == "LABEL" || what == "SERVER":
		return namesIn(ctx, c, "/servers", func(l api.ServerList) []api.Server { return l.Servers },
			func(s api.Server) string { return s.Label })
	case what == "TEMPLATE" || flag == "template":
		return namesIn(ctx, c, "/templates", func(l api.TemplateList) []api.Template { return l.Templates },
			func(t api.Template) string { return qualified(t.Reseller, t.Name) })
	case what == "PERSON":
		return namesIn(ctx, c, "/people", func(p api.PersonPage) []api.Person { return p.People },
			func(p api.Person) string { return p.Name })
	case what == "AUTHORITY" || flag == "authority":
		return namesIn(ctx, c, "/authorities", func(l api.AuthorityList) []api.Authority { return l.Authorities },
			func(a api.Authority) string { return a.Name })
	}
	return nil
}

// hint names what may have been meant by a name that is not there, as the end of the sentence that
// says so.
func (c *call) hint(ctx context.Context, err error) string {
	var problem *api.Problem
	if c == nil || c.client == nil || !errors.As(err, &problem) || kindOf(problem) != refusal.NotFound {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ask := func(typed, what, flag string) string {
		if typed == "" || !strings.Contains(problem.Detail, strconv.Quote(typed)) {
			return ""
		}
		return nearest.Hint(typed, c.namesOf(ctx, what, flag))
	}
	wanted := strings.Fields(c.command.args)
	for n, typed := range c.args {
		if len(wanted) == 0 {
			break
		}
		if hint := ask(typed, strings.Trim(wanted[min(n, len(wanted)-1)], "[]…"), ""); hint != "" {
			return hint
		}
	}
	for _, f := range c.allFlags() {
		if f.value == "" {
			continue
		}
		if hint := ask(c.value(f.name), f.value, f.name); hint != "" {
			return hint
		}
	}
	return ""
}

// namesIn reads the first page of a list. Shells are not told of errors.
func namesIn[P, R any](ctx context.Context, c *call, path string, page func(P) []R, name func(R) string) []string {
	var p P
	if c.client.Get(ctx, path, url.Values{"limit": {"500"}}, &p) != nil &&
		c.client.Get(ctx, path, nil, &p) != nil { // not all lists have pages
		return nil
	}
	var names []string
	for _, r := range page(p) {
		names = append(names, name(r))
	}
	return names
}
