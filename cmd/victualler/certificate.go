package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"victualler/internal/api"
)

// certificateOf is the path of a site's certificate: of DOMAIN, in the account in which it is.
func certificateOf(ctx context.Context, c *call) (string, error) {
	account, err := accountOf(ctx, c, c.args[0])
	if err != nil {
		return "", err
	}
	return "/accounts/" + strconv.FormatInt(account, 10) + "/domains/" + url.PathEscape(c.args[0]) + "/certificate", nil
}

// accountOf finds the account in which a domain is.
func accountOf(ctx context.Context, c *call, domain string) (int64, error) {
	var page api.CertificatePage
	if err := c.client.Get(ctx, "/certificates", url.Values{"domain": {domain}}, &page); err != nil {
		return 0, err
	}
	if len(page.Certificates) == 0 {
		return 0, fmt.Errorf("there is no site %s here; see victualler certificate list", domain)
	}
	return page.Certificates[0].AccountID, nil
}

func certificateCommands() []command {
	return []command{
		{noun: "certificate", verb: "list",
			short: "List all sites with their certificates, those with the fewest days left first", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the domain"},
				{name: "account", value: "ACCOUNT", usage: "only those of one account"},
				{name: "authority", value: "NAME", usage: "only those of one authority"},
				{name: "days", value: "N", usage: "only those that end within N days"},
				{name: "state", value: "STATE",
					usage: "only those that are self-signed, ordered, valid, failing, expired or uploaded"}},
			run: listCertificates},
		{noun: "certificate", verb: "show", args: "DOMAIN", short: "Show how a site stands with its certificate",
			output: true, run: showCertificate},
		{noun: "certificate", verb: "rehearse", args: "DOMAIN",
			short: "Say of each name what an authority would do, and ask none", output: true,
			long: "Looks at addresses, CAA records, signatures and the path of the challenge, as an authority would, " +
				"and says what to do about what would fail. Exit code 1 if a name would fail.",
			run: rehearse},
		{noun: "certificate", verb: "order", args: "DOMAIN",
			short: "Order a certificate now, for the names that would pass", preview: true, waits: true,
			long: "With --by-hand, the records that prove the names are shown, and the order goes on when somebody " +
				"has entered them where the zone is: see certificate show.",
			flags: []flagInfo{{name: "leave-out",
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
		{noun: "certificate", verb: "take-back", args: "DOMAIN", short: "Take back the order that is on its way",
			preview: true,
			run: func(ctx context.Context, c *call) error {
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				previewed, err := c.change(ctx, http.MethodDelete, path+"/order", nil, nil)
				if err == nil && !previewed {
					fmt.Fprintf(c.out, "the order for %s is taken back\n", c.args[0])
				}
				return err
			}},
		{noun: "certificate", verb: "change", args: "DOMAIN", short: "Change how a site comes by its certificate",
			preview: true,
			flags: []flagInfo{{name: "mode", value: "automatic|self-signed",
				usage: "order it automatically, or do without an authority's"},
				{name: "names", value: "NAMES", usage: "the names it is for, with commas: the domain, www. or *. " +
					"before it; “all” takes those that would pass"},
				{name: "key-type", value: "TYPE", usage: "ecdsa-p256, ecdsa-p384, rsa-2048, rsa-3072 or rsa-4096; " +
					"counts from the next certificate on"},
				{name: "pin-key", value: "yes|no",
					usage: "keep the key at each renewal, for those who have published it"},
				{name: "authority", value: "NAME", usage: "who is asked; “usual” is the usual one"}},
			run: changeCertificate},
	}
}

func listCertificates(ctx context.Context, c *call) error {
	query := url.Values{}
	for _, name := range []string{"search", "account", "authority", "days", "state"} {
		if v := c.value(name); v != "" {
			query.Set(name, v)
		}
	}
	list, err := collect(ctx, c, "/certificates", query, 0,
		func(p api.CertificatePage) ([]api.CertificateLine, string) {
			return p.Certificates, p.Next
		})
	if err != nil {
		return err
	}
	t := table{{"LEFT", "STATE", "DOMAIN", "ACCOUNT", "AUTHORITY", "NAMES", "PROBLEM"}}
	for _, l := range list {
		t = append(t, []string{left(l), l.State, l.Unicode, l.Account, l.Authority, strings.Join(l.Names, " "),
			l.Problem})
	}
	return c.print(list, t)
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
	if c.format() != "" {
		return c.print(s, table{{"DOMAIN", "STATE", "ENDS"}, {s.Domain, s.State, moment(s.NotAfter)}})
	}
	failing := ""
	if s.Failures > 0 {
		failing = fmt.Sprintf("%s, %s", moment(s.FailingSince), times(s.Failures))
	}
	fields(c.out, "domain", s.Domain, "state", s.State, "comes", s.Mode, "names", strings.Join(s.Names, " "), "covers",
		strings.Join(s.Covered, " "), "key", s.KeyType+map[bool]string{true: ", kept at renewals"}[s.PinKey],
		"ordered at", s.Authority+map[bool]string{true: ", on the last day of this one"}[s.Mode == "uploaded" &&
			s.Authority != ""], "issuer", s.Issuer,
		"serial", s.Serial, "good from", moment(s.NotBefore), "until", moment(s.NotAfter), "renewed at",
		moment(s.RenewAt), "next look at", moment(s.NextTry), "failing since", failing, "reason", s.Problem)
	for _, l := range s.LeftOut {
		fmt.Fprintf(c.out, "\n%s is left out: %s\n  → %s\n", l.Name, l.Reason, l.Do)
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
		t := table{{"REQUEST", "NAMES", "KEY", "SUBJECT", "WAITS SINCE"}}
		for _, r := range s.Requests {
			t = append(t, []string{strconv.FormatInt(r.ID, 10), strings.Join(r.Names, " "), r.KeyType, r.Subject,
				moment(&r.CreatedAt)})
		}
		if err := c.print(nil, t); err != nil {
			return err
		}
	}
	if len(s.Earlier) > 0 {
		fmt.Fprintln(c.out)
		t := table{{"EARLIER", "STATE", "ISSUER", "FROM", "UNTIL"}}
		for _, e := range s.Earlier {
			t = append(t, []string{e.Serial, e.State, e.Issuer, moment(&e.NotBefore), moment(&e.NotAfter)})
		}
		return c.print(nil, t)
	}
	return nil
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
	t := table{{"NAME", "RESULT", "WAY", "REASON", "WHAT TO DO"}}
	failing := 0
	for _, n := range r.Names {
		t = append(t, []string{n.Name, n.Result, n.Proof, n.Reason, n.Fix})
		if n.Result == "would fail" {
			failing++
		}
	}
	if c.format() != "" {
		err = c.print(r, t)
	} else {
		longest := 0
		for _, n := range r.Names {
			longest = max(longest, utf8.RuneCountInString(n.Name))
		}
		for _, n := range r.Names {
			fmt.Fprintln(c.out, strings.TrimRight(fmt.Sprintf("%-*s  %s  %s", longest, n.Name, n.Result, ways[n.Proof]),
				" "))
			if n.Reason != "" {
				fmt.Fprintf(c.out, "  %s\n  → %s\n", n.Reason, n.Fix)
			}
		}
	}
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
	if text := c.given("pin-key"); text != nil {
		if *text != "yes" && *text != "no" {
			return usageError{"--pin-key takes yes or no"}
		}
		pin := *text == "yes"
		body.PinKey = &pin
	}
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
	fmt.Fprintf(c.out, "%s: %s, for %s\n", s.Domain, s.Mode, strings.Join(s.Names, ", "))
	return nil
}

// textOf reads a file that a flag names; empty for none.
func textOf(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

func times(n int) string {
	if n == 1 {
		return "tried once"
	}
	return fmt.Sprintf("tried %d times", n)
}
