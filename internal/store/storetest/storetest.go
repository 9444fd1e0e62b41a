// Package storetest gives tests a PostgreSQL of their own: one server
// for all packages of a test run, and in it a database for each test,
// cloned from one that has been migrated. It needs no root.
//
// The server is the one of which the URL is in the file that
// VICTUALLER_TEST_DATABASE names; `make check` starts one with the
// command storetest/with and passes it on. The file's name stays the
// same, so that Go knows which tests have passed with the same code.
// Without it, the test process starts one, which ends with it.
package storetest

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"victualler/internal/store"
)

// Variable is the name of the environment variable with the name of the file with the server's URL.
const Variable = "VICTUALLER_TEST_DATABASE"

var own struct {
	sync.Mutex
	server *Server
}

// URL returns the URL of a new, migrated database, which is dropped when the test ends.
func URL(t testing.TB) string {
	t.Helper()
	return Clone(t, "migrated", func(*store.Store) {})
}

// Clone returns the URL of a new database, which is dropped when the test ends: a copy of one that
// has been migrated and prepared, once for all tests of a run that name the same.
func Clone(t testing.TB, name string, prepare func(*store.Store)) string {
	t.Helper()
	own.Lock()
	defer own.Unlock()
	address, conn := connect(t)
	defer conn.Close(context.Background())
	template := "template_" + name
	// Of several processes that test packages at the same time, one makes it.
	_, err := conn.Exec(t.Context(), "select pg_advisory_lock(hashtext($1))", template)
	require.NoError(t, err)
	var there bool
	require.NoError(t, conn.QueryRow(t.Context(), "select exists (select from pg_database where datname = $1)",
		template).Scan(&there))
	if !there {
		making := "making_" + strings.ToLower(rand.Text()[:12])
		_, err := conn.Exec(t.Context(), "create database "+making)
		require.NoError(t, err)
		s, err := store.Open(t.Context(), in(address, making))
		require.NoError(t, err)
		prepare(s)
		s.Close()
		_, err = conn.Exec(t.Context(), "alter database "+making+" rename to "+template)
		require.NoError(t, err)
	}
	_, err = conn.Exec(t.Context(), "select pg_advisory_unlock(hashtext($1))", template)
	require.NoError(t, err)
	return create(t, address, conn, template)
}

// Empty returns the URL of a new database with nothing in it, which is dropped when the test ends.
func Empty(t testing.TB) string {
	t.Helper()
	own.Lock()
	defer own.Unlock()
	address, conn := connect(t)
	defer conn.Close(context.Background())
	return create(t, address, conn, "template0")
}

// connect connects to the server, which is started if need be.
func connect(t testing.TB) (address string, conn *pgx.Conn) {
	t.Helper()
	var err error
	if file := os.Getenv(Variable); file != "" {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		address = string(text)
	} else {
		if own.server == nil {
			own.server, err = StartServer()
			require.NoError(t, err)
		}
		address = own.server.URL
	}
	conn, err = pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	return address, conn
}

func create(t testing.TB, address string, conn *pgx.Conn, template string) string {
	t.Helper()
	name := "test_" + strings.ToLower(rand.Text()[:12])
	_, err := conn.Exec(t.Context(), fmt.Sprintf("create database %s template %s", name, template))
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx := context.Background() // the test's has ended
		conn, err := pgx.Connect(ctx, address)
		require.NoError(t, err)
		defer conn.Close(ctx)
		_, err = conn.Exec(ctx, "drop database "+name+" with (force)")
		require.NoError(t, err)
	})
	return in(address, name)
}

// Open returns a store on a database of its own, which is closed when the test ends.
func Open(t testing.TB) *store.Store {
	t.Helper()
	return Connect(t, URL(t))
}

// Connect returns a store on a database that is there, which is closed when the test ends.
func Connect(t testing.TB, url string) *store.Store {
	t.Helper()
	s, err := store.Connect(context.Background(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// ConnectNarrow is Connect with one connection to listen on and one to work with. Whoever asks for
// another while holding that one would bring a busy service to a stand, and hangs here at once.
func ConnectNarrow(t testing.TB, address string) *store.Store {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	query := u.Query()
	query.Set("pool_max_conns", "2")
	u.RawQuery = query.Encode()
	return Connect(t, u.String())
}

// Main is what TestMain of a package calls that uses this one.
func Main(m *testing.M) {
	code := m.Run()
	if own.server != nil {
		own.server.Stop()
	}
	os.Exit(code)
}

func in(address, database string) string {
	u, err := url.Parse(address)
	if err != nil {
		panic(err) // it has been connected to
	}
	u.Path = "/" + database
	return u.String()
}

// Exec runs a statement on a store's database: for what time does, or
// somebody with psql, and no use case.
func Exec(t testing.TB, s *store.Store, statement string, args ...any) {
	t.Helper()
	_, err := s.Pool.Exec(t.Context(), statement, args...)
	require.NoError(t, err)
}
