package main

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"victualler/internal/api"
)

func loginsPath(c *call) string { return "/accounts/" + url.PathEscape(c.args[0]) + "/logins" }
func loginPath(c *call) string  { return loginsPath(c) + "/" + url.PathEscape(c.args[1]) }

func loginCommands() []command {
	folder := flagInfo{name: "folder", value: "PATH",
		usage: "what it sees, below the home, such as sites/ferries.example; the whole home otherwise"}
	key := flagInfo{name: "key", value: "FILE", usage: "public key that lets in: a file that ends in .pub"}
	return []command{
		{noun: "login", verb: "list", args: "ACCOUNT", short: "List the sign-ins for file transfer of an account",
			output: true, run: listLogins},
		{noun: "login", verb: "add", args: "ACCOUNT NAME", short: "Add a sign-in for file transfer (SFTP)",
			preview: true, waits: true,
			long: "It is called as the account's sign-in name with a hyphen and NAME. All files belong to the " +
				"account, whoever writes them. Without --key, a password is asked for.",
			flags: append([]flagInfo{folder, key}, passwordFlags...),
			run: func(ctx context.Context, c *call) error {
				body := api.NewLogin{Name: c.args[1], Folder: c.value("folder")}
				keys, err := keyFile(c.value("key"))
				if err != nil {
					return err
				}
				body.Keys = keys
				made := false
				if len(keys) == 0 || c.on("generate") || c.on("password-stdin") {
					if body.Password, made, err = c.newPassword(ctx, bufio.NewReader(c.in)); err != nil {
						return err
					}
				}
				var done api.LoginChanged
				previewed, err := c.change(ctx, http.MethodPost, loginsPath(c), body, &done)
				if err != nil || previewed {
					return err
				}
				fmt.Fprintf(c.out, "login %s, sees %s\n", done.Login.Name, sees(done.Login))
				if made {
					fmt.Fprintln(c.out, "password:", body.Password)
				}
				return c.startedIf(ctx, done.Operation)
			}},
		{noun: "login", verb: "change", args: "ACCOUNT LOGIN",
			short: "Change folder, password or keys of a sign-in for file transfer", preview: true, waits: true,
			long: "LOGIN may be the account's own sign-in name.",
			flags: append([]flagInfo{folder, key, {name: "remove-key", value: "FINGERPRINT",
				usage: "take a key away; login list shows it"}, {name: "new-password", usage: "set another password"},
				{name: "no-password", usage: "take the password away"}}, passwordFlags...),
			run: changeLogin},
		{noun: "login", verb: "remove", args: "ACCOUNT LOGIN",
			short: "Take a sign-in for file transfer away; its files stay", preview: true, waits: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if !c.on("preview") {
					if err := c.confirm("Take the login " + c.args[1] + " from " + c.args[0] +
						"? Its files stay."); err != nil {
						return err
					}
				}
				return c.work(ctx, http.MethodDelete, loginPath(c), nil)
			}},
	}
}

func listLogins(ctx context.Context, c *call) error {
	var list api.LoginList
	if err := c.client.Get(ctx, loginsPath(c), nil, &list); err != nil {
		return err
	}
	t := table{{"LOGIN", "SEES", "PASSWORD", "KEY", "WHOSE"}}
	for _, l := range list.Logins {
		row := []string{l.Name, sees(l), yesNo(l.Password), "", ""}
		for n, k := range l.Keys {
			if n > 0 {
				t = append(t, row)
				row = []string{"", "", "", "", ""}
			}
			row[3], row[4] = k.Fingerprint, k.Comment
		}
		t = append(t, row)
	}
	if c.format() == "" {
		fmt.Fprintf(c.out, "connect with: sftp LOGIN@%s\n\n",
			strings.Join(list.Addresses[:min(1, len(list.Addresses))], ""))
	}
	return c.print(list, t)
}

func sees(l api.Login) string {
	text := l.Folder
	if text == "" {
		text = "the whole home"
	}
	if l.Shell {
		text += ", with a shell"
	}
	return text
}

func changeLogin(ctx context.Context, c *call) error {
	body := api.LoginChange{Folder: c.given("folder")}
	var err error
	if body.AddKeys, err = keyFile(c.value("key")); err != nil {
		return err
	}
	if gone := c.value("remove-key"); gone != "" {
		body.RemoveKeys = []string{gone}
	}
	made := false
	switch {
	case c.on("no-password"):
		body.Password = new(string)
	case c.on("new-password") || c.on("generate") || c.on("password-stdin"):
		var password string
		if password, made, err = c.newPassword(ctx, bufio.NewReader(c.in)); err != nil {
			return err
		}
		body.Password = &password
	case body.Folder == nil && len(body.AddKeys)+len(body.RemoveKeys) == 0:
		return usageError{"say what is to change; see victualler login change --help"}
	}
	var done api.LoginChanged
	previewed, err := c.change(ctx, http.MethodPatch, loginPath(c), body, &done)
	if err != nil || previewed {
		return err
	}
	if made {
		fmt.Fprintln(c.out, "password:", *body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

// keyFile reads a public key from a file; none without one.
func keyFile(file string) ([]string, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, usageError{err.Error()}
	}
	return []string{strings.TrimSpace(string(text))}, nil
}
