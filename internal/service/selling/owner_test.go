package selling_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/accounts"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

func TestGiveAccount(t *testing.T) {
	ctx := t.Context()
	b := shop(t)
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	auk := b.Customer("Auk Bakery", "")
	b.Customer("Village Hall", "guillemot")
	given := open(b, "ferries.example", "harbour")
	to := func(a usecase.Actor, account, customer string) error {
		_, err := b.Selling.GiveAccount(ctx, a, account, api.NewOwner{Customer: customer})
		return err
	}
	sees := func(a usecase.Actor) int {
		list, err := b.Accounts.Accounts(ctx, a, accounts.AccountFilter{}, "", 10)
		require.NoError(t, err)
		return len(list.Accounts)
	}
	assert.Zero(t, sees(auk))
	require.NoError(t, to(b.Operator, "ferries.example", "Auk Bakery"))
	assert.Equal(t, 1, sees(auk))
	assert.Contains(t, b.Events("ferries.example"), "account.give account 1 ferries")

	r := servicetest.Refused(t, refusal.WrongState, to(b.Operator, "ferries.example", "Auk Bakery"))
	assert.Contains(t, r.Detail, "already")
	servicetest.Refused(t, refusal.NotFound, to(b.Operator, "ferries.example", "Nobody"))
	servicetest.Refused(t, refusal.NotFound, to(b.Operator, "nothing.example", "Auk Bakery"))
	servicetest.Refused(t, refusal.NotFound, to(guillemot, "ferries.example", "Village Hall"))
	_, err := b.Accounts.CloseAccount(ctx, b.Operator, "ferries.example", given.SignInName)
	require.NoError(t, err)
	servicetest.Refused(t, refusal.WrongState, to(b.Operator, "ferries.example", "Tern Ferries"))
}
