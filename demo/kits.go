package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

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

// entries are what visitors have written by now; a second time, nothing is left to do.
var entries = []struct{ account, database, statement string }{
	{"trust", "trust_guestbook", `
		INSERT IGNORE INTO entries (id, name, text, visitor, at) VALUES
		(1, 'Aud and Liv', 'We saw the ferry turn round because of a seal.', unhex(sha2('1', 256)),
			'2026-10-03 14:10'),
		(2, 'Class 4b, North Quay', 'Edda counted 163 steps, Jon 161. Both say they are right.',
			unhex(sha2('2', 256)), '2026-10-21 10:35'),
		(3, 'A sailor', 'Thank you for leaving the light on.', unhex(sha2('3', 256)), '2026-11-14 17:52')`},
	{"news1", "news1_notes", `
		INSERT INTO notes (title, body, at) SELECT * FROM (VALUES
		('Harbour wall is mended',
			'The stones of the north end are back in their places, with new mortar between them.',
			timestamptz '2026-11-10 08:00+00'),
		('Bakery looks for a night baker', 'Buns must be fond of getting up early. Ask at the North Quay.',
			timestamptz '2026-11-19 08:00+00'),
		('No ferry on Thursday', 'The engine is being looked at. The mail comes with the boatyard’s launch.',
			timestamptz '2026-11-26 08:00+00')) AS n (title, body, at)
		WHERE NOT EXISTS (SELECT FROM notes)`},
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
		if _, err := c.RegisterKit(ctx, archive, nil, nil); ignoreExisting(err) != nil {
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

// write writes the entries.
func write(ctx context.Context, c *client.Client) error {
	for _, w := range entries {
		post := func() error {
			return c.Post(ctx, "/accounts/"+w.account+"/databases/"+w.database+"/statements",
				api.NewStatement{Statement: w.statement}, nil)
		}
		err := post()
		// Engines take longer to start than their servers.
		for until := time.Now().Add(time.Minute); err != nil && time.Now().Before(until) &&
			ctx.Err() == nil; err = post() {
			time.Sleep(time.Second)
		}
		if err != nil {
			return fmt.Errorf("entries of %s: %w", w.database, err)
		}
	}
	return nil
}
