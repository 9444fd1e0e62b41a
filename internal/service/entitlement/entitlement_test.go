package entitlement_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/db"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestLoad(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	guillemot := b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB),
		plans.Domains:    plans.Of(10),
		plans.PHPWorkers: plans.Of(4)}, "shell")
	b.PlanOf("guillemot", "stall", plans.Limits{plans.Disk: plans.Of(2 * plans.GiB / 4)}, "shell")
	b.Customer("Bakery", "guillemot")
	var rows []db.Account
	for _, domain := range []string{"one.example", "two.example"} {
		opening, err := b.Accounts.OpenAccount(ctx, guillemot, api.OpenAccount{Domain: domain, Plan: "stall",
			Customer: "Bakery"})
		require.NoError(t, err)
		row, err := b.Store.Account(ctx, opening.Account.ID)
		require.NoError(t, err)
		rows = append(rows, row)
	}
	b.Work()
	storetest.Exec(t, b.Store, "update accounts set disk_used = case when id = $1 then 100 else 900 end", rows[0].ID)

	list, err := entitlement.LoadMany(ctx, b.Base, b.Store.Queries, rows)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.EqualValues(t, 100, list[0].Used[plans.Disk])
	assert.EqualValues(t, 900, list[0].Headroom.Others[plans.Disk], "what the others use is all but its own")
	assert.EqualValues(t, 100, list[1].Headroom.Others[plans.Disk])
	assert.True(t, list[0].Has("shell"))
	assert.False(t, list[0].Has("mail"))
	assert.NoError(t, list[0].Admit(plans.Domains, 4))
	servicetest.Refused(t, refusal.LimitReached, list[0].Admit(plans.Domains, 5))
	r := list[0].MissingFeature("mail", "mailboxes need the feature mail, which this account does not have")
	assert.Equal(t, "mailboxes need the feature mail, which this account does not have; the reseller can switch it on",
		r.For("customer").Detail)
	assert.Contains(t, r.For("operator").Detail, "; switch it on (victualler exception add ")

	t.Run("alone, it comes to the same", func(t *testing.T) {
		one, err := entitlement.Load(ctx, b.Base, b.Store.Queries, rows[1])
		require.NoError(t, err)
		assert.Equal(t, list[1].Allowance(), one.Allowance())
		assert.Equal(t, list[1].Used, one.Used)
	})
	t.Run("for servers, what is used does not matter", func(t *testing.T) {
		terms, err := entitlement.LoadTerms(ctx, b.Base, b.Store.Queries, rows)
		require.NoError(t, err)
		for i := range terms {
			assert.False(t, entitlement.ChangesServer(terms[i], list[i]))
		}
	})
	t.Run("frozen terms outlast the plan", func(t *testing.T) {
		_, err := b.Selling.FreezeTerms(ctx, guillemot, "one.example", true)
		require.NoError(t, err)
		_, err = b.Selling.ChangePlan(ctx, guillemot, "stall", 0,
			api.PlanChange{Features: plans.Features{"shell": false}})
		require.NoError(t, err)
		row, err := b.Store.Account(ctx, rows[0].ID)
		require.NoError(t, err)
		frozen, err := entitlement.Load(ctx, b.Base, b.Store.Queries, row)
		require.NoError(t, err)
		assert.True(t, frozen.Has("shell"))
		assert.Contains(t, frozen.Terms.Source.String(), "from plan guillemot.stall")
		_, err = b.Selling.FreezeTerms(ctx, guillemot, "one.example", false)
		require.NoError(t, err)
		row, err = b.Store.Account(ctx, rows[0].ID)
		require.NoError(t, err)
		thawed, err := entitlement.Load(ctx, b.Base, b.Store.Queries, row)
		require.NoError(t, err)
		assert.False(t, thawed.Has("shell"))
	})
	t.Run("no account can use more than the share itself", func(t *testing.T) {
		_, err := b.Selling.ChangeReseller(ctx, b.Operator, "guillemot", 0, api.ResellerChange{Over: "keep",
			Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB)}})
		require.NoError(t, err)
		st, err := entitlement.Load(ctx, b.Base, b.Store.Queries, rows[1])
		require.NoError(t, err)
		allowed := st.Allowance().Limits[plans.Disk]
		assert.LessOrEqual(t, allowed.N, 100*plans.MiB)
		assert.Equal(t, "the share of guillemot", allowed.Source.String())
	})
}
