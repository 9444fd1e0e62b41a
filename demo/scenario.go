// Package demo is the made-up Tern Island Hosting Co-operative: an island's
// hosting, loaded through the API like any other.
package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

var planTable = []api.NewPlan{
	{Name: "skiff", Limits: plans.Limits{
		plans.Disk: plans.Of(500 * plans.MiB), plans.Files: plans.Of(50_000), plans.Traffic: plans.Of(20 * plans.GiB), plans.Domains: plans.Of(1),
		plans.Subdomains: plans.Of(2), plans.Mailboxes: plans.Of(5), plans.MailboxSize: plans.Of(200 * plans.MiB), plans.Addresses: plans.Of(10),
		plans.Databases: plans.Of(1), plans.Logins: plans.Of(1), plans.SendsPerHour: plans.Of(50), plans.BounceShare: plans.Of(20),
		plans.PHPWorkers: plans.Of(3), plans.BackupsKept: plans.Of(7)},
		Features: features("mail", "databases", "logins", "backups", "dns", "certificates")},
	{Name: "harbour", Limits: plans.Limits{
		plans.Disk: plans.Of(5 * plans.GiB), plans.Files: plans.Of(250_000), plans.Traffic: plans.Of(200 * plans.GiB), plans.Domains: plans.Of(5),
		plans.Subdomains: plans.Of(20), plans.Mirrors: plans.Of(5), plans.Mailboxes: plans.Of(25), plans.MailboxSize: plans.Of(2 * plans.GiB),
		plans.Addresses: plans.Of(100), plans.Lists: plans.Of(2), plans.Databases: plans.Of(5), plans.Logins: plans.Of(5), plans.Tasks: plans.Of(5),
		plans.SendsPerHour: plans.Of(200), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(8), plans.BackupsKept: plans.Of(14)},
		Features: features("mail", "databases", "tasks", "logins", "backups", "dns", "dnssec", "certificates", "kits", "file_browser")},
	{Name: "lighthouse", Limits: plans.Limits{
		plans.Disk: plans.Of(20 * plans.GiB), plans.Files: plans.Unlimited, plans.Traffic: plans.Unlimited, plans.Domains: plans.Of(25),
		plans.Subdomains: plans.Unlimited, plans.Mirrors: plans.Of(25), plans.Mailboxes: plans.Of(100), plans.MailboxSize: plans.Of(10 * plans.GiB),
		plans.Addresses: plans.Unlimited, plans.Lists: plans.Of(10), plans.Databases: plans.Of(25), plans.Logins: plans.Of(25), plans.Tasks: plans.Of(25),
		plans.SendsPerHour: plans.Of(1000), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(20), plans.BackupsKept: plans.Of(30)},
		Features: features("mail", "databases", "tasks", "shell", "logins", "backups", "dns", "dnssec", "certificates", "wildcard", "kits", "api", "file_browser")},
}

func features(on ...plans.Feature) plans.Features {
	f := plans.Features{}
	for _, name := range on {
		f[name] = true
	}
	return f
}

// hosted is one account of the scenario.
type hosted struct{ domain, signIn, customer, email, plan, server string }

var accounts = []hosted{
	{"northquay-bakery.example", "", "North Quay Bakery", "ovens@northquay-bakery.example", "skiff", "skua"},
	{"ternislandsurf.example", "", "Tern Island Surf School", "boards@ternislandsurf.example", "skiff", ""},
	{"lighthousetrust.example", "trust", "Tern Island Lighthouse Trust", "keeper@lighthousetrust.example", "lighthouse", ""},
	{"slipway-boatyard.example", "boatyard", "Slipway Boatyard", "yard@slipway-boatyard.example", "harbour", ""},
	{"ternislandnews.example", "news1", "The Tern Island Log", "desk@ternislandnews.example", "harbour", ""},
	{"guillemot-studio.example", "guillemot", "Guillemot Studio", "hello@guillemot-studio.example", "lighthouse", "fulmar"},
	{"møwe-café.example", "", "Guillemot Studio", "", "skiff", ""},
}

// Load brings the scenario into an installation. What is there already stays.
func Load(ctx context.Context, c *client.Client, say func(string)) error {
	for _, plan := range planTable {
		if err := unlessThere(c.Post(ctx, "/plans", plan, nil)); err != nil {
			return fmt.Errorf("plan %s: %w", plan.Name, err)
		}
	}
	// For the account that the README's first command opens.
	if err := unlessThere(c.Post(ctx, "/customers", api.NewCustomer{Name: "Tern Ferries", Email: "office@ternferries.example"}, nil)); err != nil {
		return err
	}
	for n, a := range accounts {
		body := api.OpenAccount{Domain: a.domain, Plan: a.plan, Customer: a.customer, NewCustomer: a.email != "", CustomerEmail: a.email, SignInName: a.signIn, Server: a.server}
		var opening api.Opening
		// With a key of its own, a repeated load finds its earlier answer for a day; after that, the domain is taken.
		err := c.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: body, Key: fmt.Sprintf("tern-island-%d", n)}, &opening)
		if err := unlessThere(err); err != nil {
			return fmt.Errorf("account %s: %w", a.domain, err)
		}
		if err != nil {
			continue
		}
		o, err := c.Watch(ctx, opening.Operation, func(api.Operation) {})
		if err != nil {
			return err
		}
		if o.State == "failed" {
			return fmt.Errorf("account %s: %s", a.domain, o.Failure)
		}
	}
	// A sweep measures what the accounts use.
	for _, label := range []string{"skua", "fulmar"} {
		var started api.Started
		if err := c.Post(ctx, "/servers/"+label+"/sweep", nil, &started); err != nil {
			return err
		}
		if _, err := c.Watch(ctx, started.Operation, func(api.Operation) {}); err != nil {
			return err
		}
	}
	say(fmt.Sprintf("Tern Island is loaded: %d plans, %d accounts", len(planTable), len(accounts)))
	return nil
}

// unlessThere takes a conflict for an earlier load.
func unlessThere(err error) error {
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusConflict && (problem.Type == api.ProblemBase+"name-taken" || problem.Type == api.ProblemBase+"domain-taken") {
		return nil
	}
	return err
}
