package databases

import (
	"fmt"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
)

// PostgreSQLCatalogue is what a PostgreSQL server has of one account.
type PostgreSQLCatalogue struct {
	// Databases are those whose name is the account's.
	Databases map[string]PostgreSQLDatabase
	// Roles are those whose name is the account's, groups of its databases among them.
	Roles map[string]PostgreSQLRole
}

// PostgreSQLDatabase is a database as the catalogue has it.
type PostgreSQLDatabase struct {
	// Owner is the role that owns it.
	Owner string
	// Grants are who may connect (c) and make temporary tables (T), such as “=” for everybody, in
	// the form of the catalogue (aclitem), sorted, without who granted it.
	Grants []string
	// Prepared says that what is within has been set up ([prepare]).
	Prepared bool
}

// PostgreSQLRole is a role as the catalogue has it.
type PostgreSQLRole struct {
	// SignsIn says that it may.
	SignsIn bool
	// Verifier is what its password is checked with.
	Verifier string
	// Connections is how many it may have at the same time; -1 is any number.
	Connections int
	// Powers are attributes that reach beyond its databases, in the words of CREATE ROLE.
	Powers []string
	// Member lists the roles that it is a member of, sorted.
	Member []string
	// Becomes is the role that it becomes when it connects, by the name of the database.
	Becomes map[string]string
}

// The groups of a database: its owner, to whom everything in it belongs, and those who may write,
// read, and (where growth is stopped) read and delete. A colon is in no name of a user.
func ownerGroup(database string) string  { return database + ":owner" }
func writeGroup(database string) string  { return database + ":write" }
func readGroup(database string) string   { return database + ":read" }
func deleteGroup(database string) string { return database + ":delete" }

// PostgreSQLGroups lists the groups of a database.
func PostgreSQLGroups(database string) []string {
	return []string{ownerGroup(database), writeGroup(database), readGroup(database), deleteGroup(database)}
}

// groupFor is the group of a database that a level makes one a member of.
func groupFor(database string, l Level, g Growth) string {
	switch {
	case g == Closed:
		return ""
	case l == Read:
		return readGroup(database)
	case g == Stopped:
		return deleteGroup(database)
	case l == Write:
		return writeGroup(database)
	}
	return ownerGroup(database)
}

// databaseGrants are who may connect to a database: its groups, and nobody else.
func databaseGrants(database string) []string {
	list := []string{ownerGroup(database) + "=CTc", writeGroup(database) + "=Tc", readGroup(database) + "=c",
		deleteGroup(database) + "=c"}
	slices.Sort(list)
	return list
}

// growing are functions that make large objects grow, which anybody could call.
var growing = []string{"lo_creat(integer)", "lo_create(oid)", "lo_from_bytea(oid, bytea)", "lo_put(oid, bigint, bytea)",
	"lowrite(integer, bytea)", "lo_truncate(integer, integer)", "lo_truncate64(integer, bigint)"}

// prepare are the statements that set up what is within a database, where it differs from how it
// was made: whatever its owner makes there is read and written by the groups.
func prepare(database string) []Statement {
	owner := quotePostgreSQL(ownerGroup(database))
	write, read, del := quotePostgreSQL(writeGroup(database)), quotePostgreSQL(readGroup(database)),
		quotePostgreSQL(deleteGroup(database))
	all := read + ", " + write + ", " + del
	var list []Statement
	do := func(format string, args ...any) {
		list = append(list, Statement{In: database, SQL: fmt.Sprintf(format, args...), Setup: true})
	}
	do("CREATE SCHEMA IF NOT EXISTS public") // its owner may have dropped it
	do("ALTER SCHEMA public OWNER TO %s", owner)
	do("REVOKE ALL ON SCHEMA public FROM PUBLIC")
	do("GRANT USAGE ON SCHEMA public TO %s", all)
	usual := "ALTER DEFAULT PRIVILEGES FOR ROLE " + owner
	do("%s GRANT USAGE ON SCHEMAS TO %s", usual, all)
	do("%s GRANT SELECT ON TABLES TO %s", usual, all)
	do("%s GRANT INSERT, UPDATE, DELETE ON TABLES TO %s", usual, write)
	do("%s GRANT DELETE, TRUNCATE ON TABLES TO %s", usual, del)
	do("%s GRANT SELECT ON SEQUENCES TO %s", usual, read)
	do("%s GRANT USAGE, SELECT ON SEQUENCES TO %s", usual, write)
	for _, f := range growing {
		do("REVOKE EXECUTE ON FUNCTION pg_catalog.%s FROM PUBLIC", f)
		do("GRANT EXECUTE ON FUNCTION pg_catalog.%s TO %s, %s", f, owner, write)
	}
	// Who else is connected is nobody's to know, and their names are those of other accounts.
	for _, view := range []string{"pg_stat_activity", "pg_stat_ssl", "pg_stat_gssapi", "pg_stat_replication",
		"pg_stat_database", "pg_stat_database_conflicts", "pg_locks", "pg_prepared_xacts"} {
		do("REVOKE SELECT ON pg_catalog.%s FROM PUBLIC", view)
	}
	return list
}

// PostgreSQLDifferences lists where a catalogue is not as an account wants it. What is there of the
// account and not wanted goes, databases as well.
func PostgreSQLDifferences(found PostgreSQLCatalogue, a Account) []Difference {
	var list []Difference
	tell := func(subject string, detail language.Text, statements ...Statement) *Difference {
		list = append(list, Difference{Subject: subject, Detail: detail, Statements: statements})
		return &list[len(list)-1]
	}
	wanted := postgreSQLRoles(a)
	// Roles first, as databases belong to them; who is in which group comes when all are there.
	for _, name := range sorted(wanted) {
		there, is := found.Roles[name]
		if detail, statements := defineRole(name, wanted[name], there, is); len(statements) > 0 {
			d := tell(name, detail, statements...)
			there.Connections = wanted[name].Connections
			if _, more := defineRole(name, wanted[name], there, is); is && OwnerOf(name) != "" && len(more) > 0 {
				d.Ends = []string{name}
			}
		}
	}
	for _, d := range a.Databases {
		there, is := found.Databases[d.Name]
		if !is {
			tell(d.Name, language.New("is missing"), slices.Concat([]Statement{createDatabase(d)},
				connects(d.Name, nil), prepare(d.Name))...).Prepares = d.Name
			continue
		}
		if there.Owner != ownerGroup(d.Name) {
			tell(d.Name, language.New("belongs to %s", there.Owner), Statement{SQL: "ALTER DATABASE " +
				quotePostgreSQL(d.Name) + " OWNER TO " + quotePostgreSQL(ownerGroup(d.Name))})
		}
		if !slices.Equal(there.Grants, databaseGrants(d.Name)) {
			tell(d.Name, language.New("lets others connect than it should"), connects(d.Name, there.Grants)...)
		}
		if !there.Prepared {
			tell(d.Name, language.New("is not set up"), prepare(d.Name)...).Prepares = d.Name
		}
	}
	for _, name := range sorted(wanted) {
		statements := memberships(name, wanted[name], found.Roles[name], a)
		if len(statements) == 0 {
			continue
		}
		d := tell(name, language.New("has other rights than it should"), statements...)
		if strings.HasPrefix(statements[0].SQL, "REVOKE") {
			d.Ends = []string{name} // a connection that has become the owner stays it
		}
	}
	for _, name := range sorted(found.Roles) {
		if _, is := wanted[name]; !is && OwnerOf(name) != "" {
			statements := []Statement{{SQL: "ALTER ROLE " + quotePostgreSQL(name) + " NOLOGIN"}}
			for _, database := range sorted(found.Databases) { // what it owns there stays with the database
				statements = append(statements, disown(name, database)...)
			}
			tell(name, language.New("should not be there"),
				append(statements, Statement{SQL: "DROP ROLE " + quotePostgreSQL(name)})...).Ends = []string{name}
		}
	}
	for _, name := range sorted(found.Databases) {
		if !slices.ContainsFunc(a.Databases, func(d Database) bool { return d.Name == name }) {
			statements := []Statement{{SQL: "DROP DATABASE " + quotePostgreSQL(name) + " WITH (FORCE)"}}
			statements = append(statements, dropGroups(name, found)...)
			tell(name, language.New("should not be there"), statements...).Drops = true
		}
	}
	// Of a database that was not made any more, or was dropped when whoever did that was killed.
	gone := map[string]bool{}
	for name := range found.Roles {
		database, _, isGroup := strings.Cut(name, ":")
		_, is := found.Databases[database]
		if _, want := wanted[name]; isGroup && !want && !is {
			gone[database] = true
		}
	}
	for _, name := range sorted(gone) {
		tell(name, language.New("should not be there"), dropGroups(name, found)...).Drops = true
	}
	return list
}

// dropGroups are the statements that drop the groups of a database that are there.
func dropGroups(database string, found PostgreSQLCatalogue) []Statement {
	var list []Statement
	for _, group := range PostgreSQLGroups(database) {
		if _, is := found.Roles[group]; is {
			list = append(list, Statement{SQL: "DROP ROLE " + quotePostgreSQL(group)})
		}
	}
	return list
}

// postgreSQLRoles are the roles that are wanted: users, and the groups of databases.
func postgreSQLRoles(a Account) map[string]PostgreSQLRole {
	wanted := map[string]PostgreSQLRole{}
	for _, d := range a.Databases {
		for _, group := range PostgreSQLGroups(d.Name) {
			wanted[group] = PostgreSQLRole{Connections: -1}
		}
	}
	for _, u := range a.Users {
		role := PostgreSQLRole{SignsIn: u.Verifier != "" && !a.Suspended && a.Growth != Closed, Verifier: u.Verifier,
			Connections: connectionsEach(len(a.Users)), Becomes: map[string]string{}}
		for _, name := range sorted(u.Levels) {
			group := groupFor(name, u.Levels[name], a.Growth)
			if group == "" {
				continue
			}
			role.Member = append(role.Member, group)
			if group == ownerGroup(name) {
				role.Becomes[name] = group
			}
		}
		slices.Sort(role.Member)
		wanted[u.Name] = role
	}
	return wanted
}

// disown gives what a role owns in a database to the database's owner, and takes away what it has
// been given there.
func disown(role, database string) []Statement {
	return []Statement{
		{In: database, SQL: "REASSIGN OWNED BY " + quotePostgreSQL(role) + " TO " +
			quotePostgreSQL(ownerGroup(database))},
		{In: database, SQL: "DROP OWNED BY " + quotePostgreSQL(role)},
	}
}

// defineRole are the statements that make a role, or make it be so; none where it is.
func defineRole(name string, want, there PostgreSQLRole, is bool) (language.Text, []Statement) {
	signsIn := map[bool]string{true: "LOGIN", false: "NOLOGIN"}[want.SignsIn]
	head := quotePostgreSQL(name) + " WITH " + signsIn +
		" NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS INHERIT CONNECTION LIMIT " +
		fmt.Sprint(want.Connections)
	secret, shown := " PASSWORD NULL", " PASSWORD NULL"
	if want.Verifier != "" {
		secret, shown = " PASSWORD "+quoteText(want.Verifier), " PASSWORD '…'"
	}
	verb, detail := "CREATE ROLE ", language.New("is missing")
	if is {
		verb, detail = "ALTER ROLE ", language.New("signs in in another way")
		if len(there.Powers) > 0 {
			detail = language.New("has rights that it should not have: %s", strings.Join(there.Powers, ", "))
		}
		if there.SignsIn == want.SignsIn && there.Verifier == want.Verifier && len(there.Powers) == 0 &&
			there.Connections == want.Connections {
			return detail, nil
		}
	}
	return detail, []Statement{{SQL: verb + head + secret, Shown: verb + head + shown}}
}

// memberships are the statements that bring a role into the groups that are wanted, and into no
// others.
func memberships(name string, want, there PostgreSQLRole, a Account) []Statement {
	var list []Statement
	role := quotePostgreSQL(name)
	for _, group := range without(there.Member, want.Member) {
		list = append(list, Statement{SQL: "REVOKE " + quotePostgreSQL(group) + " FROM " + role})
		database, _, _ := strings.Cut(group, ":")
		if group == ownerGroup(database) && slices.ContainsFunc(a.Databases, func(d Database) bool {
			return d.Name == database
		}) {
			// What it has made as itself would stay its own to change.
			list = append(list, disown(name, database)[0])
		}
	}
	for _, group := range without(want.Member, there.Member) {
		list = append(list, Statement{SQL: "GRANT " + quotePostgreSQL(group) + " TO " + role})
	}
	for _, database := range sorted(there.Becomes) {
		if want.Becomes[database] == "" {
			list = append(list, Statement{SQL: fmt.Sprintf("ALTER ROLE %s IN DATABASE %s RESET role", role,
				quotePostgreSQL(database))})
		}
	}
	for _, database := range sorted(want.Becomes) {
		if there.Becomes[database] != want.Becomes[database] {
			list = append(list, Statement{SQL: fmt.Sprintf("ALTER ROLE %s IN DATABASE %s SET role = %s", role,
				quotePostgreSQL(database), quoteText(want.Becomes[database]))})
		}
	}
	return list
}

func createDatabase(d Database) Statement {
	locale := "LOCALE_PROVIDER icu ICU_LOCALE " + quoteText(d.Collation) + " LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"
	if d.Collation == "C" {
		locale = "LC_COLLATE 'C' LC_CTYPE 'C.UTF-8'"
	}
	return Statement{SQL: fmt.Sprintf("CREATE DATABASE %s OWNER %s TEMPLATE template0 ENCODING %s %s",
		quotePostgreSQL(d.Name), quotePostgreSQL(ownerGroup(d.Name)), quoteText(d.Charset), locale)}
}

// connects are the statements that let the groups of a database connect, and nobody else.
func connects(database string, there []string) []Statement {
	on := " ON DATABASE " + quotePostgreSQL(database)
	list := []Statement{{SQL: "REVOKE ALL" + on + " FROM PUBLIC"}}
	for _, grant := range there {
		if who, _, _ := strings.Cut(grant, "="); who != "" && !slices.Contains(PostgreSQLGroups(database), who) {
			list = append(list, Statement{SQL: "REVOKE ALL" + on + " FROM " + quotePostgreSQL(who)})
		}
	}
	quoted := func(group string) string { return quotePostgreSQL(group) }
	return append(list,
		Statement{SQL: "GRANT ALL" + on + " TO " + quoted(ownerGroup(database))},
		Statement{SQL: "GRANT CONNECT, TEMPORARY" + on + " TO " + quoted(writeGroup(database))},
		Statement{SQL: "GRANT CONNECT" + on + " TO " + quoted(readGroup(database)) + ", " +
			quoted(deleteGroup(database))})
}

// quotePostgreSQL writes a name as PostgreSQL reads it.
func quotePostgreSQL(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
