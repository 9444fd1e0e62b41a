package selling

import (
	"context"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// GiveAccount gives an account to another customer of the same seller. Nothing of what it holds
// changes. What was recorded before stays with the customer before.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: the account, the customer (shared).
func (s *Service) GiveAccount(ctx context.Context, a usecase.Actor, reference string, in api.NewOwner) (struct{},
	error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (struct{}, error) {
		none := struct{}{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		before, err := tx.AccountRow(ctx, number)
		if err != nil {
			return none, err
		}
		found, err := usecase.FindCustomer(ctx, tx.Queries, a, in.Customer, before.ResellerID)
		if err != nil {
			return none, err
		}
		customer, err := usecase.LockCustomerForKeyShare(ctx, tx, found)
		if err != nil {
			return none, err
		}
		account, err := usecase.LockAccount(ctx, tx, number)
		if err != nil {
			return none, err
		}
		switch {
		case account.State == "closed" || account.State == "closing":
			return none, refusal.New(refusal.WrongState, "%s is %s", before.MainDomain, usecase.Word(account.State))
		case customer.ID == account.CustomerID:
			return none, refusal.New(refusal.WrongState, "%s is %s’s already", before.MainDomain, customer.Name)
		case usecase.OrZero(customer.ResellerID) != usecase.OrZero(account.ResellerID):
			return none, refusal.New(refusal.InvalidInput, "%s is not a customer of whoever sells %s; choose one of "+
				"theirs, as plan and share are theirs, too", customer.Name, before.MainDomain).On("customer")
		}
		if err := tx.SetCustomerOfAccount(ctx, db.SetCustomerOfAccountParams{ID: account.ID,
			CustomerID: customer.ID}); err != nil {
			return none, err
		}
		a.Summarize("give %s from %s to %s", before.MainDomain, before.Customer, customer.Name)
		former, err := tx.CustomerByID(ctx, account.CustomerID)
		if err != nil {
			return none, err
		}
		if former.Language != customer.Language {
			if _, err := s.rollout.ApplyAccounts(ctx, tx, a, "account.give", usecase.AboutAccount(account),
				[]int64{account.ID}); err != nil {
				return none, err
			}
		}
		a.Note("its passwords and keys for files stay: change them if %s should not get in any more", before.Customer)
		names := func(name string) map[string]string { return map[string]string{"customer": name} }
		return none, usecase.Record(ctx, tx, a, "account.give", usecase.AboutAccount(account), names(before.Customer),
			names(customer.Name))
	})
}
