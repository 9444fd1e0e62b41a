package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func databasesPath(c *call) string { return "/accounts/" + url.PathEscape(c.args[0]) + "/databases" }
func databasePath(c *call) string  { return databasesPath(c) + "/" + url.PathEscape(c.args[1]) }
func databaseUsersPath(c *call) string {
	return "/accounts/" + url.PathEscape(c.args[0]) + "/database-users"
}
func databaseUserPath(c *call) string { return databaseUsersPath(c) + "/" + url.PathEscape(c.args[1]) }

func databaseCommands() []command {
	engine := flagInfo{name: "engine", value: "ENGINE", usage: "mariadb or postgresql; mariadb otherwise",
		values: []string{"mariadb", "postgresql"}}
	charset := flagInfo{name: "charset", value: "NAME", usage: "character set, such as utf8mb4"}
	collation := flagInfo{name: "collation", value: "NAME",
		usage: "how texts are sorted, such as utf8mb4_german2_ci; of PostgreSQL the language, such as de"}
	hosts := flagInfo{name: "hosts", value: "LIST", usage: "addresses and networks to connect from with TLS, beside " +
		"the account's sites, with commas between them; - is none"}
	levels := flagInfo{name: "may", value: "LIST", usage: "what it may do with which database: shop=all,stats=read; " +
		"read, write or all"}
	return []command{
		{noun: "database", verb: "list", args: "ACCOUNT", short: "List the databases of an account", list: true,
			run: listDatabases},
		{noun: "database", verb: "biggest", short: "List the databases of all accounts, the biggest first", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name"},
				{name: "server", value: "SERVER", usage: "only those on one server"},
				{name: "engine", value: "ENGINE", usage: "only those of mariadb or postgresql",
					values: []string{"mariadb", "postgresql"}},
				{name: "limited", usage: "only those of accounts that are over their limit"}},
			run: listBiggest},
		{noun: "database", verb: "engines", short: "List the engines of servers, with what accounts have in them",
			list: true, run: listEngines},
		{noun: "database", verb: "show", args: "ACCOUNT DATABASE",
			short: "Show a database, and ready lines to connect with it", run: showDatabase},
		{noun: "database", verb: "add", args: "ACCOUNT NAME", short: "Add a database, with a user if one is named",
			preview: true, waits: true,
			long: "It is called as the account's sign-in name with an underscore and NAME. With --user, a user of " +
				"that name may do everything with it; for a new one, a password is asked for.",
			flags: append([]flagInfo{engine, charset, collation,
				{name: "user", value: "NAME", usage: "a user that may do everything with it, new or there already"},
				{name: "server", value: "SERVER", usage: "where the account's databases of the engine are to be"}},
				passwordFlags...),
			run: addDatabase},
		{noun: "database", verb: "change", args: "ACCOUNT DATABASE", preview: true, waits: true,
			short: "Change the character set of a MariaDB database, for tables made from then on",
			flags: []flagInfo{charset, collation},
			run: func(ctx context.Context, c *call) error {
				body := api.DatabaseChange{Charset: c.given("charset"), Collation: c.given("collation")}
				if body.Charset == nil && body.Collation == nil {
					return c.nothingToChange()
				}
				var done api.DatabaseChanged
				previewed, err := c.change(ctx, http.MethodPatch, databasePath(c), body, &done)
				if err != nil || previewed {
					return err
				}
				return c.startedIf(ctx, done.Operation)
			}},
		{noun: "database", verb: "remove", args: "ACCOUNT DATABASE", preview: true, waits: true,
			short: "Remove a database with everything in it", flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if err := c.confirm(ctx, "Remove the database "+c.args[1]+" of "+c.args[0]+
					" with everything in it? Nothing brings it back."); err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, databasePath(c), nil)
			}},
		{noun: "database", verb: "user list", args: "ACCOUNT", short: "List the database users of an account",
			list: true, run: listDatabaseUsers},
		{noun: "database", verb: "user add", args: "ACCOUNT NAME", short: "Add a database user", preview: true,
			waits: true, long: "It is called as the account's sign-in name with an underscore and NAME. A password " +
				"is asked for.",
			flags: append([]flagInfo{engine, levels, hosts}, passwordFlags...), run: addDatabaseUser},
		{noun: "database", verb: "user change", args: "ACCOUNT USER", preview: true, waits: true,
			short: "Change password, rights or networks of a database user",
			flags: append([]flagInfo{levels,
				{name: "may-not", value: "LIST", usage: "databases that it may do nothing with from now on"}, hosts,
				{name: "new-password", usage: "set another password"},
				{name: "no-password", usage: "remove the password: nobody can sign in"}}, passwordFlags...),
			run: changeDatabaseUser},
		{noun: "database", verb: "user remove", args: "ACCOUNT USER", preview: true, waits: true,
			short: "Remove a database user; what it has made stays", flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if err := c.confirm(ctx, "Remove the database user "+c.args[1]+" of "+c.args[0]+
					"? What it has made stays."); err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, databaseUserPath(c), nil)
			}},
	}
}

func (c *call) databases(ctx context.Context) (api.DatabaseList, error) {
	var list api.DatabaseList
	return list, c.client.Get(ctx, databasesPath(c), nil, &list)
}

// engineTitle is what people call an engine.
func engineTitle(list api.DatabaseList, engine string) string {
	for _, e := range list.Engines {
		if e.Engine == engine {
			return e.Title
		}
	}
	return engine
}

func listDatabases(ctx context.Context, c *call) error {
	list, err := c.databases(ctx)
	if err != nil {
		return err
	}
	if c.forPeople() {
		for _, e := range list.Engines {
			text := fmt.Sprintf("%s is on %s; sites connect to %s", e.Title, e.Server, e.Host)
			if e.Socket == "" {
				text += fmt.Sprintf(", port %d, with TLS", e.Port)
			}
			if e.Placement != "" {
				text += " (" + e.Placement + ")"
			}
			c.note(text)
		}
		if len(list.Databases) > 0 {
			c.note(fmt.Sprintf("used: %s of %s", plans.FormatSize(list.Used), limit(list.Limit)))
		}
	}
	return printList(c, list.Databases, false, "no databases; add one with: victualler database add ACCOUNT NAME",
		[]column[api.Database]{
			col("DATABASE", 0, func(d api.Database) any { return d.Name }),
			col("ENGINE", 0, func(d api.Database) any { return engineTitle(list, d.Engine) }),
			col("SIZE", 0, func(d api.Database) any { return sizeOf(d.Size) }),
			col("GROWTH", 0, func(d api.Database) any { return growth(d.Growth) }),
			col("USERS", 0, func(d api.Database) any { return usersOf(d) }),
			col("COLLATION", 1, func(d api.Database) any { return d.Collation }),
			col("ADDED", 2, func(d api.Database) any { return d.AddedAt }),
		})
}

// usersOf lists who may do what with a database.
func usersOf(d api.Database) string {
	var users []string
	for _, u := range d.Users {
		users = append(users, u.User+" ("+u.Level+")")
	}
	return strings.Join(users, ", ")
}

// growth says whether a database may grow, in words.
func growth(state string) string {
	switch state {
	case "stopped":
		return "over the limit: read and delete only"
	case "closed":
		return "over the limit: closed"
	}
	return "free"
}

func showDatabase(ctx context.Context, c *call) error {
	list, err := c.databases(ctx)
	if err != nil {
		return err
	}
	name := strings.ToLower(c.args[1])
	at := slices.IndexFunc(list.Databases, func(d api.Database) bool {
		return d.Name == name || strings.HasSuffix(d.Name, "_"+name) && len(d.Name) == strings.Index(d.Name,
			"_")+1+len(name)
	})
	if at < 0 {
		return fmt.Errorf("there is no database %s; see: victualler database list %s", c.args[1], c.args[0])
	}
	d := list.Databases[at]
	g := pairs("database", d.Name, "engine", engineTitle(list, d.Engine), "server", d.Server,
		"size", size(d.Size), "growth", growth(d.Growth), "character set", d.Charset, "collation", d.Collation,
		"users", usersOf(d), "added", local(d.AddedAt))
	for _, line := range d.Connect {
		g.add(line.Title, line.Text)
	}
	return c.show(d, g, func() error {
		c.table(g)
		return nil
	})
}

func addDatabase(ctx context.Context, c *call) error {
	body := api.NewDatabase{Name: c.args[1], Engine: c.value("engine"), Charset: c.value("charset"),
		Collation: c.value("collation"), Server: c.value("server"), User: c.value("user")}
	made := false
	if body.User != "" {
		list, err := c.databases(ctx)
		if err != nil {
			return err
		}
		known := slices.ContainsFunc(list.Users, func(u api.DatabaseUser) bool {
			_, rest, _ := strings.Cut(u.Name, "_")
			return u.Name == body.User || rest == body.User
		})
		if !known || c.on("generate") || c.on("password-stdin") {
			if body.Password, made, err = c.newPassword(ctx); err != nil {
				return err
			}
		}
	}
	var done api.DatabaseChanged
	previewed, err := c.change(ctx, http.MethodPost, databasesPath(c), body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("database %s on %s", done.Database.Name, done.Database.Server)
	if made {
		c.showPassword("password of "+done.Database.Users[0].User, body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

func listDatabaseUsers(ctx context.Context, c *call) error {
	list, err := c.databases(ctx)
	if err != nil {
		return err
	}
	return printList(c, list.Users, false, "no database users; add one with: victualler database user add ACCOUNT NAME",
		[]column[api.DatabaseUser]{
			col("USER", 0, func(u api.DatabaseUser) any { return u.Name }),
			col("ENGINE", 0, func(u api.DatabaseUser) any { return engineTitle(list, u.Engine) }),
			col("PASSWORD", 0, func(u api.DatabaseUser) any { return u.Password }),
			col("MAY", 0, func(u api.DatabaseUser) any {
				var levels []string
				for _, l := range u.Levels {
					levels = append(levels, l.Database+"="+l.Level)
				}
				return strings.Join(levels, ", ")
			}),
			col("ALSO FROM", 0, func(u api.DatabaseUser) any { return strings.Join(u.Hosts, ", ") }),
			col("ADDED", 1, func(u api.DatabaseUser) any { return u.AddedAt }),
		})
}

// levelsGiven reads --may.
func (c *call) levelsGiven() ([]api.DatabaseLevel, error) {
	var list []api.DatabaseLevel
	for _, pair := range words(c.value("may")) {
		name, level, _ := strings.Cut(pair, "=")
		if name == "" || level == "" {
			return nil, fmt.Errorf("--may: %q is no database and level; write shop=all,stats=read", pair)
		}
		list = append(list, api.DatabaseLevel{Database: name, Level: level})
	}
	return list, nil
}

func addDatabaseUser(ctx context.Context, c *call) error {
	levels, err := c.levelsGiven()
	if err != nil {
		return err
	}
	body := api.NewDatabaseUser{Name: c.args[1], Engine: c.value("engine"), Levels: levels,
		Hosts: words(c.value("hosts"))}
	made := false
	if body.Password, made, err = c.newPassword(ctx); err != nil {
		return err
	}
	var done api.DatabaseUserChanged
	previewed, err := c.change(ctx, http.MethodPost, databaseUsersPath(c), body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("database user %s", done.User.Name)
	if made {
		c.showPassword("password", body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

func changeDatabaseUser(ctx context.Context, c *call) error {
	levels, err := c.levelsGiven()
	if err != nil {
		return err
	}
	body := api.DatabaseUserChange{Levels: levels, Remove: words(c.value("may-not"))}
	if text := c.given("hosts"); text != nil {
		list := append([]string{}, words(*text)...)
		body.Hosts = &list
	}
	made := false
	if body.Password, made, err = c.passwordChange(ctx); err != nil {
		return err
	}
	if body.Password == nil && body.Hosts == nil && len(body.Levels)+len(body.Remove) == 0 {
		return c.nothingToChange()
	}
	var done api.DatabaseUserChanged
	previewed, err := c.change(ctx, http.MethodPatch, databaseUserPath(c), body, &done)
	if err != nil || previewed {
		return err
	}
	if made {
		c.showPassword("password", *body.Password)
	}
	return c.startedIf(ctx, done.Operation)
}

func listBiggest(ctx context.Context, c *call) error {
	filters := []string{"search", "server", "engine"}
	query := c.filters(filters...)
	if c.on("limited") {
		query.Set("limited", "true")
	}
	all, more, err := collect(ctx, c, "/databases", query,
		func(p api.DatabasePage) ([]api.PlacedDatabase, string) { return p.Databases, p.Next })
	if err != nil {
		return err
	}
	return printList(c, all, more, c.filtered("no databases", filters...), []column[api.PlacedDatabase]{
		col("SIZE", 0, func(d api.PlacedDatabase) any { return sizeOf(d.Size) }),
		col("DATABASE", 0, func(d api.PlacedDatabase) any { return d.Name }),
		col("ENGINE", 1, func(d api.PlacedDatabase) any { return d.Engine }),
		col("ACCOUNT", 0, func(d api.PlacedDatabase) any { return d.Account }),
		col("CUSTOMER", 3, func(d api.PlacedDatabase) any { return d.Customer }),
		col("SERVER", 2, func(d api.PlacedDatabase) any { return d.Server }),
		col("GROWTH", 0, func(d api.PlacedDatabase) any { return growth(d.Growth) }),
	})
}

func listEngines(ctx context.Context, c *call) error {
	var list api.EngineList
	if err := c.client.Get(ctx, "/database-engines", nil, &list); err != nil {
		return err
	}
	return printList(c, list.Engines, false, "no server keeps databases", []column[api.Engine]{
		col("SERVER", 0, func(e api.Engine) any { return e.Server }),
		col("ENGINE", 0, func(e api.Engine) any { return strings.TrimSpace(e.Title + " " + e.Version) }),
		col("STATE", 0, func(e api.Engine) any {
			switch {
			case !e.Reachable:
				return "the server does not answer"
			case e.Version == "":
				return "not installed"
			case !e.Running:
				return "not running"
			}
			return "running"
		}),
		col("ACCOUNTS", 1, func(e api.Engine) any { return e.Accounts }),
		col("DATABASES", 0, func(e api.Engine) any { return e.Databases }),
		col("SIZE", 0, func(e api.Engine) any { return sizeOf(&e.Size) }),
		col("OVER THE LIMIT", 1, func(e api.Engine) any { return counted(int(e.Limited), "account") }),
	})
}
