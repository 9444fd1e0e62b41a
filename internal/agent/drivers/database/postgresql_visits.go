package database

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
)

func (e *postgreSQLEngine) letIn(ctx context.Context, one *visitor, user databases.UserWithVerifier, database string,
	g databases.Growth) error {
	one.name = databases.VisitorPrefix + rand.Text()[:16]
	verifier, err := verifierOf(databases.PostgreSQL, one.password)
	if err != nil {
		return err
	}
	e.visitsMu.Lock()
	if e.visits == nil {
		e.visits = map[string]bool{}
	}
	e.visits[one.name] = true
	e.visitsMu.Unlock()
	return e.run(ctx, 0, databases.Difference{Statements: databases.PostgreSQLVisit(one.name, verifier, user.User,
		database, g, time.Now().Add(2*longestVisit))})
}

func (e *postgreSQLEngine) putOut(ctx context.Context, one visitor) error {
	e.visitsMu.Lock()
	delete(e.visits, one.name)
	e.visitsMu.Unlock()
	return e.putOutRole(ctx, one.name)
}

func (e *postgreSQLEngine) putOutAll(ctx context.Context) error {
	var list []string
	err := e.with(ctx, func(c *pgx.Conn) error {
		return rowsOf(ctx, c, "SELECT rolname FROM pg_roles WHERE starts_with(rolname, $1)",
			[]any{databases.VisitorPrefix}, func(scan scanner) error {
				var name string
				err := scan(&name)
				list = append(list, name)
				return err
			})
	})
	for _, name := range list {
		e.visitsMu.Lock()
		now := e.visits[name]
		e.visitsMu.Unlock()
		if !now {
			err = errors.Join(err, e.putOutRole(ctx, name))
		}
	}
	return err
}

// putOutRole removes a role of a visitor. What it owns, which it can only where it has gone out of
// its way to, becomes the database's.
func (e *postgreSQLEngine) putOutRole(ctx context.Context, role string) error {
	if err := e.disconnect(ctx, []string{role}); err != nil {
		return err
	}
	var made []string
	err := e.with(ctx, func(c *pgx.Conn) error {
		return rowsOf(ctx, c, `SELECT DISTINCT d.datname FROM pg_shdepend s
			JOIN pg_authid r ON r.oid = s.refobjid AND s.refclassid = 'pg_authid'::regclass
			JOIN pg_database d ON d.oid = s.dbid WHERE r.rolname = $1 AND s.deptype = 'o'`, []any{role},
			func(scan scanner) error {
				var name string
				err := scan(&name)
				made = append(made, name)
				return err
			})
	})
	if err != nil {
		return err
	}
	return e.run(ctx, 0, databases.Difference{Statements: databases.PostgreSQLVisitEnds(role, made)})
}

// as connects as a visitor.
func (e *postgreSQLEngine) as(ctx context.Context, one visitor, settings map[string]string) (*pgconn.PgConn, error) {
	config, err := pgconn.ParseConfig("host=" + databases.PostgreSQL.Socket() + " connect_timeout=5")
	if err != nil {
		return nil, err
	}
	config.User, config.Password, config.Database = one.name, one.password, one.database
	config.RuntimeParams = settings
	// No row that anybody could make comes to fill the agent's memory.
	config.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(r, w)
		f.SetMaxBodyLen(64 << 20)
		return f
	}
	c, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, saidBy(err)
	}
	return c, nil
}

// saidBy is what PostgreSQL says, if the error is its own.
func saidBy(err error) error {
	if own := (*pgconn.PgError)(nil); errors.As(err, &own) {
		text := own.Code + ": " + own.Message
		for _, more := range []string{own.Detail, own.Hint, own.Where} {
			if more != "" {
				text += "; " + strings.Join(strings.Fields(more), " ")
			}
		}
		return refused(text)
	}
	return err
}

func (e *postgreSQLEngine) look(ctx context.Context, one visitor, q agentlink.DatabaseQuestion) (
	agentlink.DatabaseAnswer, error) {
	var out agentlink.DatabaseAnswer
	c, err := e.as(ctx, one, map[string]string{"application_name": "victualler", "lock_timeout": "10s",
		"statement_timeout": fmt.Sprint(q.Longest.Milliseconds())})
	if err != nil {
		return out, err
	}
	defer func() {
		aside, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		c.Close(aside)
	}()
	switch q.Ask {
	case agentlink.AskTables:
		out.Tables, err = postgreSQLTables(ctx, c)
	case agentlink.AskStructure:
		out.Structure, err = postgreSQLStructure(ctx, c, q.Table)
	case agentlink.AskRows:
		var name string
		if _, name, err = findTable(ctx, c, q.Table); err == nil {
			out.Result, err = postgreSQLRows(ctx, c, fmt.Sprintf("SELECT * FROM %s LIMIT %d OFFSET %d", name, q.Limit+1,
				q.Offset), q.Limit)
		}
	case agentlink.AskStatement:
		out.Result, err = postgreSQLRows(ctx, c, q.Statement, q.Limit)
	default:
		err = fmt.Errorf("%q is no question", q.Ask)
	}
	return out, saidBy(err)
}

// texts returns the rows of a question of ours as texts; null is empty.
func texts(ctx context.Context, c *pgconn.PgConn, question string, args ...string) ([][]string, error) {
	values := make([][]byte, len(args))
	for n, a := range args {
		values[n] = []byte(a)
	}
	result := c.ExecParams(ctx, question, values, nil, nil, nil).Read()
	var list [][]string
	for _, row := range result.Rows {
		one := make([]string, len(row))
		for n, v := range row {
			one[n] = string(v)
		}
		list = append(list, one)
	}
	return list, result.Err
}

// What is in schemas of the engine's own is nobody's. Names are of the catalogue, whatever the
// database has of the same name.
const ofTables = ` FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) c.relnamespace
	WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema')
	AND NOT pg_catalog.starts_with(n.nspname, 'pg_')`

func postgreSQLTables(ctx context.Context, c *pgconn.PgConn) ([]agentlink.DatabaseTable, error) {
	rows, err := texts(ctx, c, `SELECT pg_catalog.concat(n.nspname, '.', c.relname), c.relkind IN ('v', 'm'),
		CASE WHEN c.reltuples >= 0 AND c.relkind <> 'v' THEN c.reltuples::bigint::text ELSE '-' END,
		pg_catalog.pg_total_relation_size(c.oid)`+ofTables+` ORDER BY 1`)
	list := []agentlink.DatabaseTable{}
	for _, row := range rows {
		t := agentlink.DatabaseTable{Name: row[0], View: row[1] == "t"}
		var n int64
		if _, err := fmt.Sscan(row[2], &n); err == nil {
			t.Rows = &n
		}
		_, _ = fmt.Sscan(row[3], &t.Size)
		list = append(list, t)
	}
	return list, err
}

// findTable finds a table by its name with or without the schema public, and returns its number and
// its name as a statement has it.
func findTable(ctx context.Context, c *pgconn.PgConn, name string) (id, quoted string, err error) {
	rows, err := texts(ctx, c, `SELECT c.oid, pg_catalog.format('%I.%I', n.nspname, c.relname)`+ofTables+`
		AND (pg_catalog.concat(n.nspname, '.', c.relname) = $1 OR n.nspname = 'public' AND c.relname = $1)
		ORDER BY n.nspname = 'public' DESC LIMIT 1`, name)
	if err != nil {
		return "", "", err
	}
	if len(rows) == 0 {
		return "", "", noTable(name)
	}
	return rows[0][0], rows[0][1], nil
}

func postgreSQLStructure(ctx context.Context, c *pgconn.PgConn, table string) (*agentlink.TableStructure, error) {
	id, _, err := findTable(ctx, c, table)
	if err != nil {
		return nil, err
	}
	out := agentlink.TableStructure{Columns: []agentlink.TableColumn{}, Indexes: []agentlink.TableIndex{}}
	columns, err := texts(ctx, c, `SELECT a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod), NOT a.attnotnull,
		d.oid IS NOT NULL, pg_catalog.pg_get_expr(d.adbin, d.adrelid)
		FROM pg_catalog.pg_attribute a LEFT JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
		WHERE a.attrelid = $1::pg_catalog.oid AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, id)
	if err != nil {
		return nil, err
	}
	for _, row := range columns {
		column := agentlink.TableColumn{Name: row[0], Type: row[1], Null: row[2] == "t"}
		if row[3] == "t" {
			column.Default = &row[4]
		}
		out.Columns = append(out.Columns, column)
	}
	indexes, err := texts(ctx, c, `SELECT c.relname, i.indisunique, i.indisprimary,
		pg_catalog.pg_get_indexdef(i.indexrelid, k.n, true)
		FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indexrelid
		CROSS JOIN LATERAL pg_catalog.generate_series(1, i.indnkeyatts::int) AS k(n)
		WHERE i.indrelid = $1::pg_catalog.oid ORDER BY i.indisprimary DESC, c.relname, k.n`, id)
	for _, row := range indexes {
		if last := len(out.Indexes) - 1; last >= 0 && out.Indexes[last].Name == row[0] {
			out.Indexes[last].Columns = append(out.Indexes[last].Columns, row[3])
			continue
		}
		out.Indexes = append(out.Indexes, agentlink.TableIndex{Name: row[0], Unique: row[1] == "t",
			Primary: row[2] == "t", Columns: []string{row[3]}})
	}
	return &out, err
}

// postgreSQLRows executes one statement and returns limit rows of its result at most.
func postgreSQLRows(ctx context.Context, c *pgconn.PgConn, statement string, limit int) (*agentlink.StatementResult,
	error) {
	out := &agentlink.StatementResult{Columns: []string{}, Rows: [][]*string{}}
	began := time.Now()
	result := c.ExecParams(ctx, statement, nil, nil, nil, nil)
	size := 0
	for result.NextRow() {
		if len(out.Rows) == limit || size > agentlink.LongestAnswer {
			out.More = true
			break // the connection ends with it
		}
		values := result.Values()
		row := make([]*string, len(values))
		for n, v := range values {
			if v != nil {
				text := shown(v)
				row[n], size = &text, size+len(text)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	for _, f := range result.FieldDescriptions() {
		out.Columns = append(out.Columns, f.Name)
	}
	if !out.More {
		tag, err := result.Close()
		if err != nil {
			return nil, err
		}
		if len(out.Columns) == 0 {
			out.Affected = tag.RowsAffected()
		}
	}
	out.Took = time.Since(began)
	return out, nil
}

func (e *postgreSQLEngine) running(ctx context.Context, database string, longer time.Duration) ([]execution, error) {
	var list []execution
	err := e.watch.with(ctx, "", func(c *pgx.Conn) error {
		return rowsOf(ctx, c, `SELECT pid, datname, usename, extract(epoch FROM clock_timestamp() - query_start)::float8,
			pid || ' ' || query_start, coalesce(nullif(concat_ws(' ', wait_event_type, wait_event), ''), state),
			left(query, 2000) FROM pg_stat_activity WHERE ($1 = '' OR datname = $1) AND state = 'active'
			AND usename <> 'postgres' AND clock_timestamp() - query_start >= make_interval(secs => $2)
			ORDER BY query_start`, []any{database, longer.Seconds()}, func(scan scanner) error {
			var one execution
			var seconds float64
			err := scan(&one.ID, &one.database, &one.User, &seconds, &one.number, &one.State, &one.Statement)
			one.For = time.Duration(seconds * float64(time.Second))
			list = append(list, one)
			return err
		})
	})
	return list, err
}

func (e *postgreSQLEngine) stop(ctx context.Context, id int64) error {
	return e.with(ctx, func(c *pgx.Conn) error {
		_, err := c.Exec(ctx, "SELECT pg_cancel_backend($1)", int32(id))
		return err
	})
}

func (e *postgreSQLEngine) dump(one visitor, tables []string) (name string, args, env []string) {
	args = []string{"--host=" + databases.PostgreSQL.Socket(), "--username=" + one.name, "--no-password",
		"--no-owner", "--no-privileges", "--encoding=UTF8", "--lock-wait-timeout=60s"}
	for _, t := range tables {
		// It takes patterns; within quotes, none of their characters means anything.
		schema, table, is := strings.Cut(t, ".")
		if !is {
			schema, table = "public", t
		}
		args = append(args, "--table="+pgx.Identifier{schema, table}.Sanitize())
	}
	return "pg_dump", append(args, "--dbname="+one.database), []string{"PGPASSWORD=" + one.password}
}

// postgreSQLLoader executes what is imported.
type postgreSQLLoader struct{ c *pgconn.PgConn }

func (e *postgreSQLEngine) load(ctx context.Context, one visitor) (loader, error) {
	c, err := e.as(ctx, one, map[string]string{"application_name": "victualler import", "lock_timeout": "60s"})
	if err != nil {
		return nil, err
	}
	return &postgreSQLLoader{c}, nil
}

func (l *postgreSQLLoader) exec(ctx context.Context, statement []byte) error {
	_, err := l.c.Exec(ctx, string(statement)).ReadAll()
	return saidBy(err)
}

func (l *postgreSQLLoader) rows(ctx context.Context, statement []byte, rows io.Reader) error {
	_, err := l.c.CopyFrom(ctx, rows, string(statement))
	return saidBy(err)
}

func (l *postgreSQLLoader) csv(ctx context.Context, how agentlink.CSVImport, columns []string, rows io.Reader) (int64,
	error) {
	_, table, err := findTable(ctx, l.c, how.Table)
	if err != nil {
		return 0, err
	}
	list := ""
	if len(columns) > 0 {
		names := make([]string, len(columns))
		for n, c := range columns {
			names[n] = pgx.Identifier{c}.Sanitize()
		}
		list = " (" + strings.Join(names, ", ") + ")"
	}
	tag, err := l.c.CopyFrom(ctx, rows, "COPY "+table+list+" FROM STDIN WITH (FORMAT csv, DELIMITER '"+
		strings.ReplaceAll(how.Separator, "'", "''")+"')")
	return tag.RowsAffected(), saidBy(err)
}

func (l *postgreSQLLoader) close() {
	aside, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	l.c.Close(aside)
}
