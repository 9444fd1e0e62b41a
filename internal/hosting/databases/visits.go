package databases

import (
	"fmt"
	"time"
)

// A visit is work that is done with a database in the name of one of its users, who is not there to
// type a password: looking at rows, importing, exporting. MariaDB checks a second password for the
// user while the visit lasts. PostgreSQL has a role for it, which is a member of the user.

// VisitorPrefix begins the names of roles that are there for a visit; no account can have one.
const VisitorPrefix = "victualler:visit:"

// MariaDBVisit is the statement that lets a user sign in with a second password, or, if that is
// empty, with its own alone.
func MariaDBVisit(user, verifier, second string) Statement {
	head := "ALTER USER " + quoteText(user) + "@localhost IDENTIFIED VIA " + MariaDBPlugin + " USING "
	sql, shown := head+quoteText(verifier), head+"'…'"
	if second != "" {
		sql, shown = sql+" OR "+MariaDBPlugin+" USING "+quoteText(second), shown+" OR "+MariaDBPlugin+" USING '…'"
	}
	return Statement{SQL: sql, Shown: shown}
}

// PostgreSQLVisit are the statements that make a role with which somebody works with a database as
// a user of it, who may do with it what level and growth say.
func PostgreSQLVisit(role, verifier string, u User, database string, g Growth, until time.Time) []Statement {
	name, as := quotePostgreSQL(role), u.Name
	if group := groupFor(database, u.Levels[database], g); group == ownerGroup(database) {
		as = group
	}
	head := "CREATE ROLE " + name + " WITH LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS " +
		"INHERIT CONNECTION LIMIT 8 IN ROLE " + quotePostgreSQL(u.Name) + " VALID UNTIL " +
		quoteText(until.UTC().Format(time.RFC3339)) + " PASSWORD "
	return []Statement{
		{SQL: head + quoteText(verifier), Shown: head + "'…'"},
		{SQL: fmt.Sprintf("ALTER ROLE %s SET role = %s", name, quoteText(as))},
	}
}

// PostgreSQLVisitEnds are the statements that remove such a role; what it has made in the databases
// stays with these.
func PostgreSQLVisitEnds(role string, made []string) []Statement {
	var list []Statement
	for _, database := range made {
		list = append(list, disown(role, database)...)
	}
	return append(list, Statement{SQL: "DROP ROLE " + quotePostgreSQL(role)})
}
