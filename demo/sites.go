package demo

import (
	"context"
	"errors"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/client"
)

// templates are what sites of the scenario have in common.
var templates = []api.NewTemplate{
	{Name: "island", About: "What every site of the island has: careful headers, and a week of caching",
		Settings: map[string]any{
			"headers": map[string]string{"X-Content-Type-Options": "nosniff",
				"Referrer-Policy": "strict-origin-when-cross-origin"}, "static_caching": 7 * 24 * 3600},
		Records: []api.NewRecord{{Name: "_dmarc", Type: "TXT", Data: "v=DMARC1; p=quarantine"}}},
	{Name: "pretty-addresses", About: "Applications with one front script",
		Settings: map[string]any{"front_script": "index.php", "largest_upload": 128 << 20}},
}

// more are further domains, by sign-in name.
var more = []struct {
	account string
	domain  api.NewDomain
}{
	{"boatyard", api.NewDomain{Domain: "shop.slipway-boatyard.example"}},
	{"boatyard", api.NewDomain{Domain: "slipway.example", Serving: api.Serving{ServedAs: "mirror",
		MirrorOf: "slipway-boatyard.example"}}},
	{"boatyard", api.NewDomain{Domain: "tern-island-boats.example", Serving: api.Serving{ServedAs: "redirect",
		Target: "https://slipway-boatyard.example/boats"}}},
	{"trust", api.NewDomain{Domain: "lighthouse-mail.example", Serving: api.Serving{ServedAs: "dns-only"}}},
}

// moreSites adds the domains beside the main ones, and what is set for
// the boatyard's site. What is there stays.
func moreSites(ctx context.Context, c *client.Client) error {
	settled := func(operation int64, err error) error {
		if err != nil {
			return ignoreExisting(err)
		}
		o, err := c.Watch(ctx, operation, func(api.Operation) {})
		if err == nil && o.State == "failed" {
			err = errors.New(o.Failure)
		}
		return err
	}
	for _, m := range more {
		var done api.DomainChanged
		err := c.Post(ctx, "/accounts/"+m.account+"/domains", m.domain, &done)
		if err := settled(done.Operation, err); err != nil {
			return fmt.Errorf("domain %s: %w", m.domain.Domain, err)
		}
	}
	var login api.LoginChanged
	err := c.Post(ctx, "/accounts/boatyard/logins", api.NewLogin{Name: "anna", Folder: "sites/slipway-boatyard.example",
		Password: "painted-hull-in-april-7"}, &login)
	if err := settled(login.Operation, err); err != nil {
		return fmt.Errorf("login of the boatyard: %w", err)
	}
	const yard = "/accounts/boatyard/domains/slipway-boatyard.example"
	var d api.DomainDetail
	if err := c.Get(ctx, yard, nil, &d); err != nil || len(d.Protected) > 0 {
		return err
	}
	var changed api.DomainChanged
	err = c.Do(ctx, client.Call{Method: "PATCH", Path: yard,
		Body: api.DomainChange{Settings: map[string]any{"preferred": "bare", "hsts": 3600,
			"error_pages": map[string]string{"404": "errors/missing.html"}}}}, &changed)
	if err := settled(changed.Operation, err); err != nil {
		return err
	}
	var folder api.FolderChanged
	err = c.Post(ctx, yard+"/folders", api.NewFolder{Path: "crew", Title: "The yard's own people",
		Users: []api.NewFolderUser{{Name: "anna", Password: "demo-of-a-folder"}}}, &folder)
	return settled(folder.Operation, err)
}
