package render

import (
	"fmt"
	"path/filepath"
	"strings"

	"victualler/internal/hosting/databases"
	"victualler/internal/manifest"
)

// Where the engines have what is theirs.
const (
	// MariaDBConf is ours, read after Debian's.
	MariaDBConf = "/etc/mysql/mariadb.conf.d/90-victualler.cnf"
	// MariaDBData is where its databases are, a directory each.
	MariaDBData = "/var/lib/mysql"
	// DatabaseCertificates has the certificate and key that an engine shows, in files named after
	// it, which its group may read.
	DatabaseCertificates = "/etc/victualler/databases"
	// PostgreSQLAccess says who may connect from where. It is made of PostgreSQLHosts, a file for
	// each account whose users connect from elsewhere.
	PostgreSQLAccess = DatabaseCertificates + "/pg_hba.conf"
	PostgreSQLHosts  = DatabaseCertificates + "/hosts"
	// PostgreSQLPID has the number of its process.
	PostgreSQLPID   = "/run/postgresql/victualler.pid"
	postgreSQLIdent = DatabaseCertificates + "/pg_ident.conf"
)

const databaseHeading = "# Written by victualler-agent from what the service says about this server.\n"

// DatabaseCertificate is where an engine's certificate is.
func DatabaseCertificate(e databases.Engine) string {
	return filepath.Join(DatabaseCertificates, string(e)+".pem")
}

// DatabaseKey is where the key of that certificate is.
func DatabaseKey(e databases.Engine) string {
	return filepath.Join(DatabaseCertificates, string(e)+".key")
}

// MariaDBBase renders how MariaDB runs. A server without the role database is left alone.
func MariaDBBase(s manifest.Server) []File {
	if s.Databases == nil {
		return nil
	}
	lines := []string{
		"[mariadbd]",
		"# Users are let in from where they may connect, with TLS; nobody is asked by name.",
		"bind-address = *",
		"skip-name-resolve",
		"ssl-cert = " + DatabaseCertificate(databases.MariaDB),
		"ssl-key = " + DatabaseKey(databases.MariaDB),
		"tls_version = TLSv1.2,TLSv1.3",
		"# For the agent, while all connections are in use.",
		"max_connections = 400",
		"connect_timeout = 5",
		"# Nothing leads from a database to the server's files or programs: nobody has the right to, and",
		"# there, nothing is secret and nothing can be written.",
		"secure-file-priv = /usr/share/mysql",
		"skip-symbolic-links",
		"event_scheduler = DISABLED",
		"automatic_sp_privileges = OFF",
		"plugin_maturity = stable",
		"# One account's temporary tables and texts leave room for others.",
		"innodb_temp_data_file_path = ibtmp1:12M:autoextend:max:2G",
		"max_allowed_packet = 64M",
		"innodb_file_per_table = ON",
		"innodb_default_row_format = dynamic",
		"character-set-server = utf8mb4",
		"collation-server = utf8mb4_unicode_ci",
	}
	return []File{{Path: MariaDBConf, Mode: 0o644, Content: databaseHeading + strings.Join(lines, "\n") + "\n"}}
}

// PostgreSQLBase renders how a cluster of PostgreSQL runs whose configuration is in dir. A server
// without the role database is left alone.
func PostgreSQLBase(s manifest.Server, dir string) []File {
	if s.Databases == nil {
		return nil
	}
	lines := []string{
		"listen_addresses = '*'",
		"unix_socket_directories = '" + databases.PostgreSQL.Socket() + "'",
		"external_pid_file = '" + PostgreSQLPID + "'",
		"hba_file = '" + PostgreSQLAccess + "'",
		"ident_file = '" + postgreSQLIdent + "'",
		"password_encryption = scram-sha-256",
		"ssl = on",
		"ssl_cert_file = '" + DatabaseCertificate(databases.PostgreSQL) + "'",
		"ssl_key_file = '" + DatabaseKey(databases.PostgreSQL) + "'",
		"ssl_min_protocol_version = 'TLSv1.2'",
		"max_connections = 300",
		"authentication_timeout = 10s",
		"# One account's temporary files leave room for others; what accounts execute is in no log.",
		"temp_file_limit = 2GB",
		"log_min_error_statement = panic",
	}
	return []File{
		{Path: filepath.Join(dir, "conf.d", "90-victualler.conf"), Mode: 0o644,
			Content: databaseHeading + strings.Join(lines, "\n") + "\n"},
		{Path: postgreSQLIdent, Mode: 0o640, Group: "postgres", Content: databaseHeading +
			"# The agent speaks as the engine's own user.\nvictualler root postgres\nvictualler postgres postgres\n"},
	}
}

// PostgreSQLAccessHead begins the file that says who may connect from where; what accounts may
// from elsewhere comes behind it.
func PostgreSQLAccessHead() string {
	return databaseHeading + "local all postgres peer map=victualler\nlocal all all scram-sha-256\n"
}

// PostgreSQLFiles renders from where an account's users connect to PostgreSQL.
func PostgreSQLFiles(m manifest.Manifest) []File {
	if !m.HasDatabases(databases.PostgreSQL) {
		return nil
	}
	var text strings.Builder
	for _, u := range m.Databases.Users {
		if u.Engine != databases.PostgreSQL {
			continue
		}
		for _, h := range u.Hosts {
			fmt.Fprintf(&text, "hostssl all %s %s scram-sha-256\n", u.Name, h)
		}
	}
	if text.Len() == 0 {
		return nil
	}
	return []File{{Path: filepath.Join(PostgreSQLHosts, m.SignInName+".conf"), Mode: 0o600,
		Content: databaseHeading + text.String()}}
}

// PostgreSQLOwner is whose file a path is; empty where it is nobody's.
func PostgreSQLOwner(path string) string {
	name, is := strings.CutSuffix(filepath.Base(path), ".conf")
	if !is || filepath.Dir(path) != PostgreSQLHosts {
		return ""
	}
	return name
}
