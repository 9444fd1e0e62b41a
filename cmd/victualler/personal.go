package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"victualler/internal/api"
)

// What is one's own: password, second factor, sessions, tokens.
func personalCommands() []command {
	return []command{
		{noun: "password", verb: "change", short: "Change your own password, and end all your other sessions",
			long:  "With --password-stdin, standard input holds the present password and the new one, a line each.",
			flags: passwordFlags, run: changePassword},
		{noun: "password", verb: "check", short: "Estimate how well a password would hold",
			flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				password, err := c.readPassword(ctx, "Password to look at: ")
				if err != nil {
					return err
				}
				var s api.Strength
				if err := c.client.Post(ctx, "/check/password", api.PasswordCheck{Password: password}, &s); err != nil {
					return err
				}
				return c.showFields(s, pairs("level", s.Level, "bits", s.Bits, "because", strings.Join(s.Reasons, ", "),
					"advice", s.Advice))
			}},
		{noun: "factor", verb: "show", short: "Show how your second factor is",
			run: func(ctx context.Context, c *call) error {
				var f api.SecondFactor
				if err := c.client.Get(ctx, "/second-factor", nil, &f); err != nil {
					return err
				}
				return c.showFields(f, pairs("second factor", f.On, "required", f.Required, "since", timeOf(f.Since),
					"recovery codes left", f.Left))
			}},
		{noun: "factor", verb: "add", short: "Set up a second factor with an authenticator", run: addFactor},
		{noun: "factor", verb: "change", short: "Make new recovery codes; the old ones work no longer",
			flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				codes, err := c.proved(ctx, "/second-factor/recovery-codes")
				if err == nil {
					c.sayCodes(codes)
				}
				return err
			}},
		{noun: "factor", verb: "remove", short: "Switch your second factor off", flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				_, err := c.proved(ctx, "/second-factor/drop")
				if err == nil {
					c.say("your second factor is off")
				}
				return err
			}},
		{noun: "token", verb: "add", args: "NAME", short: "Make a token for a program", preview: true,
			long: "Its secret is printed once. See scope list for what it can be allowed.",
			flags: []flagInfo{{name: "scopes", value: "LIST", usage: "such as accounts.read,accounts.open",
				required: true}, {name: "networks", value: "LIST", usage: "from where it may be used"},
				{name: "until", value: "DATE", usage: "when it ends"}},
			run: func(ctx context.Context, c *call) error {
				end, err := parseMoment(c.value("until"))
				if err != nil {
					return err
				}
				var token api.Token
				previewed, err := c.change(ctx, http.MethodPost, "/tokens", api.NewToken{Name: c.args[0],
					Scopes: words(c.value("scopes")), Networks: words(c.value("networks")), EndsAt: end}, &token)
				if err != nil || previewed {
					return err
				}
				c.say("%s\nsend it as “Authorization: Bearer …”; it cannot be looked up again", token.Secret)
				return nil
			}},
		{noun: "token", verb: "list", short: "List your tokens", list: true,
			run: func(ctx context.Context, c *call) error {
				var l api.TokenList
				if err := c.client.Get(ctx, "/tokens", nil, &l); err != nil {
					return err
				}
				return printList(c, l.Tokens, false,
					"no tokens; make one with: victualler token add NAME --scopes LIST",
					[]column[api.Token]{
						col("NUMBER", 0, func(k api.Token) any { return k.ID }),
						col("NAME", 0, func(k api.Token) any { return k.Name }),
						col("NETWORKS", 2, func(k api.Token) any { return strings.Join(k.Networks, ", ") }),
						col("UNTIL", 0, func(k api.Token) any {
							if k.EndsAt == nil {
								return "for good"
							}
							return local(*k.EndsAt)
						}),
						col("LAST USED", 1, func(k api.Token) any { return timeOf(k.UsedAt) }),
						col("FROM", 3, func(k api.Token) any { return k.UsedFrom }),
						col("SCOPES", 0, func(k api.Token) any { return strings.Join(k.Scopes, ", ") }),
					})
			}},
		{noun: "token", verb: "remove", args: "NUMBER", short: "Revoke a token", preview: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, "/tokens/"+c.args[0], "token "+c.args[0])
			}},
		{noun: "scope", verb: "list", short: "List what a token can be allowed", list: true,
			run: func(ctx context.Context, c *call) error {
				var l api.ScopeList
				if err := c.client.Get(ctx, "/scopes", nil, &l); err != nil {
					return err
				}
				return printList(c, l.Scopes, false, "no scopes", []column[api.Scope]{
					col("SCOPE", 0, func(s api.Scope) any { return s.Name }),
					col("YOURS", 1, func(s api.Scope) any { return s.Yours }),
					col("FOR", 0, func(s api.Scope) any { return s.About }),
				})
			}},
	}
}

func changePassword(ctx context.Context, c *call) error {
	var body api.PasswordChange
	var generated bool
	var err error
	if c.on("password-stdin") && !c.on("generate") {
		var lines [2]string
		for i := range lines {
			line, err := c.term.line(ctx, "")
			if errors.Is(err, io.EOF) {
				err = usageError{"standard input needs two lines: the present password and the new one"}
			}
			if err != nil {
				return err
			}
			lines[i] = line
		}
		body = api.PasswordChange{Present: lines[0], New: lines[1]}
	} else {
		if body.Present, err = c.readPassword(ctx, "Present password: "); err != nil {
			return err
		}
		if body.New, generated, err = c.newPassword(ctx); err != nil {
			return err
		}
	}
	if _, err := c.change(ctx, http.MethodPut, "/password", body, nil); err != nil {
		return err
	}
	if generated {
		c.showPassword("your new password", body.New)
		c.say("it cannot be looked up again")
		return nil
	}
	c.say("your password is changed; all your other sessions have ended")
	return nil
}

// proved does what asks for one's own password once more.
func (c *call) proved(ctx context.Context, path string) (api.RecoveryCodes, error) {
	var codes api.RecoveryCodes
	password, err := c.readPassword(ctx, "Your password: ")
	if err != nil {
		return codes, err
	}
	_, err = c.change(ctx, http.MethodPost, path, api.Proof{Password: password}, &codes)
	return codes, err
}

func addFactor(ctx context.Context, c *call) error {
	var setup api.SecondFactorSetup
	if err := c.client.Post(ctx, "/second-factor", nil, &setup); err != nil {
		return err
	}
	to := c.out
	if !c.forPeople() {
		to = c.term.err // what is printed for programs are the codes
	}
	if c.term.columns() > 0 {
		fmt.Fprint(to, setup.Text)
	}
	fmt.Fprintf(to, "scan this with your authenticator, or type %s into it\n", setup.Secret)
	code, err := c.term.line(ctx, "Code: ")
	if errors.Is(err, io.EOF) {
		err = usageError{"the second factor counts when a code of it was given; nothing is switched on"}
	}
	if err != nil {
		return err
	}
	var codes api.RecoveryCodes
	if _, err := c.change(ctx, http.MethodPost, "/second-factor/confirm", api.Code{Code: strings.TrimSpace(code)},
		&codes); err != nil {
		return err
	}
	c.say("your second factor is on")
	c.sayCodes(codes)
	return nil
}

func (c *call) sayCodes(codes api.RecoveryCodes) {
	c.say("recovery codes, for the day when the authenticator is lost; each works once, and they cannot be looked " +
		"up again:")
	for _, code := range codes.Codes {
		c.say("  %s", code)
	}
}
