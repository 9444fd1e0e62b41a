package selling

import (
	"context"
	"fmt"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// changeTerms changes what an account may use: locks it, lets fn write, looks at what comes of it,
// and tells its server where that has to know.
func (s *Service) changeTerms(ctx context.Context, a usecase.Actor, reference, kind string,
	fn func(tx store.Tx, st entitlement.Entitlement) error) (api.TermsChanged, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.TermsChanged, error) {
		none := api.TermsChanged{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		before, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
		if err != nil {
			return none, err
		}
		if err := fn(tx, before); err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		after, err := entitlement.Load(ctx, s.Base, tx.Queries, account)
		if err != nil {
			return none, err
		}
		if err := entitlement.AdmitAllotted(ctx, s.Base, tx.Queries, &before, after); err != nil {
			return none, err
		}
		out := api.TermsChanged{Effect: entitlement.Effect(a, before, after)}
		if a.Preview != nil {
			a.Preview.Effects = []api.Effect{out.Effect}
		}
		var changed []int64
		if entitlement.ChangesServer(before, after) {
			changed = []int64{number}
		}
		out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(account), changed)
		return out, err
	})
}

// SetException sets a limit or a feature of one account by hand.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) SetException(ctx context.Context, a usecase.Actor, reference string,
	in api.NewException) (api.TermsChanged, error) {
	e := plans.Exception{Limit: plans.Key(in.Limit), Feature: plans.Feature(in.Feature), Author: a.Name,
		Reason: strings.TrimSpace(in.Reason), EndsAt: in.EndsAt}
	switch {
	case (in.Limit == "") == (in.Feature == ""):
		return api.TermsChanged{}, refusal.Input("limit", "name either a limit or a feature")
	case in.Limit != "" && !in.Amount.Given:
		return api.TermsChanged{}, refusal.Input("amount", "how much of %s? give a number, or null for unlimited",
			in.Limit)
	case in.Feature != "" && in.On == nil:
		return api.TermsChanged{}, refusal.Input("on", "say whether %s is on or off", in.Feature)
	case e.Reason == "":
		return api.TermsChanged{}, refusal.Input("reason", "say why; whoever looks at the account later needs to know")
	}
	p := db.AddExceptionParams{Reason: e.Reason, Author: a.Name, EndsAt: in.EndsAt}
	if in.Limit != "" {
		e.Amount = in.Amount.Amount
		p.LimitKey, p.Amount = &in.Limit, entitlement.ColumnOf(e.Amount)
	} else {
		e.On = *in.On
		p.Feature, p.SwitchedOn = &in.Feature, in.On
	}
	if err := plans.CheckException(e, s.Now()); err != nil {
		return api.TermsChanged{}, err
	}
	return s.changeTerms(ctx, a, reference, "exception.set", func(tx store.Tx, st entitlement.Entitlement) error {
		if st.Headroom != nil && e.Feature != "" && e.On && !st.Headroom.Share.Features[e.Feature] {
			return refusal.New(refusal.LimitReached, "%s is not in the share of %s", e.Feature.Title(),
				st.Headroom.Share.Reseller).Help(refusal.Remedy{By: refusal.Operator, Do: language.New("put it there"),
				Command: fmt.Sprintf("reseller change %s --features %s=on", st.Headroom.Share.Reseller, e.Feature)}).
				On("feature")
		}
		var before any
		old, err := tx.RemoveException(ctx, db.RemoveExceptionParams{Account: st.Account.ID, LimitKey: p.LimitKey,
			Feature: p.Feature})
		if err == nil {
			before = exceptionRecord(entitlement.ExceptionOf(old))
		} else if !store.None(err) {
			return err
		}
		p.AccountID = st.Account.ID
		if _, err := tx.AddException(ctx, p); err != nil {
			return err
		}
		a.Summarize("set an exception on %s", st.Account.SignInName)
		return usecase.Record(ctx, tx, a, "exception.set", usecase.AboutAccount(st.Account), before, exceptionRecord(e))
	})
}

// exceptionRecord is an exception as events hold it.
func exceptionRecord(e plans.Exception) map[string]any {
	r := map[string]any{"reason": e.Reason, "author": e.Author}
	if e.Feature != "" {
		r["features"] = plans.Features{e.Feature: e.On}
	} else {
		r["limits"] = plans.Limits{e.Limit: e.Amount}
	}
	if e.EndsAt != nil {
		r["ends_at"] = e.EndsAt.UTC()
	}
	return r
}

// RemoveException takes an exception away: the value of the plan
// returns. What is "limits" or "features".
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveException(ctx context.Context, a usecase.Actor, reference, what, key string) (api.TermsChanged,
	error) {
	return s.changeTerms(ctx, a, reference, "exception.remove", func(tx store.Tx, st entitlement.Entitlement) error {
		for _, e := range st.Exceptions {
			if what == "limits" && string(e.Limit) == key || what == "features" && string(e.Feature) == key {
				a.Summarize("remove the exception for %s from %s", key, st.Account.SignInName)
				return s.removeException(ctx, tx, a, st.Account, e)
			}
		}
		return usecase.NotFound("exception", key)
	})
}

func (s *Service) removeException(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account,
	e plans.Exception) error {
	p := db.RemoveExceptionParams{Account: account.ID}
	if e.Feature != "" {
		feature := string(e.Feature)
		p.Feature = &feature
	} else {
		key := string(e.Limit)
		p.LimitKey = &key
	}
	if _, err := tx.RemoveException(ctx, p); err != nil {
		return err
	}
	return usecase.Record(ctx, tx, a, "exception.remove", usecase.AboutAccount(account), exceptionRecord(e), nil)
}

// Exceptions returns what is set by hand on an account.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Exceptions(ctx context.Context, a usecase.Actor, reference string) (api.ExceptionList, error) {
	list := api.ExceptionList{Exceptions: []api.Exception{}}
	id, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return list, err
	}
	rows, err := s.Store.ExceptionsOf(ctx, []int64{id})
	for _, row := range rows {
		list.Exceptions = append(list.Exceptions, ExceptionView(entitlement.ExceptionOf(row)))
	}
	return list, err
}

// ExceptionView shows an exception.
func ExceptionView(e plans.Exception) api.Exception {
	v := api.Exception{Limit: string(e.Limit), Feature: string(e.Feature), On: e.On, Reason: e.Reason, Author: e.Author,
		SetAt: e.At, EndsAt: e.EndsAt}
	if e.Limit != "" {
		v.Amount = entitlement.ColumnOf(e.Amount)
	}
	return v
}

// EndExceptions removes exceptions that have ended, writes that down, and tells the servers.
//
// Refusals: ApplyFailed, InvalidInput, ServerUnreachable.
// Locks: the account.
func (s *Service) EndExceptions(ctx context.Context) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		ended, err := tx.EndedExceptions(ctx)
		if err != nil || len(ended) == 0 {
			return err
		}
		for _, row := range ended {
			account, err := usecase.LockAccount(ctx, tx, row.AccountID)
			if err != nil {
				return err
			}
			if err := usecase.Record(ctx, tx, usecase.System(), "exception.end", usecase.AboutAccount(account),
				exceptionRecord(entitlement.ExceptionOf(row)), nil); err != nil {
				return err
			}
			if _, err := s.rollout.ApplyAccounts(ctx, tx, usecase.System(), "exception.end",
				usecase.AboutAccount(account), []int64{account.ID}); err != nil {
				return err
			}
		}
		return nil
	})
}

// FreezeTerms holds an account on its present limits and features, or
// lets it go back to its plan's.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) FreezeTerms(ctx context.Context, a usecase.Actor, reference string, held bool) (api.TermsChanged,
	error) {
	return s.changeTerms(ctx, a, reference, "account.freeze", func(tx store.Tx, st entitlement.Entitlement) error {
		if held == (st.Account.FrozenTerms != nil) {
			return nil
		}
		if held {
			row, err := tx.PlanByID(ctx, st.Account.PlanID)
			if err != nil {
				return err
			}
			a.Summarize("freeze the present limits of %s", st.Account.SignInName)
			return freeze(ctx, tx, a, st.Account, entitlement.PlanRef(row.Reseller, row.Name), st.Terms.Limits,
				st.Terms.Features)
		}
		a.Summarize("have %s follow its plan again", st.Account.SignInName)
		if err := tx.SetFrozenTerms(ctx, db.SetFrozenTermsParams{ID: st.Account.ID}); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "account.freeze", usecase.AboutAccount(st.Account),
			map[string]string{"held_on": st.Terms.Source.String()}, nil)
	})
}
