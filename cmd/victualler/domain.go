package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
)

func accountDomains(c *call) string { return "/accounts/" + url.PathEscape(c.args[0]) + "/domains" }
func domainPath(c *call) string     { return accountDomains(c) + "/" + url.PathEscape(c.args[1]) }

// servingFlags are the flags by which it is told how a domain is served.
var servingFlags = []flagInfo{{name: "as", value: "KIND", usage: "site, mirror, redirect or dns-only"},
	{name: "root", value: "PATH",
		usage: "document root of a site, below the home, such as sites/ferries.example/public"},
	{name: "mirror-of", value: "DOMAIN", usage: "the site of the account whose content a mirror shows"},
	{name: "target", value: "ADDRESS", usage: "where a redirect leads"},
	{name: "code", value: "STATUS", usage: "of a redirect: 301 or 308 for good, 302 or 307 for now"},
	{name: "keep-path", value: "yes|no", usage: "whether a redirect appends the path"},
	{name: "keep-query", value: "yes|no", usage: "whether a redirect appends what follows the question mark"}}

func (c *call) serving() (api.Serving, error) {
	s := api.Serving{ServedAs: c.value("as"), Root: c.value("root"), MirrorOf: c.value("mirror-of"),
		Target: c.value("target")}
	if s.ServedAs == "" {
		// What only one kind has tells the kind.
		switch {
		case s.MirrorOf != "":
			s.ServedAs = "mirror"
		case s.Target != "":
			s.ServedAs = "redirect"
		}
	}
	if code := c.value("code"); code != "" {
		n, err := strconv.Atoi(code)
		if err != nil {
			return s, usageError{"--code takes 301, 302, 307 or 308"}
		}
		s.Code = n
	}
	for name, to := range map[string]**bool{"keep-path": &s.KeepPath, "keep-query": &s.KeepQuery} {
		switch c.value(name) {
		case "":
		case "yes", "no":
			keep := c.value(name) == "yes"
			*to = &keep
		default:
			return s, usageError{"--" + name + " takes yes or no"}
		}
	}
	return s, nil
}

// domainChanged tells what was put right and watches the work.
func (c *call) domainChanged(ctx context.Context, done api.DomainChanged, doing string) error {
	for _, text := range done.Corrections {
		fmt.Fprintln(c.out, "note:", text)
	}
	fmt.Fprintf(c.out, "%s %s: %s\n", doing, done.Domain.Unicode, servedAs(done.Domain))
	if p := done.Domain.Proof; p != nil {
		fmt.Fprintf(c.out, "it is %s; set this record, DNS is asked again by itself:\n  %s. TXT \"%s\"\n",
			proofState(p),
			p.Record, p.Text)
	}
	return c.startedIf(ctx, done.Operation)
}

// proofState says in a few words what a domain is that is not proved.
func proofState(p *api.DomainProof) string {
	if p.Waiting {
		return "not served until DNS shows whose it is"
	}
	return "served, and nothing shows yet whose it is"
}

// servedAs says in a few words how a domain is served.
func servedAs(d api.Domain) string {
	if d.Proof != nil && d.Proof.Waiting {
		d.Proof = nil
		return "waiting for its proof; then " + servedAs(d)
	}
	switch d.ServedAs {
	case "site":
		return "site in " + d.Root
	case "mirror":
		return "mirror of " + d.MirrorOf
	case "redirect":
		text := fmt.Sprintf("redirect %d to %s", d.Code, d.Target)
		switch {
		case d.KeepPath && d.KeepQuery:
			return text + ", with path and query"
		case d.KeepPath:
			return text + ", with the path"
		case d.KeepQuery:
			return text + ", with the query"
		}
		return text
	}
	return d.ServedAs
}

func domainCommands() []command {
	return []command{
		{noun: "domain", verb: "add", args: "ACCOUNT DOMAIN", short: "Add a domain to an account", preview: true,
			waits: true, flags: servingFlags,
			long: "Served as a site of its own unless said otherwise. A name below one of the account's domains " +
				"counts as a subdomain, a mirror as a mirror.",
			run: func(ctx context.Context, c *call) error {
				serving, err := c.serving()
				if err != nil {
					return err
				}
				var added api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPost, accountDomains(c), api.NewDomain{Domain: c.args[1],
					Serving: serving}, &added)
				if err != nil || previewed {
					return err
				}
				fmt.Fprintf(c.out, "counts as one of the %s\n", added.Domain.CountsAs)
				return c.domainChanged(ctx, added, "adding")
			}},
		{noun: "domain", verb: "list", args: "ACCOUNT", short: "List the domains of an account", output: true,
			run: func(ctx context.Context, c *call) error {
				var a api.AccountDetail
				if err := c.client.Get(ctx, "/accounts/"+url.PathEscape(c.args[0]), nil, &a); err != nil {
					return err
				}
				t := table{{"DOMAIN", "COUNTS AS", "SERVED AS", "TEMPLATE", "OWN SETTINGS"}}
				for _, d := range a.Domains {
					t = append(t, []string{d.Unicode, d.CountsAs, servedAs(d), d.Template, strconv.Itoa(d.Own)})
				}
				return c.print(a.Domains, t)
			}},
		{noun: "domain", verb: "show", args: "ACCOUNT DOMAIN", short: "Show a domain", output: true,
			run: func(ctx context.Context, c *call) error {
				var d api.DomainDetail
				if err := c.client.Get(ctx, domainPath(c), nil, &d); err != nil {
					return err
				}
				other := d.Name
				if other == d.Unicode {
					other = ""
				}
				t := table{{"WHAT", "VALUE"}, {"domain", d.Unicode}, {"in DNS", other},
					{"account", d.Account}, {"served as", servedAs(d.Domain)}, {"counts as", d.CountsAs},
					{"addresses", strings.Join(d.Addresses, " ")}, {"mirrors", strings.Join(d.Mirrors, " ")},
					{"template", d.Template}}
				if p := d.Proof; p != nil {
					t = append(t, []string{"proof", proofState(p)}, []string{"record to set",
						fmt.Sprintf("%s. TXT \"%s\"", p.Record, p.Text)}, []string{"asked last", when(p.AskedAt)},
						[]string{"missing then", p.Failed})
				}
				if d.Root != "" {
					t = append(t, []string{"document root", d.Home + "/" + d.Root})
				}
				for _, f := range d.Protected {
					t = append(t, []string{"protected", "/" + f.Path + " for " + strings.Join(f.Users, ", ")})
				}
				if err := c.print(d, withoutEmpty(t)); err != nil || c.format() != "" {
					return err
				}
				printWarnings(c.out, d.Warnings)
				return nil
			}},
		{noun: "domain", verb: "prove", args: "ACCOUNT DOMAIN", short: "Ask DNS now whether a domain is its account's",
			preview: true, waits: true, flags: []flagInfo{{name: "vouch", usage: "an operator's word for it, without " +
				"DNS"}},
			long: "What has to be set is in “victualler domain show”. DNS is asked by itself, too.",
			run: func(ctx context.Context, c *call) error {
				var done api.DomainChanged
				previewed,
					err := c.change(ctx, http.MethodPost, domainPath(c)+"/proof",
					api.ProofRequest{Vouch: c.on("vouch")},
					&done)
				if err != nil || previewed {
					return err
				}
				return c.domainChanged(ctx, done, "proved")
			}},
		{noun: "domain", verb: "change", args: "ACCOUNT DOMAIN", short: "Change how a domain is served", preview: true,
			waits: true,
			long: "What is not named stays. With a new document root, files stay where they are unless --move-files " +
				"is said.",
			flags: append([]flagInfo{{name: "move-files", usage: "have the files moved to the new document root"},
				{name: "template", value: "NAME", usage: "a template to follow; - for none"}},
				servingFlags...),
			run: func(ctx context.Context, c *call) error {
				serving, err := c.serving()
				if err != nil {
					return err
				}
				body := api.DomainChange{Serving: serving, MoveFiles: c.on("move-files"), Template: c.given("template")}
				if body.Serving == (api.Serving{}) && !body.MoveFiles && body.Template == nil {
					return usageError{"say what is to change; see victualler domain change --help"}
				}
				var done api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPatch, domainPath(c), body, &done)
				if err != nil || previewed {
					return err
				}
				return c.domainChanged(ctx, done, "changing")
			}},
		{noun: "domain", verb: "remove", args: "ACCOUNT DOMAIN", short: "Take a domain from an account; its files stay",
			preview: true, waits: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if !c.on("preview") {
					if err := c.confirm("Take " + c.args[1] + " from " + c.args[0] + "? Its files stay."); err != nil {
						return err
					}
				}
				return c.work(ctx, http.MethodDelete, domainPath(c), nil)
			}},
		{noun: "domain", verb: "trace", args: "NAME", short: "Tell which server and site answer for a name, and why",
			output: true,
			long: "Asks the records, the server itself, and public DNS. Exits with 1 if visitors do " +
				"not get what is meant to be served.",
			run: func(ctx context.Context, c *call) error {
				var t api.Trace
				if err := c.client.Get(ctx, "/trace", url.Values{"name": {c.args[0]}}, &t); err != nil {
					return err
				}
				if err := c.printTrace(t); err != nil {
					return err
				}
				if !t.Right {
					return fmt.Errorf("visitors of %s do not get what is meant to be served; see the verdict",
						t.Unicode)
				}
				return nil
			}},
	}
}

func (c *call) printTrace(t api.Trace) error {
	rows := table{{"WHAT", "VALUE"}, {"name", t.Unicode}, {"rule", t.Rule}, {"server", t.Server},
		{"its addresses", strings.Join(t.Ours, " ")}}
	for _, a := range t.Asked {
		text := a.Failed
		if text == "" {
			text = strings.TrimSpace(fmt.Sprintf("%d %s", a.Status, a.Location))
		}
		rows = append(rows, []string{a.URL, text})
	}
	for _, w := range t.PublicDNS {
		text := w.Address
		switch {
		case w.Right:
			text += ", as it should be"
		case w.Server != "":
			text += ", which is " + w.Server
		default:
			text += ", which is not ours"
		}
		rows = append(rows, []string{"public DNS gives", text})
	}
	return c.print(t, withoutEmpty(append(rows, []string{"public DNS", t.Failed}, []string{"verdict", t.Verdict})))
}

// withoutEmpty leaves out rows without a value.
func withoutEmpty(t table) table {
	kept := t[:1:1]
	for _, row := range t[1:] {
		if row[1] != "" {
			kept = append(kept, row)
		}
	}
	return kept
}
