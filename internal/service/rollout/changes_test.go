package rollout_test

import (
	"context"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// followed gathers what somebody is told of changes until the test ends.
func followed(t *testing.T, b *servicetest.Bench, a usecase.Actor) <-chan api.Changes {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	told, ended := make(chan api.Changes, 100), make(chan struct{})
	go func() {
		defer close(ended)
		_ = b.Rollout.WatchChanges(ctx, a, func(c api.Changes) error { told <- c; return nil })
	}()
	t.Cleanup(func() { cancel(); <-ended })
	first := <-told
	assert.Empty(t, first.Things, "what is there already is no change")
	return told
}

// next waits for something to be told.
func next(t *testing.T, told <-chan api.Changes) api.Changes {
	t.Helper()
	select {
	case c := <-told:
		return c
	case <-time.After(10 * time.Second):
		require.Fail(t, "nothing is told")
		return api.Changes{}
	}
}

func TestWatchChanges(t *testing.T) {
	b := servicetest.Process(t, servicetest.New(t).URL)
	b.Server("skua")
	b.Plan("harbour", nil)
	tern, auk := b.Customer("Tern Ferries", ""), b.Customer("Auk Bakery", "")
	operator, customer, stranger := followed(t, b, b.Operator), followed(t, b, tern), followed(t, b, auk)
	account := b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour",
		Customer: "Tern Ferries"})
	for name, told := range map[string]<-chan api.Changes{"the operator": operator, "the customer": customer} {
		c := next(t, told)
		assert.Contains(t, c.Things, "account", name)
		assert.Equal(t, []int64{account.ID}, c.Accounts, name)
	}
	email := "auk@post.example"
	_, err := b.Selling.ChangeNotes(t.Context(), b.Operator, strconv.FormatInt(auk.CustomerID, 10),
		api.Notes{Notes: "pays in cash"})
	require.NoError(t, err)
	c := next(t, operator)
	for !slices.Equal(c.Things, []string{"customer"}) { // after what the opening came to
		c = next(t, operator)
	}
	assert.Empty(t, c.Accounts)
	_, err = b.Selling.ChangeCustomer(t.Context(), b.Operator, strconv.FormatInt(auk.CustomerID, 10), 0,
		api.CustomerChange{Email: &email})
	require.NoError(t, err)
	assert.Equal(t, api.Changes{Things: []string{"customer"}, Accounts: []int64{}}, next(t, stranger),
		"and nothing of the account of others")
}
