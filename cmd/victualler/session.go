package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"victualler/internal/api"
	"victualler/internal/client"
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

func init() {
	commands = append(commands,
		command{noun: "session", verb: "start", args: "ADDRESS", short: "Sign in to a service", stranger: true,
			long:  "The password is asked for, or read from standard input with --password-stdin. What is kept is a token, in a file only you can read.",
			flags: []flagInfo{{name: "name", value: "NAME", usage: "sign-in name (asked for if absent)"}, {name: "password-stdin", usage: "read the password from standard input"}},
			run:   startSession},
		command{noun: "session", verb: "show", short: "Show who is signed in, and where", output: true,
			run: func(ctx context.Context, c *call) error {
				var s api.Session
				if err := c.client.Get(ctx, "/session", nil, &s); err != nil {
					return err
				}
				return c.print(s, table{{"NAME", "ROLE", "SERVICE", "ENDS"}, {s.Name, s.Role, c.session.Service, local(s.EndsAt)}})
			}},
		command{noun: "session", verb: "end", short: "Sign out",
			run: func(ctx context.Context, c *call) error {
				err := c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session"}, nil)
				return errors.Join(err, os.Remove(c.session.path))
			}})
}

func startSession(ctx context.Context, c *call) error {
	address := c.args[0]
	if !strings.Contains(address, "://") {
		address = "https://" + address
	}
	name := c.value("name")
	in := bufio.NewReader(c.in)
	if name == "" {
		fmt.Fprint(c.err, "Sign-in name: ")
		line, err := in.ReadString('\n')
		if err != nil {
			return usageError{"give the sign-in name with --name"}
		}
		name = strings.TrimSpace(line)
	}
	password, err := readPassword(c, in)
	if err != nil {
		return err
	}
	s := &session{Service: address, path: c.session.path}
	caller := s.client()
	if _, err := caller.SignIn(ctx, name, password); err != nil {
		return err
	}
	s.Token = caller.Token
	if err := s.save(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "signed in to %s as %s\n", address, name)
	return nil
}

func readPassword(c *call, in *bufio.Reader) (string, error) {
	if c.on("password-stdin") {
		text, err := io.ReadAll(io.LimitReader(in, 4096))
		return strings.TrimRight(string(text), "\r\n"), err
	}
	f, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usageError{"there is no terminal to ask for the password; use --password-stdin"}
	}
	fmt.Fprint(c.err, "Password: ")
	text, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(c.err)
	return string(text), err
}
