package accounts_test

import (
	"fmt"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/accounts"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestOpenAccount(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	in := api.OpenAccount{Domain: "https://WWW.ternferries.example/", Plan: "harbour", Customer: "Tern Ferries"}

	t.Run("a preview says what would be done, and does nothing", func(t *testing.T) {
		p := b.Preview(b.Operator, func(a usecase.Actor) error {
			_, err := b.Accounts.OpenAccount(ctx, a, in)
			return err
		})
		assert.Equal(t, "open account ternferries for ternferries.example on skua", p.Summary)
		assert.Contains(t, p.Notes, "left out “https://”")
		assert.Len(t, p.Changes, 1)
		assert.Empty(t, b.Queue.Drain())
		list, err := b.Accounts.Accounts(ctx, b.Operator, accounts.AccountFilter{}, "", 10)
		require.NoError(t, err)
		assert.Empty(t, list.Accounts)
	})
	t.Run("it is written down, recorded and queued", func(t *testing.T) {
		opening, err := b.Accounts.OpenAccount(ctx, b.Operator, in)
		require.NoError(t, err)
		assert.Equal(t, "ternferries", opening.Account.SignInName)
		assert.Equal(t, "opening", opening.Account.State)
		assert.Equal(t, []servicetest.Job{{Kind: "Apply", ID: opening.Account.ID}}, b.Queue.Drain())
		assert.Contains(t, b.Events("ternferries")[0], "account.open")
		require.NoError(t, b.Rollout.Apply(ctx, opening.Account.ID))
		detail, err := b.Accounts.Account(ctx, b.Operator, "ternferries")
		require.NoError(t, err)
		assert.Equal(t, "active", detail.State)
		operation, err := b.Rollout.Operation(ctx, b.Operator, opening.Operation)
		require.NoError(t, err)
		assert.Equal(t, "done", operation.State)
	})
	for name, c := range map[string]struct {
		change func(*api.OpenAccount)
		kind   refusal.Kind
		field  string
	}{
		"the domain is hosted already": {func(*api.OpenAccount) {}, refusal.DomainTaken, "domain"},
		"a name below another's": {func(in *api.OpenAccount) {
			in.Domain = "shop.ternferries.example"
		}, refusal.DomainTaken, "domain"},
		"no such plan": {func(in *api.OpenAccount) {
			in.Domain, in.Plan = "a.example", "nothing"
		}, refusal.NotFound, "plan"},
		"no such customer": {func(in *api.OpenAccount) {
			in.Domain, in.Customer = "a.example", "Nobody"
		}, refusal.NotFound, "customer"},
		"no such server": {func(in *api.OpenAccount) {
			in.Domain, in.Server = "a.example", "auk"
		}, refusal.NotFound, "server"},
		"the sign-in name is in use": {func(in *api.OpenAccount) {
			in.Domain, in.SignInName = "a.example", "ternferries"
		}, refusal.NameTaken, "sign_in_name"},
		"the sign-in name is the system's": {func(in *api.OpenAccount) {
			in.Domain, in.SignInName = "a.example", "root"
		}, refusal.InvalidInput, "sign_in_name"},
	} {
		t.Run(name, func(t *testing.T) {
			changed := in
			c.change(&changed)
			_, err := b.Accounts.OpenAccount(ctx, b.Operator, changed)
			r := servicetest.Refused(t, c.kind, err)
			require.NotEmpty(t, r.Fields)
			assert.Equal(t, c.field, r.Fields[0].Name)
			assert.Empty(t, b.Queue.Drain(), "nothing is half done")
		})
	}
	t.Run("what the server refuses leaves nothing", func(t *testing.T) {
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Refuses = "no space left" })
		opening, err := b.Accounts.OpenAccount(ctx, b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour",
			Customer: "Tern Ferries"})
		require.NoError(t, err)
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Refuses = "no space left" })
		for _, job := range b.Queue.Drain() {
			require.NoError(t, b.Rollout.Apply(ctx, job.ID))
		}
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Refuses = "" })
		b.Work()
		operation, err := b.Rollout.Operation(ctx, b.Operator, opening.Operation)
		require.NoError(t, err)
		assert.Equal(t, "failed", operation.State)
		assert.Contains(t, operation.Failure, "no space left (the account was not opened; nothing of it is left)")
		_, held := b.Agents.On(1).InForce(opening.Account.ID)
		assert.False(t, held)
		_, err = b.Accounts.OpenAccount(ctx, b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour",
			Customer: "Tern Ferries"})
		assert.NoError(t, err, "the name is free again")
	})
}

func TestOpenAccountTwiceWithOneKey(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	in := api.OpenAccount{Domain: "ternferries.example", Plan: "harbour", Customer: "Tern Ferries"}
	a := b.Operator
	a.IdempotencyKey, a.RequestDigest = "k1", usecase.RequestDigest("POST", "/accounts", []byte("1"))
	first, err := b.Accounts.OpenAccount(ctx, a, in)
	require.NoError(t, err)
	again, err := b.Accounts.OpenAccount(ctx, a, in)
	require.NoError(t, err)
	assert.Equal(t, first.Account.ID, again.Account.ID)
	assert.Equal(t, first.Operation, again.Operation)
	assert.Len(t, b.Queue.Drain(), 1, "it is done once")
	a.RequestDigest = usecase.RequestDigest("POST", "/accounts", []byte("2"))
	_, err = b.Accounts.OpenAccount(ctx, a, in)
	servicetest.Refused(t, refusal.KeyReused, err)
}

// Names are proposed from the first label, which these domains share.
func TestSignInNamesAskedForAtOnce(t *testing.T) {
	b := servicetest.Process(t, servicetest.New(t).URL)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	var mu sync.Mutex
	var got []string
	var group sync.WaitGroup
	for n := range 12 {
		in := api.OpenAccount{Domain: fmt.Sprintf("dock.place%d.example", n), Plan: "harbour",
			Customer: "Tern Ferries"}
		if n == 5 {
			in.SignInName = "dock3" // somebody chooses what is about to be proposed
		}
		group.Go(func() {
			opening, err := b.Accounts.OpenAccount(t.Context(), b.Operator, in)
			if in.SignInName != "" && refusal.Is(err, refusal.NameTaken) {
				return
			}
			if assert.NoError(t, err) {
				mu.Lock()
				defer mu.Unlock()
				got = append(got, opening.Account.SignInName)
			}
		})
	}
	group.Wait()
	slices.Sort(got)
	want := []string{"dock", "dock10", "dock11", "dock12", "dock2", "dock3", "dock4", "dock5", "dock6", "dock7",
		"dock8", "dock9"}
	if len(got) == 11 { // the chosen one came too late
		want = slices.DeleteFunc(want, func(name string) bool { return name == "dock12" })
	}
	assert.Equal(t, want, got)
}

func TestCloseAccount(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{})
	customer := b.Customer("Tern Ferries", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "ternferries.example", Plan: "harbour",
		Customer: "Tern Ferries"})

	_, err := b.Accounts.CloseAccount(ctx, b.Operator, "ternferries", "wrong")
	servicetest.Refused(t, refusal.InvalidInput, err)
	stranger := b.Customer("Auk Boats", "")
	_, err = b.Accounts.CloseAccount(ctx, stranger, "ternferries", "ternferries")
	servicetest.Refused(t, refusal.NotFound, err)

	p := b.Preview(customer, func(a usecase.Actor) error {
		_, err := b.Accounts.CloseAccount(ctx, a, "ternferries", "ternferries")
		return err
	})
	assert.Contains(t, p.Notes, "no longer served: ternferries.example")

	started, err := b.Accounts.CloseAccount(ctx, b.Operator, "ternferries", "ternferries")
	require.NoError(t, err)
	b.Work()
	operation, err := b.Rollout.Operation(ctx, b.Operator, started.Operation)
	require.NoError(t, err)
	assert.Equal(t, "done", operation.State)
	_, held := b.Agents.On(1).InForce(account.ID)
	assert.False(t, held)
	_, err = b.Accounts.CloseAccount(ctx, b.Operator, "1", "ternferries")
	servicetest.Refused(t, refusal.WrongState, err)
}
