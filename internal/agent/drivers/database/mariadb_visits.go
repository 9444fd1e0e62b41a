package database

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-sql-driver/mysql"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
)

// visitOf is the verifier of the second password that a user has for visits; empty is none.
func (e *mariaDBEngine) visitOf(user string) string {
	e.visitsMu.Lock()
	defer e.visitsMu.Unlock()
	return e.visits[user]
}

func (e *mariaDBEngine) setVisit(user, verifier string) {
	e.visitsMu.Lock()
	defer e.visitsMu.Unlock()
	if e.visits == nil {
		e.visits = map[string]string{}
	}
	if e.visits[user] = verifier; verifier == "" {
		delete(e.visits, user)
	}
}

func (e *mariaDBEngine) letIn(ctx context.Context, one *visitor, user databases.UserWithVerifier, _ string,
	_ databases.Growth) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	second, err := verifierOf(databases.MariaDB, one.password)
	if err != nil {
		return err
	}
	e.setVisit(user.Name, second) // before it is there, so that nobody takes it for a stranger's
	if _, err := db.ExecContext(ctx, databases.MariaDBVisit(user.Name, user.Verifier, second).SQL); err != nil {
		e.setVisit(user.Name, "")
		return err
	}
	return nil
}

func (e *mariaDBEngine) putOut(ctx context.Context, one visitor) error {
	second := e.visitOf(one.name)
	e.setVisit(one.name, "")
	return e.putOutWith(ctx, "JSON_VALUE(Priv, '$.auth_or[1].authentication_string') = ? AND User = ?", second,
		one.name)
}

func (e *mariaDBEngine) putOutAll(ctx context.Context) error {
	e.visitsMu.Lock()
	there := maps.Clone(e.visits)
	e.visitsMu.Unlock()
	where, args := "JSON_EXISTS(Priv, '$.auth_or[1]') AND User IN (SELECT name FROM "+ownDatabase+
		".owned WHERE kind = 'user')", []any{}
	for user := range there {
		where += " AND User <> ?"
		args = append(args, user)
	}
	return e.putOutWith(ctx, where, args...)
}

// putOutWith takes their second password from users of the socket.
func (e *mariaDBEngine) putOutWith(ctx context.Context, where string, args ...any) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	verifiers := map[string]string{}
	err = each(ctx, db, "SELECT User, JSON_VALUE(Priv, '$.authentication_string') FROM mysql.global_priv "+
		"WHERE Host = 'localhost' AND "+where, args, func(scan scanner) error {
		var user string
		var verifier sql.NullString
		err := scan(&user, &verifier)
		verifiers[user] = verifier.String
		return err
	})
	for user, verifier := range verifiers {
		if databases.IsVerifier(databases.MariaDB, verifier) {
			_, wrong := db.ExecContext(ctx, databases.MariaDBVisit(user, verifier, "").SQL)
			err = errors.Join(err, wrong)
		}
	}
	return err
}

// as connects as a visitor.
func (e *mariaDBEngine) as(ctx context.Context, one visitor) (*sql.DB, *sql.Conn, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = one.name, one.password, one.database
	config.Net, config.Addr = "unix", databases.MariaDB.Socket()
	config.Timeout, config.Logger = 5*time.Second, quiet{}
	config.MaxAllowedPacket = 64 << 20
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, nil, err
	}
	db := sql.OpenDB(connector)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, nil, err
	}
	return db, conn, nil
}

// errCutOff is what becomes of whoever is connected when MariaDB is stopped, or fails.
var errCutOff = errors.New("MariaDB has ended the connection: it was stopped, or has failed, as with a full disk")

// refusedBy is what MariaDB says, if the error is its own.
func refusedBy(err error) error {
	if errors.Is(err, mysql.ErrInvalidConn) {
		return errCutOff
	}
	if own := (*mysql.MySQLError)(nil); errors.As(err, &own) {
		return refused(fmt.Sprintf("%d: %s", own.Number, own.Message))
	}
	return err
}

func (e *mariaDBEngine) look(ctx context.Context, one visitor, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer,
	error) {
	var out agentlink.DatabaseAnswer
	db, conn, err := e.as(ctx, one)
	if err != nil {
		return out, refusedBy(err)
	}
	defer db.Close()
	defer conn.Close()
	var id int64
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id); err != nil {
		return out, err
	}
	// Without this, the engine would notice only when it has something to say that nobody waits.
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-ended:
		case <-ctx.Done():
			aside, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			_ = e.kill(aside, "KILL CONNECTION", id)
		}
	}()
	switch q.Ask {
	case agentlink.AskTables:
		err = mariaDBTables(ctx, conn, &out)
	case agentlink.AskStructure:
		out.Structure, err = mariaDBStructure(ctx, conn, q.Table)
	case agentlink.AskRows:
		err = tableThere(ctx, conn, q.Table)
		if err == nil {
			out.Result, err = mariaDBRows(ctx, conn, fmt.Sprintf("SELECT * FROM %s LIMIT %d OFFSET %d",
				databases.QuoteMariaDB(q.Table), q.Limit+1, q.Offset), q.Limit)
		}
	case agentlink.AskStatement:
		out.Result, err = mariaDBRows(ctx, conn, q.Statement, q.Limit)
	default:
		err = fmt.Errorf("%q is no question", q.Ask)
	}
	return out, refusedBy(err)
}

func mariaDBTables(ctx context.Context, conn *sql.Conn, out *agentlink.DatabaseAnswer) error {
	rows, err := conn.QueryContext(ctx, "SELECT table_name, table_type <> 'BASE TABLE', table_rows, "+
		"coalesce(data_length + index_length, 0) FROM information_schema.tables WHERE table_schema = DATABASE() "+
		"ORDER BY table_name")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var t agentlink.DatabaseTable
		if err := rows.Scan(&t.Name, &t.View, &t.Rows, &t.Size); err != nil {
			return err
		}
		out.Tables = append(out.Tables, t)
	}
	return rows.Err()
}

// noTable is the error for a table that is not there.
func noTable(name string) error { return refused(fmt.Sprintf("there is no table %s", name)) }

func tableThere(ctx context.Context, conn *sql.Conn, table string) error {
	var n int
	err := conn.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.tables WHERE table_schema = DATABASE() "+
		"AND table_name = ?", table).Scan(&n)
	if err == nil && n == 0 {
		err = noTable(table)
	}
	return err
}

func mariaDBStructure(ctx context.Context, conn *sql.Conn, table string) (*agentlink.TableStructure, error) {
	out := agentlink.TableStructure{Columns: []agentlink.TableColumn{}, Indexes: []agentlink.TableIndex{}}
	rows, err := conn.QueryContext(ctx, "SELECT column_name, column_type, is_nullable = 'YES', column_default "+
		"FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? ORDER BY ordinal_position",
		table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c agentlink.TableColumn
		if err := rows.Scan(&c.Name, &c.Type, &c.Null, &c.Default); err != nil {
			return nil, err
		}
		out.Columns = append(out.Columns, c)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if len(out.Columns) == 0 {
		return nil, noTable(table)
	}
	indexes, err := conn.QueryContext(ctx, "SELECT index_name, non_unique = 0, column_name FROM "+
		"information_schema.statistics WHERE table_schema = DATABASE() AND table_name = ? "+
		"ORDER BY index_name <> 'PRIMARY', index_name, seq_in_index", table)
	if err != nil {
		return nil, err
	}
	defer indexes.Close()
	for indexes.Next() {
		var name, column string
		var unique bool
		if err := indexes.Scan(&name, &unique, &column); err != nil {
			return nil, err
		}
		if last := len(out.Indexes) - 1; last >= 0 && out.Indexes[last].Name == name {
			out.Indexes[last].Columns = append(out.Indexes[last].Columns, column)
			continue
		}
		out.Indexes = append(out.Indexes, agentlink.TableIndex{Name: name, Columns: []string{column}, Unique: unique,
			Primary: name == "PRIMARY"})
	}
	return &out, indexes.Err()
}

// mariaDBRows executes a statement and returns limit rows of its result at most.
func mariaDBRows(ctx context.Context, conn *sql.Conn, statement string, limit int) (*agentlink.StatementResult, error) {
	out := &agentlink.StatementResult{Columns: []string{}, Rows: [][]*string{}}
	began := time.Now()
	rows, err := conn.QueryContext(ctx, statement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	if out.Columns, err = rows.Columns(); err != nil {
		return nil, err
	}
	values := make([]sql.RawBytes, len(out.Columns))
	places := make([]any, len(values))
	for n := range values {
		places[n] = &values[n]
	}
	size := 0
	for rows.Next() {
		if len(out.Rows) == limit || size > agentlink.LongestAnswer {
			out.More = true
			break
		}
		if err := rows.Scan(places...); err != nil {
			return nil, err
		}
		row := make([]*string, len(values))
		for n, v := range values {
			if v != nil {
				text := shown(v)
				row[n], size = &text, size+len(text)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	if !out.More {
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	if len(out.Columns) == 0 {
		rows.Close()
		if err := conn.QueryRowContext(ctx, "SELECT ROW_COUNT()").Scan(&out.Affected); err != nil {
			return nil, err
		}
		out.Affected = max(0, out.Affected)
	}
	out.Took = time.Since(began)
	return out, nil
}

// shown is a value as people see it.
func shown(value []byte) string {
	cut := func(text string) string {
		if list := []rune(text); len(list) > agentlink.LongestValue {
			return string(list[:agentlink.LongestValue]) + "…"
		}
		return text
	}
	if utf8.Valid(value) && !strings.ContainsRune(string(value), 0) {
		return cut(string(value))
	}
	return cut(`\x` + hex.EncodeToString(value[:min(len(value), agentlink.LongestValue)]))
}

func (e *mariaDBEngine) running(ctx context.Context, database string, longer time.Duration) ([]execution, error) {
	db, err := e.open(ctx)
	if err != nil {
		return nil, err
	}
	var list []execution
	err = each(ctx, db, "SELECT id, db, user, time_ms, query_id, coalesce(state, ''), coalesce(left(info, 2000), '') "+
		"FROM information_schema.processlist WHERE (? = '' OR db = ?) AND db IS NOT NULL AND time_ms >= ? AND "+
		"command NOT IN ('Sleep', 'Daemon')", []any{database, database, longer.Milliseconds()},
		func(scan scanner) error {
			var one execution
			var ms float64
			err := scan(&one.ID, &one.database, &one.User, &ms, &one.number, &one.State, &one.Statement)
			one.For = time.Duration(ms * float64(time.Millisecond))
			list = append(list, one)
			return err
		})
	return list, err
}

func (e *mariaDBEngine) stop(ctx context.Context, id int64) error {
	return e.kill(ctx, "KILL QUERY", id)
}

// kill ends a statement or a connection; one that is gone is ended.
func (e *mariaDBEngine) kill(ctx context.Context, verb string, id int64) error {
	db, err := e.open(ctx)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, fmt.Sprintf("%s %d", verb, id))
	if gone := (*mysql.MySQLError)(nil); errors.As(err, &gone) && gone.Number == noSuchThread {
		return nil
	}
	return err
}

func (e *mariaDBEngine) dump(one visitor, tables []string) (name string, args, env []string) {
	args = []string{"--no-defaults", "--socket=" + databases.MariaDB.Socket(), "--user=" + one.name,
		"--single-transaction", "--quick", "--routines", "--triggers", "--no-tablespaces",
		"--default-character-set=utf8mb4", "--", one.database}
	return "mariadb-dump", append(args, tables...), []string{"MYSQL_PWD=" + one.password}
}

// mariaDBLoader executes what is imported.
type mariaDBLoader struct {
	db   *sql.DB
	conn *sql.Conn
	end  func()
}

func (e *mariaDBEngine) load(ctx context.Context, one visitor) (loader, error) {
	db, conn, err := e.as(ctx, one)
	if err != nil {
		return nil, refusedBy(err)
	}
	var id int64
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return &mariaDBLoader{db: db, conn: conn, end: func() {
		aside, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		_ = e.kill(aside, "KILL CONNECTION", id)
	}}, nil
}

func (l *mariaDBLoader) exec(ctx context.Context, statement []byte) error {
	_, err := l.conn.ExecContext(ctx, string(statement))
	return refusedBy(err)
}

func (l *mariaDBLoader) rows(context.Context, []byte, io.Reader) error {
	return errors.New("MariaDB has no COPY")
}

func (l *mariaDBLoader) csv(ctx context.Context, how agentlink.CSVImport, columns []string, rows io.Reader) (int64,
	error) {
	if err := tableThere(ctx, l.conn, how.Table); err != nil {
		return 0, err
	}
	// The library reads from no file, and from none but this reader, whose name nobody knows.
	name := "victualler-" + rand.Text()
	mysql.RegisterReaderHandler(name, func() io.Reader { return rows })
	defer mysql.DeregisterReaderHandler(name)
	statement := "LOAD DATA LOCAL INFILE 'Reader::" + name + "' INTO TABLE " + databases.QuoteMariaDB(how.Table) +
		" CHARACTER SET utf8mb4 FIELDS TERMINATED BY '" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(how.Separator) +
		"' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' LINES TERMINATED BY '\\n'"
	if len(columns) > 0 {
		list := make([]string, len(columns))
		for n, c := range columns {
			list[n] = databases.QuoteMariaDB(c)
		}
		statement += " (" + strings.Join(list, ", ") + ")"
	}
	// The engine takes a file that cannot be read on for one that has ended.
	tx, err := l.conn.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	result, err := tx.ExecContext(ctx, statement)
	if err != nil {
		return 0, refusedBy(err)
	}
	// What comes from elsewhere is taken with warnings where it would be refused otherwise: values
	// that are none of the column's are others then, and rows that are there already left out.
	var level, text string
	var code int
	switch err := tx.QueryRowContext(ctx, "SHOW WARNINGS LIMIT 1").Scan(&level, &code, &text); {
	case err == nil:
		return 0, refused(fmt.Sprintf("%d: %s; nothing was added", code, text))
	case !errors.Is(err, sql.ErrNoRows):
		return 0, err
	}
	n, err := result.RowsAffected()
	return n, errors.Join(err, tx.Commit())
}

func (l *mariaDBLoader) close() {
	l.conn.Close()
	l.db.Close()
	l.end() // what is still being executed is of no use to anybody
}
