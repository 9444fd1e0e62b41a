package dumps

import (
	"bytes"
	"slices"
	"strings"

	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/language"
)

// Finding is a kind of statement that is not executed here as it is.
type Finding string

// The findings.
const (
	// Definer is a view, trigger or routine that is to run with somebody else's rights. Without it,
	// it runs with those of the user who imports.
	Definer Finding = "definer"
	// Rights gives rights to users, or takes them away.
	Rights Finding = "rights"
	// Users makes, changes or removes users.
	Users Finding = "users"
	// OtherDatabase turns to another database, or makes or removes one.
	OtherDatabase Finding = "other-database"
	// ServerSetting sets something for the whole server, or for its log.
	ServerSetting Finding = "server-setting"
	// Owner has something belong to another user.
	Owner Finding = "owner"
	// Program is what only the server's administrator may add: extensions, event triggers,
	// scheduled events, replication.
	Program Finding = "program"
	// ClientCommand is a line for the engine's own client, such as \connect.
	ClientCommand Finding = "client-command"
	// OtherName names a table of another database.
	OtherName Finding = "other-name"
)

// Mended reports whether a finding has one meaning here, so that it can be mended: otherwise the
// engine refuses the statement.
func (f Finding) Mended() bool { return f != OtherName }

// Text says what was found, and what becomes of it.
func (f Finding) Text() language.Text {
	switch f {
	case Definer:
		return language.New("runs with the rights of somebody else (DEFINER); mended, it runs with those of the user " +
			"who imports")
	case Rights:
		return language.New("gives or takes rights; mended, it is left out: who may what is set here")
	case Users:
		return language.New("makes or changes users; mended, it is left out: users are added here")
	case OtherDatabase:
		return language.New("turns to another database; mended, it is left out: everything goes into the one chosen")
	case ServerSetting:
		return language.New("changes the server for everybody; mended, it is left out")
	case Owner:
		return language.New("says whom something belongs to; mended, it is left out: it belongs to this database")
	case Program:
		return language.New("is for the server’s administrator alone; mended, it is left out")
	case ClientCommand:
		return language.New("is a command for another program; mended, it is left out")
	}
	return language.New("names a table of another database; it will be refused: change the file")
}

// headLength is how much of a statement is looked at.
const headLength = 2 << 10

// Mend looks at a statement for a database, and returns what it is instead: nil where it is to be
// left out. A statement without finding is returned as it is.
func Mend(st Statement, engine databases.Engine, database string) ([]byte, Finding) {
	if st.Command {
		return nil, clientCommand(st.Text)
	}
	most := headLength
	switch firstWord(st.Text) {
	case "":
		return st.Text, ""
	case "insert", "replace", "copy": // what most of a file is
		most = 8
	}
	tokens := tokensOf(st.Text, headLength, most)
	words := textsOf(tokens)
	if engine == databases.MariaDB {
		return mendMariaDB(st.Text, tokens, words, database)
	}
	if f := findPostgreSQL(words); f != "" {
		return nil, f
	}
	return st.Text, ""
}

// clientCommand is the finding of a line for a client. Those by which pg_dump of 2025 and later
// guards its file mean nothing to anybody else.
func clientCommand(line []byte) Finding {
	if bytes.HasPrefix(line, []byte(`\restrict`)) || bytes.HasPrefix(line, []byte(`\unrestrict`)) {
		return ""
	}
	if bytes.HasPrefix(line, []byte(`\connect`)) || bytes.HasPrefix(line, []byte(`\c `)) {
		return OtherDatabase
	}
	return ClientCommand
}

func has(words []string, some ...string) bool {
	return slices.ContainsFunc(some, func(w string) bool { return slices.Contains(words, w) })
}

func at(words []string, n int) string {
	if n < len(words) {
		return words[n]
	}
	return ""
}

func mendMariaDB(text []byte, tokens []token, words []string, database string) ([]byte, Finding) {
	first := words[0]
	second := at(words, 1)
	switch first {
	case "grant", "revoke":
		return nil, Rights
	case "flush":
		if second != "tables" {
			return nil, Rights
		}
	case "use":
		if nameOf(second) != database {
			return nil, OtherDatabase
		}
	case "change", "install", "uninstall", "purge", "reset":
		return nil, ServerSetting
	case "set":
		return mendSet(text, words)
	case "create", "alter", "drop":
		return mendDefinition(text, tokens, words, database)
	case "insert", "replace", "delete", "update", "truncate", "lock", "rename":
		if other := qualified(words, database); other {
			return text, OtherName
		}
	}
	return text, ""
}

// mendSet is mendMariaDB for SET.
func mendSet(text []byte, words []string) ([]byte, Finding) {
	switch {
	case at(words, 1) == "global", slices.ContainsFunc(words, func(w string) bool {
		return w == "@@global" || w == "sql_log_bin" || w == "@@sql_log_bin" || w == "gtid_purged"
	}):
		return nil, ServerSetting
	case at(words, 1) == "password", at(words, 1) == "role", at(words, 1) == "default" && at(words, 2) == "role":
		return nil, Users
	}
	return text, ""
}

// mendDefinition is mendMariaDB for what is created, altered or dropped.
func mendDefinition(text []byte, tokens []token, words []string, database string) ([]byte, Finding) {
	what := slices.IndexFunc(words, func(w string) bool {
		return slices.Contains([]string{"table", "view", "trigger", "procedure", "function", "event", "database",
			"schema", "user", "role", "index", "server", "sequence", "package", "tablespace", "logfile"}, w)
	})
	if what < 0 {
		return text, ""
	}
	switch words[what] {
	case "user", "role":
		return nil, Users
	case "server", "event", "tablespace", "logfile":
		return nil, Program
	case "database", "schema":
		return nil, OtherDatabase
	case "table":
		if qualified(words[what:], database) {
			return text, OtherName
		}
		return text, ""
	}
	definer := slices.Index(words, "definer")
	if definer < 0 || at(words, definer+1) != "=" || definer > what {
		return text, ""
	}
	end := definer + 2
	if at(words, end) == "current_user" {
		return text, ""
	}
	if w := at(words, end+1); w == "@" {
		end += 2
	} else if strings.HasPrefix(w, "@") {
		end++
	}
	if end >= len(tokens) {
		return text, Definer
	}
	return slices.Concat(text[:tokens[definer].from], text[tokens[end].to:]), Definer
}

// qualified reports whether the first name behind the words of a statement is one of another
// database.
func qualified(words []string, database string) bool {
	n := 1
	for n < len(words) && slices.Contains([]string{"into", "from", "ignore", "low_priority", "delayed", "table", "if",
		"not", "exists", "tables", "quick", "only"}, words[n]) {
		n++
	}
	return at(words, n+1) == "." && nameOf(words[n]) != database
}

func findPostgreSQL(words []string) Finding {
	switch second := at(words, 1); words[0] {
	case "grant", "revoke":
		return Rights
	case "reassign":
		return Owner
	case "checkpoint", "vacuum", "cluster":
		return Program
	case "security":
		return Program
	case "set", "reset":
		if second == "session" && at(words, 2) == "authorization" || second == "role" ||
			has(words[:min(3, len(words))], "session_authorization") {
			return Users
		}
		// What newer tools set and no older engine knows.
		if second == "transaction_timeout" || has(words[:min(3, len(words))], "transaction_timeout") {
			return ServerSetting
		}
	case "comment":
		if at(words, 2) == "extension" || at(words, 2) == "schema" && nameOf(at(words, 3)) == "public" {
			return Owner
		}
		if at(words, 2) == "database" {
			return OtherDatabase
		}
	case "create", "drop", "alter":
		return definitionOf(words, second)
	}
	return ""
}

// definitionOf is findPostgreSQL for what is created, altered or dropped.
func definitionOf(words []string, what string) Finding {
	switch what {
	case "role", "user", "group":
		if what != "user" || at(words, 2) != "mapping" {
			return Users
		}
	case "database", "tablespace":
		return OtherDatabase
	case "system":
		return ServerSetting
	case "default":
		return Rights // ALTER DEFAULT PRIVILEGES
	case "publication", "subscription", "event", "server", "foreign", "access", "language", "transform":
		if what != "foreign" || at(words, 2) != "table" {
			return Program
		}
	case "extension":
		if has(words, "plpgsql") || words[0] == "alter" {
			return Program
		}
	case "schema":
		n := 2
		for has([]string{at(words, n)}, "if", "not", "exists") {
			n++
		}
		if nameOf(at(words, n)) == "public" {
			return Owner
		}
	}
	if words[0] == "alter" {
		for n := range words {
			if words[n] == "owner" && at(words, n+1) == "to" {
				return Owner
			}
		}
	}
	return ""
}
