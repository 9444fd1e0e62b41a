package jobs_test

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/jobs"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// works has a process work on its jobs until the test ends, or until it is stopped.
func works(t *testing.T, b *servicetest.Bench) (queue *jobs.Jobs, stop func()) {
	t.Helper()
	queue, err := jobs.New(b.Store, b.Service, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, queue.Start(ctx))
	stopped := false
	stop = func() {
		if !stopped {
			stopped = true
			soon, end := context.WithTimeout(context.Background(), 5*time.Second)
			defer end()
			assert.NoError(t, queue.Stop(soon))
			cancel()
		}
	}
	t.Cleanup(stop)
	return queue, stop
}

func open(t *testing.T, b *servicetest.Bench, n int) int64 {
	t.Helper()
	opening, err := b.Accounts.OpenAccount(t.Context(), b.Operator, api.OpenAccount{
		Domain: fmt.Sprintf("site%d.example", n), Plan: "harbour", Customer: "Tern Ferries"})
	require.NoError(t, err)
	return opening.Operation
}

func done(t *testing.T, b *servicetest.Bench, operation int64) {
	t.Helper()
	require.Eventually(t, func() bool {
		o, err := b.Rollout.Operation(t.Context(), b.Operator, operation)
		return err == nil && o.State == "done"
	}, 20*time.Second, 20*time.Millisecond)
}

func bench(t *testing.T) *servicetest.Bench {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	return b
}

func TestWhatIsQueuedIsDone(t *testing.T) {
	b := bench(t)
	works(t, b)
	operation := open(t, b, 1)
	done(t, b, operation)

	// A server that does not answer for a while is asked again.
	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
	started, err := b.Accounts.RepairAccount(t.Context(), b.Operator, "site1")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		o, err := b.Rollout.Operation(t.Context(), b.Operator, started.Operation)
		return err == nil && o.Note != ""
	}, 20*time.Second, 20*time.Millisecond)
	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = false })
	done(t, b, started.Operation)

	// Many accounts of one operation are rolled out.
	changed, err := b.Selling.ChangePlan(t.Context(), b.Operator, "harbour", 0,
		api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB)}})
	require.NoError(t, err)
	done(t, b, changed.Operation)
}

// A queue that a transaction was to put something in, which was rolled back, holds nothing.
func TestNothingIsLeftOfWhatWasRolledBack(t *testing.T) {
	b := bench(t)
	works(t, b)
	before := b.Agents.On(1).Applies
	p := b.Preview(b.Operator, func(a usecase.Actor) error {
		_, err := b.Accounts.OpenAccount(t.Context(), a, api.OpenAccount{Domain: "only-asked.example", Plan: "harbour",
			Customer: "Tern Ferries"})
		return err
	})
	assert.NotEmpty(t, p.Summary)
	operation := open(t, b, 1)
	done(t, b, operation)
	assert.Equal(t, before+1, b.Agents.On(1).Applies)
}

// An order that waits for its turn is not queued twice.
func TestOrdersAreQueuedOnce(t *testing.T) {
	b := bench(t)
	queue, err := jobs.New(b.Store, b.Service, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	for range 3 {
		require.NoError(t, b.Store.InTx(t.Context(), func(tx store.Tx) error {
			return queue.Order(t.Context(), tx, 7)
		}))
	}
	require.NoError(t, b.Store.InTx(t.Context(), func(tx store.Tx) error {
		return queue.Order(t.Context(), tx, 8)
	}))
	var count int
	require.NoError(t, b.Store.Pool.QueryRow(t.Context(), "select count(*) from river_job where kind = 'order'").Scan(
		&count))
	assert.Equal(t, 2, count)
}

// When one of two processes stops, the other does what it has left.
func TestProcessesShareTheQueue(t *testing.T) {
	b := bench(t)
	other := servicetest.Process(t, b.URL)
	_, stop := works(t, b)
	works(t, other)
	var operations []int64
	for n := range 20 {
		operations = append(operations, open(t, b, n))
		if n == 10 {
			stop()
		}
	}
	for _, operation := range operations {
		done(t, other, operation)
	}
	assert.Positive(t, other.Agents.On(1).Applies)
}
