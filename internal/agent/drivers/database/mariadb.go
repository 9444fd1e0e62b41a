package database

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"victualler/internal/agent/daemon"
	"victualler/internal/hosting/databases"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

const (
	mariaDBPID = "/run/mysqld/mysqld.pid"
	// ownDatabase has the agent's tables in MariaDB, and is its user's name there: no account can
	// have it.
	ownDatabase = "victualler"
)

// MariaDB is the program.
type MariaDB struct{ program }

// MariaDBInstalled reports whether this server has MariaDB.
func MariaDBInstalled() bool {
	_, err := exec.LookPath("mariadbd")
	return err == nil
}

// NewMariaDB returns the driver of MariaDB.
func NewMariaDB(scratch string) *MariaDB {
	d := &MariaDB{program{engine: databases.MariaDB, user: "mysql", unit: "mariadb", pidFile: mariaDBPID,
		config: render.MariaDBConf, scratch: scratch, base: render.MariaDBBase,
		test: []string{"mariadbd", "--user=mysql", "--help", "--verbose"}}}
	d.reload = func(ctx context.Context) error { return asRoot(ctx, "FLUSH SSL") }
	d.stop = func(ctx context.Context) error {
		_, err := daemon.Signal(ctx, mariaDBPID, syscall.SIGTERM)
		return err
	}
	d.ask = func(ctx context.Context) error { return asRoot(ctx, "SELECT 1") }
	if out, err := exec.Command("mariadbd", "--version").Output(); err == nil {
		_, rest, _ := strings.Cut(string(out), "Ver ")
		d.version, _, _ = strings.Cut(rest, "-")
	}
	return d
}

// asRoot has the engine execute a statement of root's, whom it knows by the socket: the library
// that speaks with it otherwise does not know that way of signing in.
func asRoot(ctx context.Context, statement string) error {
	cmd := exec.CommandContext(ctx, "mariadb", "--no-defaults", "--socket", databases.MariaDB.Socket(), "--user",
		"root", "--connect-timeout", "5", "--batch")
	cmd.Stdin = strings.NewReader(statement + ";\n") // others see the arguments of programs
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Files implements agent.Program: from where users connect is part of the users.
func (*MariaDB) Files(manifest.Manifest) []render.File { return nil }

// AccountFiles implements agent.Program.
func (*MariaDB) AccountFiles() ([]string, error) { return nil, nil }

// Owner implements agent.Program.
func (*MariaDB) Owner(string) string { return "" }

// mariaDBEngine is the running MariaDB.
type mariaDBEngine struct {
	mu sync.Mutex
	db *sql.DB
	// started is the process that db was opened for.
	started time.Time

	visitsMu sync.Mutex
	// visits are the verifiers of the second passwords that there are, by user.
	visits map[string]string
}

func (*mariaDBEngine) kind() databases.Engine { return databases.MariaDB }

// open returns connections of the agent's own user, whose password nobody knows: it is made anew
// with the agent, and with the engine.
func (e *mariaDBEngine) open(ctx context.Context) (*sql.DB, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	info, err := os.Stat(mariaDBPID)
	if err != nil {
		return nil, errors.New("is not running")
	}
	if e.db != nil && e.started.Equal(info.ModTime()) {
		return e.db, nil
	}
	if e.db != nil {
		e.db.Close()
		e.db = nil
	}
	secret := make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, err
	}
	password := base64.RawURLEncoding.EncodeToString(secret)
	verifier, err := databases.Verifier(databases.MariaDB, password, nil)
	if err != nil {
		return nil, err
	}
	if err := asRoot(ctx, "SET sql_log_bin = 0; CREATE OR REPLACE USER "+ownDatabase+"@localhost IDENTIFIED VIA "+
		databases.MariaDBPlugin+" USING '"+verifier+"'; GRANT ALL PRIVILEGES ON *.* TO "+ownDatabase+
		"@localhost WITH GRANT OPTION"); err != nil {
		return nil, err
	}
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr = ownDatabase, password, "unix", databases.MariaDB.Socket()
	config.Timeout, config.ReadTimeout = 5*time.Second, 5*time.Minute
	config.Logger = quiet{}
	config.Params = map[string]string{"lock_wait_timeout": "20"}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(4)
	db.SetConnMaxIdleTime(5 * time.Minute)
	for _, statement := range []string{
		"CREATE DATABASE IF NOT EXISTS " + ownDatabase,
		"CREATE TABLE IF NOT EXISTS " + ownDatabase + ".owned (kind varchar(8) NOT NULL, name varchar(96) NOT NULL, " +
			"account bigint NOT NULL, PRIMARY KEY (kind, name), KEY (account)) CHARACTER SET ascii",
		"CREATE TABLE IF NOT EXISTS " + ownDatabase + ".growth (account bigint NOT NULL PRIMARY KEY, " +
			"state varchar(8) NOT NULL, size bigint NOT NULL) CHARACTER SET ascii",
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			db.Close()
			return nil, err
		}
	}
	e.db, e.started = db, info.ModTime()
	return db, nil
}

// quiet leaves out what the library would print: it is in the errors as well.
type quiet struct{}

func (quiet) Print(...any) {}

func (e *mariaDBEngine) ready(ctx context.Context) error {
	_, err := e.open(ctx)
	return err
}

func (e *mariaDBEngine) held(ctx context.Context) (map[int64]bool, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	held := map[int64]bool{}
	err = each(ctx, db, "SELECT DISTINCT account FROM "+ownDatabase+".owned", nil, func(scan scanner) error {
		var account int64
		err := scan(&account)
		held[account] = true
		return err
	})
	return held, err
}

type scanner func(...any) error

// each calls f for every row of a question.
func each(ctx context.Context, db *sql.DB, question string, args []any, f func(scanner) error) error {
	rows, err := db.QueryContext(ctx, question, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// owned is what was made for an account, by kind and name.
type owned map[string]map[string]bool

const (
	kindDatabase = "database"
	kindUser     = "user"
)

// readOwned reads what was made for accounts, by their numbers.
func readOwned(ctx context.Context, db *sql.DB, where string, args ...any) (map[int64]owned, error) {
	all := map[int64]owned{}
	err := each(ctx, db, "SELECT account, kind, name FROM "+ownDatabase+".owned"+where, args,
		func(scan scanner) error {
			var account int64
			var kind, name string
			err := scan(&account, &kind, &name)
			ownedBy(all, account)[kind][name] = true
			return err
		})
	return all, err
}

// ownedBy is what was made for one account.
func ownedBy(all map[int64]owned, account int64) owned {
	if all[account] == nil {
		all[account] = owned{kindDatabase: {}, kindUser: {}}
	}
	return all[account]
}

// foreign is the error for what was not made by the agent and has a name that is wanted.
func foreign(kind, name string) error {
	return fmt.Errorf("there is a %s %s that was not made for this account; rename or remove it first, or choose "+
		"another name", kind, name)
}

func (e *mariaDBEngine) differences(ctx context.Context, account int64,
	wanted databases.Account) ([]databases.Difference, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	all, err := readOwned(ctx, db, " WHERE account = ?", account)
	if err != nil {
		return nil, err
	}
	own := ownedBy(all, account)
	there := databases.MariaDBCatalogue{Databases: map[string]databases.MariaDBDatabase{},
		Users: map[string]databases.MariaDBUser{}}
	names, users := own.with(wanted)
	for _, name := range names { // one by one: only so are the others' directories not looked into
		if err := readSchemata(ctx, db, there.Databases, " WHERE schema_name = ?", name); err != nil {
			return nil, err
		}
	}
	if len(users) > 0 {
		args := make([]any, len(users))
		for n := range users {
			args[n] = users[n]
		}
		if err := e.readUsers(ctx, db, there.Users, " WHERE User IN (?"+strings.Repeat(", ?", len(users)-1)+")",
			args...); err != nil {
			return nil, err
		}
	}
	return mariaDBDifferences(own, there, wanted)
}

// whole implements engine.
func (e *mariaDBEngine) whole(ctx context.Context) (compare, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	all, err := readOwned(ctx, db, "")
	if err != nil {
		return nil, err
	}
	schemata, users := map[string]databases.MariaDBDatabase{}, map[string]databases.MariaDBUser{}
	if err := errors.Join(readSchemata(ctx, db, schemata, ""), e.readUsers(ctx, db, users, "")); err != nil {
		return nil, err
	}
	byName := map[string][]databases.MariaDBUser{}
	for _, u := range users {
		byName[u.Name] = append(byName[u.Name], u)
	}
	return func(account int64, wanted databases.Account) ([]databases.Difference, error) {
		own := all[account]
		there := databases.MariaDBCatalogue{Databases: map[string]databases.MariaDBDatabase{},
			Users: map[string]databases.MariaDBUser{}}
		names, users := own.with(wanted)
		for _, name := range names {
			if d, is := schemata[name]; is {
				there.Databases[name] = d
			}
		}
		for _, name := range users {
			for _, u := range byName[name] {
				there.Users[u.Key()] = u
			}
		}
		return mariaDBDifferences(own, there, wanted)
	}, nil
}

// with lists the names of databases and users of an account: those that were made, and those that
// are wanted.
func (o owned) with(wanted databases.Account) (names, users []string) {
	names, users = slices.Collect(maps.Keys(o[kindDatabase])), slices.Collect(maps.Keys(o[kindUser]))
	for _, d := range wanted.Databases {
		if !o[kindDatabase][d.Name] {
			names = append(names, d.Name)
		}
	}
	for _, u := range wanted.Users {
		if !o[kindUser][u.Name] {
			users = append(users, u.Name)
		}
	}
	return names, users
}

// mariaDBDifferences compares what there is under the names of an account with what is wanted.
// Nothing is taken over that was not made for it.
func mariaDBDifferences(own owned, there databases.MariaDBCatalogue, wanted databases.Account) ([]databases.Difference,
	error) {
	for name := range there.Databases {
		if !own[kindDatabase][name] {
			return nil, foreign("database", name)
		}
	}
	for _, u := range there.Users {
		if !own[kindUser][u.Name] {
			return nil, foreign("user", u.Name)
		}
	}
	return databases.MariaDBDifferences(there, wanted), nil
}

// readSchemata reads databases.
func readSchemata(ctx context.Context, db *sql.DB, found map[string]databases.MariaDBDatabase, where string,
	args ...any) error {
	return each(ctx, db, "SELECT schema_name, default_character_set_name, default_collation_name FROM "+
		"information_schema.schemata"+where, args, func(scan scanner) error {
		var name string
		var d databases.MariaDBDatabase
		err := scan(&name, &d.Charset, &d.Collation)
		found[name] = d
		return err
	})
}

// readUsers reads users and all their rights.
func (e *mariaDBEngine) readUsers(ctx context.Context, db *sql.DB, found map[string]databases.MariaDBUser, where string,
	args ...any) error {
	err := each(ctx, db, "SELECT User, Host, Priv FROM mysql.global_priv"+where, args, func(scan scanner) error {
		u := databases.MariaDBUser{Grants: map[string][]string{}}
		var text string
		if err := scan(&u.Name, &u.Host, &text); err != nil {
			return err
		}
		if err := readPrivileges(&u, text, e.visitOf(u.Name)); err != nil {
			return fmt.Errorf("%s: %w", u.Key(), err)
		}
		found[u.Key()] = u
		return nil
	})
	if err != nil {
		return err
	}
	rows, err := db.QueryContext(ctx, "SELECT * FROM mysql.db"+where, args...)
	if err != nil {
		return err
	}
	if err := readGrants(rows, found); err != nil {
		return err
	}
	for _, table := range []struct{ name, what string }{{"tables_priv", "on tables"}, {"columns_priv", "on columns"},
		{"procs_priv", "on routines"}, {"roles_mapping", "of a role"}, {"proxies_priv", "of another user"}} {
		err := each(ctx, db, "SELECT DISTINCT User, Host FROM mysql."+table.name+where, args,
			func(scan scanner) error {
				var name, host string
				if err := scan(&name, &host); err != nil {
					return err
				}
				key := name + "@" + host
				if u, is := found[key]; is {
					u.Others = append(u.Others, table.what)
					found[key] = u
				}
				return nil
			})
		if err != nil {
			return err
		}
	}
	return nil
}

// readPrivileges reads the JSON of mysql.global_priv. Second is the verifier of a second password
// that the user has while somebody visits its databases.
func readPrivileges(u *databases.MariaDBUser, text, second string) error {
	var p struct {
		Access      uint64 `json:"access"`
		Plugin      string `json:"plugin"`
		Verifier    string `json:"authentication_string"`
		SSL         int    `json:"ssl_type"`
		Locked      bool   `json:"account_locked"`
		Connections int    `json:"max_user_connections"`
		Or          []struct {
			Plugin   string `json:"plugin"`
			Verifier string `json:"authentication_string"`
		} `json:"auth_or"`
		DefaultRole string `json:"default_role"`
	}
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return err
	}
	u.Plugin, u.Verifier, u.TLS, u.Locked, u.Connections = p.Plugin, p.Verifier, p.SSL == 1, p.Locked, p.Connections
	if p.Access != 0 {
		u.Others = append(u.Others, "on everything")
	}
	// The one that is empty stands for what is above; it stays when the others are gone.
	for _, way := range p.Or {
		own := way.Plugin == "" || second != "" && way.Plugin == databases.MariaDBPlugin && way.Verifier == second
		if !own {
			u.Plugin = "another"
		}
	}
	if p.SSL > 1 {
		u.Plugin = "another"
	}
	return nil
}

// readGrants reads rights on databases: mysql.db has a column for each privilege, whose name has
// underscores where the privilege has blanks.
func readGrants(rows *sql.Rows, found map[string]databases.MariaDBUser) error {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values := make([]string, len(columns))
	places := make([]any, len(columns))
	for n := range values {
		places[n] = &values[n]
	}
	for rows.Next() {
		if err := rows.Scan(places...); err != nil {
			return err
		}
		var host, pattern, name string
		var list []string
		for n, column := range columns {
			privilege, is := strings.CutSuffix(column, "_priv")
			switch {
			case column == "Host":
				host = values[n]
			case column == "Db":
				pattern = values[n]
			case column == "User":
				name = values[n]
			case is && values[n] == "Y":
				list = append(list, privilegeOf(privilege))
			}
		}
		slices.Sort(list)
		if u, is := found[name+"@"+host]; is {
			u.Grants[pattern] = list
		}
	}
	return rows.Err()
}

// privilegeOf is the privilege of a column of mysql.db, without its end.
func privilegeOf(column string) string {
	switch column {
	case "Grant":
		return "GRANT OPTION"
	case "Create_tmp_table":
		return "CREATE TEMPORARY TABLES"
	case "Delete_history":
		return "DELETE HISTORY"
	}
	return strings.ToUpper(strings.ReplaceAll(column, "_", " "))
}

func (e *mariaDBEngine) run(ctx context.Context, account int64, d databases.Difference) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	for _, s := range d.Statements {
		verb, kind, name := made(s.SQL)
		if verb == "CREATE" {
			if _, err := db.ExecContext(ctx, "INSERT IGNORE INTO "+ownDatabase+".owned VALUES (?, ?, ?)", kind, name,
				account); err != nil {
				return err
			}
		}
		if _, err := db.ExecContext(ctx, s.SQL); err != nil {
			return fmt.Errorf("%s %w", s, err)
		}
		if verb != "DROP" {
			continue
		}
		// A user goes when the last place goes that it connected from.
		if _, err := db.ExecContext(ctx, "DELETE FROM "+ownDatabase+".owned WHERE kind = ? AND name = ? AND NOT "+
			"(kind = 'user' AND EXISTS (SELECT 1 FROM mysql.global_priv WHERE User = ?))", kind, name,
			name); err != nil {
			return err
		}
	}
	return nil
}

// tidy implements engine.
func (e *mariaDBEngine) tidy(ctx context.Context) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "DELETE FROM "+ownDatabase+".owned WHERE kind = 'database' AND name NOT IN "+
		"(SELECT schema_name FROM information_schema.schemata) OR kind = 'user' AND name NOT IN "+
		"(SELECT user FROM mysql.global_priv)")
	return err
}

// made reads what a statement of the core's makes or drops: CREATE or DROP, of which kind, and its
// name; empty where it does neither.
func made(statement string) (verb, kind, name string) {
	words := strings.SplitN(statement, " ", 4)
	if len(words) < 3 || words[0] != "CREATE" && words[0] != "DROP" {
		return "", "", ""
	}
	switch words[1] {
	case "DATABASE":
		kind = kindDatabase
	case "USER", "ROLE":
		kind = kindUser
	default:
		return "", "", ""
	}
	name, _, _ = strings.Cut(words[2], "@")
	return words[0], kind, strings.Trim(name, "`'\"")
}

func (e *mariaDBEngine) disconnect(ctx context.Context, users []string) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	var list []int64
	err = each(ctx, db, "SELECT id, user FROM information_schema.processlist", nil, func(scan scanner) error {
		var id int64
		var name string
		err := scan(&id, &name)
		if slices.Contains(users, name) {
			list = append(list, id)
		}
		return err
	})
	for _, id := range list {
		_, wrong := db.ExecContext(ctx, fmt.Sprintf("KILL CONNECTION %d", id))
		var gone *mysql.MySQLError
		if wrong != nil && !(errors.As(wrong, &gone) && gone.Number == noSuchThread) {
			err = errors.Join(err, wrong)
		}
	}
	return err
}

// noSuchThread is MariaDB's error number for a connection that is gone (ER_NO_SUCH_THREAD).
const noSuchThread = 1094

// sizes adds up the files of each database: they are what the disk has less of, whichever storage
// engine they are of, and looking at them costs MariaDB nothing.
func (e *mariaDBEngine) sizes(ctx context.Context) (map[string]int64, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var names []string
	err = each(ctx, db, "SELECT name FROM "+ownDatabase+".owned WHERE kind = 'database'", nil,
		func(scan scanner) error {
			var name string
			err := scan(&name)
			names = append(names, name)
			return err
		})
	for _, name := range names {
		size, wrong := onDisk(filepath.Join(render.MariaDBData, name))
		if errors.Is(wrong, fs.ErrNotExist) {
			continue
		}
		err = errors.Join(err, wrong)
		out[name] = size
	}
	return out, err
}

// shrink rewrites tables in which much has been deleted.
func (e *mariaDBEngine) shrink(ctx context.Context, database string) (bool, error) {
	db, err := e.open(ctx)
	if err != nil {
		return false, err
	}
	var tables []string
	err = each(ctx, db, "SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND "+
		"table_type = 'BASE TABLE' AND data_free > 1048576 AND data_free * 4 > data_length + index_length",
		[]any{database}, func(scan scanner) error {
			var name string
			err := scan(&name)
			tables = append(tables, name)
			return err
		})
	for _, name := range tables {
		if _, wrong := db.ExecContext(ctx, "OPTIMIZE LOCAL TABLE "+databases.QuoteMariaDB(database)+"."+
			databases.QuoteMariaDB(name)); wrong != nil {
			slog.Warn("table not rewritten", "database", database, "reason", wrong)
		}
	}
	return len(tables) > 0, err
}

func (e *mariaDBEngine) growths(ctx context.Context) (map[int64]growth, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int64]growth{}
	err = each(ctx, db, "SELECT account, state, size FROM "+ownDatabase+".growth", nil, func(scan scanner) error {
		var account int64
		var g growth
		err := scan(&account, &g.state, &g.size)
		out[account] = g
		return err
	})
	return out, err
}

func (e *mariaDBEngine) saveGrowth(ctx context.Context, account int64, g growth) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	if g.state == databases.Free {
		_, err = db.ExecContext(ctx, "DELETE FROM "+ownDatabase+".growth WHERE account = ?", account)
		return err
	}
	_, err = db.ExecContext(ctx, "REPLACE INTO "+ownDatabase+".growth VALUES (?, ?, ?)", account, string(g.state),
		g.size)
	return err
}
