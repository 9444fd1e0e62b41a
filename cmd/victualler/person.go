package main

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
)

var (
	duties = []string{"all", "support", "billing", "read-only"}
	roles  = []string{"operator", "reseller", "customer"}
)

func personCommands() []command {
	path := func(c *call) string { return "/people/" + url.PathEscape(c.args[0]) }
	common := []flagInfo{{name: "email", value: "ADDRESS", usage: "for links and notices about the sign-in"},
		{name: "language", value: "LANGUAGE", usage: "what they read: " + orList(languages), values: languages},
		{name: "duty", value: "DUTY", usage: "of an operator: " + orList(duties), values: duties},
		{name: "networks", value: "LIST",
			usage: "from where they may sign in, such as 192.0.2.0/24,198.51.100.7; - for anywhere"}}
	return []command{
		{noun: "person", verb: "add", args: "NAME", short: "Let somebody sign in", preview: true,
			long: "Without --customer or --reseller it is an operator.",
			flags: append([]flagInfo{{name: "customer", value: "CUSTOMER",
				usage: "number or name of the customer they are of"},
				{name: "reseller", value: "NAME", usage: "the reseller they are of"},
				{name: "activation", value: "HOW", usage: "link (mailed), password, or none", values: activations},
				{name: "password-stdin", usage: "read the password from standard input, for --activation password"},
				{name: "must-change", usage: "have the password changed at the first sign-in"},
				{name: "read-only", usage: "may look and change nothing"}}, common...),
			run: addPerson},
		{noun: "person", verb: "list", short: "List who can sign in", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of a name or mail address"},
				{name: "role", value: "ROLE", usage: orList(roles), values: roles},
				{name: "customer", value: "CUSTOMER", usage: "only people of this customer"},
				{name: "reseller", value: "NAME", usage: "only people of this reseller and of their customers"}},
			run: func(ctx context.Context, c *call) error {
				filters := []string{"search", "role", "customer", "reseller"}
				all, more, err := collect(ctx, c, "/people", c.filters(filters...),
					func(p api.PersonPage) ([]api.Person, string) { return p.People, p.Next })
				if err != nil {
					return err
				}
				return printList(c, all, more, c.filtered("nobody can sign in", filters...), []column[api.Person]{
					col("NAME", 0, func(p api.Person) any { return p.Name }),
					col("ROLE", 0, func(p api.Person) any {
						if p.ReadOnly {
							return roleOf(p) + ", look only"
						}
						return roleOf(p)
					}),
					col("OF", 0, func(p api.Person) any { return ofWhom(p) }),
					col("EMAIL", 1, func(p api.Person) any { return p.Email }),
					col("SECOND FACTOR", 2, func(p api.Person) any { return p.SecondFactor }),
					col("LAST SEEN", 0, func(p api.Person) any { return timeOf(p.SeenAt) }),
				})
			}},
		{noun: "person", verb: "show", args: "PERSON", short: "Show somebody who can sign in",
			run: func(ctx context.Context, c *call) error {
				var p api.Person
				if err := c.client.Get(ctx, path(c), nil, &p); err != nil {
					return err
				}
				return c.showPerson(p)
			}},
		{noun: "person", verb: "change", args: "PERSON", short: "Change somebody's sign-in", preview: true,
			long: "What is left out stays; - empties it.",
			flags: append([]flagInfo{{name: "read-only", value: "yes|no", values: yesOrNo,
				usage: "whether they may look and change nothing"}}, common...), run: changePerson},
		{noun: "person", verb: "password", args: "PERSON",
			short: "Give somebody else a new password, and end their sessions", preview: true,
			long: "It is asked for, read from standard input with --password-stdin, or made and shown once with " +
				"--generate.",
			flags: append([]flagInfo{{name: "must-change", usage: "have it changed at the next sign-in"}},
				passwordFlags...), run: resetPassword},
		{noun: "person", verb: "link", args: "PERSON", short: "Make a one-time link for somebody else", preview: true,
			long: "To set a password (works for 48 hours), or to sign in without one (15 minutes).",
			flags: []flagInfo{{name: "purpose", value: "password|sign-in", usage: "what it is for", required: true,
				values: []string{"password", "sign-in"}},
				{name: "mail", usage: "mail it to them instead of printing it"}},
			run: func(ctx context.Context, c *call) error {
				var link api.Link
				previewed, err := c.change(ctx, http.MethodPost, path(c)+"/links",
					api.NewLink{Purpose: c.value("purpose"), Mail: c.on("mail")}, &link)
				if err != nil || previewed {
					return err
				}
				if link.Mailed != "" {
					c.say("on its way to %s; works once, until %s", link.Mailed, local(link.EndsAt))
					return nil
				}
				c.say("%s\nworks once, until %s", link.URL, local(link.EndsAt))
				return nil
			}},
		{noun: "person", verb: "sign-out", args: "PERSON", short: "End all sessions of somebody", preview: true,
			run: func(ctx context.Context, c *call) error {
				previewed, err := c.change(ctx, http.MethodDelete, path(c)+"/sessions", nil, nil)
				if err == nil && !previewed {
					c.say("%s is signed out everywhere", c.args[0])
				}
				return err
			}},
		{noun: "person", verb: "unlock", args: "PERSON",
			short: "Switch somebody's second factor off, when authenticator and recovery codes are lost", preview: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, path(c)+"/second-factor", "the second factor of "+c.args[0])
			}},
		{noun: "person", verb: "remove", args: "PERSON", short: "Let somebody sign in no longer", preview: true,
			flags: []flagInfo{yesFlag},
			run:   func(ctx context.Context, c *call) error { return c.removed(ctx, path(c), "person "+c.args[0]) }},
	}
}

func roleOf(p api.Person) string {
	if p.Duty != "all" {
		return p.Role + ", " + p.Duty
	}
	return p.Role
}

func ofWhom(p api.Person) string {
	if p.Customer == "" {
		return p.Reseller
	}
	if p.Reseller != "" {
		return p.Customer + " (of " + p.Reseller + ")"
	}
	return p.Customer
}

func yesIf(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func (c *call) showPerson(p api.Person) error {
	return c.showFields(p, pairs("person", p.Name, "role", roleOf(p), "of", ofWhom(p), "email", p.Email, "language",
		p.Language, "look only", yesIf(p.ReadOnly), "has to change the password", yesIf(p.MustChange),
		"password set", p.Password, "second factor", p.SecondFactor, "networks", strings.Join(p.Networks, ", "),
		"last seen", when(p.SeenAt), "since", p.Since))
}

func addPerson(ctx context.Context, c *call) error {
	body := api.NewPerson{Name: c.args[0], Duty: c.value("duty"), Reseller: c.value("reseller"),
		Email: c.value("email"), Language: c.value("language"), ReadOnly: c.on("read-only"),
		Networks: words(c.value("networks")), Activation: c.value("activation"), MustChange: c.on("must-change")}
	if c.value("customer") != "" {
		var customer api.Customer
		if err := c.client.Get(ctx, "/customers/"+url.PathEscape(c.value("customer")), nil, &customer); err != nil {
			return err
		}
		body.Customer = customer.ID
	}
	if c.on("password-stdin") {
		password, err := c.readPassword(ctx, "")
		if err != nil {
			return err
		}
		body.Password = password
	}
	var p api.Person
	previewed, err := c.change(ctx, http.MethodPost, "/people", body, &p)
	if err != nil || previewed {
		return err
	}
	return c.showPerson(p)
}

func changePerson(ctx context.Context, c *call) error {
	path := "/people/" + url.PathEscape(c.args[0])
	var p api.Person
	if err := c.client.Get(ctx, path, nil, &p); err != nil {
		return err
	}
	body := api.PersonChange{Duty: c.given("duty"), Email: c.given("email"), Language: c.given("language")}
	body.ReadOnly = c.yesNo("read-only")
	if text := c.given("networks"); text != nil {
		networks := append([]string{}, words(*text)...)
		body.Networks = &networks
	}
	if body == (api.PersonChange{}) {
		return c.nothingToChange()
	}
	previewed, err := c.changeIf(ctx, http.MethodPatch, path, body, &p, tag(p.Version))
	if err != nil || previewed {
		return err
	}
	return c.showPerson(p)
}

// passwordFlags are the flags of commands that take a new password.
var passwordFlags = []flagInfo{{name: "password-stdin", usage: "read it from standard input"},
	{name: "generate", usage: "make one and print it once"},
	{name: "length", value: "N", usage: "of a generated one; 16 at first"},
	{name: "characters", value: "LIST",
		usage: "of a generated one: small, large, digits, signs; small,large,digits at first"}}

// passwordChange is what --new-password, --no-password and the flags of new passwords come to: nil
// where it stays, empty where it is removed. Generated tells that it has to be shown.
func (c *call) passwordChange(ctx context.Context) (password *string, generated bool, err error) {
	switch {
	case c.on("no-password"):
		return new(string), false, nil
	case c.on("new-password") || c.on("generate") || c.on("password-stdin"):
		text, generated, err := c.newPassword(ctx)
		return &text, generated, err
	}
	return nil, false, nil
}

// newPassword asks for a new password in one of the ways there are.
// Generated tells that it has to be shown.
func (c *call) newPassword(ctx context.Context) (password string, generated bool, err error) {
	if !c.on("generate") {
		password, err = c.readPassword(ctx, "New password: ")
		return password, false, err
	}
	kinds := []string{"small", "large", "digits"}
	if text := c.value("characters"); text != "" {
		kinds = words(text)
	}
	query := url.Values{}
	for _, kind := range []string{"small", "large", "digits", "signs"} {
		query.Set(kind, strconv.FormatBool(slices.Contains(kinds, kind)))
		kinds = slices.DeleteFunc(kinds, func(k string) bool { return k == kind })
	}
	if len(kinds) > 0 {
		return "", false, usageError{"--characters takes small, large, digits and signs, not " +
			strings.Join(kinds, ", ")}
	}
	if c.value("length") != "" {
		query.Set("length", c.value("length"))
	}
	var made api.GeneratedPassword
	err = c.client.Get(ctx, "/generate/password", query, &made)
	return made.Password, true, err
}

func resetPassword(ctx context.Context, c *call) error {
	password, generated, err := c.newPassword(ctx)
	if err != nil {
		return err
	}
	previewed, err := c.change(ctx, http.MethodPut, "/people/"+url.PathEscape(c.args[0])+"/password",
		api.NewPassword{Password: password, MustChange: c.on("must-change")}, nil)
	if err != nil || previewed {
		return err
	}
	if generated {
		if !previewed {
			c.showPassword("new password of "+c.args[0], password)
			c.say("it cannot be looked up again")
		}
		return nil
	}
	c.say("%s has a new password; all their sessions have ended", c.args[0])
	return nil
}
