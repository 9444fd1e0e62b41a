package databases_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/databases"
)

func TestName(t *testing.T) {
	for typed, whole := range map[string]string{"shop": "bakery_shop", "bakery_shop": "bakery_shop",
		" Shop ": "bakery_shop", "a_b": "bakery_a_b", "2027": "bakery_2027"} {
		name, err := databases.Name("bakery", typed)
		require.NoError(t, err)
		assert.Equal(t, whole, name)
		assert.Equal(t, "bakery", databases.OwnerOf(name))
	}
	for _, typed := range []string{"", "bakery_", "_a", "a_", "a-b", "a b", "a'b", "a`b", `a"b`, `a\b`, "a%", "ä",
		strings.Repeat("a", 31), "a:owner", "a\n"} {
		_, err := databases.Name("bakery", typed+"")
		if typed == "a\n" { // blanks around are left out
			assert.NoError(t, err)
			continue
		}
		assert.Error(t, err, typed)
	}
	for _, name := range []string{"shop", "_shop", "root_shop", "bakery_", "bakery_a-b", "mysql"} {
		assert.Empty(t, databases.OwnerOf(name), name)
	}
}

// Names of two accounts never meet, whatever is typed.
func TestNamesNeverMeet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		signIn := rapid.StringMatching(`[a-z][a-z0-9]{2,9}`)
		one, other := signIn.Draw(t, "one"), signIn.Draw(t, "other")
		typed := rapid.StringMatching(`[a-z0-9_]{1,12}`)
		a, errA := databases.Name(one, typed.Draw(t, "a"))
		b, errB := databases.Name(other, typed.Draw(t, "b"))
		if errA == nil && errB == nil && one != other {
			assert.NotEqual(t, a, b)
		}
	})
}

func TestCharsets(t *testing.T) {
	for _, c := range []struct {
		engine                               databases.Engine
		charset, collation, wanted, wantedIn string
	}{
		{databases.MariaDB, "", "", "utf8mb4", "utf8mb4_unicode_ci"},
		{databases.MariaDB, "LATIN1", "", "latin1", "latin1_swedish_ci"},
		{databases.MariaDB, "", "latin1_german2_ci", "latin1", "latin1_german2_ci"},
		{databases.PostgreSQL, "", "", "UTF8", "und"},
		{databases.PostgreSQL, "utf8", "de", "UTF8", "de"},
	} {
		charset, collation, err := databases.ParseCharset(c.engine, c.charset, c.collation)
		require.NoError(t, err)
		assert.Equal(t, []string{c.wanted, c.wantedIn}, []string{charset, collation})
	}
	for _, c := range [][3]string{{"mariadb", "utf9", ""}, {"mariadb", "latin1", "utf8mb4_bin"},
		{"postgresql", "", "C'; DROP"}, {"postgresql", "latin1", ""}} {
		_, _, err := databases.ParseCharset(databases.Engine(c[0]), c[1], c[2])
		assert.Error(t, err, c)
	}
}

func TestHosts(t *testing.T) {
	list, err := databases.ParseHosts([]string{"192.0.2.7", "198.51.100.9/24", "2001:db8::1", "192.0.2.7",
		"::ffff:192.0.2.7"})
	require.NoError(t, err)
	assert.Equal(t, "[192.0.2.7/32 198.51.100.0/24 2001:db8::1/128]", fmt.Sprint(list))
	for _, wrong := range []string{"%", "0.0.0.0/0", "::/0", "2001:db8::/64", "a.example", "192.0.2.0/33",
		"fe80::1%eth0"} {
		_, err := databases.ParseHosts([]string{wrong})
		assert.Error(t, err, wrong)
	}
}

func TestVerifiers(t *testing.T) {
	// As MariaDB's own PASSWORD() and PostgreSQL's own hashing have it.
	text, err := databases.Verifier(databases.MariaDB, "secret", nil)
	require.NoError(t, err)
	assert.Equal(t, "*14E65567ABDB5135D0CFD9A70B3032C179A49EE7", text)
	assert.True(t, databases.IsVerifier(databases.MariaDB, text))
	// RFC 7677, section 3: user “user”, password “pencil”.
	text, err = databases.Verifier(databases.PostgreSQL, "pencil",
		[]byte("[m\x99h\x9d\x12\x35\x8e\xec\xa0K\x14\x126\xfa\x81"))
	require.NoError(t, err)
	assert.Equal(t, "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:"+
		"wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU=", text)
	assert.True(t, databases.IsVerifier(databases.PostgreSQL, text))
	for _, wrong := range []string{"", "*", "secret", "*14e6", text + "'", "md5abc"} {
		assert.False(t, databases.IsVerifier(databases.MariaDB, wrong))
		assert.False(t, databases.IsVerifier(databases.PostgreSQL, wrong))
	}
}

func TestGrowth(t *testing.T) {
	limit := int64(100 << 20)
	at := func(now databases.Growth, stopped, size int64) databases.Growth {
		return databases.NextGrowth(now, stopped<<20, size<<20, size<<20, &limit)
	}
	assert.Equal(t, databases.Free, at(databases.Free, 0, 99))
	assert.Equal(t, databases.Stopped, at(databases.Free, 0, 100))
	assert.Equal(t, databases.Stopped, at(databases.Stopped, 120, 140), "what is under way when it is stopped")
	assert.Equal(t, databases.Closed, at(databases.Stopped, 120, 160), "it grows all the same")
	assert.Equal(t, databases.Closed, at(databases.Closed, 120, 110))
	assert.Equal(t, databases.Free, at(databases.Closed, 120, 99))
	assert.Equal(t, databases.Free, databases.NextGrowth(databases.Stopped, 0, 1<<40, 1<<40, nil))
	assert.Equal(t, databases.Stopped, databases.NextGrowth(databases.Free, 0, 60<<20, 120<<20, &limit),
		"those of other engines count")
	assert.Equal(t, databases.Free, databases.NextGrowth(databases.Free, 0, 0, 120<<20, &limit), "nothing here")
}

func TestNotices(t *testing.T) {
	limit := int64(1000)
	told := 0
	var heard []int
	for _, used := range []int64{100, 790, 800, 810, 790, 810, 949, 950, 960, 940, 1000, 1200, 996, 970, 951, 940, 100,
		850} {
		now, tell := databases.NextNotice(told, used, &limit)
		if tell {
			heard = append(heard, now)
		}
		told = now
	}
	assert.Equal(t, []int{80, 95, 100, 80}, heard, "each once, and again only after it was clearly under it")
	_, tell := databases.NextNotice(0, 1000, nil)
	assert.False(t, tell, "there is no limit")
}

// wanted is an account with two databases and two users.
func wanted() databases.Account {
	verifier := "*14E65567ABDB5135D0CFD9A70B3032C179A49EE7"
	return databases.Account{
		Databases: []databases.Database{
			{Engine: databases.MariaDB, Name: "bakery_shop", Charset: "utf8mb4", Collation: "utf8mb4_bin"},
			{Engine: databases.MariaDB, Name: "bakery_log", Charset: "utf8mb4", Collation: "utf8mb4_bin"}},
		Users: []databases.UserWithVerifier{
			{User: databases.User{Name: "bakery_app", Levels: map[string]databases.Level{"bakery_shop": databases.All,
				"bakery_log": databases.Write}}, Verifier: verifier},
			{User: databases.User{Name: "bakery_eye", Levels: map[string]databases.Level{"bakery_log": databases.Read},
				Hosts: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/25")}}}}}
}

func statements(list []databases.Difference) string {
	var text strings.Builder
	for _, d := range list {
		fmt.Fprintf(&text, "%s %s\n%s", d.Subject, d.Detail, d.Text())
	}
	return text.String()
}

func TestMariaDBDifferences(t *testing.T) {
	nothing := databases.MariaDBCatalogue{}
	all := databases.MariaDBDifferences(nothing, wanted())
	text := statements(all)
	assert.Contains(t, text, "CREATE DATABASE `bakery_shop` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;")
	assert.Contains(t, text, "ON `bakery\\_shop`.* TO 'bakery_app'@'localhost'", "_ must be no pattern")
	assert.Contains(t, text, "CREATE USER 'bakery_eye'@'192.0.2.0/255.255.255.128' IDENTIFIED VIA "+
		"mysql_native_password USING '…' REQUIRE SSL")
	assert.Contains(t, text, "ACCOUNT LOCK", "whoever has no password does not sign in")
	assert.NotContains(t, text, "14E65567", "verifiers are shown to nobody")
	assert.NotContains(t, text, "GRANT OPTION")

	found := heldMariaDB(wanted())
	assert.Empty(t, databases.MariaDBDifferences(found, wanted()))

	t.Run("growth stopped", func(t *testing.T) {
		a := wanted()
		a.Growth = databases.Stopped
		list := databases.MariaDBDifferences(found, a)
		assert.Contains(t, statements(list), "REVOKE")
		assert.NotContains(t, statements(list), "GRANT")
		for _, d := range list {
			assert.NotEmpty(t, d.Ends, "connections keep what they had")
		}
		for _, level := range databases.Levels {
			for _, p := range databases.MariaDBPrivileges(level, databases.Stopped) {
				assert.NotContains(t, []string{"INSERT", "UPDATE", "CREATE", "ALTER", "INDEX", "EXECUTE"}, p)
			}
		}
	})
	t.Run("by hand", func(t *testing.T) {
		u := found.Users["bakery_app@localhost"]
		u.Others = []string{"on everything"}
		found.Users["bakery_app@localhost"] = u
		found.Databases["bakery_more"] = databases.MariaDBDatabase{Charset: "utf8mb4", Collation: "utf8mb4_bin"}
		text := statements(databases.MariaDBDifferences(found, wanted()))
		assert.Contains(t, text, "bakery_app@localhost has rights that it should not have: on everything\n"+
			"DROP USER 'bakery_app'@'localhost';\nCREATE USER")
		assert.Contains(t, text, "bakery_more should not be there\nDROP DATABASE `bakery_more`;")
	})
	t.Run("gone", func(t *testing.T) {
		list := databases.MariaDBDifferences(found, databases.Account{})
		drops := 0
		for _, d := range list {
			if d.Drops {
				drops++
			}
		}
		assert.Equal(t, 3, drops)
		assert.Len(t, list, 6, "two users, one of them from two places, and three databases")
	})
}

// heldMariaDB is the catalogue of an engine that holds what an account wants.
func heldMariaDB(a databases.Account) databases.MariaDBCatalogue {
	c := databases.MariaDBCatalogue{Databases: map[string]databases.MariaDBDatabase{},
		Users: map[string]databases.MariaDBUser{}}
	for _, d := range a.Databases {
		c.Databases[d.Name] = databases.MariaDBDatabase{Charset: d.Charset, Collation: d.Collation}
	}
	for _, u := range a.Users {
		one := databases.MariaDBUser{Name: u.Name, Host: "localhost", Plugin: databases.MariaDBPlugin,
			Verifier: u.Verifier, Locked: u.Verifier == "", Connections: 40, Grants: map[string][]string{}}
		for name, level := range u.Levels {
			one.Grants[databases.MariaDBPattern(name)] = databases.MariaDBPrivileges(level, a.Growth)
		}
		c.Users[one.Key()] = one
		for range u.Hosts {
			one.Host, one.TLS = "192.0.2.0/255.255.255.128", true
			c.Users[one.Key()] = one
		}
	}
	return c
}

// Whoever drops or makes a database may be killed in between: what is left is dropped, too.
func TestGroupsOfDatabasesThatAreGone(t *testing.T) {
	found := databases.PostgreSQLCatalogue{Roles: map[string]databases.PostgreSQLRole{"bakery_old:read": {},
		"bakery_old:delete": {}, "bakery_shop:owner": {}}}
	list := databases.PostgreSQLDifferences(found, databases.Account{})
	require.Len(t, list, 2)
	assert.Equal(t, "bakery_old", list[0].Subject)
	assert.True(t, list[0].Drops)
	assert.Equal(t, `DROP ROLE "bakery_old:read"; DROP ROLE "bakery_old:delete"`,
		strings.Join([]string{list[0].Statements[0].SQL, list[0].Statements[1].SQL}, "; "))
	a := wanted()
	for n := range a.Databases {
		a.Databases[n].Engine = databases.PostgreSQL
	}
	assert.NotContains(t, statements(databases.PostgreSQLDifferences(found, a)), `DROP ROLE "bakery_shop`,
		"that one is still to be made")
}

func TestPostgreSQLDifferences(t *testing.T) {
	a := wanted()
	for n := range a.Databases {
		a.Databases[n].Engine, a.Databases[n].Charset, a.Databases[n].Collation = databases.PostgreSQL, "UTF8", "de"
	}
	list := databases.PostgreSQLDifferences(databases.PostgreSQLCatalogue{}, a)
	text := statements(list)
	assert.Contains(t, text, `CREATE DATABASE "bakery_shop" OWNER "bakery_shop:owner" TEMPLATE template0 ENCODING `+
		`'UTF8' LOCALE_PROVIDER icu ICU_LOCALE 'de'`)
	assert.Contains(t, text, `REVOKE ALL ON DATABASE "bakery_shop" FROM PUBLIC`)
	assert.Contains(t, text, `GRANT "bakery_shop:owner" TO "bakery_app"`)
	assert.Contains(t, text, `GRANT "bakery_log:write" TO "bakery_app"`)
	assert.Contains(t, text, `CREATE ROLE "bakery_eye" WITH NOLOGIN`, "whoever has no password does not sign in")
	assert.Less(t, strings.Index(text, `CREATE ROLE "bakery_shop:owner"`), strings.Index(text, `CREATE DATABASE `+
		`"bakery_shop"`), "who owns it is there first")
	assert.NotContains(t, text, "14E65567")

	role := databases.PostgreSQLRole{SignsIn: true, Connections: 40, Verifier: a.Users[0].Verifier,
		Member: []string{"bakery_log:write", "bakery_shop:owner"}, Becomes: map[string]string{
			"bakery_shop": "bakery_shop:owner"}}
	group := databases.PostgreSQLRole{Connections: -1}
	found := databases.PostgreSQLCatalogue{Databases: map[string]databases.PostgreSQLDatabase{},
		Roles: map[string]databases.PostgreSQLRole{"bakery_app": role,
			"bakery_eye": {Connections: 40, Member: []string{"bakery_log:read"}}}}
	for _, d := range a.Databases {
		for _, name := range databases.PostgreSQLGroups(d.Name) {
			found.Roles[name] = group
		}
		found.Databases[d.Name] = databases.PostgreSQLDatabase{Owner: d.Name + ":owner", Prepared: true,
			Grants: []string{d.Name + ":delete=c", d.Name + ":owner=CTc", d.Name + ":read=c", d.Name + ":write=Tc"}}
	}
	assert.Empty(t, statements(databases.PostgreSQLDifferences(found, a)))

	t.Run("growth stopped", func(t *testing.T) {
		full := a
		full.Growth = databases.Stopped
		list := databases.PostgreSQLDifferences(found, full)
		text := statements(list)
		assert.Contains(t, text, `REVOKE "bakery_shop:owner" FROM "bakery_app"`)
		assert.Contains(t, text, `REASSIGN OWNED BY "bakery_app" TO "bakery_shop:owner"`)
		assert.Contains(t, text, `GRANT "bakery_shop:delete" TO "bakery_app"`)
		assert.Contains(t, text, `ALTER ROLE "bakery_app" IN DATABASE "bakery_shop" RESET role`)
		require.Len(t, list, 1, "whoever reads stays as it is")
		assert.Equal(t, []string{"bakery_app"}, list[0].Ends)
	})
	t.Run("suspended", func(t *testing.T) {
		off := a
		off.Suspended = true
		list := databases.PostgreSQLDifferences(found, off)
		require.Len(t, list, 1)
		assert.Contains(t, statements(list), "NOLOGIN")
		assert.Equal(t, []string{"bakery_app"}, list[0].Ends)
	})
	t.Run("a database goes with its groups, last of all", func(t *testing.T) {
		less := a
		less.Databases = a.Databases[:1]
		less.Users = a.Users[:1]
		less.Users[0].Levels = map[string]databases.Level{"bakery_shop": databases.All}
		list := databases.PostgreSQLDifferences(found, less)
		last := list[len(list)-1]
		assert.True(t, last.Drops)
		assert.Contains(t, last.Text(), `DROP DATABASE "bakery_log" WITH (FORCE)`)
		assert.Contains(t, last.Text(), `DROP ROLE "bakery_log:delete"`)
		for _, d := range list[:len(list)-1] {
			assert.False(t, d.Drops)
			assert.NotContains(t, d.Text(), "DROP DATABASE")
		}
	})
	t.Run("powers by hand", func(t *testing.T) {
		strong := role
		strong.Powers = []string{"SUPERUSER"}
		found.Roles["bakery_app"] = strong
		assert.Contains(t, statements(databases.PostgreSQLDifferences(found, a)),
			"bakery_app has rights that it should not have: SUPERUSER\nALTER ROLE")
	})
}

func ExampleName() {
	name, _ := databases.Name("bakery", "Shop")
	fmt.Println(name)
	_, err := databases.Name("bakery", "my shop")
	fmt.Println(err)
	// Output:
	// bakery_shop
	// what follows bakery_ has lower-case letters a to z, digits, and underscores between them
}

func ExampleSheet() {
	d := databases.Database{Engine: databases.PostgreSQL, Name: "bakery_notes"}
	for _, line := range databases.Sheet(d, "bakery_app", databases.Place{Host: "localhost", Local: true}) {
		fmt.Println(line.Text)
	}
	// Output:
	// new PDO('pgsql:host=/run/postgresql;dbname=bakery_notes', 'bakery_app', 'PASSWORD');
	// psql --host=/run/postgresql --username=bakery_app bakery_notes
	// postgresql://bakery_app:PASSWORD@/bakery_notes?host=/run/postgresql
}
