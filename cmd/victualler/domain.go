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

// inAccountFlag tells apart the accounts that have a name, of which one can wait in several for the
// proof whose it is.
var inAccountFlag = flagInfo{name: "account", value: "ACCOUNT", usage: "the account, if several have the domain"}

// domainPath is the path of the domain that the first argument names.
func (c *call) domainPath(ctx context.Context) (string, error) {
	account, err := c.accountWith(ctx, c.args[0])
	return accountPath(account) + "/domains/" + url.PathEscape(c.args[0]), err
}

// accountWith is the account that has a domain: the one that was named, or the only one.
func (c *call) accountWith(ctx context.Context, domain string) (string, error) {
	if account := c.value("account"); account != "" {
		return account, nil
	}
	var page api.DomainPage
	if err := c.client.Get(ctx, "/domains", url.Values{"domain": {domain}}, &page); err != nil {
		return "", err
	}
	switch len(page.Domains) {
	case 0:
		return "", fmt.Errorf("there is no domain %s here; “victualler domain list” lists them", domain)
	case 1:
		return strconv.FormatInt(page.Domains[0].AccountID, 10), nil
	}
	var accounts []string
	for _, d := range page.Domains {
		accounts = append(accounts, d.Account)
	}
	return "", usageError{fmt.Sprintf("%s is in several accounts; add --account %s", domain, orList(accounts))}
}

// domainDetail is everything about the domain that the first argument names, and its path.
func (c *call) domainDetail(ctx context.Context) (path string, d api.DomainDetail, err error) {
	if path, err = c.domainPath(ctx); err == nil {
		err = c.client.Get(ctx, path, nil, &d)
	}
	return path, d, err
}

// servingFlags are the flags by which it is told how a domain is served.
var servingFlags = []flagInfo{{name: "as", value: "KIND", usage: orList(kindsOfServing), values: kindsOfServing},
	{name: "root", value: "PATH",
		usage: "document root of a site, below the home, such as sites/ferries.example/public"},
	{name: "mirror-of", value: "DOMAIN", usage: "the site of the account whose content a mirror shows"},
	{name: "target", value: "ADDRESS", usage: "where a redirect leads"},
	{name: "code", value: "STATUS", values: redirectCodes,
		usage: "of a redirect: 301 or 308 for good, 302 or 307 for now"},
	{name: "keep-path", value: "yes|no", values: yesOrNo, usage: "whether a redirect appends the path"},
	{name: "keep-query", value: "yes|no", values: yesOrNo,
		usage: "whether a redirect appends what follows the question mark"}}

var (
	kindsOfServing = []string{"site", "mirror", "redirect", "dns-only"}
	redirectCodes  = []string{"301", "302", "307", "308"}
)

// serving is what the flags say about how a domain is served.
func (c *call) serving() api.Serving {
	s := api.Serving{ServedAs: c.value("as"), Root: c.value("root"), MirrorOf: c.value("mirror-of"),
		Target: c.value("target"), KeepPath: c.yesNo("keep-path"), KeepQuery: c.yesNo("keep-query")}
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
		s.Code, _ = strconv.Atoi(code) // one of redirectCodes
	}
	return s
}

// domainChanged tells what was put right and watches the work.
func (c *call) domainChanged(ctx context.Context, done api.DomainChanged, doing string) error {
	c.say("%s %s: %s", doing, done.Domain.Unicode, servedAs(done.Domain))
	if p := done.Domain.Proof; p != nil {
		c.say("it is %s; set this record, DNS is asked again automatically:\n  %s. TXT \"%s\"", proofState(p),
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
				var added api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPost, accountPath(c.args[0])+"/domains",
					api.NewDomain{Domain: c.args[1], Serving: c.serving()}, &added)
				if err != nil || previewed {
					return err
				}
				c.say("counts as one of the %s", added.Domain.CountsAs)
				return c.domainChanged(ctx, added, "adding")
			}},
		{noun: "domain", verb: "list", args: "[ACCOUNT]", short: "List domains, all or those of one account",
			list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name"},
				{name: "as", value: "KIND", usage: "only those served as " + orList(kindsOfServing),
					values: kindsOfServing},
				{name: "waiting", usage: "only those that wait for the proof whose they are"}},
			run: listDomains},
		{noun: "domain", verb: "show", args: "DOMAIN", short: "Show a domain", flags: []flagInfo{inAccountFlag},
			run: showDomain},
		{noun: "domain", verb: "prove", args: "DOMAIN", short: "Ask DNS now whether a domain is its account's",
			preview: true, waits: true, flags: []flagInfo{inAccountFlag, {name: "vouch",
				usage: "an operator's word for it, without DNS"}},
			long: "What has to be set is in “victualler domain show”. DNS is asked automatically, too.",
			run: func(ctx context.Context, c *call) error {
				path, err := c.domainPath(ctx)
				if err != nil {
					return err
				}
				var done api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPost, path+"/proof", api.ProofRequest{Vouch: c.on("vouch")},
					&done)
				if err != nil || previewed {
					return err
				}
				return c.domainChanged(ctx, done, "proved")
			}},
		{noun: "domain", verb: "change", args: "DOMAIN", short: "Change how a domain is served", preview: true,
			waits: true,
			long: "What is not named stays. With a new document root, files stay where they are unless --move-files " +
				"is said.",
			flags: append([]flagInfo{inAccountFlag, {name: "move-files",
				usage: "have the files moved to the new document root"},
				{name: "template", value: "NAME", usage: "a template to follow; - for none"}},
				servingFlags...),
			run: func(ctx context.Context, c *call) error {
				body := api.DomainChange{Serving: c.serving(), MoveFiles: c.on("move-files"),
					Template: c.given("template")}
				if body.Serving == (api.Serving{}) && !body.MoveFiles && body.Template == nil {
					return c.nothingToChange()
				}
				path, err := c.domainPath(ctx)
				if err != nil {
					return err
				}
				var done api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPatch, path, body, &done)
				if err != nil || previewed {
					return err
				}
				return c.domainChanged(ctx, done, "changing")
			}},
		{noun: "domain", verb: "remove", args: "DOMAIN", short: "Remove a domain from its account; its files stay",
			preview: true, waits: true, flags: []flagInfo{inAccountFlag, yesFlag},
			run: func(ctx context.Context, c *call) error {
				path, err := c.domainPath(ctx)
				if err != nil {
					return err
				}
				if err := c.confirm(ctx, "Remove "+c.args[0]+"? Its files stay."); err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, path, nil)
			}},
		{noun: "domain", verb: "trace", args: "NAME", short: "Tell which server and site answer for a name, and why",
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
	g := pairs("name", t.Unicode, "rule", t.Rule, "server", t.Server, "its addresses", t.Ours)
	for _, a := range t.Asked {
		text := a.Failed
		if text == "" {
			text = strings.TrimSpace(fmt.Sprintf("%d %s", a.Status, a.Location))
		}
		g.add(a.URL, text)
	}
	for _, w := range t.PublicDNS {
		text := w.Address
		switch {
		case w.Right:
			text += ", as it should be"
		case w.Server != "":
			text += ", which is " + w.Server
		case w.Ours:
			text += ", which is another server of ours"
		default:
			text += ", which is not ours"
		}
		g.add("public DNS gives", text)
	}
	for _, row := range pairs("public DNS", t.Failed, "verdict", t.Verdict).rows {
		g.add(row...)
	}
	return c.showFields(t, g)
}

func listDomains(ctx context.Context, c *call) error {
	query := c.filters("search")
	if kind := c.value("as"); kind != "" {
		query.Set("served_as", kind)
	}
	if c.on("waiting") {
		query.Set("waiting", "true")
	}
	if len(c.args) > 0 {
		query.Set("account", c.args[0])
	}
	all, more, err := collect(ctx, c, "/domains", query, func(p api.DomainPage) ([]api.DomainLine, string) {
		return p.Domains, p.Next
	})
	if err != nil {
		return err
	}
	return printList(c, all, more, c.filtered("no domains", "search", "as"), []column[api.DomainLine]{
		col("DOMAIN", 0, func(d api.DomainLine) any { return d.Unicode }),
		col("ACCOUNT", 0, func(d api.DomainLine) any { return d.Account }),
		col("SERVER", 3, func(d api.DomainLine) any { return d.Server }),
		col("COUNTS AS", 2, func(d api.DomainLine) any { return d.CountsAs }),
		col("TEMPLATE", 1, func(d api.DomainLine) any { return d.Template }),
		col("OWN SETTINGS", 4, func(d api.DomainLine) any { return d.Own }),
		col("SERVED AS", 0, func(d api.DomainLine) any { return servedAs(d.Domain) }),
	})
}

func showDomain(ctx context.Context, c *call) error {
	_, d, err := c.domainDetail(ctx)
	if err != nil {
		return err
	}
	other := d.Name
	if other == d.Unicode {
		other = ""
	}
	g := pairs("domain", d.Unicode, "in DNS", other, "account", d.Account, "served as", servedAs(d.Domain), "counts as",
		d.CountsAs, "addresses", d.Addresses, "mirrors", d.Mirrors, "template", d.Template)
	if p := d.Proof; p != nil {
		for _, row := range pairs("proof", proofState(p), "record to set", fmt.Sprintf("%s. TXT \"%s\"", p.Record,
			p.Text), "asked last", when(p.AskedAt), "missing then", p.Failed).rows {
			g.add(row...)
		}
	}
	if d.Root != "" {
		g.add("document root", d.Home+"/"+d.Root)
	}
	for _, f := range d.Protected {
		g.add("protected", "/"+f.Path+" for "+strings.Join(f.Users, ", "))
	}
	if err := c.showFields(d, g); err != nil || !c.forPeople() {
		return err
	}
	c.printWarnings(d.Warnings)
	return nil
}
