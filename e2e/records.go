package e2e

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// What tests do to the records themselves is in this file, and only that: they look for what must
// not be there, and let time go by that nobody can wait for.

// withRecords does something with the installation's database.
func withRecords(t *testing.T, do func(ctx context.Context, conn *pgx.Conn)) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, Inst.DatabaseURL())
	require.NoError(t, err)
	defer conn.Close(ctx)
	do(ctx, conn)
}

func execute(t *testing.T, statement string, args ...any) {
	t.Helper()
	withRecords(t, func(ctx context.Context, conn *pgx.Conn) {
		_, err := conn.Exec(ctx, statement, args...)
		require.NoError(t, err)
	})
}

func text(t *testing.T, question string, args ...any) (answer string) {
	t.Helper()
	withRecords(t, func(ctx context.Context, conn *pgx.Conn) {
		require.NoError(t, conn.QueryRow(ctx, question, args...).Scan(&answer))
	})
	return answer
}

// EverythingIn returns all that is in a table, or in the service's log, as text.
func EverythingIn(t *testing.T, where string) string {
	t.Helper()
	if where == "log" {
		text, err := os.ReadFile(Inst.LogFile())
		require.NoError(t, err)
		return string(text)
	}
	return text(t, "select coalesce(string_agg(row::text, ' '), '') from "+pgx.Identifier{where}.Sanitize()+" row")
}

// EventsAbout lists what the record has about a subject: action,
// person, address, and what was before and after.
func EventsAbout(t *testing.T, subject string) (events []string) {
	t.Helper()
	withRecords(t, func(ctx context.Context, conn *pgx.Conn) {
		rows, err := conn.Query(ctx, "select action || ' ' || actor || ' ' || address || ' ' || "+
			"coalesce(before::text, '') || ' ' || coalesce(after::text, '') from events where subject = $1 order by id",
			subject)
		require.NoError(t, err)
		events, err = pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
	})
	return events
}

// ToldDigest is what the service has on record of the document that a
// server holds for all accounts.
func ToldDigest(t *testing.T, server string) string {
	t.Helper()
	return text(t, "select told from servers where label = $1", server)
}

// Workers lists the processes of the service that have worked on jobs of a kind since a moment.
func Workers(t *testing.T, kind string, since time.Time) (processes []string) {
	t.Helper()
	withRecords(t, func(ctx context.Context, conn *pgx.Conn) {
		rows, err := conn.Query(ctx, "select distinct unnest(attempted_by) from river_job where kind = $1 and "+
			"attempted_at > $2", kind, since)
		require.NoError(t, err)
		processes, err = pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
	})
	return processes
}

// BreakConnections ends all connections of the service to its database.
func BreakConnections(t *testing.T) {
	t.Helper()
	execute(t, "select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and "+
		"usename = 'victualler'")
}

// ClosedAccounts adds closed accounts, which are rows only: no server has to have them. They are
// row001.example and so on.
func ClosedAccounts(t *testing.T, count int) {
	t.Helper()
	execute(t, `insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, state, closed_at)
		select 'row' || n, 'row' || lpad(n::text, 3, '0') || '.example', (select min(id) from customers),
			(select min(id) from plans), (select min(id) from servers), 'closed', now() from generate_series(1, $1) n`,
		count)
}

// ForgetSignInFailures has nobody have typed a wrong password.
func ForgetSignInFailures(t *testing.T) {
	t.Helper()
	execute(t, "delete from sign_in_failures")
}

// SessionsEnd has a person's sessions have been used a while ago, and end after another while:
// without use, and at all. A zero is left as it is.
func SessionsEnd(t *testing.T, person string, used, ends, latest time.Duration) {
	t.Helper()
	execute(t, `update sessions set seen_at = now() - $2::interval,
		ends_at = case when $3::interval = '0' then ends_at else now() + $3 end,
		ends_latest = case when $4::interval = '0' then ends_latest else now() + $4 end
		from people where people.id = person_id and people.name = $1`, person, used, ends, latest)
}

// OnlyOperator has all operators but one have support for a duty.
func OnlyOperator(t *testing.T, name string) {
	t.Helper()
	execute(t, "update people set duty = 'support' where role = 'operator' and name <> $1", name)
}

// Begun has an operation have begun so long ago.
func Begun(t *testing.T, operation int64, ago time.Duration) {
	t.Helper()
	execute(t, "update operations set created_at = now() - $2::interval where id = $1", operation, ago)
}

// ofDomain narrows a statement to the site of a domain, which is its first argument.
const ofDomain = " domain_id = (select id from domains where name = $1)"

// CertificateDue has a site looked at now, whether a certificate is to be ordered for it.
func CertificateDue(t *testing.T, domain string) {
	t.Helper()
	execute(t, "update site_certificates set due_at = now() where"+ofDomain, domain)
}

// CertificateLost has a site's certificate be used no longer.
func CertificateLost(t *testing.T, domain string) {
	t.Helper()
	execute(t, "update certificates set state = 'retired', renew_at = null, ask_at = null where"+ofDomain, domain)
}

// CertificateFailed has orders for a site have failed so often; with 0, nothing has.
func CertificateFailed(t *testing.T, domain string, times int, problem string) {
	t.Helper()
	execute(t, "update site_certificates set failures = $2, failed_at = case when $2 = 0 then null else now() end, "+
		"code = '', problem = $3 where"+ofDomain, domain, times, problem)
}

// CertificateRenewed has the certificate of a site be renewed after a while.
func CertificateRenewed(t *testing.T, domain string, after time.Duration) {
	t.Helper()
	execute(t, "update certificates set renew_at = now() + $2::interval where state = 'in-use' and"+ofDomain, domain,
		after)
	execute(t, "update site_certificates set due_at = now() + $2::interval where"+ofDomain, domain, after)
}

// CertificateEnds has the certificate of a site last 90 days, of which so many are left.
func CertificateEnds(t *testing.T, domain string, left time.Duration) {
	t.Helper()
	execute(t, "update certificates set not_before = now() + $2::interval - interval '90 days', "+
		"not_after = now() + $2::interval, ask_at = null where state = 'in-use' and"+ofDomain, domain, left)
}

// AskWhenToRenew has authorities be asked now when certificates are to be renewed.
func AskWhenToRenew(t *testing.T) {
	t.Helper()
	execute(t, "update certificates set ask_at = now() where state = 'in-use'")
}

// NotifyNow has people be told now of certificates that are about to end.
func NotifyNow(t *testing.T) {
	t.Helper()
	execute(t, "insert into river_job (kind, args, queue, state, max_attempts, priority) values ('notice', '{}', "+
		"'default', 'available', 3, 1)")
	require.Eventually(t, func() bool {
		return text(t, "select count(*)::text from river_job where kind = 'notice' and state <> 'completed'") == "0"
	}, time.Minute, 50*time.Millisecond)
}

// OrdersBegin has orders to come have begun so long ago, until the test ends.
func OrdersBegin(t *testing.T, ago time.Duration) {
	t.Helper()
	execute(t, "alter table orders alter created_at set default now() - interval '"+ago.String()+"'")
	t.Cleanup(func() { execute(t, "alter table orders alter created_at set default now()") })
}

// AuthoritiesPatient has no authority have been asked too often; with sites, for no site either.
func AuthoritiesPatient(t *testing.T, sites bool) {
	t.Helper()
	execute(t, "update authorities set limited_until = null")
	if sites {
		execute(t, "update site_certificates set limited_until = null")
	}
}

// AuthorityKeys are the keys of our account at an authority: the one that counts, and the one that
// is on its way; sealed, in hexadecimal.
func AuthorityKeys(t *testing.T, name string) (key, next string) {
	t.Helper()
	return text(t, "select encode(key, 'hex') from authorities where name = $1", name),
		text(t, "select coalesce(encode(next_key, 'hex'), '') from authorities where name = $1", name)
}

// KeyChangeCutOff has the change of our account's key at an authority have been cut off so long
// ago: with one key on record, and another on its way.
func KeyChangeCutOff(t *testing.T, name, key, next string, ago time.Duration) {
	t.Helper()
	execute(t, "update authorities set key = decode($2, 'hex'), next_key = decode($3, 'hex'), "+
		"next_key_at = now() - $4::interval where name = $1", name, key, next, ago)
}
