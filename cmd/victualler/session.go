package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

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
		{noun: "session", verb: "show", short: "Show who is signed in, and where",
			run: func(ctx context.Context, c *call) error {
				var s api.Session
				if err := c.client.Get(ctx, "/session", nil, &s); err != nil {
					return err
				}
				role := s.Role
				if s.Duty != "all" {
					role += ", " + s.Duty
				}
				if err := c.showFields(s, pairs("name", s.Name, "role", role, "language", s.Language, "acting as",
					s.ActingAs, "service",
					c.session.Service, "ends without use", s.EndsAt, "ends at all", s.EndsLatest)); err != nil {
					return err
				}
				for _, what := range s.MustFirst {
					c.note(fmt.Sprintf("first set your %s: victualler %s", strings.ReplaceAll(what, "-", " "),
						map[string]string{"password": "password change", "second-factor": "factor add"}[what]))
				}
				return nil
			}},
		{noun: "session", verb: "list", short: "List your sessions", list: true,
			run: func(ctx context.Context, c *call) error {
				var l api.OpenSessions
				if err := c.client.Get(ctx, "/sessions", nil, &l); err != nil {
					return err
				}
				return printList(c, l.Sessions, false, "no sessions", []column[api.OpenSession]{
					col("NUMBER", 0, func(s api.OpenSession) any { return s.ID }),
					col("THIS", 0, func(s api.OpenSession) any { return yesIf(s.This) }),
					col("FROM", 0, func(s api.OpenSession) any { return s.Address }),
					col("STARTED", 2, func(s api.OpenSession) any { return s.StartedAt }),
					col("LAST USED", 0, func(s api.OpenSession) any { return s.SeenAt }),
					col("ENDS", 1, func(s api.OpenSession) any { return s.EndsAt }),
					col("PROGRAM", 0, func(s api.OpenSession) any { return s.Program }),
				})
			}},
		{noun: "session", verb: "remove", args: "NUMBER", short: "End one of your sessions",
			run: func(ctx context.Context, c *call) error {
				_, err := c.change(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(c.args[0]), nil, nil)
				if err == nil {
					c.say("session %s has ended", c.args[0])
				}
				return err
			}},
		{noun: "session", verb: "act", short: "Act on a customer's or a reseller's behalf; the record names both",
			long: "Until “victualler session act --stop”, this session has their rights and no others.",
			flags: []flagInfo{{name: "customer", value: "CUSTOMER", usage: "number or name"},
				{name: "reseller", value: "NAME", usage: "name"},
				{name: "stop", usage: "act as yourself again"}},
			run: actAs},
		{noun: "language", verb: "change", args: "LANGUAGE", short: "Choose what you read: " + orList(languages),
			long: "It holds for what the service says, for mail to you and for the console.",
			run: func(ctx context.Context, c *call) error {
				_, err := c.change(ctx, http.MethodPut, "/session/language", api.LanguageChoice{Language: c.args[0]},
					nil)
				if err == nil {
					c.say("you read %s from now on", c.args[0])
				}
				return err
			}},
		{noun: "session", verb: "end", short: "Sign out",
			run: func(ctx context.Context, c *call) error {
				err := c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session"}, nil)
				if err = errors.Join(err, os.Remove(c.session.path)); err == nil {
					c.say("signed out of %s", c.session.Service)
				}
				return err
			}},
	}
}

func startSession(ctx context.Context, c *call) error {
	address := c.args[0]
	if !strings.Contains(address, "://") {
		address = "https://" + address
	}
	name, password := c.value("name"), ""
	_, link, _ := strings.Cut(c.value("link"), "#")
	if c.value("link") != "" {
		purpose, err := (&client.Client{Base: address}).CheckLink(ctx, link)
		if err != nil {
			return err
		}
		if purpose.Purpose == "password" {
			if password, err = c.readPassword(ctx, "New password for "+purpose.Name+": "); err != nil {
				return err
			}
		}
	} else if name == "" {
		line, err := c.term.line(ctx, "Sign-in name: ")
		if errors.Is(err, io.EOF) {
			err = usageError{"give the sign-in name with --name"}
		}
		if err != nil {
			return err
		}
		name = strings.TrimSpace(line)
	}
	if link == "" {
		var err error
		if password, err = c.readPassword(ctx, "Password: "); err != nil {
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
		line, asked := c.term.line(ctx, "Code: ")
		if errors.Is(asked, io.EOF) {
			asked = usageError{"the password is right; give a code of the second factor, or a recovery code, with " +
				"--code"}
		}
		if asked != nil {
			return asked
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
	c.outcome.answer = map[string]string{"service": address, "name": name}
	c.say("signed in to %s as %s", address, name)
	return nil
}

func actAs(ctx context.Context, c *call) error {
	var body api.ActAs
	switch {
	case c.on("stop"):
		err := c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session/acting"}, nil)
		if err == nil {
			c.say("you act as yourself again")
		}
		return err
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
	c.outcome.answer = s
	c.say("you act as %s until “victualler session act --stop”; the record names you both", s.ActingAs)
	return nil
}
