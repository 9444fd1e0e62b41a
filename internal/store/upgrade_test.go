package store_test

import (
	"crypto/sha256"
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
insert into plan_limits (plan_id, key, amount) select id, 'files', 0 from plans;
insert into plan_limits (plan_id, key, amount) select id, 'domains', 0 from plans;
insert into servers (label, address, roles, addresses, join_secret, join_ends_at)
    values ('skua', '10.0.0.1:7677', '{web,dns}', '{}', 'x', now() + interval '1 hour');
insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, held, held_at)
    select 'ternferries', 'ternferries.example', c.id, p.id, s.id,
        '{"plan": "harbour", "limits": {"domains": 5, "files": 0}, "features": {"dns": true}}', '2026-11-01 12:00Z'
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

// digests begin the SHA-256 of the migrations that have landed.
var digests = map[string]string{"0001_foundation.sql": "73b4b4c1dc660fef", "0002_selling.sql": "e578bc089957564c",
	"0003_people.sql": "e5450048a7dba433", "0004_sites.sql": "9f1885dfed4b72fe", "0005_zones.sql": "4bb5686194a69f0c",
	"0006_logins.sql": "c9ba51224b1c8421", "0007_certificates.sql": "94993a46049d38e9",
	"0008_certificates_by_hand.sql": "36b36d4093478832", "0009_certificates_limited.sql": "d2519f06c9b92168",
	"0010_names.sql": "aae0f55450db3ea0", "0011_homes.sql": "b906c5b973e239fc",
	"0012_neighbours.sql": "4286565961364703", "0013_domain_proof.sql": "b17d3c637f27607f",
	"0014_domain_list.sql": "f344270afe1f62a3", "0015_figures.sql": "ef18e134a529f4a2",
	"0016_languages.sql": "0ee41f89f339a107", "0017_mailboxes.sql": "8e4d19a1346b922a",
	"0018_mail_addresses.sql":      "50fedad849215d32",
	"0019_spam_and_suspension.sql": "42455c24f15ac5f0", "0020_lists_and_holders.sql": "9eef851928b063dd",
	"0021_mail_between_servers.sql": "3cb26857e4b7ab80", "0022_probes_of_holders.sql": "ddc54af2fdaa5c0b",
	"0023_kept_messages.sql": "3608263748062f32", "0024_databases.sql": "50ac56ed8dcc27e1",
	"0025_kits.sql": "42511b62ad2e1e27"}

func TestLandedMigrationsStayAsTheyAre(t *testing.T) {
	for name, digest := range digests {
		text, err := os.ReadFile(filepath.Join("migrations", name))
		require.NoError(t, err)
		assert.Equal(t, digest, fmt.Sprintf("%x", sha256.Sum256(text))[:16], "%s has landed: add another one", name)
	}
}

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
	assert.Equal(t, "100 1073741824 5", one("select concat_ws(' ', frozen_terms #>> '{limits,cpu}', "+
		"frozen_terms #>> '{limits,memory}', frozen_terms #>> '{limits,domains}') from accounts"),
		"what is new is usual, what was there stays")
	assert.Equal(t, "100 1073741824 100",
		one("select string_agg(amount::text, ' ' order by key desc) from plan_limits "+
			"where key in ('processes', 'memory', 'cpu')"))
	assert.Equal(t, "domains", one("select string_agg(key, ' ') from plan_limits where amount = 0"),
		"a limit that was not kept before keeps nobody from writing")
	assert.Equal(t, "unlimited unlimited", one("select concat_ws(' ', (select coalesce(amount::text, 'unlimited') "+
		"from plan_limits where key = 'database_size'), case when frozen_terms -> 'limits' ? 'database_size' then "+
		"coalesce(frozen_terms #>> '{limits,database_size}', 'unlimited') end) from accounts"))
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
