package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/term"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/refusal"
)

// session is what is kept between commands, in a file only its owner can read.
type session struct {
	Service string `json:"service"`
	Token   string `json:"token"`
	path    string
}

// sessionPath is $VICTUALLER_SESSION, or a file in the user's configuration directory.
func sessionPath() (string, error) {
	if path := os.Getenv("VICTUALLER_SESSION"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "victualler", "session.json"), err
}

func loadSession() (*session, error) {
	path, err := sessionPath()
	if err != nil {
		return nil, err
	}
	s := &session{path: path}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("%s cannot be read; remove it and sign in again: %w", path, err)
	}
	return s, nil
}

func (s *session) save() error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(s.path), ".session-*") // made with 0600
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), s.path)
}

func (s *session) client() *client.Client { return &client.Client{Base: s.Service, Token: s.Token} }

// errNoSession is the answer before the first sign-in.
var errNoSession = &api.Problem{Type: api.ProblemBase + "not-signed-in", Detail: "not signed in"}

func sessionCommands() []command {
	return []command{
		{noun: "session", verb: "start", args: "ADDRESS", short: "Sign in to a service", stranger: true,
			long: "The password is asked for, or read from standard input with --password-stdin. What is kept is a " +
				"token, in a file only you can read.",
			flags: []flagInfo{{name: "name", value: "NAME", usage: "sign-in name (asked for if absent)"},
				{name: "password-stdin", usage: "read the password from standard input"},
				{name: "code", value: "CODE", usage: "of the second factor, or a recovery code (asked for if needed)"},
				{name: "link", value: "LINK", usage: "sign in with a one-time link; for one that sets a password, " +
					"the new password is asked for"}},
			run: startSession},
		{noun: "session", verb: "show", short: "Show who is signed in, and where", output: true,
			run: func(ctx context.Context, c *call) error {
				var s api.Session
				if err := c.client.Get(ctx, "/session", nil, &s); err != nil {
					return err
				}
				role := s.Role
				if s.Duty != "all" {
					role += ", " + s.Duty
				}
				if err := c.print(s, table{{"NAME", "ROLE", "ACTING AS", "SERVICE", "ENDS WITHOUT USE", "ENDS AT ALL"},
					{s.Name, role, s.ActingAs, c.session.Service, local(s.EndsAt), local(s.EndsLatest)}}); err != nil {
					return err
				}
				for _, what := range s.MustFirst {
					fmt.Fprintf(c.err, "note: first set your %s: victualler %s\n", strings.ReplaceAll(what, "-", " "),
						map[string]string{"password": "password change", "second-factor": "factor add"}[what])
				}
				return nil
			}},
		{noun: "session", verb: "list", short: "List your sessions", output: true,
			run: func(ctx context.Context, c *call) error {
				var l api.OpenSessions
				if err := c.client.Get(ctx, "/sessions", nil, &l); err != nil {
					return err
				}
				t := table{{"NUMBER", "THIS", "FROM", "PROGRAM", "STARTED", "LAST USED", "ENDS"}}
				for _, s := range l.Sessions {
					t = append(t, []string{strconv.FormatInt(s.ID, 10), yesIf(s.This), s.Address, s.Program,
						local(s.StartedAt), local(s.SeenAt), local(s.EndsAt)})
				}
				return c.print(l.Sessions, t)
			}},
		{noun: "session", verb: "remove", args: "NUMBER", short: "End one of your sessions",
			run: func(ctx context.Context, c *call) error {
				_, err := c.change(ctx, http.MethodDelete, "/sessions/"+c.args[0], nil, nil)
				return err
			}},
		{noun: "session", verb: "act", short: "Act on a customer's or a reseller's behalf; the record names both",
			long: "Until “victualler session act --stop”, this session has their rights and no others.",
			flags: []flagInfo{{name: "customer", value: "CUSTOMER", usage: "number or name"},
				{name: "reseller", value: "NAME", usage: "name"},
				{name: "stop", usage: "act on nobody's behalf any more"}},
			run: actAs},
		{noun: "session", verb: "end", short: "Sign out",
			run: func(ctx context.Context, c *call) error {
				err := c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session"}, nil)
				return errors.Join(err, os.Remove(c.session.path))
			}},
	}
}

func startSession(ctx context.Context, c *call) error {
	address := c.args[0]
	if !strings.Contains(address, "://") {
		address = "https://" + address
	}
	name, password := c.value("name"), ""
	in := bufio.NewReader(c.in)
	_, link, _ := strings.Cut(c.value("link"), "#")
	if c.value("link") != "" {
		purpose, err := (&client.Client{Base: address}).CheckLink(ctx, link)
		if err != nil {
			return err
		}
		if purpose.Purpose == "password" {
			if password, err = readPassword(c, in, "New password for "+purpose.Name+": "); err != nil {
				return err
			}
		}
	} else if name == "" {
		fmt.Fprint(c.err, "Sign-in name: ")
		line, err := in.ReadString('\n')
		if err != nil {
			return usageError{"give the sign-in name with --name"}
		}
		name = strings.TrimSpace(line)
	}
	if link == "" {
		var err error
		if password, err = readPassword(c, in, "Password: "); err != nil {
			return err
		}
	}
	s := &session{Service: address, path: c.session.path}
	caller := s.client()
	signIn := func(code string) error {
		_, err := caller.SignIn(ctx, api.SignIn{Name: name, Password: password, Code: code})
		return err
	}
	if link != "" {
		signIn = func(code string) error {
			session, err := caller.SignInByLink(ctx, api.LinkSignIn{Link: link, Password: password, Code: code})
			name = session.Name
			return err
		}
	}
	err := signIn(c.value("code"))
	var problem *api.Problem
	if errors.As(err, &problem) && strings.HasSuffix(problem.Type, "/"+string(refusal.NeedsCode)) &&
		c.value("code") == "" {
		fmt.Fprint(c.err, "Code: ")
		line, readErr := in.ReadString('\n')
		if readErr != nil && line == "" {
			return usageError{"the password fits; give a code of the second factor, or a recovery code, with --code"}
		}
		err = signIn(strings.TrimSpace(line))
	}
	if err != nil {
		return err
	}
	s.Token = caller.Token
	if err := s.save(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "signed in to %s as %s\n", address, name)
	return nil
}

// readPassword asks for a password, or reads it from standard input. There, it is the first line;
// what is left of the input may be asked for next.
func readPassword(c *call, in *bufio.Reader, prompt string) (string, error) {
	if c.on("password-stdin") {
		line, err := in.ReadString('\n')
		if err != nil && line == "" {
			return "", usageError{"there is no password on standard input"}
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	f, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usageError{"there is no terminal to ask for the password; use --password-stdin"}
	}
	fmt.Fprint(c.err, prompt)
	text, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(c.err)
	return string(text), err
}

func actAs(ctx context.Context, c *call) error {
	var body api.ActAs
	switch {
	case c.on("stop"):
		return c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session/acting"}, nil)
	case (c.value("customer") == "") == (c.value("reseller") == ""):
		return usageError{"name either --customer or --reseller, or say --stop"}
	case c.value("customer") != "":
		var customer api.Customer
		if err := c.client.Get(ctx, "/customers/"+url.PathEscape(c.value("customer")), nil, &customer); err != nil {
			return err
		}
		body.Customer = customer.ID
	default:
		body.Reseller = c.value("reseller")
	}
	if err := c.client.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/acting", Body: body},
		nil); err != nil {
		return err
	}
	var s api.Session
	if err := c.client.Get(ctx, "/session", nil, &s); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "you act as %s until “victualler session act --stop”; the record names you both\n", s.ActingAs)
	return nil
}
