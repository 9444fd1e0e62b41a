package database

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
)

// SaveDatabase implements agent.Visitor: it keeps the contents of a database as the file of an
// import into that database, which waits to be started. It goes as other files do that nobody
// starts.
func (d *Databases) SaveDatabase(ctx context.Context, v agentlink.DatabaseVisit) (agentlink.Import, error) {
	waiting, err := d.NewImport(agentlink.NewImport{DatabaseVisit: v, Name: agentlink.SavedName, Size: 1})
	if err != nil {
		return waiting, err
	}
	one, ctx, err := d.imports.beginPart(ctx, v.Account, waiting.ID, 0)
	if err != nil {
		return waiting, err
	}
	size, err := d.saveTo(ctx, d.imports.file(one.ID), v)
	d.imports.mu.Lock()
	defer d.imports.mu.Unlock()
	if err := d.imports.endPart(one); err != nil {
		return waiting, err
	}
	if err != nil {
		d.imports.forget(one)
		return waiting, err
	}
	one.Size, one.Received = size, size
	return one.Import, d.imports.save(one)
}

func (d *Databases) saveTo(ctx context.Context, name string, v agentlink.DatabaseVisit) (int64, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	to := &sparing{file: f}
	if err := d.Export(ctx, agentlink.DatabaseExport{DatabaseVisit: v, Compression: "zstd"},
		func() io.Writer { return to }); err != nil {
		return 0, err
	}
	return to.size, f.Close()
}

// sparing writes to a file as long as the disk has room for others.
type sparing struct {
	file          *os.File
	size, checked int64
}

// Write implements io.Writer.
func (s *sparing) Write(p []byte) (int, error) {
	if s.size == 0 || s.size-s.checked > 16<<20 {
		s.checked = s.size
		var disk syscall.Statfs_t
		if err := syscall.Fstatfs(int(s.file.Fd()), &disk); err != nil {
			return 0, err
		}
		if int64(disk.Bavail)*disk.Bsize < leftFree {
			return 0, errors.New("the server has too little space for a copy of the database at the moment")
		}
	}
	n, err := s.file.Write(p)
	s.size += int64(n)
	return n, err
}

// empty takes everything out of a MariaDB database.
func (l *mariaDBLoader) empty(ctx context.Context) error {
	for _, kind := range []struct{ question, drop string }{
		{"SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE()", "VIEW"},
		{"SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'SEQUENCE'",
			"SEQUENCE"},
		{"SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type <> 'VIEW'" +
			" AND table_type <> 'SEQUENCE'", "TABLE"},
		{"SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE()" +
			" AND routine_type = 'FUNCTION'", "FUNCTION"},
		{"SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE()" +
			" AND routine_type = 'PROCEDURE'", "PROCEDURE"},
	} {
		names, err := l.names(ctx, kind.question)
		if err != nil {
			return err
		}
		for _, name := range names {
			if err := l.exec(ctx, fmt.Append(nil, "DROP ", kind.drop, " ", databases.QuoteMariaDB(name))); err != nil {
				return err
			}
		}
	}
	return nil
}

// names reads a list of names; tables may be dropped in any order afterwards.
func (l *mariaDBLoader) names(ctx context.Context, question string) ([]string, error) {
	if err := l.exec(ctx, []byte("SET foreign_key_checks = 0")); err != nil {
		return nil, err
	}
	rows, err := l.conn.QueryContext(ctx, question)
	if err != nil {
		return nil, refusedBy(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

// emptyPostgreSQL takes everything out of a database that its owner has made, which is as whom
// visitors come; the schema public and the rights to it stay.
const emptyPostgreSQL = `DO $$
DECLARE one record; me oid := (SELECT oid FROM pg_roles WHERE rolname = current_user);
BEGIN
	FOR one IN SELECT nspname FROM pg_namespace
		WHERE nspowner = me AND nspname !~ '^pg_' AND nspname NOT IN ('public', 'information_schema')
	LOOP EXECUTE format('DROP SCHEMA %I CASCADE', one.nspname); END LOOP;
	FOR one IN SELECT n.nspname, c.relname, CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW'
			WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END AS kind
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relowner = me AND c.relkind IN ('r', 'p', 'v', 'm', 'S', 'f') AND n.nspname !~ '^pg_'
			AND n.nspname <> 'information_schema'
	LOOP EXECUTE format('DROP %s IF EXISTS %I.%I CASCADE', one.kind, one.nspname, one.relname); END LOOP;
	FOR one IN SELECT p.oid::regprocedure AS name FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE p.proowner = me AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
	LOOP EXECUTE format('DROP ROUTINE IF EXISTS %s CASCADE', one.name); END LOOP;
	FOR one IN SELECT n.nspname, t.typname FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
		WHERE t.typowner = me AND t.typtype IN ('e', 'd', 'r', 'c') AND t.typrelid = 0 AND n.nspname !~ '^pg_'
			AND n.nspname <> 'information_schema'
	LOOP EXECUTE format('DROP TYPE IF EXISTS %I.%I CASCADE', one.nspname, one.typname); END LOOP;
END $$`

// empty takes everything out of a PostgreSQL database.
func (l *postgreSQLLoader) empty(ctx context.Context) error {
	return l.exec(ctx, []byte(emptyPostgreSQL))
}
