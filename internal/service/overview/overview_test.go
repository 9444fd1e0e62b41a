package overview_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// attention returns what needs an actor, by kind.
func attention(t *testing.T, b *servicetest.Bench, a usecase.Actor) map[string]api.Attention {
	t.Helper()
	o, err := b.Overview.Overview(t.Context(), a)
	require.NoError(t, err)
	of := map[string]api.Attention{}
	for _, line := range o.Attention {
		of[line.Kind] = line
	}
	return of
}

// figure returns a figure of an actor's overview.
func figure(t *testing.T, b *servicetest.Bench, a usecase.Actor, key string) *api.Figure {
	t.Helper()
	o, err := b.Overview.Overview(t.Context(), a)
	require.NoError(t, err)
	for _, f := range o.Figures {
		if f.Key == key {
			return &f
		}
	}
	return nil
}

func TestNothingNeedsAnybody(t *testing.T) {
	b := servicetest.New(t)
	o, err := b.Overview.Overview(t.Context(), b.Operator)
	require.NoError(t, err)
	assert.Empty(t, o.Attention)
	assert.NotNil(t, o.Attention, "an empty list, not null")
	require.Len(t, o.Figures, 3)
	assert.Len(t, o.Figures[0].Points, 30)
	assert.Len(t, o.Figures[1].Points, 48)
}

func TestServersInNeed(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("auk")
	b.Server("skua")
	require.NoError(t, b.Fleet.PollServers(ctx))
	assert.Empty(t, attention(t, b, b.Operator))
	b.Agents.On(1).Set(func(a *servicetest.Agent) {
		a.Health.DiskTotal, a.Health.DiskFree = 1000, 140
		a.Health.Programs = []agentlink.ProgramStatus{{Name: "nginx"}}
	})
	b.Agents.On(2).Set(func(a *servicetest.Agent) { a.Unreachable = true })
	require.NoError(t, b.Fleet.PollServers(ctx))
	found := attention(t, b, b.Operator)
	assert.Equal(t, "1 server does not answer", found["server-unreachable"].Title)
	assert.Equal(t, []string{"skua"}, found["server-unreachable"].Worst)
	assert.Equal(t, []string{"auk"}, found["server-full"].Worst)
	assert.Equal(t, []string{"auk"}, found["server-program-down"].Worst)
	o, err := b.Overview.Overview(ctx, b.Operator)
	require.NoError(t, err)
	assert.Equal(t, "server-unreachable", o.Attention[0].Kind, "the most urgent comes first")

	b.Plan("harbour", nil)
	customer := b.Customer("Tern Ferries", "")
	assert.Empty(t, attention(t, b, customer), "servers are the operators' business")
	assert.Nil(t, figure(t, b, customer, "disk.auk"))
}

// What is wrong with accounts is told to those whose accounts they are, and to operators.
func TestAccountsInNeed(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{plans.Disk: plans.Of(10 * plans.MiB)})
	tern, auk := b.Customer("Tern Ferries", ""), b.Customer("Auk Bakery", "")
	ferries := b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour",
		Customer: "Tern Ferries"})
	b.Account(b.Operator, api.OpenAccount{Domain: "bakery.example", Plan: "harbour", Customer: "Auk Bakery"})
	b.Work()
	run := func(statement string, args ...any) {
		t.Helper()
		_, err := b.Store.Pool.Exec(ctx, statement, args...)
		require.NoError(t, err)
	}
	run("update accounts set disk_used = 9.5 * 1024 * 1024 where id = $1", ferries.ID)
	run("update site_certificates set failures = 3, code = 'dns' where domain_id in " +
		"(select id from domains where name = 'ferries.example')")
	run("insert into drifts (server_id, account_id, part, subject, detail) values (1, $1, 'nginx', 'x', 'y')",
		ferries.ID)
	run("insert into warnings (account_id, part, subject, code) values ($1, 'site', 'ferries.example', 'no-folder')",
		ferries.ID)
	run("insert into operations (kind, subject, account_id, actor, state, failure, customer_id, finished_at) "+
		"values ('account.repair', 'ferries', $1, 'operator', 'failed', 'x', $2, now())", ferries.ID, tern.CustomerID)
	run("insert into operations (kind, subject, account_id, actor, state, customer_id, created_at) "+
		"values ('account.repair', 'ferries', $1, 'operator', 'running', $2, now() - interval '11 minutes')",
		ferries.ID, tern.CustomerID)
	for name, a := range map[string]usecase.Actor{"the operator": b.Operator, "the customer": tern} {
		found := attention(t, b, a)
		for _, kind := range []string{"accounts-full", "certificates-failing", "accounts-drifting", "accounts-warned",
			"operations-failed", "operations-stuck"} {
			assert.EqualValues(t, 1, found[kind].Cases, "%s: %s", name, kind)
		}
		assert.Equal(t, []string{"ferries.example"}, found["accounts-full"].Worst)
	}
	assert.Empty(t, attention(t, b, auk), "nothing of others")

	// An exception counts, both ways.
	run("insert into exceptions (account_id, limit_key, amount, reason, author) values ($1, 'disk', 20 * 1024 * "+
		"1024, 'x', 'y')", ferries.ID)
	assert.NotContains(t, attention(t, b, b.Operator), "accounts-full")
	run("update exceptions set amount = 9.6 * 1024 * 1024")
	run("update plan_limits set amount = 100 * 1024 * 1024 where key = 'disk'")
	assert.Contains(t, attention(t, b, b.Operator), "accounts-full")
}

func TestFigures(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	tern := b.Customer("Tern Ferries", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "old.example", Plan: "harbour", Customer: "Tern Ferries"})
	b.Account(b.Operator, api.OpenAccount{Domain: "gone.example", Plan: "harbour", Customer: "Tern Ferries"})
	_, err := b.Store.Pool.Exec(ctx, "update accounts set opened_at = now() - interval '3 days'")
	require.NoError(t, err)
	_, err = b.Store.Pool.Exec(ctx, "update accounts set state = 'closed', closed_at = now() - interval '1 day' "+
		"where main_domain = 'gone.example'")
	require.NoError(t, err)
	b.Account(b.Operator, api.OpenAccount{Domain: "new.example", Plan: "harbour", Customer: "Tern Ferries"})
	f := figure(t, b, tern, "accounts")
	require.NotNil(t, f)
	var last []float64
	for _, p := range f.Points[25:] {
		last = append(last, p.Value)
	}
	assert.Equal(t, []float64{0, 2, 2, 1, 2}, last)
	assert.EqualValues(t, 2, f.Now)
	assert.Zero(t, figure(t, b, b.Customer("Auk Bakery", ""), "accounts").Now)

	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Health.DiskTotal, a.Health.DiskFree = 1000, 750 })
	require.NoError(t, b.Fleet.PollServers(ctx))
	require.NoError(t, b.Fleet.PollServers(ctx), "twice within the hour")
	disk := figure(t, b, b.Operator, "disk.skua")
	require.NotNil(t, disk)
	assert.Len(t, disk.Points, 1)
	assert.EqualValues(t, 25, disk.Now)
	b.Pass(100 * 24 * time.Hour)
	require.NoError(t, b.People.Tidy(ctx))
	var left int
	require.NoError(t, b.Store.Pool.QueryRow(ctx, "select count(*) from server_hours").Scan(&left))
	assert.Zero(t, left, "old figures are forgotten")
}
