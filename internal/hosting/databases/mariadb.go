package databases

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
)

// MariaDBCatalogue is what a MariaDB server has of one account.
type MariaDBCatalogue struct {
	// Databases are those whose name is the account's.
	Databases map[string]MariaDBDatabase
	// Users are those whose name is the account's, by [MariaDBUser.Key].
	Users map[string]MariaDBUser
}

// MariaDBDatabase is a database as the catalogue has it.
type MariaDBDatabase struct{ Charset, Collation string }

// MariaDBUser is a user from one host as the catalogue has it.
type MariaDBUser struct {
	Name, Host string
	// Plugin and Verifier are how the password is checked.
	Plugin, Verifier string
	// TLS says that connections without are refused.
	TLS bool
	// Locked has nobody sign in.
	Locked bool
	// Connections is how many the user may have at the same time; 0 is any number.
	Connections int
	// Grants are privileges by the database as the catalogue writes it, a pattern; in upper case
	// and sorted.
	Grants map[string][]string
	// Others are rights beside those on whole databases, in words: global ones, on single tables,
	// columns and routines, and roles.
	Others []string
}

// Key tells users apart: the same name from another host is another user.
func (u MariaDBUser) Key() string { return u.Name + "@" + u.Host }

// connectionsEach is how many connections each of an account's users may have at the same time, so
// that all of them together leave most of the engine's to others.
func connectionsEach(users int) int {
	const together, most, least = 80, 40, 2
	return min(max(together/max(users, 1), least), most)
}

// MariaDBPlugin checks passwords: the one that all programs of the last decades know.
const MariaDBPlugin = "mysql_native_password"

// MariaDBPrivileges are what a level means, and what is left of it where growth is stopped: to read
// and to delete.
func MariaDBPrivileges(l Level, g Growth) []string {
	var list []string
	switch {
	case g == Closed:
	case l == Read:
		list = []string{"SELECT", "SHOW VIEW"}
	case g == Stopped && l == Write:
		list = []string{"SELECT", "SHOW VIEW", "DELETE", "LOCK TABLES"}
	case g == Stopped:
		list = []string{"SELECT", "SHOW VIEW", "DELETE", "LOCK TABLES", "DROP"}
	case l == Write:
		list = []string{"SELECT", "SHOW VIEW", "DELETE", "LOCK TABLES", "INSERT", "UPDATE", "EXECUTE",
			"CREATE TEMPORARY TABLES"}
	default:
		list = []string{"SELECT", "SHOW VIEW", "DELETE", "LOCK TABLES", "INSERT", "UPDATE", "EXECUTE",
			"CREATE TEMPORARY TABLES", "CREATE", "DROP", "ALTER", "INDEX", "REFERENCES", "CREATE VIEW",
			"CREATE ROUTINE", "ALTER ROUTINE", "TRIGGER"}
	}
	slices.Sort(list)
	return list
}

// MariaDBPattern is how a grant names one database: _ and % in it stand for any characters, and
// “a_b” would let its user into “axb” as well.
func MariaDBPattern(database string) string {
	return strings.NewReplacer(`_`, `\_`, `%`, `\%`).Replace(database)
}

// mariaDBHost writes a network as the engine matches it.
func mariaDBHost(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	var mask [4]byte
	for bit := range p.Bits() {
		mask[bit/8] |= 0x80 >> (bit % 8)
	}
	return p.Addr().String() + "/" + netip.AddrFrom4(mask).String()
}

// mariaDBUsers are the users that are wanted: each once for the socket, and once for each network.
func mariaDBUsers(a Account) map[string]MariaDBUser {
	wanted := map[string]MariaDBUser{}
	for _, u := range a.Users {
		one := MariaDBUser{Name: u.Name, Plugin: MariaDBPlugin, Verifier: u.Verifier,
			Locked: u.Verifier == "" || a.Suspended || a.Growth == Closed, Connections: connectionsEach(len(a.Users)),
			Grants: map[string][]string{}}
		for name, level := range u.Levels {
			if list := MariaDBPrivileges(level, a.Growth); len(list) > 0 {
				one.Grants[MariaDBPattern(name)] = list
			}
		}
		one.Host = "localhost"
		wanted[one.Key()] = one
		for _, h := range u.Hosts {
			one.Host, one.TLS = mariaDBHost(h), true
			wanted[one.Key()] = one
		}
	}
	return wanted
}

func (u MariaDBUser) quoted() string { return quoteText(u.Name) + "@" + quoteText(u.Host) }

// define is the statement that makes the user, or makes it be so.
func (u MariaDBUser) define(verb string) Statement {
	tail := " REQUIRE NONE"
	if u.TLS {
		tail = " REQUIRE SSL"
	}
	tail += fmt.Sprintf(" WITH MAX_USER_CONNECTIONS %d", u.Connections)
	if u.Locked {
		tail += " ACCOUNT LOCK"
	} else {
		tail += " ACCOUNT UNLOCK"
	}
	head := verb + " USER " + u.quoted() + " IDENTIFIED VIA " + u.Plugin + " USING "
	// Without a password the user is locked; a verifier that nothing comes to, all the same.
	verifier := u.Verifier
	if verifier == "" {
		verifier = "*" + strings.Repeat("0", 40)
	}
	return Statement{SQL: head + quoteText(verifier) + tail, Shown: head + "'…'" + tail}
}

// sameSignIn reports whether two users are checked in the same way.
func (u MariaDBUser) sameSignIn(o MariaDBUser) bool {
	return u.Plugin == o.Plugin && (u.Verifier == o.Verifier || u.Verifier == "") && u.TLS == o.TLS &&
		u.Locked == o.Locked && u.Connections == o.Connections
}

// MariaDBDifferences lists where a catalogue is not as an account wants it. What is there of the
// account and not wanted goes, databases as well: what is not to go must be wanted.
func MariaDBDifferences(found MariaDBCatalogue, a Account) []Difference {
	var list []Difference
	tell := func(subject string, detail language.Text, statements ...Statement) *Difference {
		list = append(list, Difference{Subject: subject, Detail: detail, Statements: statements})
		return &list[len(list)-1]
	}
	for _, d := range a.Databases {
		with := fmt.Sprintf("%s CHARACTER SET %s COLLATE %s", QuoteMariaDB(d.Name), d.Charset, d.Collation)
		there, is := found.Databases[d.Name]
		switch {
		case !is:
			tell(d.Name, language.New("is missing"), Statement{SQL: "CREATE DATABASE " + with})
		case there != MariaDBDatabase{d.Charset, d.Collation}:
			tell(d.Name, language.New("has another character set or collation: %s, %s", there.Charset, there.Collation),
				Statement{SQL: "ALTER DATABASE " + with})
		}
	}
	wanted := mariaDBUsers(a)
	for _, key := range sorted(wanted) {
		u := wanted[key]
		there, is := found.Users[key]
		if !is {
			statements := []Statement{u.define("CREATE")}
			tell(key, language.New("is missing"), append(statements, u.grants(there)...)...)
			continue
		}
		if len(there.Others) > 0 {
			// Rights of other kinds are taken away one by one nowhere: the user is made anew.
			statements := []Statement{{SQL: "DROP USER " + u.quoted()}, u.define("CREATE")}
			tell(key, language.New("has rights that it should not have: %s", strings.Join(there.Others, ", ")),
				append(statements, u.grants(MariaDBUser{})...)...).Ends = []string{u.Name}
			continue
		}
		if !u.sameSignIn(there) {
			d := tell(key, language.New("signs in in another way"), u.define("ALTER"))
			if there.Connections = u.Connections; !u.sameSignIn(there) {
				d.Ends = []string{u.Name}
			}
		}
		if statements := u.grants(there); len(statements) > 0 {
			d := tell(key, language.New("has other rights than it should"), statements...)
			if slices.ContainsFunc(statements, func(s Statement) bool { return strings.HasPrefix(s.SQL, "REVOKE") }) {
				// What a connection may do with its database is found out when it turns to it.
				d.Ends = []string{u.Name}
			}
		}
	}
	for _, key := range sorted(found.Users) {
		if _, is := wanted[key]; !is {
			u := found.Users[key]
			tell(key, language.New("should not be there"), Statement{SQL: "DROP USER " + u.quoted()}).Ends =
				[]string{u.Name}
		}
	}
	for _, name := range sorted(found.Databases) {
		if !slices.ContainsFunc(a.Databases, func(d Database) bool { return d.Name == name }) {
			tell(name, language.New("should not be there"),
				Statement{SQL: "DROP DATABASE " + QuoteMariaDB(name)}).Drops = true
		}
	}
	return list
}

// grants are the statements that bring the rights of a user on databases to what is wanted.
func (u MariaDBUser) grants(there MariaDBUser) []Statement {
	var list []Statement
	patterns := map[string]bool{}
	for _, m := range []map[string][]string{u.Grants, there.Grants} {
		for pattern := range maps.Keys(m) {
			patterns[pattern] = true
		}
	}
	for _, pattern := range sorted(patterns) {
		want, have := u.Grants[pattern], there.Grants[pattern]
		on := " ON " + QuoteMariaDB(pattern) + ".*"
		if gone := without(have, want); len(gone) > 0 {
			list = append(list, Statement{SQL: "REVOKE " + strings.Join(gone, ", ") + on + " FROM " + u.quoted()})
		}
		if more := without(want, have); len(more) > 0 {
			list = append(list, Statement{SQL: "GRANT " + strings.Join(more, ", ") + on + " TO " + u.quoted()})
		}
	}
	return list
}

// without lists what is in one list and not in another.
func without(list, others []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(others, s) })
}

// QuoteMariaDB writes a name as MariaDB reads it.
func QuoteMariaDB(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
