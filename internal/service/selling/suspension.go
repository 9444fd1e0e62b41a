package selling

import (
	"context"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// SuspendReseller keeps a reseller from signing in; their accounts stay
// as they are, or are suspended with them.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: accounts, the reseller.
func (s *Service) SuspendReseller(ctx context.Context, a usecase.Actor, name string,
	in api.SuspendReseller) (api.ResellerSuspended, error) {
	why := strings.TrimSpace(in.Why)
	if why == "" {
		return api.ResellerSuspended{}, refusal.Input("why", "say why; they are told when they try to sign in")
	}
	return s.setResellerSuspended(ctx, a, name, "reseller.suspend",
		func(row db.Reseller) (db.SuspendResellerParams, error) {
			if row.SuspendedAt != nil {
				return db.SuspendResellerParams{}, refusal.New(refusal.WrongState, "%s is suspended already", name)
			}
			if in.Accounts == "suspend" {
				a.Summarize("suspend reseller %s, and all their accounts: visitors see a notice", name)
			} else {
				a.Summarize("suspend reseller %s; their accounts stay as they are", name)
			}
			return db.SuspendResellerParams{ID: row.ID, By: &a.Name, Why: &why, WithAccounts: in.Accounts == "suspend"},
				nil
		})
}

// ResumeReseller lets a reseller, and accounts that were suspended with them, go on.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: accounts, the reseller.
func (s *Service) ResumeReseller(ctx context.Context, a usecase.Actor, name string) (api.ResellerSuspended, error) {
	return s.setResellerSuspended(ctx, a, name, "reseller.resume",
		func(row db.Reseller) (db.SuspendResellerParams, error) {
			if row.SuspendedAt == nil {
				return db.SuspendResellerParams{}, refusal.New(refusal.WrongState, "%s is not suspended", name)
			}
			a.Summarize("resume reseller %s", name)
			return db.SuspendResellerParams{ID: row.ID}, nil
		})
}

func (s *Service) setResellerSuspended(ctx context.Context, a usecase.Actor, name, kind string,
	fn func(db.Reseller) (db.SuspendResellerParams, error)) (api.ResellerSuspended, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.ResellerSuspended, error) {
		none := api.ResellerSuspended{}
		row, err := usecase.LockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		p, err := fn(row)
		if err != nil {
			return none, err
		}
		after, err := tx.SuspendReseller(ctx, p)
		if err != nil {
			return none, err
		}
		if err := usecase.Record(ctx, tx, a, kind, usecase.AboutReseller(row), suspensionRecord(row),
			suspensionRecord(after)); err != nil {
			return none, err
		}
		out := api.ResellerSuspended{}
		if row.SuspendedAccounts || after.SuspendedAccounts {
			accounts, err := tx.AccountsOfReseller(ctx, &row.ID)
			if err != nil {
				return none, err
			}
			var ids []int64
			for _, account := range accounts {
				ids = append(ids, account.ID)
			}
			if _, err := usecase.LockAccountRows(ctx, tx, ids); err != nil {
				return none, err
			}
			out.Accounts = int64(len(ids))
			if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutReseller(row),
				ids); err != nil {
				return none, err
			}
		}
		out.Reseller, err = s.resellerIn(ctx, tx.Queries, a, name)
		return out, err
	})
}

func suspensionRecord(row db.Reseller) any {
	if row.SuspendedAt == nil {
		return nil
	}
	return map[string]any{"why": *row.SuspendedWhy, "with_accounts": row.SuspendedAccounts}
}

// SuspendAccount switches an account off for visitors until it is resumed; everything it has stays.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
// Locks: the account.
func (s *Service) SuspendAccount(ctx context.Context, a usecase.Actor, reference, why string) (api.Started, error) {
	why = strings.TrimSpace(why)
	if why == "" {
		return api.Started{}, refusal.Input("why", "say why; the customer and whoever looks at the account later "+
			"need to know")
	}
	role := string(a.Role)
	return s.rollout.ChangeAccount(ctx, a, reference, "account.suspend",
		func(tx store.Tx, account db.Account) (db.Account, error) {
			if account.State != "active" || account.SuspendedAt != nil {
				state := account.State
				if account.SuspendedAt != nil {
					state = "suspended already"
				}
				return account, refusal.New(refusal.WrongState, "%s is %s; only an active account can be suspended",
					account.SignInName, usecase.Word(string(state)))
			}
			a.Summarize("suspend account %s: visitors see a notice, everything stays", account.SignInName)
			if err := tx.SuspendAccount(ctx, db.SuspendAccountParams{ID: account.ID, By: &a.Name, Role: &role,
				Why: &why}); err != nil {
				return account, err
			}
			if err := usecase.Record(ctx, tx, a, "account.suspend", usecase.AboutAccount(account), nil,
				map[string]string{"why": why}); err != nil {
				return account, err
			}
			return tx.SetAccountState(ctx, db.SetAccountStateParams{ID: account.ID, State: account.State})
		})
}

// ResumeAccount brings back exactly what was before the suspension.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, WrongState.
// Locks: the account.
func (s *Service) ResumeAccount(ctx context.Context, a usecase.Actor, reference string) (api.Started, error) {
	return s.rollout.ChangeAccount(ctx, a, reference, "account.resume",
		func(tx store.Tx, account db.Account) (db.Account, error) {
			if account.SuspendedAt == nil {
				row, err := tx.AccountRow(ctx, account.ID)
				if err != nil {
					return account, err
				}
				if row.Suspended {
					return account,
						refusal.New(refusal.WrongState, "%s is suspended with its reseller, %s; resume the "+
							"reseller", account.SignInName, row.Reseller)
				}
				return account, refusal.New(refusal.WrongState, "%s is not suspended", account.SignInName)
			}
			if !a.MayLift(rights.Role(*account.SuspendedRole)) {
				return account,
					refusal.New(refusal.NotAllowed, "%s was suspended by an operator (%s); an operator has "+
						"to resume it", account.SignInName, *account.SuspendedWhy)
			}
			a.Summarize("resume account %s", account.SignInName)
			if err := usecase.Record(ctx, tx, a, "account.resume", usecase.AboutAccount(account),
				map[string]string{"why": *account.SuspendedWhy}, nil); err != nil {
				return account, err
			}
			if err := tx.SuspendAccount(ctx, db.SuspendAccountParams{ID: account.ID}); err != nil {
				return account, err
			}
			return tx.SetAccountState(ctx, db.SetAccountStateParams{ID: account.ID, State: account.State})
		})
}
