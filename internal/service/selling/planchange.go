package selling

import (
	"context"
	"fmt"
	"slices"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// ChangeAccountPlans puts accounts on another plan. Nothing is deleted
// by it: what is over a new limit cannot grow.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: accounts, the plan (shared).
func (s *Service) ChangeAccountPlans(ctx context.Context, a usecase.Actor, reference string, in api.Shift) (api.Shifted,
	error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Shifted, error) {
		none := api.Shifted{}
		found, err := usecase.FindPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		if err := usecase.LockPlanForShare(ctx, tx, found); err != nil {
			return none, err
		}
		var ids []int64
		for i, account := range in.Accounts {
			id, err := usecase.FindAccount(ctx, tx.Queries, a, account)
			if r := refusal.As(err); r != nil {
				return none, r.On(fmt.Sprintf("accounts.%d", i))
			}
			if err != nil {
				return none, err
			}
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
		accounts, err := usecase.LockAccounts(ctx, tx, ids)
		if err != nil {
			return none, err
		}
		before, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		sums, err := entitlement.AllottedOf(ctx, s.Base, tx, accounts)
		if err != nil {
			return none, err
		}
		for i := range accounts {
			if err := s.changeAccountPlan(ctx, tx, a, found, before[i], in.DropExceptions); err != nil {
				return none, err
			}
		}
		if accounts, err = usecase.LockAccountRows(ctx, tx, ids); err != nil {
			return none, err
		}
		after, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		for i := range after {
			if room := after[i].Headroom; room != nil {
				// No account above the share; the sums are looked at for all together.
				alone := room.Share
				alone.Measure = plans.Used
				if err := alone.AdmitAllotted(nil, before[i].Allotted(), after[i].Allotted()); err != nil {
					return none, err
				}
			}
		}
		if err := entitlement.AdmitAllottedOf(ctx, s.Base, tx, sums); err != nil {
			return none, err
		}
		out := api.Shifted{Plan: entitlement.PlanRefFor(a, found.Reseller, found.Name), Effects: []api.Effect{}}
		var changed []int64
		for i := range after {
			e := entitlement.Effect(a, before[i], after[i])
			if len(after[i].Exceptions) > 0 {
				e.Unchanged = keptByAccount(after[i])
			}
			out.Effects = append(out.Effects, e)
			if entitlement.ChangesServer(before[i], after[i]) {
				changed = append(changed, accounts[i].ID)
			}
		}
		if a.Preview != nil {
			a.Preview.Effects = out.Effects
		}
		a.Summarize("put %s on plan %s", usecase.Counted(len(accounts), "account"), out.Plan)
		out.Operation,
			err = s.rollout.ApplyAccounts(ctx, tx, a, "account.plan",
			usecase.About("plan %s", entitlement.PlanRef(found.Reseller, found.Name)).Of(accounts[0].ResellerID),
			changed)
		return out, err
	})
}

func (s *Service) changeAccountPlan(ctx context.Context, tx store.Tx, a usecase.Actor, plan db.FindPlanRow,
	st entitlement.Entitlement, dropExceptions bool) error {
	account := st.Account
	row, err := tx.AccountRow(ctx, account.ID)
	if err != nil {
		return err
	}
	if err := entitlement.CheckChangeable(a, row); err != nil {
		return err
	}
	if plan.ResellerID != nil && usecase.OrZero(plan.ResellerID) != usecase.OrZero(account.ResellerID) {
		return refusal.New(refusal.InvalidInput, "%s is no account of %s; it cannot be put on their plan",
			account.SignInName, plan.Reseller).On("accounts")
	}
	if err := tx.SetPlanOfAccount(ctx, db.SetPlanOfAccountParams{ID: account.ID, PlanID: plan.ID}); err != nil {
		return err
	}
	before := map[string]string{"plan": entitlement.PlanRef(row.PlanReseller, row.Plan)}
	if account.FrozenTerms != nil {
		before["held_on"] = st.Terms.Source.String()
		if err := tx.SetFrozenTerms(ctx, db.SetFrozenTermsParams{ID: account.ID}); err != nil {
			return err
		}
	}
	if dropExceptions {
		for _, e := range st.Exceptions {
			if err := s.removeException(ctx, tx, a, account, e); err != nil {
				return err
			}
		}
	}
	return usecase.Record(ctx, tx, a, "account.plan", usecase.AboutAccount(account), before,
		map[string]string{"plan": entitlement.PlanRef(plan.Reseller, plan.Name)})
}
