// Package demo is the made-up Tern Island Hosting Co-operative: an island's
// hosting, loaded through the API like any other.
package demo

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

var planTable = []api.NewPlan{
	{Name: "skiff", Limits: plans.Limits{
		plans.Disk: plans.Of(500 * plans.MiB), plans.Files: plans.Of(50_000), plans.Traffic: plans.Of(20 * plans.GiB),
		plans.Domains:    plans.Of(1),
		plans.Subdomains: plans.Of(2), plans.Mailboxes: plans.Of(5), plans.MailboxSize: plans.Of(200 * plans.MiB),
		plans.Addresses: plans.Of(10),
		plans.Databases: plans.Of(1), plans.DatabaseSize: plans.Of(20 * plans.MiB), plans.Logins: plans.Of(1),
		plans.SendsPerHour: plans.Of(50), plans.BounceShare: plans.Of(20),
		plans.PHPWorkers: plans.Of(3), plans.BackupsKept: plans.Of(7),
		plans.Processes: plans.Of(40), plans.Memory: plans.Of(512 * plans.MiB), plans.CPU: plans.Of(50)},
		Features: features("mail", "databases", "logins", "backups", "dns", "certificates")},
	{Name: "harbour", Template: "island", Limits: plans.Limits{
		plans.Disk: plans.Of(5 * plans.GiB), plans.Files: plans.Of(250_000), plans.Traffic: plans.Of(200 * plans.GiB),
		plans.Domains:    plans.Of(5),
		plans.Subdomains: plans.Of(20), plans.Mirrors: plans.Of(5), plans.Mailboxes: plans.Of(25),
		plans.MailboxSize: plans.Of(2 * plans.GiB),
		plans.Addresses:   plans.Of(100), plans.Lists: plans.Of(2), plans.Databases: plans.Of(5),
		plans.DatabaseSize: plans.Of(plans.GiB), plans.Logins: plans.Of(5), plans.Tasks: plans.Of(5),
		plans.SendsPerHour: plans.Of(200), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(8),
		plans.PHPMemory: plans.Of(256 * plans.MiB), plans.BackupsKept: plans.Of(14),
		plans.Processes: plans.Of(100), plans.Memory: plans.Of(plans.GiB), plans.CPU: plans.Of(100)},
		Features: features("mail", "databases", "tasks", "logins", "backups", "dns", "dnssec", "certificates", "kits",
			"file_browser")},
	{Name: "lighthouse", Template: "island", Limits: plans.Limits{
		plans.Disk: plans.Of(20 * plans.GiB), plans.Files: plans.Unlimited, plans.Traffic: plans.Unlimited,
		plans.Domains:    plans.Of(25),
		plans.Subdomains: plans.Unlimited, plans.Mirrors: plans.Of(25), plans.Mailboxes: plans.Of(100),
		plans.MailboxSize: plans.Of(10 * plans.GiB),
		plans.Addresses:   plans.Unlimited, plans.Lists: plans.Of(10), plans.Databases: plans.Of(25),
		plans.DatabaseSize: plans.Of(10 * plans.GiB), plans.Logins: plans.Of(25), plans.Tasks: plans.Of(25),
		plans.SendsPerHour: plans.Of(1000), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(20),
		plans.PHPMemory: plans.Of(512 * plans.MiB), plans.PHPTime: plans.Of(120), plans.BackupsKept: plans.Of(30),
		plans.Processes: plans.Of(300), plans.Memory: plans.Of(4 * plans.GiB), plans.CPU: plans.Of(200)},
		Features: features("mail", "databases", "tasks", "shell", "logins", "backups", "dns", "dnssec", "certificates",
			"wildcard", "kits", "api", "file_browser")},
}

func features(on ...plans.Feature) plans.Features {
	f := plans.Features{}
	for _, name := range on {
		f[name] = true
	}
	return f
}

// hosted is one account of the scenario.
type hosted struct{ domain, signIn, customer, email, plan, server, reseller string }

const studio = "guillemot"

var accounts = []hosted{
	{"ternisland.example", "coop", "Tern Island Hosting", "hosting@ternisland.example", "lighthouse", "skua", ""},
	{"northquay-bakery.example", "", "North Quay Bakery", "ovens@northquay-bakery.example", "skiff", "skua", ""},
	{"ternislandsurf.example", "", "Tern Island Surf School", "boards@ternislandsurf.example", "skiff", "", ""},
	{"lighthousetrust.example", "trust", "Tern Island Lighthouse Trust", "keeper@lighthousetrust.example", "lighthouse",
		"", ""},
	{"slipway-boatyard.example", "boatyard", "Slipway Boatyard", "yard@slipway-boatyard.example", "harbour", "", ""},
	{"ternislandnews.example", "news1", "The Tern Island Log", "desk@ternislandnews.example", "harbour", "", ""},
	{"guillemot-studio.example", "guillemot", "Guillemot Studio", "hello@guillemot-studio.example", "guillemot.atelier",
		"fulmar", studio},
	{"møwe-café.example", "", "Møwe Café", "tresen@xn--mwe-caf-hya2k.example", "guillemot.stall", "", studio},
	{"uppervillage-hall.example", "", "Upper Village Hall", "caretaker@uppervillage-hall.example", "guillemot.stall",
		"", studio},
}

// The reseller's share and plans.
var (
	share = api.NewReseller{Name: studio, Title: "Guillemot Studio", Email: "hello@guillemot-studio.example",
		Measure: "allotted", Limits: plans.Limits{
			plans.Disk: plans.Of(20 * plans.GiB), plans.Files: plans.Of(1_000_000),
			plans.Traffic: plans.Of(500 * plans.GiB), plans.Domains: plans.Of(12),
			plans.Subdomains: plans.Of(40), plans.Mirrors: plans.Of(10), plans.Mailboxes: plans.Of(60),
			plans.MailboxSize: plans.Of(2 * plans.GiB), plans.Addresses: plans.Of(200),
			plans.Lists: plans.Of(4), plans.Databases: plans.Of(12), plans.Logins: plans.Of(12),
			plans.Tasks:        plans.Of(12),
			plans.SendsPerHour: plans.Of(200),
			plans.BounceShare:  plans.Of(20), plans.PHPWorkers: plans.Of(8), plans.BackupsKept: plans.Of(14)},
		Features: features("mail", "databases", "tasks", "logins", "backups", "dns", "certificates", "kits",
			"file_browser")}
	sharePlans = []api.NewPlan{
		{Name: "stall", Reseller: studio, Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB),
			plans.Files: plans.Of(60_000), plans.Traffic: plans.Of(30 * plans.GiB), plans.Domains: plans.Of(1),
			plans.Subdomains: plans.Of(2), plans.Mailboxes: plans.Of(5), plans.MailboxSize: plans.Of(500 * plans.MiB),
			plans.Addresses: plans.Of(10), plans.Databases: plans.Of(1), plans.Logins: plans.Of(1),
			plans.SendsPerHour: plans.Of(50), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(3),
			plans.BackupsKept: plans.Of(7)},
			Features: features("mail", "databases", "logins", "backups", "dns", "certificates")},
		{Name: "atelier", Reseller: studio, Limits: plans.Limits{plans.Disk: plans.Of(8 * plans.GiB),
			plans.Files: plans.Of(300_000), plans.Traffic: plans.Of(200 * plans.GiB), plans.Domains: plans.Of(4),
			plans.Subdomains: plans.Of(10), plans.Mirrors: plans.Of(2), plans.Mailboxes: plans.Of(20),
			plans.MailboxSize: plans.Of(2 * plans.GiB), plans.Addresses: plans.Of(60), plans.Lists: plans.Of(2),
			plans.Databases: plans.Of(4), plans.Logins: plans.Of(4), plans.Tasks: plans.Of(4),
			plans.SendsPerHour: plans.Of(200), plans.BounceShare: plans.Of(20), plans.PHPWorkers: plans.Of(6),
			plans.BackupsKept: plans.Of(14)},
			Features: features("mail", "databases", "tasks", "logins", "backups", "dns", "certificates", "kits",
				"file_browser")},
	}
	brand = api.Brand{Title: "Guillemot Studio", Footer: "Guillemot Studio, Upper Village, Tern Island", Bar: "#2b3f57",
		Accent: "#1f5f7a", SenderName: "Guillemot Studio", Sender: "hello@guillemot-studio.example"}
)

//go:embed guillemot.svg
var logo []byte

// Places are where the scenario's stand-ins are.
type Places struct {
	// Console is where people reach the console, Mail the mail sink's address, PublicDNS where
	// the public DNS is set.
	Console, Mail, PublicDNS string
	// Directory and Root are those of the certificate authority, and Authority is where it is set.
	Directory, Root, Authority string
}

// SignIn is somebody of the scenario who can sign in.
type SignIn struct {
	Name, About string
	person      api.NewPerson
	customer    string
}

// SignIns lists who can sign in, besides the operator. Their passwords
// are made when the scenario is loaded first.
var SignIns = []SignIn{
	{Name: "mara", About: "an operator whose duty is support", person: api.NewPerson{Duty: "support",
		Email: "mara@ternisland.example"}},
	{Name: studio, About: "the reseller Guillemot Studio", person: api.NewPerson{Reseller: studio,
		Email: "hello@guillemot-studio.example"}},
	{Name: "keeper", About: "a customer, the Lighthouse Trust; keeper@lighthousetrust.example at /mailbox, too",
		customer: "Tern Island Lighthouse Trust", person: api.NewPerson{Email: "keeper@lighthousetrust.example"}},
	{Name: "tresen", About: "a customer of the reseller, who reads German", customer: "Møwe Café",
		person: api.NewPerson{Email: "tresen@xn--mwe-caf-hya2k.example"}},
}

// Load brings the scenario into an installation. What is there already
// stays. Passwords gives the one of each of [SignIns].
func Load(ctx context.Context, c *client.Client, at Places, passwords map[string]string, say func(string)) error {
	if err := settings(ctx, c, at); err != nil {
		return err
	}
	for _, t := range templates {
		if err := ignoreExisting(c.Post(ctx, "/templates", t, nil)); err != nil {
			return fmt.Errorf("template %s: %w", t.Name, err)
		}
	}
	for _, plan := range planTable {
		if err := ignoreExisting(c.Post(ctx, "/plans", plan, nil)); err != nil {
			return fmt.Errorf("plan %s: %w", plan.Name, err)
		}
	}
	if err := resell(ctx, c); err != nil {
		return err
	}
	// For the account that the README's first command opens.
	if err := ignoreExisting(c.Post(ctx, "/customers", api.NewCustomer{Name: "Tern Ferries",
		Email: "office@ternferries.example", Contact: "the ferry office"}, nil)); err != nil {
		return err
	}
	for _, a := range accounts {
		if err := open(ctx, c, a); err != nil {
			return fmt.Errorf("account %s: %w", a.domain, err)
		}
	}
	if err := moreSites(ctx, c); err != nil {
		return err
	}
	if err := hostZones(ctx, c, at.PublicDNS); err != nil {
		return err
	}
	if err := deliverTo(ctx, c, passwords); err != nil {
		return err
	}
	if err := store(ctx, c); err != nil {
		return err
	}
	if err := begin(ctx, c); err != nil {
		return err
	}
	if err := certify(ctx, c, at); err != nil {
		return fmt.Errorf("certificates: %w", err)
	}
	for _, s := range SignIns {
		if err := letIn(ctx, c, s, passwords[s.Name]); err != nil {
			return fmt.Errorf("sign-in %s: %w", s.Name, err)
		}
	}
	if err := bring(ctx, c.Base, passwords["keeper"]); err != nil {
		return fmt.Errorf("a domain that waits: %w", err)
	}
	// A sweep measures what the accounts use.
	for _, label := range []string{"skua", "petrel", "fulmar"} {
		var started api.Started
		if err := c.Post(ctx, "/servers/"+label+"/sweep", nil, &started); err != nil {
			return err
		}
		if _, err := c.Watch(ctx, started.Operation, func(api.Operation) {}); err != nil {
			return err
		}
	}
	if err := write(ctx, c); err != nil {
		return err
	}
	say(fmt.Sprintf("Tern Island is loaded: %d plans, %d accounts, one reseller", len(planTable)+len(sharePlans),
		len(accounts)))
	return nil
}

// settings are set once, so that what is changed in the demo stays.
func settings(ctx context.Context, c *client.Client, at Places) error {
	var s api.Settings
	if err := c.Get(ctx, "/settings", nil, &s); err != nil || s.Console != "" {
		return err
	}
	title, sender, none, proof := "Tern Island Hosting", "hosting@ternisland.example", "none", "require"
	return c.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/settings", Body: api.SettingsChange{Title: &title,
		Console: &at.Console, NameServers: &nameServers,
		MailServer: &at.Mail, MailSecurity: &none, Sender: &sender, DomainProof: &proof}}, nil)
}

func resell(ctx context.Context, c *client.Client) error {
	err := c.Post(ctx, "/resellers", share, nil)
	if err := ignoreExisting(err); err != nil {
		return err
	}
	if err == nil {
		if err := c.Do(ctx, client.Call{Method: http.MethodPut, Path: "/resellers/" + studio + "/brand", Body: brand},
			nil); err != nil {
			return err
		}
		if err := c.Upload(ctx, "/resellers/"+studio+"/brand/logo", logo); err != nil {
			return err
		}
	}
	for _, plan := range sharePlans {
		if err := ignoreExisting(c.Post(ctx, "/plans", plan, nil)); err != nil {
			return err
		}
	}
	return nil
}

func open(ctx context.Context, c *client.Client, a hosted) error {
	language := ""
	if a.customer == "Møwe Café" {
		language = "de"
	}
	body := api.OpenAccount{Domain: a.domain, Plan: a.plan, Reseller: a.reseller, Customer: a.customer,
		NewCustomer: true, CustomerEmail: a.email, Language: language, SignInName: a.signIn, Server: a.server}
	var opening api.Opening
	// With a key of its own, a repeated load finds its earlier answer
	// for a day; after that, the domain is taken.
	err := c.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: body,
		Key: "tern-island-" + a.domain}, &opening)
	if err != nil {
		return ignoreExisting(err)
	}
	o, err := c.Watch(ctx, opening.Operation, func(api.Operation) {})
	if err == nil && o.State == "failed" {
		err = errors.New(o.Failure)
	}
	return err
}

func letIn(ctx context.Context, c *client.Client, s SignIn, password string) error {
	p := s.person
	p.Name, p.Activation, p.Password = s.Name, "password", password
	if s.customer != "" {
		var page api.CustomerPage
		if err := c.Get(ctx, "/customers", url.Values{"search": {s.customer}, "limit": {"1"}}, &page); err != nil {
			return err
		}
		if len(page.Customers) == 0 {
			return fmt.Errorf("there is no customer %s", s.customer)
		}
		p.Customer = page.Customers[0].ID
	}
	return ignoreExisting(c.Post(ctx, "/people", p, nil))
}

// bring has the customer of the lighthouse bring a domain of which nothing shows yet whose it is.
func bring(ctx context.Context, base, password string) error {
	keeper := &client.Client{Base: base}
	_, err := keeper.SignIn(ctx, api.SignIn{Name: "keeper", Password: password})
	var refused *api.Problem
	if errors.As(err, &refused) && refused.Status == http.StatusUnauthorized {
		return nil // somebody has changed the password, so the domain has been brought before
	}
	if err != nil {
		return err
	}
	err = ignoreExisting(keeper.Post(ctx, "/accounts/lighthousetrust.example/domains",
		api.NewDomain{Domain: "lampfest.example"}, nil))
	return errors.Join(err, keeper.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session"}, nil))
}

// ignoreExisting takes a conflict for an earlier load.
func ignoreExisting(err error) error {
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusConflict &&
		(problem.Type == api.ProblemBase+"name-taken" || problem.Type == api.ProblemBase+"domain-taken") {
		return nil
	}
	return err
}
