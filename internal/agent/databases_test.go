package agent_test

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

const databasePassword = "kelp-Harbour-41-gannet"

// withDatabases is an account's manifest on a server that has only databases of it: one in each
// engine, with a user for each level.
func withDatabases(t *testing.T, id, revision int64, signIn string) manifest.Manifest {
	t.Helper()
	m := manifest.Manifest{AccountID: id, SignInName: signIn, Revision: revision, Wanted: manifest.Present,
		Elsewhere: true, Databases: &manifest.Databases{}}
	for _, e := range databases.Engines {
		name := signIn + "_" + map[databases.Engine]string{databases.MariaDB: "shop", databases.PostgreSQL: "notes"}[e]
		charset, collation, err := databases.ParseCharset(e, "", "")
		require.NoError(t, err)
		m.Databases.Databases = append(m.Databases.Databases, databases.Database{Engine: e, Name: name,
			Charset: charset, Collation: collation})
		for _, level := range databases.Levels {
			verifier, err := databases.Verifier(e, databasePassword, []byte("salt of 16 bytes"))
			require.NoError(t, err)
			m.Databases.Users = append(m.Databases.Users, manifest.DatabaseUser{User: databases.User{Engine: e,
				Name: signIn + "_" + string(level) + string(e[0]), Levels: map[string]databases.Level{name: level}},
				Verifier: manifest.Secret(verifier)})
		}
	}
	return m
}

// databaseServer starts a server that keeps databases.
func databaseServer(t *testing.T, name string) (*lab.Server, *agentlink.Client) {
	t.Helper()
	authority, err := agentlink.NewAuthority(time.Now())
	require.NoError(t, err)
	s, c := nameServer(t, labtest.Lab(t, name), authority, "skua", 21)
	require.NoError(t, c.ApplyServer(context.Background(), manifest.Server{Databases: &manifest.DatabaseServer{}}))
	return s, c
}

// engineOf runs statements as a user of an engine on a server, and returns what is printed.
func engineOf(s *lab.Server, e databases.Engine, user, database, statements string, flags ...string) (string, error) {
	argv := []string{"env", "MYSQL_PWD=" + databasePassword, "mariadb", "--user=" + user, "--batch",
		"--skip-column-names"}
	if e == databases.PostgreSQL {
		argv = []string{"env", "PGPASSWORD=" + databasePassword, "psql", "--host=/run/postgresql", "--username=" + user,
			"--no-align", "--tuples-only", "--quiet", "--set=ON_ERROR_STOP=1", "--dbname=" + database}
	}
	argv = append(argv, flags...)
	switch {
	case e == databases.MariaDB:
		argv = append(argv, "--execute="+statements, database)
	default:
		argv = append(argv, "--command="+statements)
	}
	out, err := s.Exec(context.Background(), argv...)
	return strings.TrimSpace(out), err
}

func TestDatabases(t *testing.T) {
	s, c := databaseServer(t, "databases")
	bakery := withDatabases(t, 7, 1, "bakery")
	ferries := withDatabases(t, 8, 1, "ferries")
	start := time.Now()
	assert.True(t, applied(t, c, bakery).Changed)
	t.Logf("two databases with three users each: %s", time.Since(start))
	applied(t, c, ferries)
	assert.False(t, applied(t, c, bakery).Changed, "doing it again changes nothing")
	assert.Empty(t, drift(t, c))

	in := map[databases.Engine]string{databases.MariaDB: "bakery_shop", databases.PostgreSQL: "bakery_notes"}
	for _, e := range databases.Engines {
		user := func(l databases.Level) string { return "bakery_" + string(l) + string(e[0]) }
		run := func(l databases.Level, statements string) (string, error) {
			return engineOf(s, e, user(l), in[e], statements)
		}
		t.Run(string(e)+" levels", func(t *testing.T) {
			_, err := run(databases.All, "CREATE TABLE loaves (id int primary key, name varchar(40)); "+
				"INSERT INTO loaves VALUES (1, 'rye')")
			require.NoError(t, err)
			_, err = run(databases.Write, "INSERT INTO loaves VALUES (2, 'oat'); UPDATE loaves SET name = 'spelt' "+
				"WHERE id = 2")
			require.NoError(t, err)
			out, err := run(databases.Read, "SELECT name FROM loaves ORDER BY id")
			require.NoError(t, err)
			assert.Equal(t, "rye\nspelt", out)
			_, err = run(databases.Read, "DELETE FROM loaves")
			assert.ErrorContains(t, err, "denied")
			_, err = run(databases.Write, "CREATE TABLE more (id int)")
			assert.ErrorContains(t, err, "denied")
			_, err = run(databases.Write, "DROP TABLE loaves")
			assert.Error(t, err)
		})
		t.Run(string(e)+" drift", func(t *testing.T) {
			hand := "REVOKE SELECT ON `bakery\\_shop`.* FROM bakery_readm@localhost"
			if e == databases.PostgreSQL {
				hand = `REVOKE "bakery_notes:read" FROM bakery_readp`
			}
			admin(t, s, e, hand)
			var found []agentlink.Drift
			labtest.Eventually(t, func() bool { found = drift(t, c); return len(found) == 1 })
			assert.Equal(t, "has other rights than it should", found[0].Detail)
			assert.Contains(t, found[0].Diff, "GRANT ")
			assert.True(t, applied(t, c, bakery).Changed)
			_, err := run(databases.Read, "SELECT name FROM loaves")
			assert.NoError(t, err)
			assert.Empty(t, drift(t, c))
		})
	}
	t.Run("what is not ours is left alone", func(t *testing.T) {
		admin(t, s, databases.MariaDB, "CREATE DATABASE bakery_old; CREATE USER bakery_old@localhost")
		admin(t, s, databases.PostgreSQL, "CREATE DATABASE bakery_older")
		m := withDatabases(t, 7, 2, "bakery")
		m.Databases.Databases = append(m.Databases.Databases, databases.Database{Engine: databases.MariaDB,
			Name: "bakery_old", Charset: "utf8mb4", Collation: "utf8mb4_bin"})
		receipt, err := c.Apply(context.Background(), m, func(agentlink.Step) {})
		require.NoError(t, err)
		require.NotNil(t, receipt.Failure)
		assert.Contains(t, receipt.Failure.Message, "was not made for this account")
		applied(t, c, withDatabases(t, 7, 3, "bakery"))
	})
	t.Run("suspended", func(t *testing.T) {
		m := withDatabases(t, 7, 4, "bakery")
		m.Databases.Suspended = true
		applied(t, c, m)
		for _, e := range databases.Engines {
			_, err := engineOf(s, e, "bakery_all"+string(e[0]), in[e], "SELECT 1")
			assert.Error(t, err)
		}
		applied(t, c, withDatabases(t, 7, 5, "bakery"))
		for _, e := range databases.Engines {
			_, err := engineOf(s, e, "bakery_all"+string(e[0]), in[e], "SELECT * FROM loaves")
			assert.NoError(t, err)
		}
	})
	t.Run("from elsewhere", func(t *testing.T) {
		m := withDatabases(t, 7, 6, "bakery")
		for n := range m.Databases.Users {
			m.Databases.Users[n].Hosts = []netip.Prefix{netip.PrefixFrom(s.Address, 32)}
		}
		for _, e := range databases.Engines {
			_, err := engineOf(s, e, "bakery_all"+string(e[0]), in[e], "SELECT 1", "--host="+s.Address.String())
			assert.Error(t, err, e)
		}
		applied(t, c, m)
		for _, e := range databases.Engines {
			at := []string{"--host=" + s.Address.String()}
			if e == databases.MariaDB {
				at = append(at, "--ssl")
			}
			_, err := engineOf(s, e, "bakery_all"+string(e[0]), in[e], "SELECT 1", at...)
			assert.NoError(t, err, e)
		}
		_, err := engineOf(s, databases.MariaDB, "bakery_allm", in[databases.MariaDB], "SELECT 1",
			"--host="+s.Address.String(), "--skip-ssl")
		assert.Error(t, err, "without TLS")
	})
	t.Run("closed", func(t *testing.T) {
		applied(t, c, manifest.Manifest{AccountID: 7, SignInName: "bakery", Revision: 9, Wanted: manifest.Absent,
			Closed: true})
		found := admin(t, s, databases.MariaDB, "SHOW DATABASES LIKE 'bakery%'; SELECT user FROM mysql.user WHERE "+
			"user LIKE 'bakery%'")
		assert.Equal(t, "bakery_old\nbakery_old", found, "only what is not ours")
		found = admin(t, s, databases.PostgreSQL, "SELECT datname FROM pg_database WHERE datname LIKE 'bakery%' UNION "+
			"ALL SELECT rolname FROM pg_roles WHERE rolname LIKE 'bakery%'")
		assert.Equal(t, "bakery_older", found)
		_, err := engineOf(s, databases.MariaDB, "ferries_allm", "ferries_shop", "SELECT 1")
		assert.NoError(t, err)
	})
}

// admin runs statements as the engine's own superuser.
func admin(t *testing.T, s *lab.Server, e databases.Engine, statements string) string {
	t.Helper()
	var argv []string
	if e == databases.MariaDB {
		argv = []string{"mariadb", "--batch", "--skip-column-names", "--execute=" + statements}
	} else {
		argv = []string{"psql", "--host=/run/postgresql", "--username=postgres", "--no-align", "--tuples-only",
			"--quiet"}
		for _, one := range strings.Split(statements, ";") {
			argv = append(argv, "--command="+one)
		}
	}
	out, err := s.Exec(context.Background(), argv...)
	require.NoError(t, err)
	return strings.TrimSpace(out)
}

// An engine that does not answer keeps those alone waiting who have something there.
func TestEngineDoesNotAnswer(t *testing.T) {
	s, c := databaseServer(t, "silent-engine")
	applied(t, c, withDatabases(t, 7, 1, "bakery"))
	plain := account(t, 9, "plain", "plain.example")
	applied(t, c, plain)
	stop := func(signal string) {
		for _, name := range []string{"mariadbd", "postgres"} {
			_, err := s.Exec(context.Background(), "pkill", "-"+signal, "-x", name)
			require.NoError(t, err)
		}
	}
	stop("STOP")
	time.Sleep(1500 * time.Millisecond) // what was heard before counts as long
	start := time.Now()
	plain.Revision++
	applied(t, c, plain)
	assert.Less(t, time.Since(start), 20*time.Second)
	start = time.Now()
	plain.Revision++
	applied(t, c, plain)
	assert.Less(t, time.Since(start), 4*time.Second, "it is not asked again at once")
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	m := withDatabases(t, 7, 2, "bakery")
	m.Databases.Databases[0].Collation = "utf8mb4_bin"
	receipt, err := c.Apply(ctx, m, func(agentlink.Step) {})
	assert.True(t, err != nil || receipt.Failure != nil)
	stop("CONT")
	labtest.Eventually(t, func() bool {
		receipt, err := c.Apply(context.Background(), m, func(agentlink.Step) {})
		return err == nil && receipt.Failure == nil
	})
	assert.Empty(t, drift(t, c))
}

// What an account's user tries on everything beside its own comes to nothing.
func TestHostileDatabaseUsers(t *testing.T) {
	s, c := databaseServer(t, "hostile-users")
	applied(t, c, withDatabases(t, 7, 1, "bakery"))
	applied(t, c, withDatabases(t, 8, 1, "ferries"))
	secret := "the ferry sails at nine"
	for e, in := range map[databases.Engine]string{databases.MariaDB: "ferries_shop",
		databases.PostgreSQL: "ferries_notes"} {
		_, err := engineOf(s, e, "ferries_all"+string(e[0]), in, "CREATE TABLE plans (text varchar(80)); "+
			"INSERT INTO plans VALUES ('"+secret+"')")
		require.NoError(t, err)
	}
	const file = "/tmp/of-a-neighbour"
	tries := map[databases.Engine][]string{
		databases.MariaDB: {
			"SELECT * FROM ferries_shop.plans",
			"INSERT INTO ferries_shop.plans VALUES ('x')",
			"DROP DATABASE ferries_shop",
			"CREATE DATABASE ferries_more",
			"CREATE DATABASE bakeryxshop", // _ in a grant is any character
			"CREATE DATABASE bakery_more",
			"USE mysql",
			"SELECT * FROM mysql.global_priv",
			"SELECT * FROM victualler.owned",
			"SELECT 'x' INTO OUTFILE '" + file + "'",
			"CREATE TABLE words (text text); LOAD DATA INFILE '/etc/passwd' INTO TABLE words",
			"CREATE FUNCTION run RETURNS INTEGER SONAME 'udf.so'",
			"INSTALL PLUGIN run SONAME 'udf.so'",
			"INSTALL SONAME 'ha_spider'",
			"CREATE EVENT later ON SCHEDULE EVERY 1 SECOND DO SELECT 1",
			"CREATE DEFINER=root@localhost VIEW looks AS SELECT * FROM mysql.global_priv",
			"CREATE DEFINER=ferries_allm@localhost VIEW looks AS SELECT * FROM ferries_shop.plans",
			"CREATE DEFINER=ferries_allm@localhost PROCEDURE looks() SELECT * FROM ferries_shop.plans",
			"CREATE VIEW looks AS SELECT * FROM ferries_shop.plans",
			"CREATE TABLE linked LIKE ferries_shop.plans",
			"CREATE SERVER other FOREIGN DATA WRAPPER mysql OPTIONS (HOST '127.0.0.1')",
			"GRANT ALL ON bakery_shop.* TO ferries_allm@localhost",
			"CREATE USER bakery_more@localhost",
			"SET PASSWORD FOR ferries_allm@localhost = PASSWORD('x')",
			"ALTER USER ferries_allm@localhost ACCOUNT LOCK",
			"SET GLOBAL event_scheduler = ON",
			"SET GLOBAL general_log_file = '" + file + "'",
			"SHOW GRANTS FOR ferries_allm@localhost",
			"SHOW BINARY LOGS",
			"FLUSH TABLES",
			"SHUTDOWN",
			"SET ROLE root",
			"SELECT * FROM information_schema.innodb_sys_tables",
			"CREATE TABLE elsewhere (id int) ENGINE=CONNECT TABLE_TYPE=DOS FILE_NAME='/etc/passwd'",
		},
		databases.PostgreSQL: {
			`SELECT * FROM pg_authid`,
			`SELECT * FROM pg_shadow`,
			`SELECT * FROM pg_stat_activity`,
			`SELECT pg_read_file('/etc/passwd')`,
			`SELECT pg_ls_dir('/')`,
			`SELECT lo_import('/etc/passwd')`,
			`SELECT lo_export(1, '` + file + `')`,
			`CREATE TABLE words (text text); COPY words FROM '/etc/passwd'`,
			`COPY (SELECT 1) TO '` + file + `'`,
			`COPY (SELECT 1) TO PROGRAM 'touch ` + file + `'`,
			`CREATE EXTENSION dblink`,
			`CREATE EXTENSION postgres_fdw`,
			`CREATE EXTENSION file_fdw`,
			`CREATE EXTENSION adminpack`,
			`CREATE FUNCTION run() RETURNS int LANGUAGE c AS '/lib/x86_64-linux-gnu/libc.so.6', 'getpid'`,
			`LOAD '/lib/x86_64-linux-gnu/libc.so.6'`,
			`CREATE ROLE bakery_more`,
			`ALTER ROLE ferries_allp PASSWORD 'x'`,
			`ALTER ROLE bakery_allp SUPERUSER`,
			`SET ROLE postgres`,
			`SET ROLE "ferries_notes:owner"`,
			`SET SESSION AUTHORIZATION ferries_allp`,
			`GRANT "ferries_notes:owner" TO bakery_allp`,
			`DROP DATABASE ferries_notes`,
			`ALTER DATABASE ferries_notes SET search_path = x`,
			`CREATE DATABASE bakery_more`,
			`ALTER DATABASE bakery_notes RENAME TO ferries_more`,
			`ALTER SYSTEM SET log_statement = 'all'`,
			`CREATE TABLESPACE more LOCATION '/tmp'`,
			`CREATE EVENT TRIGGER all_of_it ON ddl_command_end EXECUTE FUNCTION f()`,
			`CREATE SUBSCRIPTION other CONNECTION 'dbname=ferries_notes' PUBLICATION p`,
			`SELECT pg_reload_conf()`,
			`SELECT pg_terminate_backend(pid) FROM pg_stat_get_activity(NULL) AS t`,
			`SELECT pg_create_physical_replication_slot('more')`,
			`SELECT * FROM pg_hba_file_rules`,
			`SET session_preload_libraries = 'x'`,
			`CREATE CAST (text AS int) WITHOUT FUNCTION`,
		},
	}
	own := map[databases.Engine]string{databases.MariaDB: "bakery_shop", databases.PostgreSQL: "bakery_notes"}
	for e, list := range tries {
		for _, statement := range list {
			out, err := engineOf(s, e, "bakery_all"+string(e[0]), own[e], statement)
			assert.Error(t, err, "%s: %s: %s", e, statement, out)
			assert.NotContains(t, out, secret)
		}
	}
	t.Run("what it sees", func(t *testing.T) {
		for _, statement := range []string{"SHOW DATABASES", "SELECT table_schema FROM information_schema.tables",
			"SELECT user FROM information_schema.processlist", "SELECT grantee FROM information_schema.user_privileges",
			"SELECT load_file('/etc/passwd')", "SELECT definer FROM information_schema.views",
			"SELECT * FROM information_schema.schemata"} {
			out, err := engineOf(s, databases.MariaDB, "bakery_allm", "bakery_shop", statement)
			assert.NoError(t, err, statement)
			assert.NotContains(t, out, "ferries", statement)
			assert.NotContains(t, out, "root:", statement)
		}
		for _, in := range []string{"ferries_notes", "postgres", "template1"} {
			_, err := engineOf(s, databases.PostgreSQL, "bakery_allp", in, "SELECT 1")
			assert.ErrorContains(t, err, "permission denied for database", in)
		}
	})
	t.Run("as the engine's own user", func(t *testing.T) {
		// In a sandbox nobody is root; as the account's user, the socket lets nobody in as another.
		_, err := s.Exec(context.Background(), "setpriv", "--reuid", "1000007", "--regid", "1000007", "--clear-groups",
			"mariadb", "--user=root", "--execute=SELECT 1")
		assert.ErrorContains(t, err, "denied")
		_, err = s.Exec(context.Background(), "setpriv", "--reuid", "1000007", "--regid", "1000007", "--clear-groups",
			"psql", "--host=/run/postgresql", "--username=postgres", "--command=SELECT 1")
		assert.ErrorContains(t, err, "authentication failed")
	})
	t.Run("what a neighbour gives keeps nobody from closing an account", func(t *testing.T) {
		for _, role := range []string{"ferries_allp", `"ferries_notes:owner"`, `"ferries_notes:read"`} {
			_, err := engineOf(s, databases.PostgreSQL, "bakery_allp", "bakery_notes",
				"CREATE TABLE IF NOT EXISTS bait (id "+
					"int); GRANT SELECT ON bait TO "+role+"; GRANT CONNECT ON DATABASE bakery_notes TO "+role+"; "+
					"ALTER "+
					"DEFAULT "+
					"PRIVILEGES IN SCHEMA public GRANT SELECT ON TABLES TO "+role)
			require.NoError(t, err)
		}
		third := withDatabases(t, 9, 1, "thirds")
		applied(t, c, third)
		_, err := engineOf(s, databases.PostgreSQL, "bakery_allp", "bakery_notes",
			"GRANT SELECT ON bait TO thirds_allp, "+
				`"thirds_notes:owner", "thirds_notes:write"`+"; GRANT CONNECT ON DATABASE bakery_notes TO thirds_readp")
		require.NoError(t, err)
		go engineOf(s, databases.PostgreSQL, "bakery_allp", "bakery_notes",
			"BEGIN; LOCK TABLE bait; SELECT pg_sleep(100)")
		time.Sleep(500 * time.Millisecond)
		third.Revision, third.Wanted, third.Closed, third.Databases = 2, manifest.Absent, true, nil
		applied(t, c, third)
	})
	t.Run("a transaction that is left open keeps nothing from being done", func(t *testing.T) {
		m := withDatabases(t, 9, 3, "thirds")
		applied(t, c, m)
		in := map[databases.Engine]string{databases.MariaDB: "thirds_shop", databases.PostgreSQL: "thirds_notes"}
		for _, e := range databases.Engines {
			_, err := engineOf(s, e, "thirds_all"+string(e[0]), in[e], "CREATE TABLE held (id int)")
			require.NoError(t, err)
		}
		_, err := engineOf(s, databases.PostgreSQL, "thirds_allp", "thirds_notes", "SET ROLE NONE; CREATE SCHEMA own; "+
			"CREATE TABLE own.held (id int)")
		require.NoError(t, err, "what it makes as itself is its own")
		for e, statement := range map[databases.Engine]string{
			databases.MariaDB:    "BEGIN; INSERT INTO held VALUES (1); SELECT sleep(100)",
			databases.PostgreSQL: "BEGIN; LOCK TABLE held IN ACCESS EXCLUSIVE MODE; SELECT pg_sleep(100)"} {
			for _, level := range []string{"all", "write"} {
				go engineOf(s, e, "thirds_"+level+string(e[0]), in[e], statement)
			}
		}
		time.Sleep(time.Second)
		less := withDatabases(t, 9, 4, "thirds")
		less.Databases.Users = less.Databases.Users[:0]
		start := time.Now()
		applied(t, c, less)
		less.Revision, less.Wanted, less.Closed, less.Databases = 5, manifest.Absent, true, nil
		applied(t, c, less)
		assert.Less(t, time.Since(start), 20*time.Second)
	})
	t.Run("tables elsewhere", func(t *testing.T) {
		engineOf(s, databases.MariaDB, "bakery_allm", "bakery_shop",
			"CREATE TABLE away (id int) DATA DIRECTORY='/var/tmp'")
		engineOf(s, databases.MariaDB, "bakery_allm", "bakery_shop", "CREATE TABLE away2 (id int) ENGINE=MyISAM "+
			"DATA DIRECTORY='/var/tmp' INDEX DIRECTORY='/var/tmp'")
		out, err := s.Exec(context.Background(), "ls", "-A", "/var/tmp")
		require.NoError(t, err)
		assert.Empty(t, out, "it would be measured nowhere")
	})
	_, err := s.Exec(context.Background(), "test", "-e", file)
	assert.Error(t, err)
	for e, in := range map[databases.Engine]string{databases.MariaDB: "ferries_shop",
		databases.PostgreSQL: "ferries_notes"} {
		out, err := engineOf(s, e, "ferries_all"+string(e[0]), in, "SELECT text FROM plans")
		assert.NoError(t, err)
		assert.Equal(t, secret, out)
	}
}

// Over the limit, what makes databases larger is refused, reading and deleting go on; under it
// again, all is as it was, without anybody's help.
func TestDatabaseLimit(t *testing.T) {
	s, c := databaseServer(t, "database-limit")
	limit := int64(30 << 20)
	fill := map[databases.Engine]string{
		databases.MariaDB: "CREATE TABLE IF NOT EXISTS words (id int AUTO_INCREMENT PRIMARY KEY, text longtext); " +
			"INSERT INTO words (text) SELECT repeat(md5(rand()), 32768) FROM seq_1_to_40",
		databases.PostgreSQL: "CREATE TABLE IF NOT EXISTS words (id serial PRIMARY KEY, text text); ALTER TABLE " +
			"words ALTER text SET STORAGE external; INSERT INTO words (text) SELECT repeat(md5(n::text), 32768) FROM " +
			"generate_series(1, 40) n",
	}
	for n, e := range databases.Engines {
		signIn := []string{"bakery", "ferries"}[n]
		in := signIn + map[databases.Engine]string{databases.MariaDB: "_shop", databases.PostgreSQL: "_notes"}[e]
		user := signIn + "_all" + string(e[0])
		m := withDatabases(t, int64(7+n), 1, signIn)
		m.Databases.SizeLimit = &limit
		m.Databases.Databases = m.Databases.Databases[n : n+1]
		m.Databases.Users = m.Databases.Users[3*n : 3*n+3]
		applied(t, c, m)
		t.Run(string(e), func(t *testing.T) {
			_, err := engineOf(s, e, user, in, fill[e])
			require.NoError(t, err)
			start := time.Now()
			labtest.Within(t, time.Minute, func() bool {
				_, err := engineOf(s, e, user, in, "INSERT INTO words (text) VALUES ('one more')")
				return err != nil
			})
			t.Logf("stopped after %s", time.Since(start))
			out, err := engineOf(s, e, user, in, "SELECT count(*) FROM words WHERE text <> 'one more'")
			require.NoError(t, err)
			assert.Equal(t, "40", out)
			for _, statement := range []string{"UPDATE words SET text = 'x'", "CREATE TABLE more (id int)",
				"ALTER TABLE words ADD more int", "CREATE INDEX more ON words (id)"} {
				_, err := engineOf(s, e, user, in, statement)
				assert.Error(t, err, statement)
			}
			assert.Empty(t, drift(t, c), "it is as it should be")
			applied(t, c, m)
			_, err = engineOf(s, e, user, in, "INSERT INTO words (text) VALUES ('x')")
			assert.Error(t, err, "an apply gives nothing back")
			_, err = engineOf(s, e, user, in, "DELETE FROM words WHERE id > 5")
			require.NoError(t, err)
			start = time.Now()
			labtest.Within(t, time.Minute, func() bool {
				_, err := engineOf(s, e, user, in, "INSERT INTO words (text) VALUES ('again')")
				return err == nil
			})
			t.Logf("given back after %s", time.Since(start))
			_, err = engineOf(s, e, user, in, "CREATE TABLE more (id int)")
			assert.NoError(t, err)
		})
	}
}
