package rollout_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/service/servicetest"
)

// BenchmarkPlanChange changes a plan under many accounts, of the operator and of one reseller, and
// rolls the change out to agents that answer at once. Beside it is what bare statements take
// that do the same to the records, over as many connections. It should grow no faster than the
// number of accounts.
//
//	go run ./internal/store/storetest/with go test -run '^$' -bench . -benchtime 1x ./internal/service/rollout
func BenchmarkPlanChange(b *testing.B) {
	for _, c := range []struct {
		reseller string
		accounts int
	}{{"", 2_500}, {"", 5_000}, {"", 10_000}, {"gannet", 500}, {"gannet", 1_000}, {"gannet", 2_000}} {
		name := fmt.Sprintf("accounts=%d", c.accounts)
		if c.reseller != "" {
			name = fmt.Sprintf("reseller=%d", c.accounts)
		}
		b.Run(name, func(b *testing.B) {
			bench, plan := many(b, c.reseller, c.accounts)
			ctx := b.Context()
			perAccount := func(d time.Duration, what string) {
				b.ReportMetric(float64(d.Microseconds())/float64(c.accounts)/float64(b.N), what+"-µs/account")
			}
			var call, rollOut, bareCall, bareRollOut time.Duration
			limit := int64(200)
			for b.Loop() {
				limit++
				begun := time.Now()
				changed, err := bench.Selling.ChangePlan(ctx, bench.Operator, plan, 0,
					api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(limit * plans.MiB)}})
				require.NoError(b, err)
				call += time.Since(begun)
				begun = time.Now()
				require.NoError(b, bench.Rollout.RollOut(ctx, changed.Operation))
				rollOut += time.Since(begun)

				one, all := bare(b, bench)
				bareCall, bareRollOut = bareCall+one, bareRollOut+all
			}
			perAccount(call, "call")
			perAccount(bareCall, "bare-call")
			perAccount(rollOut, "rollout")
			perAccount(bareRollOut, "bare-rollout")
		})
	}
}

// many is a bench with so many accounts on one plan, which is returned.
func many(b *testing.B, reseller string, accounts int) (*servicetest.Bench, string) {
	b.Helper()
	bench := servicetest.Process(b, servicetest.New(b).URL)
	bench.Server("skua")
	plan := "harbour"
	if reseller != "" {
		bench.Reseller(reseller, "allotted", plans.Limits{plans.Disk: plans.Of(1000 * plans.TiB),
			plans.Domains: plans.Of(1_000_000), plans.PHPWorkers: plans.Of(1_000_000)})
		plan = reseller + ".harbour"
	}
	bench.PlanOf(reseller, "harbour", nil)
	bench.Customer("Tern Ferries", reseller)
	for _, statement := range []string{
		fmt.Sprintf(`insert into accounts (sign_in_name, main_domain, customer_id, reseller_id, plan_id, server_id, state,
				revision, applied_revision)
			select 'u' || n, 'site' || n || '.example', customers.id, customers.reseller_id, plans.id, servers.id, 'active',
				1, 1 from generate_series(1, %d) n, customers, plans, servers where plans.name = 'harbour'`, accounts),
		`insert into domains (account_id, name, registrable, main, root)
			select id, main_domain, main_domain, true, 'sites/' || main_domain from accounts`,
		`insert into account_servers (account_id, server_id, revision) select id, server_id, 1 from accounts`,
		`analyze`,
	} {
		_, err := bench.Store.Pool.Exec(b.Context(), statement)
		require.NoError(b, err)
	}
	return bench, plan
}

// bare does with statements alone what a change of a plan and its rolling out do to the records.
func bare(b *testing.B, bench *servicetest.Bench) (call, rollOut time.Duration) {
	b.Helper()
	ctx := b.Context()
	pool := bench.Store.Pool
	begun := time.Now()
	_, err := pool.Exec(ctx, `with changed as (update plan_limits set amount = amount + 1 where key = 'disk')
		update accounts set revision = revision + 1`)
	require.NoError(b, err)
	call = time.Since(begun)

	rows, err := pool.Query(ctx, "select id from accounts")
	require.NoError(b, err)
	ids := make(chan int64, 20_000)
	for rows.Next() {
		var id int64
		require.NoError(b, rows.Scan(&id))
		ids <- id
	}
	require.NoError(b, rows.Err())
	close(ids)
	begun = time.Now()
	var workers sync.WaitGroup
	for range bench.Store.MaxConns() {
		workers.Go(func() {
			for id := range ids {
				if err := bareApply(ctx, bench, id); err != nil {
					b.Error(err)
				}
			}
		})
	}
	workers.Wait()
	return call, time.Since(begun)
}

// bareApply reads what a server is told of an account, and writes down that it holds that.
func bareApply(ctx context.Context, bench *servicetest.Bench, id int64) error {
	tx, err := bench.Store.Pool.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	for _, question := range []string{"select * from accounts where id = $1",
		"select * from domains where account_id = $1",
		`select certificates.* from certificates join domains on domains.id = certificates.domain_id
			where account_id = $1`, "select * from logins where account_id = $1", "select * from zones where account_id = $1",
		"select * from account_servers where account_id = $1",
		"select id from operations where account_id = $1 and state in ('waiting', 'running')"} {
		rows, err := tx.Query(ctx, question, id)
		if err != nil {
			return err
		}
		rows.Close()
	}
	for _, statement := range []string{"update accounts set applied_revision = revision where id = $1",
		"update account_servers set revision = revision + 1 where account_id = $1",
		"delete from drifts where account_id = $1"} {
		if _, err := tx.Exec(ctx, statement, id); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}
