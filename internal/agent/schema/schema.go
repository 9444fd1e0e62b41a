// Package schema brings tables of SQLite files up to date that an earlier version has made.
package schema

import (
	"context"
	"database/sql"
)

// AddColumn adds a column to a table from before there was one. The names are the caller's own.
func AddColumn(ctx context.Context, db *sql.DB, table, column, kind string) error {
	var has bool
	if err := db.QueryRowContext(ctx, "select count(*) from pragma_table_info(?) where name = ?", table,
		column).Scan(&has); err != nil || has {
		return err
	}
	_, err := db.ExecContext(ctx, "alter table "+table+" add column "+column+" "+kind)
	return err
}
