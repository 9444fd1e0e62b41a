package store_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/store"
	"victualler/internal/store/db"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// open opens the store on an empty database, as several processes do at once, and returns its URL.
func open(t *testing.T) (*store.Store, string) {
	t.Helper()
	ctx := context.Background()
	url := storetest.Empty(t)
	stores := make([]*store.Store, 3)
	var group sync.WaitGroup
	for i := range stores {
		group.Go(func() {
			var err error
			stores[i], err = store.Open(ctx, url)
			assert.NoError(t, err)
		})
	}
	group.Wait()
	require.NotNil(t, stores[0])
	t.Cleanup(func() {
		for _, s := range stores {
			s.Close()
		}
	})
	return stores[0], url
}

// fixture adds what an account needs.
func fixture(t *testing.T, s *store.Store) (customer, plan, server int64) {
	t.Helper()
	ctx := context.Background()
	c, err := s.AddCustomer(ctx, db.AddCustomerParams{Name: "Tern Ferries", Language: "en"})
	require.NoError(t, err)
	p, err := s.AddPlan(ctx, db.AddPlanParams{Name: "harbour"})
	require.NoError(t, err)
	ends := time.Now().Add(time.Hour)
	v, err := s.AddServer(ctx, db.AddServerParams{Addresses: []string{}, Label: "skua", Address: "10.0.0.1:7677",
		Roles: []string{"web"}, Open: true, JoinSecret: []byte("x"), JoinEndsAt: &ends})
	require.NoError(t, err)
	return c.ID, p.ID, v.ID
}

func TestStore(t *testing.T) {
	ctx := context.Background()
	s, url := open(t)
	customer, plan, server := fixture(t, s)
	add := func(name, domain string) (db.Account, error) {
		return s.AddAccount(ctx, db.AddAccountParams{SignInName: name, MainDomain: domain, CustomerID: customer,
			PlanID: plan, ServerID: server})
	}
	account, err := add("ternferries", "ternferries.example")
	require.NoError(t, err)

	t.Run("the database itself refuses what must not be", func(t *testing.T) {
		for name, c := range map[string]struct {
			do         func() error
			constraint string
		}{
			"a sign-in name twice": {func() error {
				_, err := add("ternferries", "b.example")
				return err
			}, "accounts_sign_in_name"},
			"a sign-in name with syntax": {func() error {
				_, err := add("tern;ferries", "b.example")
				return err
			}, "accounts_sign_in_name_check"},
			"an unknown plan": {func() error {
				_, err := s.AddAccount(ctx, db.AddAccountParams{SignInName: "bb", CustomerID: customer, PlanID: 999,
					ServerID: server})
				return err
			}, "accounts_plan_id_fkey"},
			"a customer by other capitals": {func() error {
				_, err := s.AddCustomer(ctx, db.AddCustomerParams{Name: "TERN ferries", Language: "en"})
				return err
			}, "customers_name"},
			"a plan by a second spelling": {func() error {
				_, err := s.AddPlan(ctx, db.AddPlanParams{Name: "Harbour"})
				return err
			}, "plans_name_check"},
			"a negative limit": {func() error {
				return s.SavePlanLimits(ctx, db.SavePlanLimitsParams{Plan: plan, Keys: []string{"disk"},
					Amounts: []int64{-2}})
			}, "plan_limits_amount_check"},
			"a role that is none": {func() error {
				_, err := s.AddServer(ctx, db.AddServerParams{Addresses: []string{}, Label: "auk", Address: "x:1",
					Roles: []string{"kitchen"}, JoinSecret: []byte("x"), JoinEndsAt: &time.Time{}})
				return err
			}, "servers_roles_check"},
			"joining without a secret": {func() error {
				_, err := s.AddServer(ctx, db.AddServerParams{Addresses: []string{}, Label: "auk", Address: "x:1",
					Roles: []string{"web"}})
				return err
			}, "servers_check"},
		} {
			t.Run(name, func(t *testing.T) { assert.Equal(t, c.constraint, store.ViolatedConstraint(c.do())) })
		}
	})

	t.Run("a domain exists once", func(t *testing.T) {
		d := db.AddDomainParams{AccountID: account.ID, Name: "ternferries.example", Registrable: "ternferries.example",
			Main: true, Root: "sites/x", CountsAs: "domains", ServedAs: "site", Code: 301}
		_, err := s.AddDomain(ctx, d)
		require.NoError(t, err)
		d.Main, d.Root = false, "sites/y"
		_, err = s.AddDomain(ctx, d)
		assert.Equal(t, "domains_name", store.ViolatedConstraint(err))
		d.Waiting = true
		_, err = s.AddDomain(ctx, d)
		assert.Equal(t, "domains_of_account", store.ViolatedConstraint(err), "nor twice in an account, waiting or not")
		d.Name, d.Main, d.Waiting = "second.example", true, false
		_, err = s.AddDomain(ctx, d)
		assert.Equal(t, "domains_main", store.ViolatedConstraint(err), "one main domain")
	})

	t.Run("what was applied is never lowered", func(t *testing.T) {
		wanted, err := s.SetAccountState(ctx, db.SetAccountStateParams{ID: account.ID, State: "opening"})
		require.NoError(t, err)
		require.EqualValues(t, 2, wanted.Revision)
		after, err := s.MarkAccountApplied(ctx, db.MarkAccountAppliedParams{ID: account.ID, Revision: 1})
		require.NoError(t, err)
		assert.Equal(t, "opening", after.State, "an older revision opens nothing")
		after, err = s.MarkAccountApplied(ctx, db.MarkAccountAppliedParams{ID: account.ID, Revision: 2})
		require.NoError(t, err)
		assert.Equal(t, "active", after.State)
		_, err = s.MarkAccountApplied(ctx, db.MarkAccountAppliedParams{ID: account.ID, Revision: 1})
		assert.True(t, store.None(err))
		_, err = s.SetAccountState(ctx, db.SetAccountStateParams{ID: account.ID, State: "closing"})
		require.NoError(t, err)
		after, err = s.MarkAccountApplied(ctx, db.MarkAccountAppliedParams{ID: account.ID, Revision: 3})
		require.NoError(t, err)
		assert.Equal(t, "closed", after.State)
		assert.NotNil(t, after.ClosedAt)
		_, err = add("ternferries", "ternferries.example")
		assert.NoError(t, err, "the name is free again")
	})

	t.Run("events stay", func(t *testing.T) {
		require.NoError(t, s.AddEvent(ctx, db.AddEventParams{Actor: "operator", Action: "test", Subject: "x"}))
		for _, statement := range []string{"update events set actor = 'nobody'", "delete from events",
			"truncate events"} {
			_, err := s.Pool.Exec(ctx, statement)
			assert.ErrorContains(t, err, "never changed or deleted", statement)
		}
	})

	t.Run("accounts are found by whatever names them", func(t *testing.T) {
		guest, err := s.AddCustomer(ctx, db.AddCustomerParams{Name: "Kittiwake Rooms", Language: "en"})
		require.NoError(t, err)
		a, err := s.AddAccount(ctx, db.AddAccountParams{SignInName: "kittiwake", MainDomain: "kittiwake.example",
			CustomerID: guest.ID, PlanID: plan, ServerID: server})
		require.NoError(t, err)
		found := func(text string) int {
			ids, err := s.Fresh().AccountPage(ctx, db.AccountPageParams{Search: text, Most: 10})
			require.NoError(t, err)
			return len(ids)
		}
		d, err := s.AddDomain(ctx, db.AddDomainParams{AccountID: a.ID, Name: "rooms-by-the-sea.example",
			Registrable: "rooms-by-the-sea.example", Root: "sites/y", CountsAs: "domains", ServedAs: "site", Code: 301})
		require.NoError(t, err)
		for _, text := range []string{"tiwake.ex", "by-the-sea", "kittiwake rooms", "kittiwake"} {
			assert.Equal(t, 1, found(text), text)
		}
		require.NoError(t, s.RemoveDomain(ctx, d.ID))
		assert.Equal(t, 0, found("by-the-sea"))
		_, err = s.ChangeCustomer(ctx, db.ChangeCustomerParams{ID: guest.ID, Name: "Puffin Rooms", Language: "en"})
		require.NoError(t, err)
		assert.Equal(t, 1, found("puffin"))
		assert.Equal(t, 0, found("kittiwake rooms"))
	})

	t.Run("names are unique for each seller", func(t *testing.T) {
		r, err := s.AddReseller(ctx, db.AddResellerParams{Name: "guillemot", Title: "Guillemot Studio",
			Measure: "allotted"})
		require.NoError(t, err)
		_, err = s.AddPlan(ctx, db.AddPlanParams{Name: "harbour", ResellerID: &r.ID})
		assert.NoError(t, err, "a reseller's plan may be called as the operator's")
		_, err = s.AddPlan(ctx, db.AddPlanParams{Name: "harbour", ResellerID: &r.ID})
		assert.Equal(t, "plans_name", store.ViolatedConstraint(err))
		_, err = s.AddPlan(ctx, db.AddPlanParams{Name: "harbour"})
		assert.Equal(t, "plans_name", store.ViolatedConstraint(err))
		c, err := s.AddCustomer(ctx, db.AddCustomerParams{Name: "Tern Ferries", Language: "en", ResellerID: &r.ID})
		require.NoError(t, err)
		a, err := s.AddAccount(ctx, db.AddAccountParams{SignInName: "village", MainDomain: "village.example",
			CustomerID: c.ID, PlanID: plan, ServerID: server})
		require.NoError(t, err)
		assert.Equal(t, &r.ID, a.ResellerID, "an account is its customer's reseller's")
		reseller, customer := r.ID, int64(0)
		_, err = s.FindAccount(ctx, db.FindAccountParams{Reference: "village.example", Reseller: reseller,
			Customer: customer})
		assert.NoError(t, err)
		_, err = s.FindAccount(ctx, db.FindAccountParams{Reference: "kittiwake", Reseller: reseller})
		assert.True(t, store.None(err), "out of scope is not there")
		_, err = s.AccountInScope(ctx, db.AccountInScopeParams{ID: a.ID, Customer: c.ID + 1})
		assert.True(t, store.None(err))
	})

	t.Run("a transaction is kept whole or not at all", func(t *testing.T) {
		stop := errors.New("stop")
		err := s.InTx(ctx, func(tx store.Tx) error {
			if _, err := tx.AddPlan(ctx, db.AddPlanParams{Name: "half-done"}); err != nil {
				return err
			}
			return stop
		})
		assert.ErrorIs(t, err, stop)
		_, err = s.FindPlan(ctx, db.FindPlanParams{Name: "half-done"})
		assert.True(t, store.None(err))
	})

	t.Run("a snapshot is of one moment", func(t *testing.T) {
		require.NoError(t, s.Snapshot(ctx, func(q *db.Queries) error {
			_, err := q.FindPlan(ctx, db.FindPlanParams{Name: "later"})
			assert.True(t, store.None(err))
			_, err = s.AddPlan(ctx, db.AddPlanParams{Name: "later"})
			require.NoError(t, err)
			_, err = q.FindPlan(ctx, db.FindPlanParams{Name: "later"})
			assert.True(t, store.None(err), "what others change meanwhile is not seen")
			return nil
		}))
		assert.ErrorContains(t, s.Snapshot(ctx, func(q *db.Queries) error {
			_, err := q.AddPlan(ctx, db.AddPlanParams{Name: "never"})
			return err
		}), "read-only")
	})
	t.Run("a deadlock is tried again", func(t *testing.T) {
		_, err := s.Pool.Exec(ctx, "create table pair (id int primary key, n int); insert into pair values (1, 0), "+
			"(2, 0)")
		require.NoError(t, err)
		var group, both sync.WaitGroup
		both.Add(2)
		for _, order := range [][]int{{1, 2}, {2, 1}} {
			group.Go(func() {
				var once sync.Once
				assert.NoError(t, s.InTx(ctx, func(tx store.Tx) error {
					if _, err := tx.JobTx().Exec(ctx, "update pair set n = n + 1 where id = $1", order[0]); err != nil {
						return err
					}
					once.Do(func() { both.Done(); both.Wait() }) // the first time, both hold one row
					_, err := tx.JobTx().Exec(ctx, "update pair set n = n + 1 where id = $1", order[1])
					return err
				}))
			})
		}
		group.Wait()
		var sum int
		require.NoError(t, s.Pool.QueryRow(ctx, "select sum(n) from pair").Scan(&sum))
		assert.Equal(t, 4, sum)
	})

	t.Run("notifications arrive, after a lost connection too", func(t *testing.T) {
		listening, cancel := context.WithCancel(ctx)
		heard, lost := make(chan string, 10), make(chan struct{}, 10)
		ended := make(chan struct{})
		go func() {
			s.Listen(listening, store.OperationChannel, func(p string) { heard <- p }, func() { lost <- struct{}{} })
			close(ended)
		}()
		<-lost
		require.NoError(t, s.NotifyOperation(ctx, []int64{17}))
		assert.Equal(t, "17", <-heard)
		_, err := s.Pool.Exec(ctx, "select pg_terminate_backend(pid) from pg_stat_activity where query like 'listen%'")
		require.NoError(t, err)
		<-lost
		require.NoError(t, s.NotifyOperation(ctx, []int64{18, 19}))
		assert.Equal(t, "18", <-heard)
		assert.Equal(t, "19", <-heard)
		cancel()
		<-ended
	})

	t.Run("opening again changes nothing", func(t *testing.T) {
		again, err := store.Open(ctx, url)
		require.NoError(t, err)
		defer again.Close()
		_, err = again.FindPlan(ctx, db.FindPlanParams{Name: "harbour"})
		assert.NoError(t, err)
		_, err = store.Open(ctx, "postgres://nobody:x@127.0.0.1:1/none")
		assert.Error(t, err)
		_, err = store.Open(ctx, "rubbish://")
		assert.Error(t, err)
	})
}
