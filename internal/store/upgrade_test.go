package store_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/store"
	"victualler/internal/store/storetest"
)

// landed is the last migration that installations already have. A change to it or to one before it
// would never reach them.
const landed = "0009_certificates_limited.sql"

// landedRows are what an installation of that time holds, in its words.
const landedRows = `
insert into customers (name, language) values ('Tern Ferries', 'en');
insert into plans (name) values ('harbour');
insert into servers (label, address, roles, addresses, join_secret, join_ends_at)
    values ('skua', '10.0.0.1:7677', '{web,dns}', '{}', 'x', now() + interval '1 hour');
insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, held, held_at)
    select 'ternferries', 'ternferries.example', c.id, p.id, s.id,
        '{"plan": "harbour", "limits": {"domains": 5}, "features": {"dns": true}}', '2026-11-01 12:00Z'
    from customers c, plans p, servers s;
insert into zones (account_id, name, name_service)
    select id, 'ternferries.example', 'here' from accounts union
    select id, 'elsewhere.example', 'elsewhere' from accounts;
insert into drifts (server_id, account_id, part, subject, what)
    select server_id, id, 'nginx', '/etc/nginx/x.conf', 'changed' from accounts;
insert into people (name, role, duty, look_only, language, password_hash)
    values ('maren', 'operator', 'support', true, 'en', '');
insert into mails (kind, recipient, message, sender) values ('welcome', 'a@post.example', 'x', 'b@post.example');
`

// TestUpgrade has a database of the landed state opened by this version: nothing is lost.
func TestUpgrade(t *testing.T) {
	ctx := t.Context()
	url := storetest.Empty(t)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "create table migrations (name text primary key, "+
		"applied_at timestamptz not null default now())")
	require.NoError(t, err)
	files, err := filepath.Glob("migrations/*.sql")
	require.NoError(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		_, err = conn.Exec(ctx, string(text))
		require.NoError(t, err, file)
		_, err = conn.Exec(ctx, "insert into migrations (name) values ($1)", filepath.Base(file))
		require.NoError(t, err)
		if filepath.Base(file) == landed {
			break
		}
	}
	_, err = conn.Exec(ctx, landedRows)
	require.NoError(t, err)
	counts := func() map[string]int {
		out := map[string]int{}
		for _, table := range []string{"customers", "plans", "servers", "accounts", "zones", "drifts", "people",
			"mails"} {
			var n int
			require.NoError(t, conn.QueryRow(ctx, fmt.Sprintf("select count(*) from %s", table)).Scan(&n))
			out[table] = n
		}
		return out
	}
	before := counts()
	for table, n := range before {
		require.NotZero(t, n, table)
	}

	s, err := store.Open(ctx, url)
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, before, counts())

	one := func(statement string) string {
		var text string
		require.NoError(t, conn.QueryRow(ctx, statement).Scan(&text), statement)
		return text
	}
	assert.Equal(t, "harbour", one("select frozen_terms ->> 'plan' from accounts"))
	assert.Equal(t, "2026-11-01", one("select (frozen_at at time zone 'UTC')::date::text from accounts"))
	assert.Equal(t, "elsewhere", one("select hosted from zones where name = 'elsewhere.example'"))
	assert.Equal(t, "here", one("select hosted from zones where name = 'ternferries.example'"))
	assert.Equal(t, "changed", one("select detail from drifts"))
	assert.Equal(t, "true", one("select read_only::text from people"))
	assert.Equal(t, "true", one("select (claimed_until is null)::text from mails"), "it is still to be sent")

	again, err := store.Open(ctx, url)
	require.NoError(t, err, "once more changes nothing")
	again.Close()
	require.NoError(t, conn.Close(ctx))
}
