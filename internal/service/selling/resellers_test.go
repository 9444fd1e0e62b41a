package selling_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// studio is a bench with the reseller guillemot: 1G of disk and 10
// domains, the plan stall (300M, 2 domains) and a customer.
func studio(t *testing.T, measure string) (*servicetest.Bench, usecase.Actor) {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	guillemot := b.Reseller("guillemot", measure, plans.Limits{plans.Disk: plans.Of(plans.GiB),
		plans.Domains: plans.Of(10), plans.PHPWorkers: plans.Of(4)}, "certificates")
	b.PlanOf("guillemot", "stall", plans.Limits{plans.Disk: plans.Of(300 * plans.MiB), plans.Domains: plans.Of(2)})
	b.Customer("Bakery", "guillemot")
	return b, guillemot
}

func stall(b *servicetest.Bench, a usecase.Actor, domain string) (api.Opening, error) {
	return b.Accounts.OpenAccount(b.Context(), a, api.OpenAccount{Domain: domain, Plan: "stall", Customer: "Bakery"})
}

func TestShareByWhatIsAllotted(t *testing.T) {
	ctx := t.Context()
	b, guillemot := studio(t, "allotted")
	for n := range 3 {
		_, err := stall(b, guillemot, fmt.Sprintf("bakery%d.example", n))
		require.NoError(t, err)
	}
	_, err := stall(b, guillemot, "bakery3.example")
	r := servicetest.Refused(t, refusal.LimitReached, err)
	assert.Contains(t, r.Detail, "disk space: the share of guillemot is 1G, 900M allotted to other accounts, 124M left")
	b.Work()
	share, err := b.Selling.Share(ctx, guillemot, "guillemot")
	require.NoError(t, err)
	for _, line := range share.Lines {
		if line.Key == "disk" {
			assert.Equal(t, 900*plans.MiB, *line.Allotted)
			assert.Equal(t, 124*plans.MiB, *line.Left)
			assert.False(t, line.Over)
		}
	}
	t.Run("an exception draws on it as well", func(t *testing.T) {
		_, err := b.Selling.SetException(ctx, guillemot, "bakery0.example", api.NewException{Limit: "disk",
			Amount: amount(500 * plans.MiB), Reason: "flour"})
		servicetest.Refused(t, refusal.LimitReached, err)
		on := true
		_, err = b.Selling.SetException(ctx, guillemot, "bakery0.example", api.NewException{Feature: "shell", On: &on,
			Reason: "flour"})
		servicetest.Refused(t, refusal.LimitReached, err)
	})
	t.Run("so does a change of the plan", func(t *testing.T) {
		_, err := b.Selling.ChangePlan(ctx, guillemot, "stall", 0, api.PlanChange{
			Limits: plans.Limits{plans.Disk: plans.Of(400 * plans.MiB)}})
		servicetest.Refused(t, refusal.LimitReached, err)
	})
	t.Run("giving less is always possible", func(t *testing.T) {
		_, err := b.Selling.ChangePlan(ctx, guillemot, "stall", 0, api.PlanChange{
			Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB)}})
		require.NoError(t, err)
		_, err = stall(b, guillemot, "bakery3.example")
		require.NoError(t, err)
	})
}

func TestShareByWhatIsUsed(t *testing.T) {
	b, guillemot := studio(t, "used")
	for n := range 5 {
		_, err := stall(b, guillemot, fmt.Sprintf("bakery%d.example", n))
		require.NoError(t, err, "more may be given out than there is")
	}
	b.Work()
	for n := range 5 {
		_, err := b.Domains.AddDomain(b.Context(), guillemot, fmt.Sprintf("bakery%d.example", n),
			api.NewDomain{Domain: fmt.Sprintf("more%d.example", n)})
		require.NoError(t, err)
	}
	_, err := stall(b, guillemot, "bakery5.example")
	r := servicetest.Refused(t, refusal.LimitReached, err)
	assert.Contains(t, r.Detail, "domains: 10 allowed by the share of guillemot, 10 used, 0 left")
}

func TestShareUnderManyAtOnce(t *testing.T) {
	for _, measure := range []string{"allotted", "used"} {
		t.Run(measure, func(t *testing.T) {
			b, guillemot := studio(t, measure)
			b = servicetest.Process(t, b.URL)
			var opened atomic.Int64
			var group sync.WaitGroup
			for n := range 16 {
				group.Go(func() {
					if _, err := stall(b, guillemot, fmt.Sprintf("many%d.example", n)); err == nil {
						opened.Add(1)
					} else {
						assert.True(t, refusal.Is(err, refusal.LimitReached), err)
					}
				})
			}
			group.Wait()
			assert.EqualValues(t, map[string]int{"allotted": 3, "used": 10}[measure], opened.Load())
		})
	}
}

func TestChangeReseller(t *testing.T) {
	ctx := t.Context()
	b, guillemot := studio(t, "allotted")
	_, err := stall(b, guillemot, "bakery.example")
	require.NoError(t, err)
	b.Work()
	less := api.ResellerChange{Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB)}}

	_, err = b.Selling.ChangeReseller(ctx, b.Operator, "guillemot", 99, less)
	servicetest.Refused(t, refusal.Changed, err)
	_, err = b.Selling.ChangeReseller(ctx, b.Operator, "guillemot", 0, less)
	r := servicetest.Refused(t, refusal.NeedsDecision, err)
	require.Len(t, r.Decide, 1)
	assert.Equal(t, "over", r.Decide[0].Field)

	less.Over = "keep"
	_, err = b.Selling.ChangeReseller(ctx, b.Operator, "guillemot", 0, less)
	require.NoError(t, err)
	b.Work()
	detail, err := b.Accounts.Account(ctx, b.Operator, "bakery.example")
	require.NoError(t, err)
	m, _ := b.Agents.On(1).InForce(detail.ID)
	assert.Equal(t, 100*plans.MiB, *m.Home.DiskLimit, "no account can use more than the share itself")
	_, err = b.Selling.ChangeReseller(ctx, b.Operator, "auk", 0, less)
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestRemoveReseller(t *testing.T) {
	ctx := t.Context()
	b, _ := studio(t, "allotted")
	r := servicetest.Refused(t, refusal.InUse, b.Selling.RemoveReseller(ctx, b.Operator, "guillemot"))
	assert.Contains(t, r.Detail, "1 customer")
	require.NoError(t, b.Selling.RemoveCustomer(ctx, b.Operator, "Bakery"))
	require.NoError(t, b.Selling.RemoveReseller(ctx, b.Operator, "guillemot"))
	_, err := b.Selling.Plan(ctx, b.Operator, "guillemot.stall")
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.People.Person(ctx, b.Operator, "guillemot-desk")
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestSuspendAccount(t *testing.T) {
	ctx := t.Context()
	b, guillemot := studio(t, "allotted")
	_, err := stall(b, guillemot, "bakery.example")
	require.NoError(t, err)
	b.Work()
	account, err := b.Accounts.Account(ctx, guillemot, "bakery.example")
	require.NoError(t, err)

	_, err = b.Selling.SuspendAccount(ctx, guillemot, "bakery.example", "  ")
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = b.Selling.ResumeAccount(ctx, guillemot, "bakery.example")
	servicetest.Refused(t, refusal.WrongState, err)

	_, err = b.Selling.SuspendAccount(ctx, b.Operator, "bakery.example", "unpaid")
	require.NoError(t, err)
	b.Work()
	m, _ := b.Agents.On(1).InForce(account.ID)
	assert.True(t, m.Suspended)
	_, err = b.Selling.SuspendAccount(ctx, b.Operator, "bakery.example", "again")
	servicetest.Refused(t, refusal.WrongState, err)
	_, err = b.Selling.ResumeAccount(ctx, guillemot, "bakery.example")
	r := servicetest.Refused(t, refusal.NotAllowed, err)
	assert.Contains(t, r.Detail, "by an operator (unpaid)")

	_, err = b.Selling.ResumeAccount(ctx, b.Operator, "bakery.example")
	require.NoError(t, err)
	b.Work()
	after, _ := b.Agents.On(1).InForce(account.ID)
	assert.False(t, after.Suspended)
	m.Suspended, m.Revision = false, after.Revision
	assert.Equal(t, m, after, "exactly what was")
}

func TestSuspendReseller(t *testing.T) {
	ctx := t.Context()
	b, guillemot := studio(t, "allotted")
	_, err := stall(b, guillemot, "bakery.example")
	require.NoError(t, err)
	b.Work()

	suspended, err := b.Selling.SuspendReseller(ctx, b.Operator, "guillemot", api.SuspendReseller{Why: "unpaid",
		Accounts: "stay"})
	require.NoError(t, err)
	assert.Zero(t, suspended.Accounts)
	assert.Empty(t, b.Queue.Drain())
	_, err = stall(b, b.Operator, "new.example")
	require.Error(t, err)
	_, err = b.Selling.ResumeReseller(ctx, b.Operator, "guillemot")
	require.NoError(t, err)

	suspended, err = b.Selling.SuspendReseller(ctx, b.Operator, "guillemot", api.SuspendReseller{Why: "unpaid",
		Accounts: "suspend"})
	require.NoError(t, err)
	assert.EqualValues(t, 1, suspended.Accounts)
	b.Work()
	detail, err := b.Accounts.Account(ctx, b.Operator, "bakery.example")
	require.NoError(t, err)
	assert.Equal(t, "suspended", detail.State)
	m, _ := b.Agents.On(1).InForce(detail.ID)
	assert.True(t, m.Suspended)
	_, err = b.Selling.ResumeAccount(ctx, b.Operator, "bakery.example")
	r := servicetest.Refused(t, refusal.WrongState, err)
	assert.Contains(t, r.Detail, "resume the reseller")

	_, err = b.Selling.ResumeReseller(ctx, b.Operator, "guillemot")
	require.NoError(t, err)
	b.Work()
	m, _ = b.Agents.On(1).InForce(detail.ID)
	assert.False(t, m.Suspended)
}

func TestBrand(t *testing.T) {
	ctx := t.Context()
	b, guillemot := studio(t, "allotted")
	_, err := stall(b, guillemot, "bakery.example")
	require.NoError(t, err)
	b.Work()
	_, err = b.Selling.ChangeBrand(ctx, guillemot, "guillemot", 0, api.Brand{Accent: "not a colour"})
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = b.Selling.ChangeBrand(ctx, guillemot, "guillemot", 0, api.Brand{Title: "Guillemot Studio",
		Footer: "By the sea", Accent: "#a03020"})
	require.NoError(t, err)
	b.Work()
	detail, err := b.Accounts.Account(ctx, guillemot, "bakery.example")
	require.NoError(t, err)
	m, _ := b.Agents.On(1).InForce(detail.ID)
	assert.Equal(t, "Guillemot Studio", m.Brand.Title, "pages on servers bear it")
	session, err := b.People.Session(ctx, guillemot)
	require.NoError(t, err)
	require.NotNil(t, session.Brand)
	assert.Equal(t, "Guillemot Studio", session.Brand.Title)
	servicetest.Refused(t, refusal.InvalidInput,
		b.Selling.ChangeLogo(ctx, guillemot, "guillemot", []byte("no picture")))
	_, err = b.Selling.Brand(ctx, b.Reseller("razorbill", "used", plans.Limits{}), "guillemot")
	servicetest.Refused(t, refusal.NotFound, err)
}

// A reseller who names another one gets neither theirs nor their own.
func TestResellersNameOnlyThemselves(t *testing.T) {
	b := servicetest.New(t)
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	b.Reseller("razorbill", "allotted", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	for _, named := range []string{"razorbill", "nobody"} {
		_, err := b.Selling.AddCustomer(t.Context(), guillemot, api.NewCustomer{Name: "Surf School", Reseller: named})
		servicetest.Refused(t, refusal.NotFound, err)
		_, err = b.Selling.AddPlan(t.Context(), guillemot, api.NewPlan{Name: "small", Reseller: named})
		servicetest.Refused(t, refusal.NotFound, err)
	}
	_, err := b.Selling.AddCustomer(t.Context(), guillemot, api.NewCustomer{Name: "Surf School", Reseller: "guillemot"})
	require.NoError(t, err)
}

// What nobody mentions of files is unlimited, and what the share has in a reseller's plan.
func TestFilesThatNobodyMentions(t *testing.T) {
	b := servicetest.New(t)
	harbour := b.Plan("harbour", nil)
	assert.Equal(t, plans.Unlimited, harbour.Limits[plans.Files])
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Files: plans.Of(5000)})
	small, err := b.Selling.AddPlan(t.Context(), guillemot, api.NewPlan{Name: "small"})
	require.NoError(t, err)
	assert.Equal(t, plans.Of(5000), small.Limits[plans.Files])
	none, err := b.Selling.AddPlan(t.Context(), b.Operator, api.NewPlan{Name: "none",
		Limits: plans.Limits{plans.Files: plans.Of(0)}})
	require.NoError(t, err)
	assert.Equal(t, plans.Of(0), none.Limits[plans.Files], "who says so, means it")
	assert.Equal(t, plans.Of(0), none.Limits[plans.Domains], "nothing else is given where nothing is said")
}
