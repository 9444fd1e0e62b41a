package main

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"

	"victualler/internal/api"
)

// What is one's own: password, second factor, sessions, tokens.
func personalCommands() []command {
	return []command{
		{noun: "password", verb: "change", short: "Change your own password, and end all your other sessions",
			long:  "With --password-stdin, standard input holds the present password and the new one, a line each.",
			flags: passwordFlags, run: changePassword},
		{noun: "password", verb: "check", short: "Estimate how well a password would hold", output: true,
			flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				password, err := readPassword(c, bufio.NewReader(c.in), "Password to look at: ")
				if err != nil {
					return err
				}
				var s api.Strength
				if err := c.client.Post(ctx, "/check/password", api.PasswordCheck{Password: password}, &s); err != nil {
					return err
				}
				if c.format() != "" {
					return c.print(s, table{{"LEVEL", "BITS", "REASONS"},
						{s.Level, strconv.Itoa(s.Bits), strings.Join(s.Reasons, "; ")}})
				}
				fields(c.out, "level", s.Level, "bits", strconv.Itoa(s.Bits), "because", strings.Join(s.Reasons, ", "),
					"advice", s.Advice)
				return nil
			}},
		{noun: "factor", verb: "show", short: "Show how your second factor is", output: true,
			run: func(ctx context.Context, c *call) error {
				var f api.SecondFactor
				if err := c.client.Get(ctx, "/second-factor", nil, &f); err != nil {
					return err
				}
				return c.print(f, table{{"SECOND FACTOR", "REQUIRED", "SINCE", "RECOVERY CODES LEFT"},
					{yes(f.On), yes(f.Required), when(f.Since), strconv.FormatInt(f.Left, 10)}})
			}},
		{noun: "factor", verb: "add", short: "Set up a second factor with an authenticator", run: addFactor},
		{noun: "factor", verb: "change", short: "Make new recovery codes; the old ones work no longer",
			flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				return c.proved(ctx, "/second-factor/recovery-codes", func(codes api.RecoveryCodes) {
					printCodes(c, codes)
				})
			}},
		{noun: "factor", verb: "remove", short: "Switch your second factor off", flags: passwordFlags[:1],
			run: func(ctx context.Context, c *call) error {
				return c.proved(ctx, "/second-factor/drop", func(api.RecoveryCodes) {
					fmt.Fprintln(c.out, "your second factor is off")
				})
			}},
		{noun: "token", verb: "add", args: "NAME", short: "Make a token for a program", preview: true, output: true,
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
					Scopes: list(c.value("scopes")), Networks: list(c.value("networks")), EndsAt: end}, &token)
				if err != nil || previewed {
					return err
				}
				if c.format() != "" {
					return c.print(token, tokenTable(token))
				}
				fmt.Fprintf(c.out, "%s\nsend it as “Authorization: Bearer …”; it cannot be looked up again\n",
					token.Secret)
				return nil
			}},
		{noun: "token", verb: "list", short: "List your tokens", output: true,
			run: func(ctx context.Context, c *call) error {
				var l api.TokenList
				if err := c.client.Get(ctx, "/tokens", nil, &l); err != nil {
					return err
				}
				return c.print(l.Tokens, tokenTable(l.Tokens...))
			}},
		{noun: "token", verb: "remove", args: "NUMBER", short: "Take a token back: it works no longer", preview: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, "/tokens/"+c.args[0], "token "+c.args[0])
			}},
		{noun: "scope", verb: "list", short: "List what a token can be allowed", output: true,
			run: func(ctx context.Context, c *call) error {
				var l api.ScopeList
				if err := c.client.Get(ctx, "/scopes", nil, &l); err != nil {
					return err
				}
				t := table{{"SCOPE", "YOURS", "FOR"}}
				for _, s := range l.Scopes {
					t = append(t, []string{s.Name, yes(s.Yours), s.About})
				}
				return c.print(l.Scopes, t)
			}},
	}
}

func tokenTable(tokens ...api.Token) table {
	t := table{{"NUMBER", "NAME", "SCOPES", "NETWORKS", "UNTIL", "LAST USED", "FROM"}}
	for _, k := range tokens {
		until := "for good"
		if k.EndsAt != nil {
			until = local(*k.EndsAt)
		}
		t = append(t, []string{strconv.FormatInt(k.ID, 10), k.Name, strings.Join(k.Scopes, ", "),
			strings.Join(k.Networks, ", "), until, when(k.UsedAt), k.UsedFrom})
	}
	return t
}

func changePassword(ctx context.Context, c *call) error {
	in := bufio.NewReader(c.in)
	var body api.PasswordChange
	var generated bool
	var err error
	if c.on("password-stdin") && !c.on("generate") {
		var lines [2]string
		for i := range lines {
			line, err := in.ReadString('\n')
			if err != nil && line == "" {
				return usageError{"standard input needs two lines: the present password and the new one"}
			}
			lines[i] = strings.TrimRight(line, "\r\n")
		}
		body = api.PasswordChange{Present: lines[0], New: lines[1]}
	} else {
		if body.Present, err = readPassword(c, in, "Present password: "); err != nil {
			return err
		}
		if body.New, generated, err = c.newPassword(ctx, in); err != nil {
			return err
		}
	}
	if _, err := c.change(ctx, http.MethodPut, "/password", body, nil); err != nil {
		return err
	}
	if generated {
		fmt.Fprintf(c.out, "your new password: %s\nit cannot be looked up again\n", body.New)
		return nil
	}
	fmt.Fprintln(c.out, "your password is changed; all your other sessions have ended")
	return nil
}

// proved does what asks for one's own password once more.
func (c *call) proved(ctx context.Context, path string, done func(api.RecoveryCodes)) error {
	password, err := readPassword(c, bufio.NewReader(c.in), "Your password: ")
	if err != nil {
		return err
	}
	var codes api.RecoveryCodes
	if err := c.client.Post(ctx, path, api.Proof{Password: password}, &codes); err != nil {
		return err
	}
	done(codes)
	return nil
}

func addFactor(ctx context.Context, c *call) error {
	var setup api.SecondFactorSetup
	if err := c.client.Post(ctx, "/second-factor", nil, &setup); err != nil {
		return err
	}
	if f, ok := c.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(c.out, setup.Text)
	}
	fmt.Fprintf(c.out, "scan this with your authenticator, or type %s into it\n", setup.Secret)
	fmt.Fprint(c.err, "Code: ")
	code, err := bufio.NewReader(c.in).ReadString('\n')
	if err != nil && code == "" {
		return usageError{"the second factor counts when a code of it was given; nothing is switched on"}
	}
	var codes api.RecoveryCodes
	if err := c.client.Post(ctx, "/second-factor/confirm", api.Code{Code: strings.TrimSpace(code)},
		&codes); err != nil {
		return err
	}
	fmt.Fprintln(c.out, "your second factor is on")
	printCodes(c, codes)
	return nil
}

func printCodes(c *call, codes api.RecoveryCodes) {
	fmt.Fprintln(c.out, "recovery codes, for the day when the authenticator is lost; each works once, and they "+
		"cannot be looked up again:")
	for _, code := range codes.Codes {
		fmt.Fprintln(c.out, "  "+code)
	}
}
