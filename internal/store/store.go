// Package store keeps the installation's records in PostgreSQL. Nothing else
// knows SQL: migrations/ holds the tables, queries/ the statements, and db/ the
// Go code generated from both (make generate).
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"runtime"
	"sort"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"victualler/internal/store/db"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database. Queries outside a transaction go through its embedded
// Queries.
type Store struct {
	*db.Queries
	Pool *pgxpool.Pool
}

// Fresh returns the queries of the store, each planned anew for just what
// is asked. Lists with many filters want that: which index is best depends
// on which of them are used, and a plan kept for all of them uses none.
func (s *Store) Fresh() *db.Queries { return db.New(fresh{s.Pool}) }

type fresh struct{ *pgxpool.Pool }

// Query implements db.DBTX.
func (f fresh) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return f.Pool.Query(ctx, sql, append([]any{pgx.QueryExecModeCacheDescribe}, args...)...)
}

// Tx is a transaction. It offers the statements of queries/ and no others.
type Tx struct {
	*db.Queries
	tx pgx.Tx
}

// JobTx is the transaction for the queue of jobs, which writes its own tables with it.
func (tx Tx) JobTx() pgx.Tx { return tx.tx }

// JobWaits reports whether a job of a kind with these arguments waits for its turn.
func (tx Tx) JobWaits(ctx context.Context, kind string, args any) (waits bool, err error) {
	err = tx.tx.QueryRow(ctx, `select exists (select from river_job
		where kind = $1 and args @> $2 and state in ('available', 'scheduled', 'retryable'))`, kind, args).Scan(&waits)
	return waits, err
}

// migrationLock is the number of the advisory lock under which migrations run.
const migrationLock = 0x56494354

// Open connects and brings the tables up to date. Any number of processes may
// do so at once: one migrates, the others wait.
func Open(ctx context.Context, url string) (*Store, error) {
	s, err := Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// How many connections there are, unless the address has pool_max_conns. A few that are busy do
// more than many that take turns at the processors, each with plans and caches of its own to fill.
const (
	leastConns        = 8
	connsPerProcessor = 4
)

// Connect connects to a database whose tables are up to date.
func Connect(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	if !strings.Contains(url, "pool_max_conns") {
		config.MaxConns = int32(max(leastConns, connsPerProcessor*runtime.NumCPU()))
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &Store{db.New(pool), pool}, nil
}

// MaxConns is how many connections there are at most at the same time.
func (s *Store) MaxConns() int { return int(s.Pool.Config().MaxConns) }

// Ping returns an error unless the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.Pool.Ping(ctx) }

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

func (s *Store) migrate(ctx context.Context) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", migrationLock)
	if _, err := conn.Exec(ctx, `create table if not exists migrations (
		name text primary key, applied_at timestamptz not null default now())`); err != nil {
		return err
	}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	sort.Strings(names)
	for _, name := range names {
		if err := applyMigration(ctx, conn, name); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	river, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if _, err := river.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("job tables: %w", err)
	}
	return nil
}

func applyMigration(ctx context.Context, conn *pgxpool.Conn, name string) error {
	text, err := migrations.ReadFile(name)
	if err != nil {
		return err
	}
	short := strings.TrimPrefix(name, "migrations/")
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "insert into migrations (name) values ($1) on conflict do nothing", short)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		_, err = tx.Exec(ctx, string(text))
		return err
	})
}

// InTx runs fn in a transaction, which is kept if fn returns nil. A deadlock or
// a serialization failure is tried again.
func (s *Store) InTx(ctx context.Context, fn func(Tx) error) error {
	for try := 1; ; try++ {
		err := pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { return fn(Tx{db.New(tx), tx}) })
		if code := sqlState(err); try < 4 && (code == "40P01" || code == "40001") {
			time.Sleep(time.Duration(try) * 10 * time.Millisecond)
			continue
		}
		return err
	}
}

// Snapshot runs fn on the database as it is at one moment: what others change
// meanwhile is not seen, and nothing can be changed.
func (s *Store) Snapshot(ctx context.Context, fn func(*db.Queries) error) error {
	options := pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}
	return pgx.BeginTxFunc(ctx, s.Pool, options, func(tx pgx.Tx) error { return fn(db.New(tx)) })
}

// ViolatedConstraint returns the name of the constraint that a statement would have
// violated, or "".
func ViolatedConstraint(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && strings.HasPrefix(pg.Code, "23") {
		return pg.ConstraintName
	}
	return ""
}

// None reports whether a query for one row found none.
func None(err error) bool { return errors.Is(err, pgx.ErrNoRows) }

// Unreachable reports whether an error says that the database does not answer, or answers no more:
// it is stopped, started, taken over by another machine, or too far away. Whether the statement was
// done is not known then.
func Unreachable(err error) bool {
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) ||
		errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNREFUSED) {
		return true
	}
	// Connection exceptions, an operator's intervention, and a machine that was the first one
	// before (PostgreSQL, appendix A).
	code := sqlState(err)
	return strings.HasPrefix(code, "08") || strings.HasPrefix(code, "57P") || code == "25006"
}

func sqlState(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Code
	}
	return ""
}

// OperationChannel is where changes of operations are told, by number.
const OperationChannel = "operation"

// Listen calls heard for every notification on a channel until the context ends, connecting again
// where the connection is lost. Lost is called then, as notifications may have been missed.
func (s *Store) Listen(ctx context.Context, channel string, heard func(payload string), lost func()) {
	for ctx.Err() == nil {
		err := func() error {
			conn, err := s.Pool.Acquire(ctx)
			if err != nil {
				return err
			}
			defer func() {
				// It would go on listening for its next user.
				conn.Hijack().Close(context.WithoutCancel(ctx))
			}()
			if _, err := conn.Exec(ctx, "listen "+pgx.Identifier{channel}.Sanitize()); err != nil {
				return err
			}
			lost()
			for {
				n, err := conn.Conn().WaitForNotification(ctx)
				if err != nil {
					return err
				}
				heard(n.Payload)
			}
		}()
		if err != nil && ctx.Err() == nil {
			slog.Warn("notifications lost; connecting again", "reason", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}
