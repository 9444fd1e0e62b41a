package selling_test

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/selling"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// shop is a bench with a server, the plan harbour (5 domains) and a customer.
func shop(t *testing.T) *servicetest.Bench {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil, "certificates")
	b.Customer("Tern Ferries", "")
	return b
}

func open(b *servicetest.Bench, domain, plan string) api.AccountDetail {
	return b.Account(b.Operator, api.OpenAccount{Domain: domain, Plan: plan, Customer: "Tern Ferries"})
}

func amount(n int64) api.GivenAmount { return api.GivenAmount{Amount: plans.Of(n), Given: true} }

func TestAddPlan(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Disk: plans.Of(plans.GiB),
		plans.Domains: plans.Of(10), plans.PHPWorkers: plans.Of(4)}, "certificates")
	for name, c := range map[string]struct {
		actor usecase.Actor
		in    api.NewPlan
		kind  refusal.Kind
		field string
	}{
		"a name that is in use": {b.Operator, api.NewPlan{Name: "harbour"}, refusal.NameTaken, "name"},
		"a name with capitals":  {b.Operator, api.NewPlan{Name: "Harbour 2"}, refusal.InvalidInput, "name"},
		"a limit there is not": {b.Operator, api.NewPlan{Name: "a1", Limits: plans.Limits{"boats": plans.Of(1)}},
			refusal.InvalidInput, "limits.boats"},
		"a feature there is not": {b.Operator, api.NewPlan{Name: "a1", Features: plans.Features{"sails": true}},
			refusal.InvalidInput, "features.sails"},
		"like one there is not": {b.Operator, api.NewPlan{Name: "a1", Like: "nothing"}, refusal.NotFound, "like"},
		"for a reseller there isn't": {b.Operator, api.NewPlan{Name: "a1", Reseller: "auk"}, refusal.NotFound,
			"reseller"},
		"more than the share": {guillemot, api.NewPlan{Name: "a1",
			Limits: plans.Limits{plans.Disk: plans.Of(2 * plans.GiB)}},
			refusal.LimitReached, ""},
		"a feature that is not in the share": {guillemot, api.NewPlan{Name: "a1",
			Features: plans.Features{"shell": true}},
			refusal.LimitReached, ""},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Selling.AddPlan(ctx, c.actor, c.in)
			r := servicetest.Refused(t, c.kind, err)
			if c.field != "" {
				require.NotEmpty(t, r.Fields)
				assert.Equal(t, c.field, r.Fields[0].Name)
			}
		})
	}
	t.Run("what is left out comes from the plan it is like", func(t *testing.T) {
		plan, err := b.Selling.AddPlan(ctx, b.Operator, api.NewPlan{Name: "quay", Like: "harbour",
			Limits: plans.Limits{plans.Domains: plans.Of(9)}})
		require.NoError(t, err)
		assert.Equal(t, plans.Of(9), plan.Limits[plans.Domains])
		assert.Equal(t, plans.Of(100*plans.MiB), plan.Limits[plans.Disk])
		assert.True(t, plan.Features["certificates"])
	})
	t.Run("a reseller's may have the name of another's", func(t *testing.T) {
		plan, err := b.Selling.AddPlan(ctx, guillemot, api.NewPlan{Name: "harbour",
			Limits: plans.Limits{plans.Disk: plans.Of(plans.MiB)}})
		require.NoError(t, err)
		assert.Equal(t, "harbour", plan.Name)
		list, err := b.Selling.Plans(ctx, guillemot, selling.PlanFilter{}, "", 10)
		require.NoError(t, err)
		require.Len(t, list.Plans, 1, "and they see no other")
		_, err = b.Selling.Plan(ctx, b.Operator, "guillemot.harbour")
		require.NoError(t, err)
	})
}

func TestComparePlans(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	b.Plan("quay", plans.Limits{plans.Domains: plans.Of(9)})
	c, err := b.Selling.ComparePlans(ctx, b.Operator, []string{"harbour", "quay"})
	require.NoError(t, err)
	assert.Equal(t, []string{"harbour", "quay"}, c.Plans)
	assert.Len(t, c.Rows, len(plans.AllLimits)+len(plans.AllFeatures))
	var differ []string
	for _, row := range c.Rows {
		if row.Differs {
			differ = append(differ, row.Limit+row.Feature)
		}
	}
	assert.Equal(t, []string{"domains", "certificates"}, differ)
	_, err = b.Selling.ComparePlans(ctx, b.Operator, []string{"harbour", "nothing"})
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestChangePlan(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	open(b, "one.example", "harbour")
	two, three := open(b, "two.example", "harbour"), open(b, "three.example", "harbour")
	_, err := b.Selling.SetException(ctx, b.Operator, two.SignInName, api.NewException{Limit: "disk",
		Amount: amount(300 * plans.MiB), Reason: "the regatta"})
	require.NoError(t, err)
	_, err = b.Selling.FreezeTerms(ctx, b.Operator, three.SignInName, true)
	require.NoError(t, err)
	b.Work()
	change := api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(50 * plans.MiB)}}

	t.Run("the preview tells of each account, and does nothing", func(t *testing.T) {
		p := b.Preview(b.Operator, func(a usecase.Actor) error {
			_, err := b.Selling.ChangePlan(ctx, a, "harbour", 0, change)
			return err
		})
		assert.Equal(t, "change plan harbour, and with it 1 of 3 accounts; 0 would be over a limit", p.Summary)
		effects := map[string]api.Effect{}
		for _, e := range p.Effects {
			effects[e.Name] = e
		}
		assert.Equal(t, []string{"disk space 100M → 50M"}, effects["one.example"].Losses)
		assert.Equal(t, "exceptions stay: disk", effects["two.example"].Unchanged)
		assert.Equal(t, "its limits are frozen", effects["three.example"].Unchanged)
		plan, err := b.Selling.Plan(ctx, b.Operator, "harbour")
		require.NoError(t, err)
		assert.Equal(t, plans.Of(100*plans.MiB), plan.Limits[plans.Disk])
	})
	t.Run("a version that was overtaken", func(t *testing.T) {
		_, err := b.Selling.ChangePlan(ctx, b.Operator, "harbour", 99, change)
		servicetest.Refused(t, refusal.Changed, err)
	})
	t.Run("only the account that may use less is told to its server", func(t *testing.T) {
		changed, err := b.Selling.ChangePlan(ctx, b.Operator, "harbour", 0, change)
		require.NoError(t, err)
		assert.EqualValues(t, 1, changed.Accounts)
		jobs := b.Queue.Drain()
		require.Len(t, jobs, 1)
		assert.Equal(t, "Apply", jobs[0].Kind)
		require.NoError(t, b.Rollout.Apply(ctx, jobs[0].ID))
		m, _ := b.Agents.On(1).InForce(jobs[0].ID)
		assert.Equal(t, 50*plans.MiB, *m.Home.DiskLimit)
	})
	t.Run("those who would be over keep their limits", func(t *testing.T) {
		storetest.Exec(t, b.Store, "update accounts set disk_used = $1", 40*plans.MiB)
		changed, err := b.Selling.ChangePlan(ctx, b.Operator, "harbour", 0, api.PlanChange{Freeze: "over",
			Limits: plans.Limits{plans.Disk: plans.Of(10 * plans.MiB)}})
		require.NoError(t, err)
		assert.EqualValues(t, 1, changed.Frozen, "two and three are over nothing: they have limits of their own")
		detail, err := b.Accounts.Account(ctx, b.Operator, "one.example")
		require.NoError(t, err)
		assert.True(t, detail.Frozen)
	})
	t.Run("a new name that is in use", func(t *testing.T) {
		b.Plan("quay", nil)
		_, err := b.Selling.ChangePlan(ctx, b.Operator, "quay", 0, api.PlanChange{Name: "harbour"})
		servicetest.Refused(t, refusal.NameTaken, err)
	})
}

func TestRemovePlan(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	open(b, "one.example", "harbour")
	r := servicetest.Refused(t, refusal.InUse, b.Selling.RemovePlan(ctx, b.Operator, "harbour"))
	assert.Contains(t, r.Detail, "one.example", "it says who is still on it")
	b.Plan("quay", nil)
	require.NoError(t, b.Selling.RemovePlan(ctx, b.Operator, "quay"))
	servicetest.Refused(t, refusal.NotFound, b.Selling.RemovePlan(ctx, b.Operator, "quay"))
	b.Plan("quay", nil) // the name is free again
}

func TestChangeAccountPlans(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	b.Plan("quay", plans.Limits{plans.Domains: plans.Of(1), plans.Disk: plans.Of(200 * plans.MiB)})
	one, two := open(b, "one.example", "harbour"), open(b, "two.example", "harbour")
	_, err := b.Domains.AddDomain(ctx, b.Operator, one.SignInName, api.NewDomain{Domain: "more.example"})
	require.NoError(t, err)
	_, err = b.Selling.SetException(ctx, b.Operator, two.SignInName, api.NewException{Limit: "disk",
		Amount: amount(300 * plans.MiB), Reason: "the regatta"})
	require.NoError(t, err)
	b.Work()

	t.Run("all of them, or none", func(t *testing.T) {
		_, err := b.Selling.ChangeAccountPlans(ctx, b.Operator, "quay", api.Shift{Accounts: []string{one.SignInName,
			"nobody"}})
		r := servicetest.Refused(t, refusal.NotFound, err)
		assert.Equal(t, "accounts.1", r.Fields[0].Name)
		detail, err := b.Accounts.Account(ctx, b.Operator, one.SignInName)
		require.NoError(t, err)
		assert.Equal(t, "harbour", detail.Plan)
	})
	t.Run("what is over is told, and nothing deleted", func(t *testing.T) {
		shifted, err := b.Selling.ChangeAccountPlans(ctx, b.Operator, "quay",
			api.Shift{Accounts: []string{one.SignInName, two.SignInName, "one.example"}})
		require.NoError(t, err)
		require.Len(t, shifted.Effects, 2, "an account that is named twice is one")
		assert.Equal(t, []string{"domains 2 of 1, 1 over"}, shifted.Effects[0].Over)
		assert.Equal(t, "exceptions stay: disk", shifted.Effects[1].Unchanged)
		b.Work()
		m, _ := b.Agents.On(1).InForce(one.ID)
		assert.Equal(t, 200*plans.MiB, *m.Home.DiskLimit)
		m, _ = b.Agents.On(1).InForce(two.ID)
		assert.Equal(t, 300*plans.MiB, *m.Home.DiskLimit)
		_, err = b.Domains.AddDomain(ctx, b.Operator, one.SignInName, api.NewDomain{Domain: "third.example"})
		servicetest.Refused(t, refusal.LimitReached, err)
	})
	t.Run("exceptions go if they are to", func(t *testing.T) {
		_, err := b.Selling.ChangeAccountPlans(ctx, b.Operator, "harbour", api.Shift{Accounts: []string{two.SignInName},
			DropExceptions: true})
		require.NoError(t, err)
		list, err := b.Selling.Exceptions(ctx, b.Operator, two.SignInName)
		require.NoError(t, err)
		assert.Empty(t, list.Exceptions)
	})
}

func TestExceptions(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	one := open(b, "one.example", "harbour")
	on := true
	soon, past := b.Base.Now().Add(time.Hour), b.Base.Now().Add(-time.Hour)
	for name, in := range map[string]api.NewException{
		"neither limit nor feature": {Reason: "x"},
		"both":                      {Limit: "disk", Feature: "shell", Amount: amount(1), On: &on, Reason: "x"},
		"no amount":                 {Limit: "disk", Reason: "x"},
		"neither on nor off":        {Feature: "shell", Reason: "x"},
		"no reason":                 {Limit: "disk", Amount: amount(1), Reason: "  "},
		"a limit there is not":      {Limit: "boats", Amount: amount(1), Reason: "x"},
		"an end that is past":       {Limit: "disk", Amount: amount(1), Reason: "x", EndsAt: &past},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Selling.SetException(ctx, b.Operator, one.SignInName, in)
			servicetest.Refused(t, refusal.InvalidInput, err)
		})
	}
	changed, err := b.Selling.SetException(ctx, b.Operator, one.SignInName, api.NewException{Limit: "disk",
		Amount: amount(200 * plans.MiB), Reason: "the regatta", EndsAt: &soon})
	require.NoError(t, err)
	assert.Equal(t, []string{"disk space 100M → 200M"}, changed.Effect.Gains)
	b.Work()
	m, _ := b.Agents.On(1).InForce(one.ID)
	assert.Equal(t, 200*plans.MiB, *m.Home.DiskLimit)

	t.Run("another one replaces it", func(t *testing.T) {
		_, err := b.Selling.SetException(ctx, b.Operator, one.SignInName, api.NewException{Limit: "disk",
			Amount: amount(250 * plans.MiB), Reason: "more boats", EndsAt: &soon})
		require.NoError(t, err)
		b.Work()
		list, err := b.Selling.Exceptions(ctx, b.Operator, one.SignInName)
		require.NoError(t, err)
		require.Len(t, list.Exceptions, 1)
		assert.Equal(t, "more boats", list.Exceptions[0].Reason)
		assert.Equal(t, "operator", list.Exceptions[0].Author)
	})
	t.Run("the plan's value returns when it ends, on the server too", func(t *testing.T) {
		require.NoError(t, b.Selling.EndExceptions(ctx))
		assert.Empty(t, b.Queue.Drain(), "not before")
		b.Pass(2 * time.Hour)
		require.NoError(t, b.Selling.EndExceptions(ctx))
		b.Work()
		m, _ := b.Agents.On(1).InForce(one.ID)
		assert.Equal(t, 100*plans.MiB, *m.Home.DiskLimit)
		assert.Contains(t, b.Events(one.SignInName)[0], "exception.end")
	})
	t.Run("removing what is not there", func(t *testing.T) {
		_, err := b.Selling.RemoveException(ctx, b.Operator, one.SignInName, "limits", "disk")
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("a customer sets none", func(t *testing.T) {
		// Rights are asked for by routes; an account that is not theirs is not there for anybody.
		_, err := b.Selling.SetException(ctx, b.Customer("Auk Boats", ""), one.SignInName,
			api.NewException{Limit: "disk",
				Amount: amount(1), Reason: "x"})
		servicetest.Refused(t, refusal.NotFound, err)
	})
}

func TestLimitUnderManyAtOnce(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	one := open(b, "one.example", "harbour") // 5 domains, 1 is there
	b = servicetest.Process(t, b.URL)
	var added atomic.Int64
	var group sync.WaitGroup
	for n := range 20 {
		group.Go(func() {
			_, err := b.Domains.AddDomain(ctx, b.Operator, one.SignInName,
				api.NewDomain{Domain: fmt.Sprintf("d%d.example", n)})
			if err == nil {
				added.Add(1)
			} else {
				assert.True(t, refusal.Is(err, refusal.LimitReached), err)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 4, added.Load())
}

func TestCustomers(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	_, err := b.Selling.AddCustomer(ctx, b.Operator, api.NewCustomer{Name: "tern ferries"})
	servicetest.Refused(t, refusal.NameTaken, err)
	_, err = b.Selling.AddCustomer(ctx, b.Operator, api.NewCustomer{Name: "Auk", Email: "no address"})
	servicetest.Refused(t, refusal.InvalidInput, err)
	theirs, err := b.Selling.AddCustomer(ctx, guillemot, api.NewCustomer{Name: "  Tern   Ferries "})
	require.NoError(t, err)
	assert.Equal(t, "Tern Ferries", theirs.Name, "a reseller's may have the name of another's")

	list, err := b.Selling.Customers(ctx, guillemot, selling.CustomerFilter{}, "", 10)
	require.NoError(t, err)
	require.Len(t, list.Customers, 1)
	assert.Empty(t, list.Customers[0].Reseller, "that is only for operators to see")
	list, err = b.Selling.Customers(ctx, b.Operator, selling.CustomerFilter{Search: "TERN"}, "", 10)
	require.NoError(t, err)
	assert.Len(t, list.Customers, 2)

	t.Run("notes are the staff's own", func(t *testing.T) {
		_, err := b.Selling.ChangeNotes(ctx, b.Operator, "Tern Ferries", api.Notes{Notes: "pays in cash"})
		require.NoError(t, err)
		notes, err := b.Selling.Notes(ctx, b.Operator, "Tern Ferries")
		require.NoError(t, err)
		assert.Equal(t, "pays in cash", notes.Notes)
		_, err = b.Selling.Notes(ctx, guillemot, fmt.Sprint(theirs.ID-1))
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("one with accounts stays", func(t *testing.T) {
		open(b, "one.example", "harbour")
		servicetest.Refused(t, refusal.InUse, b.Selling.RemoveCustomer(ctx, b.Operator, "Tern Ferries"))
		require.NoError(t, b.Selling.RemoveCustomer(ctx, guillemot, "Tern Ferries"))
		servicetest.Refused(t, refusal.NotFound, b.Selling.RemoveCustomer(ctx, guillemot, "Tern Ferries"))
	})
	t.Run("a change of a version that was overtaken", func(t *testing.T) {
		name := "Tern Ferries Ltd"
		_, err := b.Selling.ChangeCustomer(ctx, b.Operator, "Tern Ferries", 99, api.CustomerChange{Name: &name})
		servicetest.Refused(t, refusal.Changed, err)
		changed, err := b.Selling.ChangeCustomer(ctx, b.Operator, "Tern Ferries", 0, api.CustomerChange{Name: &name})
		require.NoError(t, err)
		assert.Equal(t, name, changed.Name)
	})
}

func TestPagesOfPlans(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	for n := range 7 {
		b.Plan(fmt.Sprintf("plan-%d", n), nil)
	}
	var names []string
	next := ""
	for {
		page, err := b.Selling.Plans(ctx, b.Operator, selling.PlanFilter{}, next, 3)
		require.NoError(t, err)
		for _, p := range page.Plans {
			names = append(names, p.Name)
		}
		if next = page.Next; next == "" {
			break
		}
	}
	assert.Len(t, names, 7)
	assert.True(t, slices.IsSorted(names))
	_, err := b.Selling.Plans(ctx, b.Operator, selling.PlanFilter{}, "rubbish", 3)
	servicetest.Refused(t, refusal.InvalidInput, err)
}
