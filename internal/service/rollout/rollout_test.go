package rollout_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/rollout"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// fleet is a bench with a server, a plan, a customer and so many accounts.
func fleet(t *testing.T, accounts int) (*servicetest.Bench, []api.AccountDetail) {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	var list []api.AccountDetail
	for n := range accounts {
		list = append(list, b.Account(b.Operator, api.OpenAccount{Domain: fmt.Sprintf("site%d.example", n),
			Plan: "harbour", Customer: "Tern Ferries"}))
	}
	return b, list
}

func operation(t *testing.T, b *servicetest.Bench, number int64) api.Operation {
	t.Helper()
	o, err := b.Rollout.Operation(t.Context(), b.Operator, number)
	require.NoError(t, err)
	return o
}

func TestApplyWithNothingToDo(t *testing.T) {
	b, list := fleet(t, 1)
	before := b.Agents.On(1).Applies
	require.NoError(t, b.Rollout.Apply(t.Context(), list[0].ID))
	assert.Equal(t, before, b.Agents.On(1).Applies, "what is in force is not applied again")
	assert.Error(t, b.Rollout.Apply(t.Context(), 4711), "an account that is not there")
}

func TestApplyOfWhatCameMeanwhile(t *testing.T) {
	b, list := fleet(t, 1)
	ctx := t.Context()
	for n := range 20 {
		_, err := b.Domains.AddDomain(ctx, b.Operator, list[0].SignInName,
			api.NewDomain{Domain: fmt.Sprintf("sub%d.site0.example", n), Serving: api.Serving{}})
		if n >= 5 { // the plan has no subdomains: these are refused
			require.Error(t, err)
		}
	}
	jobs := b.Queue.Drain()
	before := b.Agents.On(1).Applies
	var group sync.WaitGroup
	for _, j := range jobs {
		group.Go(func() { assert.NoError(t, b.Rollout.Apply(context.Background(), j.ID)) })
	}
	group.Wait()
	assert.LessOrEqual(t, b.Agents.On(1).Applies-before, 2, "what waits together is done together")
}

func TestApplyToAServerThatDoesNotAnswer(t *testing.T) {
	b, list := fleet(t, 1)
	ctx := t.Context()
	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
	started, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
	require.NoError(t, err)
	require.ErrorIs(t, b.Rollout.Apply(ctx, list[0].ID), agentlink.ErrUnreachable, "it is tried again")
	assert.Contains(t, operation(t, b, started.Operation).Note, "skua does not answer; trying again")

	t.Run("it goes on when the server is back", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = false })
		require.NoError(t, b.Rollout.Apply(ctx, list[0].ID))
		assert.Equal(t, "done", operation(t, b, started.Operation).State)
	})
	t.Run("the operation ends after ten minutes", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
		started, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
		require.NoError(t, err)
		b.Pass(rollout.GiveUpAfter + time.Minute)
		require.NoError(t, b.Rollout.Apply(ctx, list[0].ID))
		o := operation(t, b, started.Operation)
		assert.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "skua did not answer for 10m0s (the server is as it was before)")
	})
}

func TestRollOut(t *testing.T) {
	b, list := fleet(t, 3)
	ctx := t.Context()
	changed, err := b.Selling.ChangePlan(ctx, b.Operator, "harbour", 0,
		api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB)}})
	require.NoError(t, err)
	require.NotZero(t, changed.Operation)
	assert.Equal(t, []servicetest.Job{{Kind: "RollOut", ID: changed.Operation, Operation: changed.Operation}},
		b.Queue.Drain())

	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
	assert.ErrorContains(t, b.Rollout.RollOut(ctx, changed.Operation), "not applied: ")
	assert.Equal(t, "running", operation(t, b, changed.Operation).State)

	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = false })
	require.NoError(t, b.Rollout.RollOut(ctx, changed.Operation))
	o := operation(t, b, changed.Operation)
	assert.Equal(t, "done", o.State)
	require.Len(t, o.Steps, 1)
	assert.Equal(t, "skua", o.Steps[0].Name)
	assert.Equal(t, "3 of 3 accounts", o.Steps[0].Detail)
	for _, account := range list {
		m, held := b.Agents.On(1).InForce(account.ID)
		require.True(t, held)
		assert.Equal(t, 200*plans.MiB, *m.Home.DiskLimit)
	}
	before := b.Agents.On(1).Applies
	require.NoError(t, b.Rollout.RollOut(ctx, changed.Operation), "an operation that has ended")
	assert.Equal(t, before, b.Agents.On(1).Applies)
}

func TestRollOutOfWhatServersNeedNotKnow(t *testing.T) {
	b, _ := fleet(t, 2)
	changed, err := b.Selling.ChangePlan(t.Context(), b.Operator, "harbour", 0,
		api.PlanChange{Limits: plans.Limits{plans.Domains: plans.Of(50)}})
	require.NoError(t, err)
	assert.Zero(t, changed.Operation)
	assert.EqualValues(t, 2, changed.Accounts)
	assert.Empty(t, b.Queue.Drain())
}

func TestSweep(t *testing.T) {
	b, list := fleet(t, 2)
	ctx := t.Context()
	b.Agents.On(1).Set(func(a *servicetest.Agent) {
		a.Drift[list[0].ID] = []agentlink.Drift{{Part: "nginx", Subject: "/etc/nginx/x.conf", Detail: "differs",
			Diff: "-a\n+b\n"}}
	})
	started, err := b.Fleet.SweepServer(ctx, b.Operator, "skua")
	require.NoError(t, err)
	b.Work()
	assert.Equal(t, "done", operation(t, b, started.Operation).State)
	drifts, err := b.Fleet.Drifts(ctx, b.Operator, "skua")
	require.NoError(t, err)
	require.Len(t, drifts.Drifts, 1)
	assert.Equal(t, api.Drift{Account: list[0].SignInName, Part: "nginx", Subject: "/etc/nginx/x.conf",
		Detail: "differs", Diff: "-a\n+b\n", FoundAt: drifts.Drifts[0].FoundAt}, drifts.Drifts[0])
	detail, err := b.Accounts.Account(ctx, b.Operator, list[0].SignInName)
	require.NoError(t, err)
	assert.Len(t, detail.Drift, 1)
	assert.EqualValues(t, 1<<20, *detail.DiskUsed, "what is used is measured on the way")

	t.Run("a preview of the repair", func(t *testing.T) {
		p := b.Preview(b.Operator, func(a usecase.Actor) error {
			_, err := b.Fleet.RepairServer(ctx, a, "skua")
			return err
		})
		require.Len(t, p.Changes, 1)
		assert.Contains(t, p.Steps, list[0].SignInName)
		assert.Empty(t, b.Queue.Drain())
	})
	t.Run("the repair", func(t *testing.T) {
		started, err := b.Fleet.RepairServer(ctx, b.Operator, "skua")
		require.NoError(t, err)
		b.Work()
		assert.Equal(t, "done", operation(t, b, started.Operation).State)
		drifts, err := b.Fleet.Drifts(ctx, b.Operator, "skua")
		require.NoError(t, err)
		assert.Empty(t, drifts.Drifts)
	})
	t.Run("an agent that has lost an account", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { delete(a.Accounts, list[1].ID) })
		require.NoError(t, b.Rollout.Sweep(ctx, 1, 0, false))
		drifts, err := b.Fleet.Drifts(ctx, b.Operator, "skua")
		require.NoError(t, err)
		require.Len(t, drifts.Drifts, 1)
		assert.Equal(t, "agent", drifts.Drifts[0].Part)
	})
	t.Run("a server that does not answer", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
		started, err := b.Fleet.SweepServer(ctx, b.Operator, "skua")
		require.NoError(t, err)
		b.Work()
		o := operation(t, b, started.Operation)
		assert.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "the agent on skua does not answer")
	})
}

func TestResumeStalled(t *testing.T) {
	b, list := fleet(t, 1)
	ctx := t.Context()
	_, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
	require.NoError(t, err)
	b.Queue.Drain() // the process that had it is gone
	require.NoError(t, b.Rollout.ResumeStalled(ctx))
	assert.Empty(t, b.Queue.Drain(), "somebody may be at it still")
	b.Pass(time.Minute)
	require.NoError(t, b.Rollout.ResumeStalled(ctx))
	assert.Equal(t, []servicetest.Job{{Kind: "Apply", ID: list[0].ID}}, b.Queue.Drain())
	require.NoError(t, b.Rollout.ResumeStalled(ctx))
	assert.Empty(t, b.Queue.Drain(), "once is enough for a while")
}

func TestWhoSeesWhichOperations(t *testing.T) {
	b, list := fleet(t, 1)
	ctx := t.Context()
	owner, stranger := b.Customer("Auk Boats", ""), b.Customer("Skerry", "")
	other := b.Account(b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour", Customer: "Auk Boats"})
	page, err := b.Rollout.Operations(ctx, owner, rollout.OperationFilter{}, 0, 10)
	require.NoError(t, err)
	require.Len(t, page.Operations, 1)
	assert.Equal(t, "auk.example", page.Operations[0].Subject)
	_, err = b.Rollout.Operation(ctx, owner, page.Operations[0].ID)
	require.NoError(t, err)
	_, err = b.Rollout.Operation(ctx, stranger, page.Operations[0].ID)
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.Rollout.Operations(ctx, stranger, rollout.OperationFilter{Account: other.SignInName}, 0, 10)
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.Rollout.Operations(ctx, stranger, rollout.OperationFilter{Server: "skua"}, 0, 10)
	servicetest.Refused(t, refusal.NotFound, err)

	t.Run("page by page, newest first", func(t *testing.T) {
		for range 4 {
			_, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
			require.NoError(t, err)
		}
		var seen []int64
		before := int64(0)
		for {
			page, err := b.Rollout.Operations(ctx, b.Operator, rollout.OperationFilter{Account: list[0].SignInName},
				before, 2)
			require.NoError(t, err)
			for _, o := range page.Operations {
				seen = append(seen, o.ID)
				before = o.ID
			}
			if page.Next == "" {
				break
			}
		}
		require.Len(t, seen, 5)
		for n := 1; n < len(seen); n++ {
			assert.Less(t, seen[n], seen[n-1])
		}
	})
}

func TestWatchOperation(t *testing.T) {
	b, list := fleet(t, 1)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	go b.Run(ctx)
	started, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
	require.NoError(t, err)
	told := make(chan api.Operation, 20)
	done := make(chan error, 1)
	go func() {
		done <- b.Rollout.WatchOperation(ctx, b.Operator, started.Operation, 0, func(o api.Operation) error {
			told <- o
			return nil
		})
	}()
	assert.Equal(t, "waiting", (<-told).State, "as it is now, at once")
	b.Work()
	require.NoError(t, <-done)
	close(told)
	last := api.Operation{}
	for o := range told {
		assert.Greater(t, o.Version, last.Version)
		last = o
	}
	assert.Equal(t, "done", last.State)
	require.NotEmpty(t, last.Steps)
}

// Whoever waits for a step goes on while the rest of the operation is under way.
func TestAwaitStep(t *testing.T) {
	b, list := fleet(t, 1)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	go b.Run(ctx)
	goOn := make(chan struct{})
	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Hold = func(string) { <-goOn } })
	started, err := b.Accounts.RepairAccount(ctx, b.Operator, list[0].SignInName)
	require.NoError(t, err)
	reached, ended := make(chan api.Operation, 1), make(chan api.Operation, 1)
	for step, c := range map[string]chan api.Operation{"account": reached, "no such step": ended} {
		go func() {
			o, err := b.Rollout.AwaitStep(ctx, started.Operation, step)
			assert.NoError(t, err)
			c <- o
		}()
	}
	for b.Rollout.Watchers(started.Operation) < 2 { // what is done before anybody watches is not seen
		time.Sleep(time.Millisecond)
	}
	worked := make(chan struct{})
	go func() {
		defer close(worked)
		b.Work()
	}()
	o := <-reached
	assert.False(t, o.Finished())
	assert.Empty(t, ended)
	close(goOn)
	o = <-ended
	assert.Equal(t, "done", o.State, "a step that nobody does ends with the operation")
	<-worked
}

// What a server tells of a home is shown to whoever may see the account, from the first moment on,
// and until it is mended.
func TestWarningsOfHomes(t *testing.T) {
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{plans.Files: plans.Of(500)})
	account := b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour", Customer: "Ferries",
		NewCustomer: true})
	agent := b.Agents.On(1)
	m, known := agent.InForce(account.ID)
	require.True(t, known)
	assert.EqualValues(t, 500, *m.Home.FilesLimit)
	show := func() []string {
		t.Helper()
		detail, err := b.Accounts.Account(t.Context(), b.Operator, "ferries")
		require.NoError(t, err)
		var list []string
		for _, w := range detail.Warnings {
			list = append(list, w.Subject+" "+w.Code)
		}
		return list
	}
	agent.Set(func(a *servicetest.Agent) {
		a.Warnings[account.ID] = []agentlink.Warning{
			{Part: "site", Subject: "ferries.example", Path: "sites/ferries.example", Code: homes.NotDirectory},
			{Part: "home", Code: homes.Full}}
	})
	require.NoError(t, b.Rollout.Sweep(t.Context(), 1, 0, false))
	assert.Equal(t, []string{" full", "ferries.example not-directory"}, show())
	site, err := b.Domains.Domain(t.Context(), b.Operator, "ferries", "ferries.example")
	require.NoError(t, err)
	require.Len(t, site.Warnings, 1)
	assert.Equal(t, "Visitors see “not found” (404).", site.Warnings[0].Seen)
	assert.Contains(t, site.Warnings[0].Mend, "sites/ferries.example")
	b.Pass(time.Hour)
	since := site.Warnings[0].Since
	require.NoError(t, b.Rollout.Sweep(t.Context(), 1, 0, false))
	site, err = b.Domains.Domain(t.Context(), b.Operator, "ferries", "ferries.example")
	require.NoError(t, err)
	assert.WithinDuration(t, since.Add(-time.Hour), site.Warnings[0].Since, time.Second, "the first time counts")

	// An apply tells as well, and counts what there is in files.
	agent.Set(func(a *servicetest.Agent) { a.Warnings[account.ID] = nil })
	_, err = b.Accounts.RepairAccount(t.Context(), b.Operator, "ferries")
	require.NoError(t, err)
	b.Work()
	assert.Empty(t, show())
	detail, err := b.Accounts.Account(t.Context(), b.Operator, "ferries")
	require.NoError(t, err)
	for _, l := range detail.Allowance {
		if l.Key == "files" {
			assert.EqualValues(t, 100, *l.Used)
		}
	}
}

// What runs is measured with each sweep; what was met of limits is told to whoever looks.
func TestLoads(t *testing.T) {
	b, list := fleet(t, 2)
	ctx := t.Context()
	hungry, quiet := list[0], list[1]
	server, err := b.Store.ServerByLabel(ctx, "skua")
	require.NoError(t, err)
	sweep := func(l agentlink.Load) api.AccountDetail {
		t.Helper()
		b.Agents.On(server.ID).Set(func(a *servicetest.Agent) { a.Loads = map[int64]agentlink.Load{hungry.ID: l} })
		require.NoError(t, b.Rollout.Sweep(ctx, server.ID, 0, false))
		shown, err := b.Accounts.Account(ctx, b.Operator, hungry.SignInName)
		require.NoError(t, err)
		return shown
	}
	used := func(a api.AccountDetail, key plans.Key) int64 {
		for _, l := range a.Allowance {
			if l.Key == string(key) {
				require.NotNil(t, l.Used)
				return *l.Used
			}
		}
		t.Fatal(key)
		return 0
	}
	a := sweep(agentlink.Load{Processes: 3, Memory: 80 << 20, CPU: time.Second, ProcessesRefused: 7})
	assert.Equal(t, int64(3), used(a, plans.Processes))
	assert.Equal(t, int64(80<<20), used(a, plans.Memory))
	assert.Zero(t, used(a, plans.CPU), "one sweep alone tells no rate")
	require.Len(t, a.Warnings, 1)
	assert.Equal(t, "Processes could not be started 7 times in the last day: the plan has 100 at the same time.",
		a.Warnings[0].What)

	b.Pass(10 * time.Second)
	a = sweep(agentlink.Load{Processes: 5, Memory: 90 << 20, CPU: 6 * time.Second, ProcessesRefused: 8, MemoryKills: 2,
		Throttled: 2 * time.Second})
	assert.InDelta(t, 50, used(a, plans.CPU), 2, "5 s of 10 s")
	assert.Equal(t, api.LimitsMet{Refused: 8, Killed: 2, Waited: 2}, a.Running.Met)
	require.Len(t, a.Warnings, 2, "2 s of waiting are nothing to be told")
	assert.Contains(t, a.Warnings[0].What, "ended 2 times in the last day: all together needed more memory than the 1G")
	site, err := b.Domains.Domain(ctx, b.Operator, hungry.SignInName, hungry.Domain)
	require.NoError(t, err)
	assert.Len(t, site.Warnings, 2, "whose site dies of it sees it there")

	b.Pass(10 * time.Second)
	a = sweep(agentlink.Load{Processes: 1, CPU: time.Second, ProcessesRefused: 1}) // counts anew
	assert.Equal(t, api.LimitsMet{Refused: 9, Killed: 2, Waited: 2}, a.Running.Met)

	hungriest, err := b.Rollout.Hungriest(ctx, "skua", "cpu", 10)
	require.NoError(t, err)
	require.Len(t, hungriest.Accounts, 1, "those at rest are not listed")
	assert.Equal(t, hungry.SignInName, hungriest.Accounts[0].SignInName)
	_, err = b.Rollout.Hungriest(ctx, "nowhere", "cpu", 10)
	assert.ErrorContains(t, err, "nowhere")

	b.Agents.On(server.ID).Set(func(a *servicetest.Agent) { a.Loads = nil })
	require.NoError(t, b.Rollout.Sweep(ctx, server.ID, 0, false))
	a, err = b.Accounts.Account(ctx, b.Operator, hungry.SignInName)
	require.NoError(t, err)
	assert.Nil(t, a.Running, "the server was started anew")
	assert.NotEmpty(t, a.Warnings, "what was met today still is told")
	other, err := b.Accounts.Account(ctx, b.Operator, quiet.SignInName)
	require.NoError(t, err)
	assert.Empty(t, other.Warnings)
}
