package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
)

func authorityPath(c *call) string { return "/authorities/" + url.PathEscape(c.args[0]) }

var boundsFlag = flagInfo{name: "bounds", value: "LIST",
	usage: "how much to order at most, such as account:300/3h,domain:50/168h,names:5/168h; “none” bounds nothing"}

func boundWords(list []certificates.Bound) string {
	var words []string
	for _, b := range list {
		words = append(words, fmt.Sprintf("%s:%d/%dh", b.Per, b.Most, b.Hours))
	}
	return strings.Join(words, ",")
}

// readBounds reads what boundWords writes.
func readBounds(text string) ([]certificates.Bound, error) {
	bounds := []certificates.Bound{}
	if text == "" || text == "none" {
		return bounds, nil
	}
	for _, one := range strings.Split(text, ",") {
		per, rest, _ := strings.Cut(strings.TrimSpace(one), ":")
		b := certificates.Bound{Per: certificates.BoundPer(per)}
		if n, err := fmt.Sscanf(rest, "%d/%dh", &b.Most, &b.Hours); err != nil || n != 2 {
			return nil, usageError{fmt.Sprintf("%q is no bound: say account, domain or names, a number of orders and "+
				"a number of hours, such as account:300/3h", one)}
		}
		bounds = append(bounds, b)
	}
	return bounds, nil
}

func authorityCommands() []command {
	return []command{
		{noun: "authority", verb: "list", short: "List the authorities that issue certificates", list: true,
			run: func(ctx context.Context, c *call) error {
				var list api.AuthorityList
				if err := c.client.Get(ctx, "/authorities", nil, &list); err != nil {
					return err
				}
				return printList(c, list.Authorities, false, "no authorities; add one with: victualler authority add "+
					"NAME DIRECTORY --accept-terms", []column[api.Authority]{
					col("NAME", 0, func(a api.Authority) any { return a.Name }),
					col("USUAL", 0, func(a api.Authority) any { return a.Usual }),
					col("CERTIFICATES", 0, func(a api.Authority) any { return a.Certificates }),
					col("PROFILE", 3, func(a api.Authority) any { return a.Profile }),
					col("KNOWN AS", 4, func(a api.Authority) any { return a.Identities }),
					col("BOUNDS", 2, func(a api.Authority) any { return boundWords(a.Bounds) }),
					col("LIMITED UNTIL", 1, func(a api.Authority) any { return timeOf(a.LimitedUntil) }),
					col("DIRECTORY", 0, func(a api.Authority) any { return a.Directory }),
				})
			}},
		{noun: "authority", verb: "add", args: "NAME DIRECTORY",
			short: "Add an authority (RFC 8555) and register an account with it", preview: true,
			long: "DIRECTORY is the URL that the authority gives. The first one is the usual one.",
			flags: []flagInfo{{name: "email", value: "ADDRESS", usage: "where it writes to"},
				{name: "root", value: "FILE", usage: "certificate, PEM, that is trusted for the connection beside " +
					"the machine's own list"},
				{name: "external-id", value: "NUMBER", usage: "number of an external account with it"},
				{name: "external-key-file", value: "FILE", usage: "file with the key of the external account"},
				{name: "profile", value: "NAME", usage: "kind of certificates to order"}, boundsFlag,
				{name: "usual", usage: "make it the usual one"},
				{name: "accept-terms", usage: "you agree to its terms"}},
			run: func(ctx context.Context, c *call) error {
				root, err := textOf(c.value("root"))
				if err != nil {
					return err
				}
				key, err := textOf(c.value("external-key-file"))
				if err != nil {
					return err
				}
				bounds, err := readBounds(c.value("bounds"))
				if err != nil {
					return err
				}
				body := api.NewAuthority{Bounds: bounds, Name: c.args[0], Directory: c.args[1], Email: c.value("email"),
					Root: root, ExternalID: c.value("external-id"), ExternalKey: strings.TrimSpace(key),
					Profile: c.value("profile"),
					Usual:   c.on("usual"), AcceptTerms: c.on("accept-terms")}
				var a api.Authority
				previewed, err := c.change(ctx, http.MethodPost, "/authorities", body, &a)
				if err != nil || previewed {
					return err
				}
				c.say("authority %s, account %s", a.Name, a.Account)
				return nil
			}},
		{noun: "authority", verb: "change", args: "AUTHORITY",
			short: "Make an authority the usual one, order another " +
				"profile, bound the orders, have it write elsewhere, or change the account's key", preview: true,
			flags: []flagInfo{{name: "usual", usage: "make it the usual one"},
				{name: "profile", value: "NAME",
					usage: "kind of certificates to order; “usual” is the authority's usual one"},
				{name: "email", value: "ADDRESS", usage: "where it writes to; “-” is nowhere"},
				{name: "root", value: "FILE", usage: "certificate, PEM, that is trusted for the connection; “-” is " +
					"none but the machine's own list"}, boundsFlag,
				{name: "new-key", usage: "give the account there another key"}},
			run: func(ctx context.Context, c *call) error {
				body := api.AuthorityChange{Usual: c.on("usual"), NewKey: c.on("new-key"), Profile: c.given("profile"),
					Email: c.given("email")}
				if body.Profile != nil && *body.Profile == "usual" {
					*body.Profile = ""
				}
				if name := c.given("root"); name != nil {
					root, err := textOf(*name)
					if err != nil {
						return err
					}
					body.Root = &root
				}
				if text := c.given("bounds"); text != nil {
					bounds, err := readBounds(*text)
					if err != nil {
						return err
					}
					body.Bounds = &bounds
				}
				if !body.Usual && !body.NewKey && body.Profile == nil && body.Bounds == nil && body.Email == nil &&
					body.Root == nil {
					return usageError{"say what is to change; see victualler authority change --help"}
				}
				var a api.Authority
				previewed, err := c.change(ctx, http.MethodPatch, authorityPath(c), body, &a)
				if err != nil || previewed {
					return err
				}
				c.say("authority %s changed", a.Name)
				return nil
			}},
		{noun: "authority", verb: "remove", args: "AUTHORITY", short: "Forget an authority that has issued nothing",
			preview: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, authorityPath(c), "authority "+c.args[0])
			}},
	}
}
