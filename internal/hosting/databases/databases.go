// Package databases decides about databases and their users: their names, what each user may do,
// and which statements bring an engine's catalogue to what is wanted. It speaks with no engine.
package databases

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
)

// Engine is a program that keeps databases.
type Engine string

// The engines.
const (
	MariaDB    Engine = "mariadb"
	PostgreSQL Engine = "postgresql"
)

// Engines lists all of them, the usual one first.
var Engines = []Engine{MariaDB, PostgreSQL}

// Title is what people call the engine.
func (e Engine) Title() string {
	return map[Engine]string{MariaDB: "MariaDB", PostgreSQL: "PostgreSQL"}[e]
}

// Port is the TCP port on which the engine waits.
func (e Engine) Port() int { return map[Engine]int{MariaDB: 3306, PostgreSQL: 5432}[e] }

// Socket is where programs on the same server connect to: a file for MariaDB, a directory for
// PostgreSQL, as its clients want it.
func (e Engine) Socket() string {
	return map[Engine]string{MariaDB: "/run/mysqld/mysqld.sock", PostgreSQL: "/run/postgresql"}[e]
}

// ParseEngine reads the name of an engine; an empty one is the usual one.
func ParseEngine(typed string) (Engine, error) {
	e := Engine(cmp.Or(strings.ToLower(strings.TrimSpace(typed)), string(Engines[0])))
	if !slices.Contains(Engines, e) {
		return "", refusal.Input("engine", "there is no engine %q; write mariadb or postgresql", typed)
	}
	return e, nil
}

// Level is what a user may do with a database.
type Level string

// The levels, from the least to the most.
const (
	// Read is to read rows, and what tables there are.
	Read Level = "read"
	// Write is to change rows as well.
	Write Level = "write"
	// All is to change tables as well.
	All Level = "all"
)

// Levels lists all of them, from the least to the most.
var Levels = []Level{Read, Write, All}

// ParseLevel reads a level; an empty one is [All].
func ParseLevel(typed string) (Level, error) {
	l := Level(cmp.Or(strings.ToLower(strings.TrimSpace(typed)), string(All)))
	if !slices.Contains(Levels, l) {
		return "", refusal.Input("level", "there is no level %q; write read, write or all", typed)
	}
	return l, nil
}

// Database is one database of an account.
type Database struct {
	Engine Engine `json:"engine"`
	// Name begins with the account's sign-in name and an underscore.
	Name string `json:"name"`
	// Charset is the character set (MariaDB) or encoding (PostgreSQL).
	Charset string `json:"charset"`
	// Collation is the order in which texts are sorted.
	Collation string `json:"collation"`
}

// User is one user of an account's databases in one engine.
type User struct {
	Engine Engine `json:"engine"`
	// Name begins with the account's sign-in name and an underscore.
	Name string `json:"name"`
	// Levels are what the user may do, by the name of the database.
	Levels map[string]Level `json:"levels,omitempty"`
	// Hosts are where the user may connect from beside the server itself, always with TLS.
	Hosts []netip.Prefix `json:"hosts,omitempty"`
}

// longestSuffix is how long the part of a name behind the account's own may be. With it, names fit
// MariaDB (64 characters) and PostgreSQL, whose groups have longer names (63).
const longestSuffix = 30

var suffixForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9_]*[a-z0-9])?$`)

// Name returns the whole name of a database or a user of an account: its sign-in name, an
// underscore, and what was typed, which may be the whole name. As sign-in names have no underscore,
// two accounts can never come to the same name.
func Name(signIn, typed string) (string, error) {
	rest := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(typed)), signIn+"_")
	switch {
	case rest == "":
		return "", refusal.Input("name", "a name is needed, such as %s", signIn+"_shop")
	case len(rest) > longestSuffix:
		return "", refusal.Input("name", "what follows %s_ has %d characters at most; this has %d", signIn,
			longestSuffix, len(rest))
	case !suffixForm.MatchString(rest):
		return "", refusal.Input("name", "what follows %s_ has lower-case letters a to z, digits, and underscores "+
			"between them", signIn)
	}
	return signIn + "_" + rest, nil
}

// isName reports whether a name can be that of a database or user of an account.
func isName(signIn, name string) bool {
	whole, err := Name(signIn, name)
	return err == nil && whole == name
}

// OwnerOf is the sign-in name of the account that a database or user belongs to by its name; empty
// where it can be no account's.
func OwnerOf(name string) string {
	signIn, _, has := strings.Cut(name, "_")
	if !has || names.CheckSignIn(signIn) != nil || !isName(signIn, name) {
		return ""
	}
	return signIn
}

// collations are those that can be chosen, by engine and character set; the first is the usual one.
var collations = map[Engine]map[string][]string{
	MariaDB: {
		"utf8mb4": {"utf8mb4_unicode_ci", "utf8mb4_general_ci", "utf8mb4_unicode_520_ci", "utf8mb4_uca1400_ai_ci",
			"utf8mb4_bin", "utf8mb4_german2_ci", "utf8mb4_swedish_ci", "utf8mb4_spanish_ci", "utf8mb4_danish_ci",
			"utf8mb4_polish_ci", "utf8mb4_czech_ci", "utf8mb4_hungarian_ci", "utf8mb4_turkish_ci"},
		"utf8mb3": {"utf8mb3_unicode_ci", "utf8mb3_general_ci", "utf8mb3_bin"},
		"latin1":  {"latin1_swedish_ci", "latin1_german1_ci", "latin1_german2_ci", "latin1_general_ci", "latin1_bin"},
		"ascii":   {"ascii_general_ci", "ascii_bin"},
	},
	PostgreSQL: {
		"UTF8": {"und", "C", "cs", "da", "de", "en", "es", "fr", "hu", "it", "nl", "pl", "sv", "tr"},
	},
}

// Charsets lists the character sets of an engine, the usual one first.
func Charsets(e Engine) []string {
	if e == PostgreSQL {
		return []string{"UTF8"}
	}
	return []string{"utf8mb4", "utf8mb3", "latin1", "ascii"}
}

// Collations lists those of a character set, the usual one first.
func Collations(e Engine, charset string) []string { return collations[e][charset] }

// ParseCharset completes what was typed of character set and collation.
func ParseCharset(e Engine, charset, collation string) (string, string, error) {
	known := Charsets(e)
	at := slices.IndexFunc(known, func(c string) bool { return strings.EqualFold(c, charset) })
	switch {
	case charset == "" && collation != "":
		at = max(0, slices.IndexFunc(known, func(c string) bool {
			return slices.Contains(collations[e][c],
				collation)
		}))
	case charset == "":
		at = 0
	case at < 0:
		return "", "", refusal.Input("charset", "%s has no character set %q here; choose %s", e.Title(), charset,
			strings.Join(known, ", "))
	}
	all := collations[e][known[at]]
	if collation == "" {
		return known[at], all[0], nil
	}
	if !slices.Contains(all, collation) {
		return "", "", refusal.Input("collation", "there is no collation %q for %s; choose %s", collation, known[at],
			strings.Join(all, ", "))
	}
	return known[at], collation, nil
}

// mostHosts is how many networks a user may connect from.
const mostHosts = 20

// ParseHosts reads addresses and networks in CIDR form (RFC 4632) from which a user may connect.
func ParseHosts(typed []string) ([]netip.Prefix, error) {
	list := []netip.Prefix{}
	for _, text := range typed {
		text = strings.TrimSpace(text)
		prefix, err := netip.ParsePrefix(text)
		if address, wrong := netip.ParseAddr(text); wrong == nil && address.Zone() == "" {
			prefix, err = netip.PrefixFrom(address.Unmap(), address.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, refusal.Input("hosts", "%q is no address and no network; write 192.0.2.7 or 192.0.2.0/24", text)
		}
		if prefix = prefix.Masked(); prefix.Bits() == 0 {
			return nil, refusal.Input("hosts", "%s is everybody; name the addresses or networks that are to connect",
				prefix)
		}
		if prefix.Addr().Is6() && prefix.Bits() != 128 {
			return nil, refusal.Input("hosts", "%s: of IPv6, write single addresses; MariaDB knows no networks of it",
				prefix)
		}
		if !slices.Contains(list, prefix) {
			list = append(list, prefix)
		}
	}
	if len(list) > mostHosts {
		return nil, refusal.Input("hosts", "a user may connect from %d networks at most", mostHosts)
	}
	slices.SortFunc(list, netip.Prefix.Compare)
	return list, nil
}

// Check refuses a database that must not reach an engine.
func (d Database) Check(signIn string) error {
	if !slices.Contains(Engines, d.Engine) {
		return fmt.Errorf("database %q: there is no engine %q", d.Name, d.Engine)
	}
	if !isName(signIn, d.Name) {
		return fmt.Errorf("database %q is none of %s", d.Name, signIn)
	}
	if !slices.Contains(collations[d.Engine][d.Charset], d.Collation) {
		return fmt.Errorf("database %q: no collation %q of %q", d.Name, d.Collation, d.Charset)
	}
	return nil
}

// Check refuses a user that must not reach an engine.
func (u User) Check(signIn string) error {
	if !slices.Contains(Engines, u.Engine) {
		return fmt.Errorf("database user %q: there is no engine %q", u.Name, u.Engine)
	}
	if !isName(signIn, u.Name) {
		return fmt.Errorf("database user %q is none of %s", u.Name, signIn)
	}
	for name, level := range u.Levels {
		if !isName(signIn, name) || !slices.Contains(Levels, level) {
			return fmt.Errorf("database user %q: no level %q of %q", u.Name, level, name)
		}
	}
	for _, h := range u.Hosts {
		if !h.IsValid() || h != h.Masked() || h.Bits() == 0 || h.Addr().Is6() && h.Bits() != 128 {
			return fmt.Errorf("database user %q: %s is no network", u.Name, h)
		}
	}
	return nil
}

// Growth is how far databases may still grow.
type Growth string

// The states of growth.
const (
	// Free is up to the limit.
	Free Growth = ""
	// Stopped is over the limit: what makes databases larger is refused.
	Stopped Growth = "stopped"
	// Closed is that they grew all the same, by what was laid down in them before: nobody connects.
	Closed Growth = "closed"
)
