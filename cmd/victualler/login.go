package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
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
			list: true, run: listLogins},
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
					if body.Password, made, err = c.newPassword(ctx); err != nil {
						return err
					}
				}
				var done api.LoginChanged
				previewed, err := c.change(ctx, http.MethodPost, loginsPath(c), body, &done)
				if err != nil || previewed {
					return err
				}
				c.say("login %s, sees %s", done.Login.Name, sees(done.Login))
				if made {
					c.showPassword("password", body.Password)
				}
				return c.startedIf(ctx, done.Operation)
			}},
		{noun: "login", verb: "change", args: "ACCOUNT LOGIN",
			short: "Change folder, password or keys of a sign-in for file transfer", preview: true, waits: true,
			long: "LOGIN may be the account's own sign-in name.",
			flags: append([]flagInfo{folder, key, {name: "remove-key", value: "FINGERPRINT",
				usage: "remove a key; login list shows it"}, {name: "new-password", usage: "set another password"},
				{name: "no-password", usage: "remove the password"}}, passwordFlags...),
			run: changeLogin},
		{noun: "login", verb: "remove", args: "ACCOUNT LOGIN",
			short: "Remove a sign-in for file transfer; its files stay", preview: true, waits: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if err := c.confirm(ctx, "Remove the login "+c.args[1]+" of "+c.args[0]+
					"? Its files stay."); err != nil {
					return err
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
	if c.forPeople() && len(list.Addresses) > 0 {
		c.note(fmt.Sprintf("connect with: sftp LOGIN@%s", list.Addresses[0]))
	}
	return printList(c, list.Logins, false, "no logins", []column[api.Login]{
		col("LOGIN", 0, func(l api.Login) any { return l.Name }),
		col("SEES", 0, func(l api.Login) any { return sees(l) }),
		col("PASSWORD", 0, func(l api.Login) any { return l.Password }),
		col("KEYS", 0, func(l api.Login) any {
			var keys []string
			for _, k := range l.Keys {
				keys = append(keys, strings.TrimSpace(k.Fingerprint+" "+k.Comment))
			}
			return strings.Join(keys, ", ")
		}),
	})
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
	if body.Password, made, err = c.passwordChange(ctx); err != nil {
		return err
	}
	if body.Password == nil && body.Folder == nil && len(body.AddKeys)+len(body.RemoveKeys) == 0 {
		return c.nothingToChange()
	}
	var done api.LoginChanged
	previewed, err := c.change(ctx, http.MethodPatch, loginPath(c), body, &done)
	if err != nil || previewed {
		return err
	}
	if made {
		c.showPassword("password", *body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

// keyFile reads a public key from a file; none without one.
func keyFile(file string) ([]string, error) {
	if file == "" {
		return nil, nil
	}
	text, err := readFile(file)
	return []string{strings.TrimSpace(string(text))}, err
}
