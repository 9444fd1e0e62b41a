package database

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/wholefile"
	"victualler/internal/hosting/databases"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// PostgreSQL is the program: the newest cluster that Debian's tools know as main.
type PostgreSQL struct{ program }

// cluster finds the configuration of the newest cluster called main.
func cluster() (dir, version string) {
	found, err := filepath.Glob("/etc/postgresql/*/main")
	if err != nil || len(found) == 0 {
		return "", ""
	}
	dir = slices.MaxFunc(found, func(a, b string) int { return len(a) - len(b) + strings.Compare(a, b) })
	return dir, filepath.Base(filepath.Dir(dir))
}

// PostgreSQLInstalled reports whether this server has PostgreSQL.
func PostgreSQLInstalled() bool {
	dir, version := cluster()
	_, err := os.Stat("/usr/lib/postgresql/" + version + "/bin/postgres")
	return dir != "" && err == nil
}

// NewPostgreSQL returns the driver of PostgreSQL.
func NewPostgreSQL(scratch string) *PostgreSQL {
	dir, version := cluster()
	d := &PostgreSQL{program{engine: databases.PostgreSQL, user: "postgres", unit: "postgresql@" +
		version + "-main",
		pidFile: render.PostgreSQLPID,
		config:  filepath.Join(dir, "conf.d", "90-victualler.conf"), scratch: scratch,
		base: func(s manifest.Server) []render.File { return render.PostgreSQLBase(s, dir) },
		test: []string{"setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups",
			"/usr/lib/postgresql/" + version + "/bin/postgres", "-D", "/var/lib/postgresql/" + version + "/main", "-c",
			"config_file=" + filepath.Join(dir, "postgresql.conf"), "-C", "max_connections"}}}
	d.reload = func(ctx context.Context) error {
		return withPostgreSQL(ctx, "postgres", func(c *pgx.Conn) error {
			var before time.Time
			if err := c.QueryRow(ctx, "SELECT pg_conf_load_time() FROM pg_reload_conf()").Scan(&before); err != nil {
				return err
			}
			if err := reloadedSince(ctx, c, before); err != nil {
				return err
			}
			var wrong string
			err := c.QueryRow(ctx, "SELECT error FROM pg_hba_file_rules WHERE error IS NOT NULL LIMIT 1").Scan(&wrong)
			if errors.Is(err, pgx.ErrNoRows) {
				return nil
			}
			return errors.Join(err, errors.New(wrong))
		})
	}
	d.stop = func(ctx context.Context) error {
		_, err := daemon.Signal(ctx, d.pidFile, syscall.SIGINT) // disconnects, and waits for nobody
		return err
	}
	d.ask = func(ctx context.Context) error {
		return withPostgreSQL(ctx, "postgres", func(c *pgx.Conn) error { return c.Ping(ctx) })
	}
	if out, err := exec.Command("/usr/lib/postgresql/"+version+"/bin/postgres", "--version").Output(); err == nil {
		_, rest, _ := strings.Cut(string(out), ") ")
		d.version, _, _ = strings.Cut(strings.TrimSpace(rest), " ")
	}
	return d
}

// reloadedSince waits until the engine has taken over its settings, which it does in its own time.
func reloadedSince(ctx context.Context, c *pgx.Conn, before time.Time) error {
	return daemon.WaitFor(ctx, func(ctx context.Context) error {
		var at time.Time
		err := c.QueryRow(ctx, "SELECT pg_conf_load_time()").Scan(&at)
		if err == nil && !at.After(before) {
			err = errors.New("has not read its settings yet")
		}
		return err
	})
}

// Reload implements agent.Program: who may connect from where is put together of the accounts'
// files first.
func (d *PostgreSQL) Reload(ctx context.Context) error {
	if d.used.Load() {
		if err := d.access(); err != nil {
			return err
		}
	}
	return d.program.Reload(ctx)
}

// access writes the file that says who may connect from where.
func (d *PostgreSQL) access() error {
	files, err := d.AccountFiles()
	if err != nil {
		return err
	}
	text := []byte(render.PostgreSQLAccessHead())
	for _, file := range files {
		lines, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		text = append(text, lines...)
	}
	return wholefile.Write(render.PostgreSQLAccess, text, 0o640, d.user)
}

// Files implements agent.Program.
func (*PostgreSQL) Files(m manifest.Manifest) []render.File { return render.PostgreSQLFiles(m) }

// AccountFiles implements agent.Program.
func (*PostgreSQL) AccountFiles() ([]string, error) {
	return daemon.FilesLike(filepath.Join(render.PostgreSQLHosts, "*.conf"))
}

// Owner implements agent.Program.
func (*PostgreSQL) Owner(path string) string { return render.PostgreSQLOwner(path) }

// connectPostgreSQL connects to a database as the engine's own user. What the database's owner may
// have set there for everybody is set back: names mean what the engine means by them.
func connectPostgreSQL(ctx context.Context, database string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig("host=" + databases.PostgreSQL.Socket() + " user=postgres connect_timeout=5")
	if err != nil {
		return nil, err
	}
	config.Database = database
	config.RuntimeParams = map[string]string{"search_path": "pg_catalog", "lock_timeout": "20s",
		"statement_timeout": "0", "default_transaction_read_only": "off", "application_name": "victualler",
		"default_transaction_isolation": "read committed", "check_function_bodies": "off"}
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	return pgx.ConnectConfig(ctx, config)
}

// withPostgreSQL calls f with a connection to a database.
func withPostgreSQL(ctx context.Context, database string, f func(*pgx.Conn) error) error {
	c, err := connectPostgreSQL(ctx, database)
	if err != nil {
		return err
	}
	defer c.Close(context.WithoutCancel(ctx))
	return f(c)
}

// postgreSQLEngine is the running PostgreSQL.
type postgreSQLEngine struct {
	// conn is for what changes the engine, watch for what looks at others and must not wait.
	conn, watch keptConn
	// counted, which the lock of conn guards, is by database what of its rows had changed when its
	// size was measured.
	counted map[string]counted
	// rewritten is by database and table how many of its rows had been deleted when it was
	// rewritten last. Only the loop that measures uses it.
	rewritten map[string]map[uint32]int64

	visitsMu sync.Mutex
	// visits are the roles of visitors that there are.
	visits map[string]bool
}

type counted struct {
	changes, size int64
	at            time.Time
}

func (*postgreSQLEngine) kind() databases.Engine { return databases.PostgreSQL }

// keptConn is a connection to the engine's own database, which is kept.
type keptConn struct {
	mu   sync.Mutex
	conn *pgx.Conn
}

// with calls f with the connection; a new one begins with a statement.
func (k *keptConn) with(ctx context.Context, begin string, f func(*pgx.Conn) error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.conn != nil && k.conn.Ping(ctx) != nil {
		k.conn.Close(context.WithoutCancel(ctx))
		k.conn = nil
	}
	if k.conn == nil {
		c, err := connectPostgreSQL(ctx, "postgres")
		if err != nil {
			return err
		}
		if _, err := c.Exec(ctx, begin, pgx.QueryExecModeSimpleProtocol); err != nil {
			c.Close(context.WithoutCancel(ctx))
			return err
		}
		k.conn = c
	}
	return f(k.conn)
}

// with calls f with the connection to the engine's own database.
func (e *postgreSQLEngine) with(ctx context.Context, f func(*pgx.Conn) error) error {
	return e.conn.with(ctx, ownSchema, f)
}

// ownSchema makes the agent's tables, and lets nobody else into the engine's own databases.
const ownSchema = `
CREATE SCHEMA IF NOT EXISTS victualler;
CREATE TABLE IF NOT EXISTS victualler.owned (kind text NOT NULL, name text NOT NULL, account bigint NOT NULL,
    prepared int NOT NULL DEFAULT 0, PRIMARY KEY (kind, name));
CREATE INDEX IF NOT EXISTS owned_account ON victualler.owned (account);
CREATE TABLE IF NOT EXISTS victualler.growth (account bigint PRIMARY KEY, state text NOT NULL, size bigint NOT NULL);
REVOKE CONNECT, TEMPORARY ON DATABASE postgres, template1 FROM PUBLIC;
`

// preparedAs counts changes of what is set up within databases, so that all are set up anew.
const preparedAs = 1

func (e *postgreSQLEngine) ready(ctx context.Context) error {
	return e.with(ctx, func(*pgx.Conn) error { return nil })
}

// rowsOf calls f for every row of a question.
func rowsOf(ctx context.Context, c *pgx.Conn, question string, args []any, f func(scanner) error) error {
	rows, err := c.Query(ctx, question, args...)
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

func (e *postgreSQLEngine) held(ctx context.Context) (map[int64]bool, error) {
	held := map[int64]bool{}
	err := e.with(ctx, func(c *pgx.Conn) error {
		return rowsOf(ctx, c, "SELECT DISTINCT account FROM victualler.owned", nil, func(scan scanner) error {
			var account int64
			err := scan(&account)
			held[account] = true
			return err
		})
	})
	return held, err
}

func (e *postgreSQLEngine) differences(ctx context.Context, account int64,
	wanted databases.Account) ([]databases.Difference, error) {
	var c catalogue
	err := e.with(ctx, func(conn *pgx.Conn) error {
		if err := c.readOwned(ctx, conn, &account); err != nil {
			return err
		}
		names, roles := c.own[account].with(wanted)
		if err := c.readDatabases(ctx, conn, append([]string{}, names...)); err != nil {
			return err
		}
		return c.readRoles(ctx, conn, append([]string{}, withGroups(names, roles)...))
	})
	if err != nil {
		return nil, err
	}
	return c.compare(account, wanted)
}

// whole implements engine.
func (e *postgreSQLEngine) whole(ctx context.Context) (compare, error) {
	var c catalogue
	err := e.with(ctx, func(conn *pgx.Conn) error {
		if err := c.readOwned(ctx, conn, nil); err != nil {
			return err
		}
		if err := c.readDatabases(ctx, conn, nil); err != nil {
			return err
		}
		return c.readRoles(ctx, conn, nil)
	})
	return c.compare, err
}

// withGroups adds the groups of databases to roles.
func withGroups(names, roles []string) []string {
	for _, name := range names {
		roles = append(roles, databases.PostgreSQLGroups(name)...)
	}
	return roles
}

// catalogue is what was read of PostgreSQL's.
type catalogue struct {
	own       map[int64]owned
	prepared  map[string]bool
	databases map[string]databases.PostgreSQLDatabase
	roles     map[string]databases.PostgreSQLRole
}

// compare compares what there is under the names of an account with what is wanted. Nothing is
// taken over that was not made for it.
func (c *catalogue) compare(account int64, wanted databases.Account) ([]databases.Difference, error) {
	own := c.own[account]
	there := databases.PostgreSQLCatalogue{Databases: map[string]databases.PostgreSQLDatabase{},
		Roles: map[string]databases.PostgreSQLRole{}}
	names, roles := own.with(wanted)
	for _, name := range names {
		d, is := c.databases[name]
		switch {
		case is && !own[kindDatabase][name]:
			return nil, foreign("database", name)
		case is:
			d.Prepared = c.prepared[name]
			there.Databases[name] = d
		}
	}
	for _, name := range withGroups(names, roles) {
		r, is := c.roles[name]
		switch {
		case is && databases.OwnerOf(name) != "" && !own[kindUser][name]:
			return nil, foreign("role", name)
		case is:
			there.Roles[name] = r
		}
	}
	return databases.PostgreSQLDifferences(there, wanted), nil
}

// readOwned reads what was made for an account; nil is for all.
func (c *catalogue) readOwned(ctx context.Context, conn *pgx.Conn, account *int64) error {
	c.own, c.prepared = map[int64]owned{}, map[string]bool{}
	return rowsOf(ctx, conn, "SELECT account, kind, name, prepared FROM victualler.owned WHERE $1::bigint IS NULL OR "+
		"account = $1", []any{account}, func(scan scanner) error {
		var number int64
		var kind, name string
		var n int
		if err := scan(&number, &kind, &name, &n); err != nil {
			return err
		}
		ownedBy(c.own, number)[kind][name] = true
		if kind == kindDatabase {
			c.prepared[name] = n >= preparedAs
		}
		return nil
	})
}

// readDatabases reads databases of some names; nil is all.
func (c *catalogue) readDatabases(ctx context.Context, conn *pgx.Conn, names []string) error {
	c.databases = map[string]databases.PostgreSQLDatabase{}
	return rowsOf(ctx, conn, `SELECT datname, pg_get_userbyid(datdba), coalesce(array(SELECT
			coalesce(nullif(grantee, 0)::regrole::text, '') || ' ' || privilege_type FROM aclexplode(datacl)), '{}')
		FROM pg_database WHERE $1::text[] IS NULL OR datname = ANY($1)`, []any{names}, func(scan scanner) error {
		var d databases.PostgreSQLDatabase
		var name string
		var grants []string
		err := scan(&name, &d.Owner, &grants)
		d.Grants = compactGrants(grants)
		c.databases[name] = d
		return err
	})
}

// compactGrants puts what everybody has been granted on a database, “ROLE PRIVILEGE” each, into the
// form in which grants are compared: “ROLE=CTc”.
func compactGrants(grants []string) []string {
	letters := map[string]string{"CREATE": "C", "TEMPORARY": "T", "CONNECT": "c"}
	by := map[string]string{}
	for _, grant := range grants {
		role, privilege, _ := strings.Cut(grant, " ")
		role = strings.Trim(role, `"`)
		by[role] += letters[privilege]
	}
	var list []string
	for role, text := range by {
		ordered := ""
		for _, letter := range "CTc" {
			if strings.ContainsRune(text, letter) {
				ordered += string(letter)
			}
		}
		list = append(list, role+"="+ordered)
	}
	slices.Sort(list)
	return list
}

// readRoles reads roles of some names, what they are members of, and what they become; nil is all.
func (c *catalogue) readRoles(ctx context.Context, conn *pgx.Conn, names []string) error {
	c.roles = map[string]databases.PostgreSQLRole{}
	err := rowsOf(ctx, conn, `SELECT rolname, rolcanlogin, coalesce(rolpassword, ''), rolconnlimit,
			array_remove(ARRAY[CASE WHEN rolsuper THEN 'SUPERUSER' END, CASE WHEN rolcreatedb THEN 'CREATEDB' END,
				CASE WHEN rolcreaterole THEN 'CREATEROLE' END, CASE WHEN rolreplication THEN 'REPLICATION' END,
				CASE WHEN rolbypassrls THEN 'BYPASSRLS' END], NULL),
			array(SELECT g.rolname FROM pg_auth_members m JOIN pg_authid g ON g.oid = m.roleid
				WHERE m.member = pg_authid.oid ORDER BY g.rolname COLLATE "C")::text[]
		FROM pg_authid WHERE $1::text[] IS NULL OR rolname = ANY($1)`, []any{names}, func(scan scanner) error {
		var name string
		r := databases.PostgreSQLRole{Becomes: map[string]string{}}
		err := scan(&name, &r.SignsIn, &r.Verifier, &r.Connections, &r.Powers, &r.Member)
		c.roles[name] = r
		return err
	})
	if err != nil {
		return err
	}
	return rowsOf(ctx, conn, `SELECT r.rolname, d.datname, s.setconfig FROM pg_db_role_setting s
		JOIN pg_authid r ON r.oid = s.setrole JOIN pg_database d ON d.oid = s.setdatabase
		WHERE $1::text[] IS NULL OR r.rolname = ANY($1)`, []any{names}, func(scan scanner) error {
		var name, database string
		var settings []string
		if err := scan(&name, &database, &settings); err != nil {
			return err
		}
		for _, setting := range settings {
			if role, is := strings.CutPrefix(setting, "role="); is && c.roles[name].Becomes != nil {
				c.roles[name].Becomes[database] = role
			}
		}
		return nil
	})
}

func (e *postgreSQLEngine) run(ctx context.Context, account int64, d databases.Difference) error {
	for n := 0; n < len(d.Statements); {
		in := d.Statements[n].In
		end := n + 1
		for end < len(d.Statements) && d.Statements[end].In == in {
			end++
		}
		part := d.Statements[n:end]
		n = end
		if in == "" {
			if err := e.with(ctx, func(c *pgx.Conn) error { return runOutside(ctx, c, account, part) }); err != nil {
				return err
			}
			continue
		}
		if err := withPostgreSQL(ctx, in, func(c *pgx.Conn) error {
			defer clearWay(ctx, c.PgConn().PID())()
			return runWithin(ctx, c, part)
		}); err != nil {
			return err
		}
	}
	if d.Drops { // its groups as well
		return e.with(ctx, func(c *pgx.Conn) error { return deleteOwned(ctx, c, kindDatabase, d.Subject) })
	}
	if d.Prepares == "" {
		return nil
	}
	return e.with(ctx, func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, "UPDATE victualler.owned SET prepared = $2 WHERE kind = 'database' AND name = $1",
			d.Prepares, preparedAs)
		return err
	})
}

// deleteOwned writes down that something is no longer there.
func deleteOwned(ctx context.Context, c *pgx.Conn, kind, name string) error {
	_, err := c.Exec(ctx, "DELETE FROM victualler.owned WHERE kind = $1 AND name = $2", kind, name)
	return err
}

// tidy implements engine.
func (e *postgreSQLEngine) tidy(ctx context.Context) error {
	return e.with(ctx, func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, `DELETE FROM victualler.owned WHERE
			NOT EXISTS (SELECT FROM pg_roles WHERE rolname = name OR
				kind = 'database' AND starts_with(rolname::text, name || ':'))
			AND NOT EXISTS (SELECT FROM pg_database WHERE kind = 'database' AND datname = name)`)
		return err
	})
}

// clearWay disconnects whoever holds a lock that a process of ours waits for, until it is told to
// end: a transaction that a customer leaves open keeps nothing from being done.
func clearWay(ctx context.Context, pid uint32) (end func()) {
	ctx, end = context.WithCancel(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(500 * time.Millisecond):
			}
			// By a connection of its own: the one that is kept may be what waits for this.
			err := withPostgreSQL(ctx, "postgres", func(c *pgx.Conn) error {
				_, err := c.Exec(ctx, "SELECT pg_terminate_backend(p) FROM unnest(pg_blocking_pids($1)) AS p",
					int32(pid))
				return err
			})
			if err != nil && ctx.Err() == nil {
				slog.Warn("whoever holds locks was not disconnected", "reason", err)
			}
		}
	}()
	return end
}

// disownElsewhere takes away what a role, which is to be dropped, has been given in other
// databases: anybody can give something of theirs to a role of a neighbour's, who could not be
// closed then.
func disownElsewhere(ctx context.Context, c *pgx.Conn, role string) error {
	var in []string
	err := rowsOf(ctx, c, `SELECT DISTINCT coalesce(d.datname, 'postgres') FROM pg_shdepend s
		JOIN pg_authid r ON r.oid = s.refobjid AND s.refclassid = 'pg_authid'::regclass
		LEFT JOIN pg_database d ON d.oid = s.dbid WHERE r.rolname = $1 AND s.deptype <> 'o'`, []any{role},
		func(scan scanner) error {
			var name string
			err := scan(&name)
			in = append(in, name)
			return err
		})
	if err != nil {
		return err
	}
	for _, database := range in {
		if err := withPostgreSQL(ctx, database, func(c *pgx.Conn) error {
			defer clearWay(ctx, c.PgConn().PID())()
			_, err := c.Exec(ctx, "DROP OWNED BY "+pgx.Identifier{role}.Sanitize())
			return err
		}); err != nil {
			return fmt.Errorf("what %s has been given in %s: %w", role, database, err)
		}
	}
	return nil
}

// runOutside executes statements that concern databases as wholes, and roles.
func runOutside(ctx context.Context, c *pgx.Conn, account int64,
	statements []databases.Statement) error {
	for _, s := range statements {
		verb, kind, name := made(s.SQL)
		if verb == "DROP" && kind == kindUser {
			if err := disownElsewhere(ctx, c, name); err != nil {
				return err
			}
		}
		if database, _, isGroup := strings.Cut(name, ":"); isGroup {
			kind, name = kindDatabase, database // its row stays until all of it is gone
		}
		if verb == "CREATE" && databases.OwnerOf(name) != "" {
			if _, err := c.Exec(ctx, "INSERT INTO victualler.owned (kind, name, account) VALUES ($1, $2, $3) "+
				"ON CONFLICT DO NOTHING", kind, name, account); err != nil {
				return err
			}
		}
		if _, err := c.Exec(ctx, s.SQL); err != nil {
			return fmt.Errorf("%s %w", s, err)
		}
		if verb == "DROP" && kind == kindUser {
			if err := deleteOwned(ctx, c, kind, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// runWithin executes statements in one database, all or none.
func runWithin(ctx context.Context, c *pgx.Conn, statements []databases.Statement) error {
	tx, err := c.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for _, s := range statements {
		if _, err := tx.Exec(ctx, s.SQL); err != nil {
			return fmt.Errorf("%s %w", s, err)
		}
	}
	return tx.Commit(ctx)
}

func (e *postgreSQLEngine) disconnect(ctx context.Context, users []string) error {
	return e.with(ctx, func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = ANY($1)", users)
		return err
	})
}

// sizes adds up the files of those databases alone in which something has changed since they were
// measured last: an empty one has 300 files.
func (e *postgreSQLEngine) sizes(ctx context.Context) (map[string]int64, error) {
	out := map[string]int64{}
	err := e.with(ctx, func(c *pgx.Conn) error {
		return rowsOf(ctx, c, `SELECT name, tup_inserted + tup_updated + tup_deleted + xact_commit,
			current_setting('data_directory') || '/base/' || datid
			FROM pg_stat_database JOIN victualler.owned ON kind = 'database' AND name = datname`, nil,
			func(scan scanner) error {
				var name, dir string
				var changes int64
				if err := scan(&name, &changes, &dir); err != nil {
					return err
				}
				before, is := e.counted[name]
				if !is || before.changes != changes || time.Since(before.at) >= time.Hour {
					size, err := onDisk(dir)
					if errors.Is(err, fs.ErrNotExist) {
						return nil // it is being dropped
					}
					if err != nil {
						return err
					}
					before = counted{changes, size, time.Now()}
					e.counted[name] = before
				}
				out[name] = before.size
				return nil
			})
	})
	return out, err
}

// shrink rewrites tables in which rows were deleted since they were rewritten last.
func (e *postgreSQLEngine) shrink(ctx context.Context, database string) (bool, error) {
	type table struct {
		id   uint32
		name string
		gone int64
	}
	var tables []table
	err := withPostgreSQL(ctx, database, func(c *pgx.Conn) error {
		err := rowsOf(ctx, c, `SELECT relid, quote_ident(schemaname) || '.' || quote_ident(relname),
				n_tup_del + n_tup_upd FROM pg_stat_user_tables
			WHERE n_tup_del + n_tup_upd > 0 AND pg_total_relation_size(relid) > 1048576`, nil,
			func(scan scanner) error {
				var one table
				err := scan(&one.id, &one.name, &one.gone)
				if e.rewritten[database][one.id] != one.gone {
					tables = append(tables, one)
				}
				return err
			})
		for _, one := range tables {
			if _, wrong := c.Exec(ctx, "VACUUM (FULL) "+one.name); wrong != nil {
				slog.Warn("table not rewritten", "database", database, "reason", wrong)
			}
		}
		return err
	})
	if len(tables) == 0 {
		return false, err
	}
	if e.rewritten[database] == nil {
		e.rewritten[database] = map[uint32]int64{}
	}
	for _, one := range tables {
		e.rewritten[database][one.id] = one.gone
	}
	e.conn.mu.Lock()
	delete(e.counted, database)
	e.conn.mu.Unlock()
	return true, err
}

func (e *postgreSQLEngine) growths(ctx context.Context) (map[int64]growth, error) {
	out := map[int64]growth{}
	err := e.with(ctx, func(c *pgx.Conn) error {
		return rowsOf(ctx, c, "SELECT account, state, size FROM victualler.growth", nil, func(scan scanner) error {
			var account int64
			var g growth
			err := scan(&account, &g.state, &g.size)
			out[account] = g
			return err
		})
	})
	return out, err
}

func (e *postgreSQLEngine) saveGrowth(ctx context.Context, account int64, g growth) error {
	return e.with(ctx, func(c *pgx.Conn) error {
		var err error
		if g.state == databases.Free {
			_, err = c.Exec(ctx, "DELETE FROM victualler.growth WHERE account = $1", account)
		} else {
			_, err = c.Exec(ctx, `INSERT INTO victualler.growth VALUES ($1, $2, $3) ON CONFLICT (account)
				DO UPDATE SET state = excluded.state, size = excluded.size`, account, string(g.state), g.size)
		}
		return err
	})
}
