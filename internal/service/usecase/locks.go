package usecase

import (
	"context"
	"fmt"

	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// LockCustomer finds and locks a customer.
func LockCustomer(ctx context.Context, tx store.Tx, a Actor, reference string) (db.Customer, error) {
	number, err := FindCustomer(ctx, tx.Queries, a, reference, nil)
	if err != nil {
		return db.Customer{}, err
	}
	row, err := tx.LockCustomer(ctx, number)
	if store.None(err) {
		err = customerGone(reference)
	}
	return row, err
}

// LockCustomerForKeyShare sees to it that the customer found before is there until the transaction ends.
func LockCustomerForKeyShare(ctx context.Context, tx store.Tx, number int64) (db.Customer, error) {
	row, err := tx.KeepCustomer(ctx, number)
	if store.None(err) {
		err = customerGone(fmt.Sprint(number))
	}
	return row, err
}

// LockPlanForShare keeps a plan found before as it is until the transaction ends.
func LockPlanForShare(ctx context.Context, tx store.Tx, plan db.FindPlanRow) error {
	_, err := tx.SharePlan(ctx, plan.ID)
	if store.None(err) {
		err = NotFound("plan", plan.Name)
	}
	return err
}

// LockResellerForKeyShare sees to it that the reseller found before is there until the transaction ends. Nil is the operator.
func LockResellerForKeyShare(ctx context.Context, tx store.Tx, owner *int64) error {
	if owner == nil {
		return nil
	}
	_, err := tx.KeepReseller(ctx, *owner)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return err
}

// LockAccountsOn locks the resellers of all accounts on a plan, and then the accounts, in the
// order of their numbers, so that nobody waits in a circle.
func (s *Base) LockAccountsOn(ctx context.Context, tx store.Tx, plan int64) ([]db.Account, error) {
	rows, err := tx.AccountsOnPlan(ctx, plan)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
	}
	return LockAccounts(ctx, tx, ids)
}

// LockAccounts locks accounts and before them their resellers.
func LockAccounts(ctx context.Context, tx store.Tx, ids []int64) ([]db.Account, error) {
	resellers, err := tx.ResellersOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	if err := tx.LockResellers(ctx, resellers); err != nil {
		return nil, err
	}
	return tx.LockAccounts(ctx, ids)
}

func (s *Base) LockReseller(ctx context.Context, tx store.Tx, a Actor, name string) (db.Reseller, error) {
	row, err := s.FindReseller(ctx, tx.Queries, a, name)
	if err != nil {
		return row, err
	}
	return LockResellerByID(ctx, tx, row.ID)
}

func LockResellerByID(ctx context.Context, tx store.Tx, reseller int64) (db.Reseller, error) {
	row, err := tx.LockReseller(ctx, reseller)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return row, err
}

func LockServer(ctx context.Context, tx store.Tx, label string) (db.Server, error) {
	row, err := tx.ServerByLabel(ctx, label)
	if store.None(err) {
		return row, NotFound("server", label)
	}
	if err != nil {
		return row, err
	}
	return tx.LockServer(ctx, row.ID)
}
