package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// mayChange refuses changes to an account that is on its way out, or suspended while somebody who cannot
// lift that wants to change it.
func mayChange(a Actor, account db.AccountRow) error {
	switch {
	case account.State == "closing" || account.State == "closed":
		return refusal.New(refusal.WrongState, "%s is %s; nothing about it can be changed", account.SignInName, account.State)
	case account.Suspended && a.Role == rights.Customer:
		return refusal.New(refusal.Suspended, "%s is suspended (%s); nothing about it can be changed until it is resumed", account.SignInName, account.SuspendedWhy)
	}
	return nil
}

// lockToChange locks an account, and refuses if the actor may not change anything about it as it is.
func (s *Service) lockToChange(ctx context.Context, tx store.Tx, a Actor, number int64) (standing, error) {
	st, err := s.lockStanding(ctx, tx, number)
	if err != nil {
		return st, err
	}
	row, err := tx.AccountRow(ctx, number)
	if err != nil {
		return st, err
	}
	return st, mayChange(a, row)
}

// Shift puts accounts on another plan. Nothing is deleted by it: what is over a new limit
// cannot grow.
func (s *Service) Shift(ctx context.Context, a Actor, reference string, in api.Shift) (api.Shifted, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Shifted, error) {
		none := api.Shifted{}
		found, err := findPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		if err := sharePlan(ctx, tx, found); err != nil {
			return none, err
		}
		var ids []int64
		for i, account := range in.Accounts {
			id, err := findAccount(ctx, tx.Queries, a, account)
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
		accounts, err := lockAccounts(ctx, tx, ids)
		if err != nil {
			return none, err
		}
		before, err := s.standingsOf(ctx, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		sums, err := s.sumsOf(ctx, tx, accounts)
		if err != nil {
			return none, err
		}
		for i := range accounts {
			if err := s.shiftOne(ctx, tx, a, found, before[i], in.DropExceptions); err != nil {
				return none, err
			}
		}
		if accounts, err = tx.LockAccounts(ctx, ids); err != nil {
			return none, err
		}
		after, err := s.standingsOf(ctx, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		for i := range after {
			if room := after[i].room; room != nil {
				// No account above the share; the sums are looked at for all together.
				alone := room.Share
				alone.Measure = plans.Used
				if err := alone.AdmitGiven(nil, before[i].given(), after[i].given()); err != nil {
					return none, err
				}
			}
		}
		if err := s.admitSums(ctx, tx, sums); err != nil {
			return none, err
		}
		out := api.Shifted{Plan: planRef(a.Reseller, found.Reseller, found.Name), Effects: []api.Effect{}}
		var changed []int64
		for i := range after {
			e := effect(before[i], after[i])
			if len(after[i].exceptions) > 0 {
				e.Keeps = keeps(after[i])
			}
			out.Effects = append(out.Effects, e)
			if onServer(before[i], after[i]) {
				changed = append(changed, accounts[i].ID)
			}
		}
		if a.Preview != nil {
			a.Preview.effects = out.Effects
		}
		a.say("put %s on plan %s", counted(len(accounts), "account"), out.Plan)
		out.Operation, err = s.applyAll(ctx, tx, a, "account.plan", about("plan %s", planRef("", found.Reseller, found.Name)).of(accounts[0].ResellerID), changed)
		return out, err
	})
}

func (s *Service) shiftOne(ctx context.Context, tx store.Tx, a Actor, plan db.FindPlanRow, st standing, dropExceptions bool) error {
	account := st.account
	row, err := tx.AccountRow(ctx, account.ID)
	if err != nil {
		return err
	}
	if err := mayChange(a, row); err != nil {
		return err
	}
	if plan.ResellerID != nil && id(plan.ResellerID) != id(account.ResellerID) {
		return refusal.New(refusal.InvalidInput, "%s is no account of %s; it cannot be put on their plan", account.SignInName, plan.Reseller).On("accounts")
	}
	if err := tx.PutOnPlan(ctx, db.PutOnPlanParams{ID: account.ID, PlanID: plan.ID}); err != nil {
		return err
	}
	before := map[string]string{"plan": planRef("", row.PlanReseller, row.Plan)}
	if account.Held != nil {
		before["held_on"] = st.terms.Source
		if err := tx.Hold(ctx, db.HoldParams{ID: account.ID}); err != nil {
			return err
		}
	}
	if dropExceptions {
		for _, e := range st.exceptions {
			if err := s.dropException(ctx, tx, a, account, e); err != nil {
				return err
			}
		}
	}
	return record(ctx, tx, a, "account.plan", aboutAccount(account), before, map[string]string{"plan": planRef("", plan.Reseller, plan.Name)})
}

// onTerms changes what an account may use: locks it, lets fn write, looks at what comes of it, and
// tells its server where that has to know.
func (s *Service) onTerms(ctx context.Context, a Actor, reference, kind string, fn func(tx store.Tx, st standing) error) (api.TermsChanged, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.TermsChanged, error) {
		none := api.TermsChanged{}
		number, err := findAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		before, err := s.lockToChange(ctx, tx, a, number)
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
		after, err := s.standingOf(ctx, tx.Queries, account)
		if err != nil {
			return none, err
		}
		if err := s.admitGiven(ctx, tx.Queries, &before, after); err != nil {
			return none, err
		}
		out := api.TermsChanged{Effect: effect(before, after)}
		if a.Preview != nil {
			a.Preview.effects = []api.Effect{out.Effect}
		}
		var changed []int64
		if onServer(before, after) {
			changed = []int64{number}
		}
		out.Operation, err = s.applyAll(ctx, tx, a, kind, aboutAccount(account), changed)
		return out, err
	})
}

// SetException sets a limit or a feature of one account by hand.
func (s *Service) SetException(ctx context.Context, a Actor, reference string, in api.NewException) (api.TermsChanged, error) {
	e := plans.Exception{Limit: plans.Key(in.Limit), Feature: plans.Feature(in.Feature), Author: a.Name, Reason: strings.TrimSpace(in.Reason), EndsAt: in.EndsAt}
	switch {
	case (in.Limit == "") == (in.Feature == ""):
		return api.TermsChanged{}, refusal.Input("limit", "name either a limit or a feature")
	case in.Limit != "" && !in.Amount.Given:
		return api.TermsChanged{}, refusal.Input("amount", "how much of %s? give a number, or null for unlimited", in.Limit)
	case in.Feature != "" && in.On == nil:
		return api.TermsChanged{}, refusal.Input("on", "say whether %s is on or off", in.Feature)
	case e.Reason == "":
		return api.TermsChanged{}, refusal.Input("reason", "say why; whoever looks at the account later needs to know")
	}
	p := db.AddExceptionParams{Reason: e.Reason, Author: a.Name, EndsAt: in.EndsAt}
	if in.Limit != "" {
		e.Amount = in.Amount.Amount
		p.LimitKey, p.Amount = &in.Limit, column(e.Amount)
	} else {
		e.On = *in.On
		p.Feature, p.SwitchedOn = &in.Feature, in.On
	}
	if err := plans.CheckException(e, s.now()); err != nil {
		return api.TermsChanged{}, err
	}
	return s.onTerms(ctx, a, reference, "exception.set", func(tx store.Tx, st standing) error {
		if st.room != nil && e.Feature != "" && e.On && !st.room.Share.Features[e.Feature] {
			return refusal.New(refusal.LimitReached, "%s is not in the share of %s; an operator can put it there", e.Feature, st.room.Share.Reseller).On("feature")
		}
		var before any
		old, err := tx.RemoveException(ctx, db.RemoveExceptionParams{Account: st.account.ID, LimitKey: p.LimitKey, Feature: p.Feature})
		if err == nil {
			before = exceptionRecord(exceptionOf(old))
		} else if !store.None(err) {
			return err
		}
		p.AccountID = st.account.ID
		if _, err := tx.AddException(ctx, p); err != nil {
			return err
		}
		a.say("set an exception on %s", st.account.SignInName)
		return record(ctx, tx, a, "exception.set", aboutAccount(st.account), before, exceptionRecord(e))
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

// RemoveException takes an exception away: the value of the plan returns. What is "limits" or "features".
func (s *Service) RemoveException(ctx context.Context, a Actor, reference, what, key string) (api.TermsChanged, error) {
	return s.onTerms(ctx, a, reference, "exception.remove", func(tx store.Tx, st standing) error {
		for _, e := range st.exceptions {
			if what == "limits" && string(e.Limit) == key || what == "features" && string(e.Feature) == key {
				a.say("remove the exception for %s from %s", key, st.account.SignInName)
				return s.dropException(ctx, tx, a, st.account, e)
			}
		}
		return notFound("exception", key)
	})
}

func (s *Service) dropException(ctx context.Context, tx store.Tx, a Actor, account db.Account, e plans.Exception) error {
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
	return record(ctx, tx, a, "exception.remove", aboutAccount(account), exceptionRecord(e), nil)
}

// Exceptions returns what is set by hand on an account.
func (s *Service) Exceptions(ctx context.Context, a Actor, reference string) (api.ExceptionList, error) {
	list := api.ExceptionList{Exceptions: []api.Exception{}}
	id, err := findAccount(ctx, s.store.Queries, a, reference)
	if err != nil {
		return list, err
	}
	rows, err := s.store.ExceptionsOf(ctx, []int64{id})
	for _, row := range rows {
		list.Exceptions = append(list.Exceptions, exceptionView(exceptionOf(row)))
	}
	return list, err
}

func exceptionView(e plans.Exception) api.Exception {
	v := api.Exception{Limit: string(e.Limit), Feature: string(e.Feature), On: e.On, Reason: e.Reason, Author: e.Author, SetAt: e.At, EndsAt: e.EndsAt}
	if e.Limit != "" {
		v.Amount = column(e.Amount)
	}
	return v
}

// EndExceptions removes exceptions that have ended, writes that down, and tells the servers.
func (s *Service) EndExceptions(ctx context.Context) error {
	return s.store.InTx(ctx, func(tx store.Tx) error {
		ended, err := tx.EndedExceptions(ctx)
		if err != nil || len(ended) == 0 {
			return err
		}
		for _, row := range ended {
			account, err := tx.LockAccount(ctx, row.AccountID)
			if err != nil {
				return err
			}
			if err := record(ctx, tx, machine(), "exception.end", aboutAccount(account), exceptionRecord(exceptionOf(row)), nil); err != nil {
				return err
			}
			if _, err := s.applyAll(ctx, tx, machine(), "exception.end", aboutAccount(account), []int64{account.ID}); err != nil {
				return err
			}
		}
		return nil
	})
}

// HoldAccount holds an account on its present limits and features, or lets it go back to its plan's.
func (s *Service) HoldAccount(ctx context.Context, a Actor, reference string, held bool) (api.TermsChanged, error) {
	return s.onTerms(ctx, a, reference, "account.hold", func(tx store.Tx, st standing) error {
		if held == (st.account.Held != nil) {
			return nil
		}
		if held {
			row, err := tx.PlanByID(ctx, st.account.PlanID)
			if err != nil {
				return err
			}
			a.say("hold %s on its present limits", st.account.SignInName)
			return hold(ctx, tx, a, st.account, planRef("", row.Reseller, row.Name), st.terms.Limits, st.terms.Features)
		}
		a.say("hold %s no longer", st.account.SignInName)
		if err := tx.Hold(ctx, db.HoldParams{ID: st.account.ID}); err != nil {
			return err
		}
		return record(ctx, tx, a, "account.hold", aboutAccount(st.account), map[string]string{"held_on": st.terms.Source}, nil)
	})
}

// SuspendAccount switches an account off for visitors until it is resumed; everything it has stays.
func (s *Service) SuspendAccount(ctx context.Context, a Actor, reference, why string) (api.Started, error) {
	why = strings.TrimSpace(why)
	if why == "" {
		return api.Started{}, refusal.Input("why", "say why; the customer and whoever looks at the account later need to know")
	}
	role := string(a.Role)
	return s.startApply(ctx, a, reference, "account.suspend", func(tx store.Tx, account db.Account) (db.Account, error) {
		if account.State != "active" || account.SuspendedAt != nil {
			state := account.State
			if account.SuspendedAt != nil {
				state = "suspended already"
			}
			return account, refusal.New(refusal.WrongState, "%s is %s; only an active account can be suspended", account.SignInName, state)
		}
		a.say("suspend account %s: visitors see a notice, everything stays", account.SignInName)
		if err := tx.SuspendAccount(ctx, db.SuspendAccountParams{ID: account.ID, By: &a.Name, Role: &role, Why: &why}); err != nil {
			return account, err
		}
		if err := record(ctx, tx, a, "account.suspend", aboutAccount(account), nil, map[string]string{"why": why}); err != nil {
			return account, err
		}
		return tx.WantAccount(ctx, db.WantAccountParams{ID: account.ID, State: account.State})
	})
}

// ResumeAccount brings back exactly what was before the suspension.
func (s *Service) ResumeAccount(ctx context.Context, a Actor, reference string) (api.Started, error) {
	return s.startApply(ctx, a, reference, "account.resume", func(tx store.Tx, account db.Account) (db.Account, error) {
		if account.SuspendedAt == nil {
			row, err := tx.AccountRow(ctx, account.ID)
			if err != nil {
				return account, err
			}
			if row.Suspended {
				return account, refusal.New(refusal.WrongState, "%s is suspended with its reseller, %s; resume the reseller", account.SignInName, row.Reseller)
			}
			return account, refusal.New(refusal.WrongState, "%s is not suspended", account.SignInName)
		}
		if !a.MayLift(rights.Role(*account.SuspendedRole)) {
			return account, refusal.New(refusal.NotAllowed, "%s was suspended by an operator (%s); an operator has to resume it", account.SignInName, *account.SuspendedWhy)
		}
		a.say("resume account %s", account.SignInName)
		if err := record(ctx, tx, a, "account.resume", aboutAccount(account), map[string]string{"why": *account.SuspendedWhy}, nil); err != nil {
			return account, err
		}
		if err := tx.SuspendAccount(ctx, db.SuspendAccountParams{ID: account.ID}); err != nil {
			return account, err
		}
		return tx.WantAccount(ctx, db.WantAccountParams{ID: account.ID, State: account.State})
	})
}

// applyAll has the servers of accounts told that what they hold has changed, and returns the
// operation by which that can be watched; 0 where no server has to know.
func (s *Service) applyAll(ctx context.Context, tx store.Tx, a Actor, kind string, of subject, accounts []int64) (int64, error) {
	if len(accounts) == 0 {
		return 0, nil
	}
	raised, err := tx.RaiseAccounts(ctx, accounts)
	if err != nil || len(raised) == 0 {
		return 0, err
	}
	if a.Preview != nil {
		return 0, s.wantAll(ctx, tx, a, accounts)
	}
	p := db.AddOperationParams{Kind: kind, Subject: of.text, CustomerID: of.customer, ResellerID: of.reseller}
	if len(raised) == 1 {
		p.AccountID, p.Revision = &raised[0].ID, &raised[0].Revision
		row, err := tx.Account(ctx, raised[0].ID)
		if err != nil {
			return 0, err
		}
		p.Subject, p.ServerID = unicode(row.MainDomain), &row.ServerID
		operation, err := addOperation(ctx, tx, a, p)
		if err != nil {
			return 0, err
		}
		return operation, s.queue.Apply(ctx, tx, raised[0].ID)
	}
	operation, err := addOperation(ctx, tx, a, p)
	if err != nil {
		return 0, err
	}
	cover := db.CoverAccountsParams{Operation: operation}
	for _, row := range raised {
		cover.Accounts, cover.Revisions = append(cover.Accounts, row.ID), append(cover.Revisions, row.Revision)
	}
	if err := tx.CoverAccounts(ctx, cover); err != nil {
		return 0, err
	}
	return operation, s.queue.Spread(ctx, tx, operation)
}

// wantAll notes for a preview what servers would be told. Of many accounts it only notes how many.
func (s *Service) wantAll(ctx context.Context, tx store.Tx, a Actor, accounts []int64) error {
	for _, number := range accounts {
		if a.Preview.Asks() > mostAsked {
			a.Preview.Ask(nil) // so many are only counted
			continue
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return err
		}
		if err := s.want(ctx, tx, a, account); err != nil {
			return err
		}
	}
	return nil
}

// want notes for a preview what an account's servers would be told.
func (s *Service) want(ctx context.Context, tx store.Tx, a Actor, account db.Account) error {
	list, err := s.buildManifests(ctx, tx.Queries, account)
	if err != nil {
		return err
	}
	a.Preview.Ask(func(ctx context.Context, out *api.Preview) error {
		for _, part := range list {
			if part.there {
				continue
			}
			if err := s.ask(ctx, part, part.server.ID == account.ServerID, out); err != nil {
				return err
			}
		}
		return nil
	})
	return nil
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
