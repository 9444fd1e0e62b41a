package main

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
)

// certificateOf is the path of the certificate of the site that is named.
func certificateOf(ctx context.Context, c *call) (string, error) {
	path, err := c.domainPath(ctx)
	return path + "/certificate", err
}

var (
	certificateStates = []string{"self-signed", "ordered", "valid", "failing", "expired", "uploaded"}
	keyTypes          = []string{"ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", "rsa-4096"}
	yesOrNo           = []string{"yes", "no"}
)

func certificateCommands() []command {
	return []command{
		{noun: "certificate", verb: "list",
			short: "List all sites with their certificates, those with the fewest days left first", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the domain"},
				{name: "account", value: "ACCOUNT", usage: "only those of one account"},
				{name: "authority", value: "NAME", usage: "only those of one authority"},
				{name: "days", value: "N", usage: "only those that end within N days"},
				{name: "state", value: "STATE", usage: "only those that are " + orList(certificateStates),
					values: certificateStates}},
			run: listCertificates},
		{noun: "certificate", verb: "show", args: "DOMAIN", short: "Show how a site stands with its certificate",
			flags: []flagInfo{inAccountFlag}, run: showCertificate},
		{noun: "certificate", verb: "rehearse", args: "DOMAIN",
			short: "Say of each name what an authority would do, and ask none", flags: []flagInfo{inAccountFlag},
			long: "Looks at addresses, CAA records, signatures and the path of the challenge, as an authority would, " +
				"and says what to do about what would fail. Exit code 1 if a name would fail.",
			run: rehearse},
		{noun: "certificate", verb: "order", args: "DOMAIN",
			short: "Order a certificate now, for the names that would pass", preview: true, waits: true,
			long: "With --by-hand, the records that prove the names are shown, and the order goes on when somebody " +
				"has entered them where the zone is: see certificate show.",
			flags: []flagInfo{inAccountFlag, {name: "leave-out",
				usage: "leave out names that would fail; they are added when they pass"},
				{name: "by-hand", usage: "enter the records that prove the names yourself"}},
			run: func(ctx context.Context, c *call) error {
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				return c.work(ctx, http.MethodPost, path+"/order", api.CertificateOrder{LeaveOut: c.on("leave-out"),
					ByHand: c.on("by-hand")})
			}},
		{noun: "certificate", verb: "cancel", args: "DOMAIN", short: "Cancel the order that is on its way",
			preview: true, flags: []flagInfo{inAccountFlag},
			run: func(ctx context.Context, c *call) error {
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				previewed, err := c.change(ctx, http.MethodDelete, path+"/order", nil, nil)
				if err == nil && !previewed {
					c.say("the order for %s is cancelled", c.args[0])
				}
				return err
			}},
		{noun: "certificate", verb: "change", args: "DOMAIN", short: "Change how a site comes by its certificate",
			preview: true,
			flags: []flagInfo{inAccountFlag, {name: "mode", value: "automatic|self-signed",
				usage:  "order it automatically, or do without an authority's",
				values: []string{"automatic", "self-signed"}},
				{name: "names", value: "NAMES", usage: "the names it is for, with commas: the domain, www. or *. " +
					"before it; “all” takes those that would pass"},
				{name: "key-type", value: "TYPE", usage: orList(keyTypes) + "; counts from the next certificate on",
					values: keyTypes},
				{name: "pin-key", value: "yes|no", values: yesOrNo,
					usage: "keep the key at each renewal, for those who have published it"},
				{name: "authority", value: "NAME", usage: "who is asked; “usual” is the usual one"}},
			run: changeCertificate},
	}
}

func listCertificates(ctx context.Context, c *call) error {
	filters := []string{"search", "account", "authority", "days", "state"}
	all, more, err := collect(ctx, c, "/certificates", c.filters(filters...),
		func(p api.CertificatePage) ([]api.CertificateLine, string) { return p.Certificates, p.Next })
	if err != nil {
		return err
	}
	return printList(c, all, more, c.filtered("no sites", filters...), []column[api.CertificateLine]{
		col("LEFT", 0, func(l api.CertificateLine) any { return left(l) }),
		col("STATE", 0, func(l api.CertificateLine) any { return l.State }),
		col("DOMAIN", 0, func(l api.CertificateLine) any { return l.Unicode }),
		col("ACCOUNT", 2, func(l api.CertificateLine) any { return l.Account }),
		col("AUTHORITY", 3, func(l api.CertificateLine) any { return l.Authority }),
		col("ENDS", 4, func(l api.CertificateLine) any { return timeOf(l.NotAfter) }),
		col("NAMES", 1, func(l api.CertificateLine) any { return l.Names }),
		col("PROBLEM", 0, func(l api.CertificateLine) any { return l.Problem }),
	})
}

// left is how long a certificate lasts still: in days, and on its last day more exactly.
func left(l api.CertificateLine) string {
	if l.NotAfter == nil {
		return ""
	}
	switch rest := time.Until(*l.NotAfter); {
	case rest >= 24*time.Hour:
		return strconv.Itoa(int(rest.Hours()/24)) + " d"
	case rest >= time.Hour:
		return strconv.Itoa(int(rest.Hours())) + " h"
	default:
		return strconv.Itoa(max(0, int(rest.Minutes()))) + " min"
	}
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}

func showCertificate(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	var s api.SiteCertificate
	if err := c.client.Get(ctx, path, nil, &s); err != nil {
		return err
	}
	return c.show(s, pairs("domain", s.Domain, "state", s.State, "mode", s.Mode, "names", s.Names, "covers", s.Covered,
		"issuer", s.Issuer, "serial", s.Serial, "from", timeOf(s.NotBefore), "until", timeOf(s.NotAfter), "problem",
		s.Problem), func() error {
		c.printCertificate(s)
		return nil
	})
}

func (c *call) printCertificate(s api.SiteCertificate) {
	failing := ""
	if s.Failures > 0 {
		failing = fmt.Sprintf("%s, %s", moment(s.FailingSince), times(s.Failures))
	}
	c.fields("domain", s.Domain, "state", s.State, "comes", s.Mode, "names", s.Names, "covers",
		s.Covered, "key", s.KeyType+map[bool]string{true: ", kept at renewals"}[s.PinKey],
		"ordered at", s.Authority+map[bool]string{true: ", on the last day of this one"}[s.Mode == "uploaded" &&
			s.Authority != ""], "issuer", s.Issuer,
		"serial", s.Serial, "good from", moment(s.NotBefore), "until", moment(s.NotAfter), "renewed at",
		moment(s.RenewAt), "next look at", moment(s.NextTry), "failing since", failing, "reason", s.Problem)
	for _, l := range s.LeftOut {
		fmt.Fprintln(c.out)
		c.paragraph("", l.Name+" is left out: "+l.Reason)
		c.paragraph("  → ", l.Do)
	}
	if len(s.Aliases) > 0 {
		fmt.Fprint(c.out, "\nDNS is hosted elsewhere. Entered there once, this proves the names for good:\n")
	}
	for _, a := range s.Aliases {
		fmt.Fprintf(c.out, "  %s. CNAME %s.\n", a.Name, a.Target)
	}
	if len(s.Records) > 0 {
		fmt.Fprintf(c.out, "\nOrder %d waits for these records; it goes on when all name servers show them:\n",
			s.Operation)
		for _, r := range s.Records {
			shown := "shown"
			if !r.Visible {
				shown = "not shown by " + strings.Join(r.Missing, ", ")
				if r.CheckedAt == nil {
					shown = "not looked for yet"
				}
			}
			fmt.Fprintf(c.out, "  %s. TXT \"%s\"   %s\n", r.Name, r.Data, shown)
		}
	}
	if len(s.Requests) > 0 {
		fmt.Fprintln(c.out)
		g := rows("REQUEST|NAMES|KEY|SUBJECT|WAITS SINCE")
		for _, r := range s.Requests {
			g.add(r.ID, r.Names, r.KeyType, r.Subject, r.CreatedAt)
		}
		c.table(g)
	}
	if len(s.Earlier) > 0 {
		fmt.Fprintln(c.out)
		g := rows("EARLIER|STATE|ISSUER|FROM|UNTIL")
		for _, e := range s.Earlier {
			g.add(e.Serial, e.State, e.Issuer, e.NotBefore, e.NotAfter)
		}
		c.table(g)
	}
}

// ways are how names are proved, in words.
var ways = map[string]string{"http": "over HTTP", "zone": "in its zone here",
	"alias": "through our zone for challenges", "hand": "by hand"}

func rehearse(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	var r api.Rehearsal
	if err := c.client.Post(ctx, path+"/rehearsal", api.RehearsalQuestion{}, &r); err != nil {
		return err
	}
	g := rows("NAME|RESULT|WAY|REASON|WHAT TO DO")
	failing := 0
	for _, n := range r.Names {
		g.add(n.Name, n.Result, n.Proof, n.Reason, n.Fix)
		if n.Result == "would fail" {
			failing++
		}
	}
	err = c.show(r, g, func() error {
		longest := 0
		for _, n := range r.Names {
			longest = max(longest, displayWidth(n.Name))
		}
		for _, n := range r.Names {
			fmt.Fprintln(c.out, strings.TrimRight(pad(n.Name, longest, false)+"  "+n.Result+"  "+ways[n.Proof], " "))
			if n.Reason != "" {
				c.paragraph("  ", n.Reason)
				c.paragraph("  → ", n.Fix)
			}
		}
		return nil
	})
	if err == nil && failing > 0 {
		return fmt.Errorf("%d of %d names would fail", failing, len(r.Names))
	}
	return err
}

func changeCertificate(ctx context.Context, c *call) error {
	body := api.CertificateChange{Mode: c.value("mode"), KeyType: c.given("key-type"), Authority: c.given("authority")}
	if names := c.value("names"); names != "" {
		list := []string{}
		if names != "all" {
			list = strings.Split(names, ",")
		}
		body.Names = &list
	}
	if body.Authority != nil && *body.Authority == "usual" {
		*body.Authority = ""
	}
	body.PinKey = c.yesNo("pin-key")
	if body.Mode == "" && body.Names == nil && body.KeyType == nil && body.Authority == nil && body.PinKey == nil {
		return usageError{"say what is to change; see victualler certificate change --help"}
	}
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	var changed api.CertificateChanged
	previewed, err := c.change(ctx, http.MethodPatch, path, body, &changed)
	if err != nil || previewed {
		return err
	}
	s := changed.Certificate
	c.say("%s: %s, for %s", s.Domain, s.Mode, strings.Join(s.Names, ", "))
	return nil
}

func times(n int) string {
	if n == 1 {
		return "tried once"
	}
	return fmt.Sprintf("tried %d times", n)
}
