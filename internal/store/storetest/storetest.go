// Package storetest gives tests a PostgreSQL of their own: one server
// for all packages of a test run, and in it a database for each test,
// cloned from one that has been migrated. It needs no root.
//
// The server is the one that VICTUALLER_TEST_DATABASE names; `make
// check` starts one with the command storetest/with and passes it on.
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

// Variable is the name of the environment variable with the URL of the server.
const Variable = "VICTUALLER_TEST_DATABASE"

var own struct {
	sync.Mutex
	server   *Server
	template string
}

// URL returns the URL of a new, migrated database, which is dropped when the test ends.
func URL(t testing.TB) string {
	t.Helper()
	own.Lock()
	defer own.Unlock()
	address, conn := connect(t)
	defer conn.Close(context.Background())
	if own.template == "" {
		// Of this process alone: the code of another may have other tables.
		name := "template_" + strings.ToLower(rand.Text()[:12])
		_, err := conn.Exec(t.Context(), "create database "+name)
		require.NoError(t, err)
		s, err := store.Open(t.Context(), in(address, name))
		require.NoError(t, err)
		s.Close()
		own.template = name
	}
	return create(t, address, conn, own.template)
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
	address = os.Getenv(Variable)
	var err error
	if address == "" {
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
	s, err := store.Open(context.Background(), URL(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
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
