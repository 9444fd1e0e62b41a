package database

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
)

func TestMade(t *testing.T) {
	for statement, want := range map[string][3]string{
		"CREATE DATABASE `coop_shop` CHARACTER SET utf8mb4": {"CREATE", kindDatabase, "coop_shop"},
		"DROP DATABASE `coop_shop`":                         {"DROP", kindDatabase, "coop_shop"},
		"CREATE USER 'coop_till'@'localhost' IDENTIFIED":    {"CREATE", kindUser, "coop_till"},
		`CREATE ROLE "coop_till" LOGIN`:                     {"CREATE", kindUser, "coop_till"},
		"GRANT ALL ON `coop_shop`.* TO 'coop_till'":         {},
		"CREATE TABLE t (id int)":                           {},
		"DROP":                                              {},
	} {
		verb, kind, name := made(statement)
		assert.Equal(t, want, [3]string{verb, kind, name}, statement)
	}
}

func TestPrivilegesOfColumns(t *testing.T) {
	for column, want := range map[string]string{"Select": "SELECT", "Create_view": "CREATE VIEW",
		"Create_tmp_table": "CREATE TEMPORARY TABLES", "Grant": "GRANT OPTION", "Delete_history": "DELETE HISTORY"} {
		assert.Equal(t, want, privilegeOf(column))
	}
}

// A user whose rights or ways to sign in are others than we set is told from one that is as it was.
func TestReadPrivileges(t *testing.T) {
	for text, want := range map[string]databases.MariaDBUser{
		`{"access":0,"plugin":"mysql_native_password","authentication_string":"*A","max_user_connections":9}`: {
			Plugin: "mysql_native_password", Verifier: "*A", Connections: 9},
		`{"access":1,"plugin":"mysql_native_password","ssl_type":1,"account_locked":true}`: {
			Plugin: "mysql_native_password", TLS: true, Locked: true, Others: []string{"on everything"}},
		`{"plugin":"mysql_native_password","authentication_string":"*A","auth_or":[{},{"plugin":"mysql_native_password",
			"authentication_string":"*visitor"}]}`: {Plugin: "mysql_native_password", Verifier: "*A"},
		`{"plugin":"mysql_native_password","auth_or":[{},{"plugin":"unix_socket"}]}`: {Plugin: "another"},
		`{"plugin":"mysql_native_password","ssl_type":2}`:                            {Plugin: "another"},
	} {
		var u databases.MariaDBUser
		require.NoError(t, readPrivileges(&u, text, "*visitor"), text)
		assert.Equal(t, want, u, text)
	}
	var u databases.MariaDBUser
	require.NoError(t, readPrivileges(&u, `{"plugin":"mysql_native_password","auth_or":[{},
		{"plugin":"mysql_native_password","authentication_string":"*visitor"}]}`, ""))
	assert.Equal(t, "another", u.Plugin, "a second password that nobody has now is none of ours")
	assert.Error(t, readPrivileges(&u, "no JSON", ""))
}

func TestCompactGrants(t *testing.T) {
	assert.Equal(t, []string{"=T", "coop=CTc", "till=c"}, compactGrants([]string{"coop CONNECT", "coop TEMPORARY",
		`"till" CONNECT`, "coop CREATE", " TEMPORARY"}))
	assert.Empty(t, compactGrants(nil))
}

func TestShown(t *testing.T) {
	long := strings.Repeat("ø", agentlink.LongestValue+1)
	for value, want := range map[string]string{"Møwe": "Møwe", "": "", "a\x00b": `\x610062`, "\xff": `\xff`,
		long: long[:2*agentlink.LongestValue] + "…"} {
		assert.Equal(t, want, shown([]byte(value)))
	}
	assert.Less(t, len(shown([]byte(strings.Repeat("\xff", 1<<20)))), 3*agentlink.LongestValue,
		"of a picture, no more is shown than of a text")
}
