package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/client"
	corekits "victualler/internal/hosting/kits"
	"victualler/kits"
)

// offers are the plans that offer kits.
var offers = map[string][]string{
	"placeholder": {"harbour", "lighthouse", "guillemot.atelier"},
	"static":      {"harbour", "lighthouse", "guillemot.atelier"},
	"guestbook":   {"harbour", "lighthouse", "guillemot.atelier"},
	"notes":       {"harbour", "lighthouse"},
}

// begun are the sites that begin with a kit.
var begun = []struct {
	account, domain string
	api.NewSiteKit
}{
	{"trust", "lighthousetrust.example", api.NewSiteKit{Kit: "guestbook", Answers: map[string]string{
		"title":   "Tern Island Lighthouse: guestbook",
		"welcome": "You have climbed 163 steps. Tell us what you saw from the gallery."}}},
	{"boatyard", "shop.slipway-boatyard.example", api.NewSiteKit{Kit: "placeholder", Answers: map[string]string{
		"title": "The chandlery opens in spring", "text": "Ropes, paint, varnish and good advice, soon at this " +
			"address.",
		"contact": "yard@slipway-boatyard.example"}}},
	{"news1", "ternislandnews.example", api.NewSiteKit{Kit: "notes", Answers: map[string]string{
		"title": "The Tern Island Log", "phrase": "printed on a wet tuesday"}}},
	{"guillemot", "guillemot-studio.example", api.NewSiteKit{Kit: "static", Answers: map[string]string{
		"title": "Guillemot Studio", "line": "Pages for shops, halls and people of the Upper Village",
		"contact": "hello@guillemot-studio.example"}}},
}

// begin registers the kits that ship with the program, has plans offer them, and gives some sites
// one. What is there stays.
func begin(ctx context.Context, c *client.Client) error {
	for _, name := range kits.Names {
		dir, err := kits.Directory(name)
		if err != nil {
			return err
		}
		archive, err := corekits.Pack(dir)
		if err != nil {
			return err
		}
		p, err := corekits.ReadArchive(archive)
		if err != nil {
			return err
		}
		if _, err := c.RegisterKit(ctx, p.Name, p.Version, archive, nil, nil); ignoreExisting(err) != nil {
			return err
		}
		plans := offers[name]
		if err := c.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/kits/" + name,
			Body: api.KitChange{Plans: &plans}}, nil); err != nil {
			return err
		}
	}
	for _, b := range begun {
		var there api.AccountKits
		if err := c.Get(ctx, "/accounts/"+b.account+"/kits", nil, &there); err != nil {
			return err
		}
		if len(there.Sites) > 0 {
			continue
		}
		var started api.Started
		if err := c.Post(ctx, "/accounts/"+b.account+"/domains/"+b.domain+"/kit", b.NewSiteKit, &started); err != nil {
			return fmt.Errorf("kit of %s: %w", b.domain, err)
		}
		o, err := c.Watch(ctx, started.Operation, func(api.Operation) {})
		if err == nil && o.State != "done" {
			err = errors.New(o.Failure)
		}
		if err != nil {
			return fmt.Errorf("kit of %s: %w", b.domain, err)
		}
	}
	return nil
}
