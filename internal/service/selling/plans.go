package selling

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/domains"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

func planNameTaken(name string) error {
	return refusal.New(refusal.NameTaken, "there is a plan %q already; choose another name", name).On("name")
}

func noteWarnings(a usecase.Actor, plan plans.Plan) {
	for _, w := range plan.Warnings() {
		a.Note("%s: %s", strings.TrimPrefix(strings.TrimPrefix(w.Name, "limits."), "features."), w.Text())
	}
}

// AddPlan adds a plan, made from nothing or like another.
//
// Refusals: InvalidInput, LimitReached, NameTaken, NotAllowed, NotFound.
// Locks: the reseller, the template (shared).
func (s *Service) AddPlan(ctx context.Context, a usecase.Actor, in api.NewPlan) (api.Plan, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Plan, error) {
		none := api.Plan{}
		reseller, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
		if err != nil {
			return none, err
		}
		var plan plans.Plan
		if in.Like == "" {
			if in.Limits, err = withinShare(ctx, tx, owner, in.Limits); err != nil {
				return none, err
			}
			plan, err = plans.NewPlan(in.Name, in.Limits, in.Features)
		} else {
			var row db.FindPlanRow
			row, err = usecase.FindPlan(ctx, tx.Queries, a, in.Like)
			if r := refusal.As(err); r != nil {
				return none, r.On("like")
			}
			if err != nil {
				return none, err
			}
			if in.Template == "" {
				if in.Template, err = domains.TemplateOfPlan(ctx, tx.Queries, a, row.ID); err != nil {
					return none, err
				}
			}
			if plan, err = entitlement.LoadPlan(ctx, tx.Queries, row.ID, row.Name); err == nil {
				plan, err = plan.With(in.Name, in.Limits, in.Features)
			}
		}
		if err != nil {
			return none, err
		}
		if owner != nil {
			if err := checkPlanOf(ctx, tx, *owner, plan); err != nil {
				return none, err
			}
		}
		row, err := tx.AddPlan(ctx, db.AddPlanParams{ResellerID: owner, Name: plan.Name})
		if store.ViolatedConstraint(err) == "plans_name" {
			return none, planNameTaken(plan.Name)
		}
		if err != nil {
			return none, err
		}
		if err := entitlement.SavePlan(ctx, tx, row.ID, plan); err != nil {
			return none, err
		}
		if err := s.domains.SetPlanTemplate(ctx, tx, a, row, in.Template); err != nil {
			return none, err
		}
		template, err := domains.TemplateOfPlan(ctx, tx.Queries, a, row.ID)
		if err != nil {
			return none, err
		}
		ref := entitlement.PlanRef(reseller.Name, plan.Name)
		a.Summarize("add plan %s", ref)
		noteWarnings(a, plan)
		return entitlement.PlanView(a, plan, reseller.Name, template, 0, row.Version),
			usecase.Record(ctx, tx, a, "plan.add", usecase.About("plan %s", ref).Of(owner), nil,
				entitlement.PlanRecordOf(plan, template))
	})
}

// checkPlanOf refuses a reseller's plan that gives more than their share.
// withinShare gives what is unlimited where nothing is said no more than a reseller's share has.
func withinShare(ctx context.Context, tx store.Tx, reseller *int64, limits plans.Limits) (plans.Limits, error) {
	if reseller == nil {
		return limits, nil
	}
	share, err := entitlement.LoadShare(ctx, tx.Queries, *reseller)
	if err != nil {
		return nil, err
	}
	whole := maps.Clone(limits)
	if whole == nil {
		whole = plans.Limits{}
	}
	for _, info := range plans.AllLimits {
		if _, given := whole[info.Key]; info.Free && !given {
			whole[info.Key] = share.Limits[info.Key]
		}
	}
	return whole, nil
}

func checkPlanOf(ctx context.Context, tx store.Tx, reseller int64, plan plans.Plan) error {
	if _, err := usecase.LockResellerByID(ctx, tx, reseller); err != nil {
		return err
	}
	share, err := entitlement.LoadShare(ctx, tx.Queries, reseller)
	if err != nil {
		return err
	}
	return share.CheckPlan(plan)
}

// Plan returns one plan.
//
// Refusals: NotFound.
func (s *Service) Plan(ctx context.Context, a usecase.Actor, reference string) (api.Plan, error) {
	row, err := usecase.FindPlan(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return api.Plan{}, err
	}
	plan, err := entitlement.LoadPlan(ctx, s.Store.Queries, row.ID, row.Name)
	if err != nil {
		return api.Plan{}, err
	}
	template, err := domains.TemplateOfPlan(ctx, s.Store.Queries, a, row.ID)
	if err != nil {
		return api.Plan{}, err
	}
	accounts, err := s.Store.AccountsOnPlan(ctx, row.ID)
	return entitlement.PlanView(a, plan, row.Reseller, template, int64(len(accounts)), row.Version), err
}

// PlanFilter narrows a list of plans.
type PlanFilter struct {
	// Search is part of a name, or of RESELLER.NAME.
	Search string
	// Reseller lists one reseller's plans only; Own, for operators, those of no reseller. Both
	// together list those that an account of the reseller's customers can be on.
	Reseller string
	Own      bool
}

// Plans returns a page of plans: the operator's first, each reseller's
// after them, in the order of their names.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Plans(ctx context.Context, a usecase.Actor, f PlanFilter, next string, most int) (api.PlanPage,
	error) {
	page := api.PlanPage{Plans: []api.Plan{}}
	p := db.PlansParams{Scope: a.ResellerID, Own: f.Own && a.Role == rights.Operator,
		Search: usecase.EscapeLike(strings.TrimSpace(f.Search)), Most: int32(most + 1)}
	if f.Reseller != "" {
		reseller, err := usecase.FindReseller(ctx, s.Store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Scope = reseller.ID
	}
	if err := usecase.ReadCursor(next, &p.AfterReseller, &p.AfterName); err != nil {
		return page, err
	}
	rows, err := s.Store.Fresh().Plans(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].Reseller, rows[most-1].Name)
	}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
	}
	templates, err := domains.TemplatesOfPlans(ctx, s.Store.Queries, a, ids)
	if err != nil {
		return page, err
	}
	loaded, err := entitlement.LoadPlans(ctx, s.Store.Queries, ids)
	for _, row := range rows {
		plan := loaded[row.ID]
		plan.Name = row.Name
		page.Plans = append(page.Plans, entitlement.PlanView(a, plan, row.Reseller, templates[row.ID], row.Accounts,
			row.Version))
	}
	return page, err
}

// mostCompared is how many plans stand side by side and can still be read.
const mostCompared = 6

// ComparePlans lays plans side by side.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) ComparePlans(ctx context.Context, a usecase.Actor, references []string) (api.PlanComparison, error) {
	out := api.PlanComparison{Plans: []string{}, Rows: []api.ComparisonRow{}}
	if len(references) < 2 || len(references) > mostCompared {
		return out, refusal.Input("plan", "2 to %d plans can be compared, not %d", mostCompared, len(references))
	}
	var list []plans.Plan
	for _, reference := range references {
		row, err := usecase.FindPlan(ctx, s.Store.Queries, a, reference)
		if err != nil {
			return out, err
		}
		plan, err := entitlement.LoadPlan(ctx, s.Store.Queries, row.ID, row.Name)
		if err != nil {
			return out, err
		}
		list = append(list, plan)
		out.Plans = append(out.Plans, entitlement.PlanRefFor(a, row.Reseller, row.Name))
	}
	for _, row := range plans.Compare(list) {
		view := api.ComparisonRow{Feature: string(row.Feature),
			Title: a.Say("feature %s", language.Plain(row.Feature.Title())), On: row.On,
			Differs: row.Differs}
		if row.Limit != nil {
			view.Limit, view.Title, view.Unit = string(row.Limit.Key), row.Limit.Text().In(a.Language),
				string(row.Limit.Unit)
			for _, a := range row.Amounts {
				view.Amounts = append(view.Amounts, entitlement.ColumnOf(a))
			}
		}
		out.Rows = append(out.Rows, view)
	}
	return out, nil
}

// ChangePlan changes a plan and with it every account that is on it, but for those that are
// held. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NameTaken, NotAllowed, NotFound,
// ServerUnreachable.
// Locks: accounts, the plan, the reseller, the template (shared).
func (s *Service) ChangePlan(ctx context.Context, a usecase.Actor, reference string, version int64,
	in api.PlanChange) (api.PlanChanged, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.PlanChanged, error) {
		none := api.PlanChanged{}
		found, err := usecase.FindPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		row, err := usecase.LockPlan(ctx, tx, found.ID)
		if store.None(err) {
			err = usecase.NotFound("plan", reference)
		}
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("plan "+reference, version, row.Version); err != nil {
			return none, err
		}
		accounts, err := usecase.LockAccountsOn(ctx, tx, found.ID)
		if err != nil {
			return none, err
		}
		old, err := entitlement.LoadPlan(ctx, tx.Queries, row.ID, row.Name)
		if err != nil {
			return none, err
		}
		plan, err := old.With(in.Name, in.Limits, in.Features)
		if err != nil {
			return none, err
		}
		if row.ResellerID != nil {
			if err := checkPlanOf(ctx, tx, *row.ResellerID, plan); err != nil {
				return none, err
			}
		}
		before, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		sums, err := entitlement.AllottedOf(ctx, s.Base, tx, accounts)
		if err != nil {
			return none, err
		}
		row, err = tx.RenamePlan(ctx, db.RenamePlanParams{ID: row.ID, Name: plan.Name})
		if store.ViolatedConstraint(err) == "plans_name" {
			return none, planNameTaken(plan.Name)
		}
		if err != nil {
			return none, err
		}
		if err := entitlement.SavePlan(ctx, tx, row.ID, plan); err != nil {
			return none, err
		}
		templateWas, err := domains.TemplateOfPlan(ctx, tx.Queries, a, row.ID)
		if err != nil {
			return none, err
		}
		template := templateWas
		if in.Template != nil {
			if err := s.domains.SetPlanTemplate(ctx, tx, a, row, *in.Template); err != nil {
				return none, err
			}
			if template, err = domains.TemplateOfPlan(ctx, tx.Queries, a, row.ID); err != nil {
				return none, err
			}
		}
		was, is := entitlement.PlanRef(found.Reseller, old.Name), entitlement.PlanRef(found.Reseller, plan.Name)
		after, held, err := s.freezeSome(ctx, tx, a, in.Freeze, was, old, accounts, before)
		if err != nil {
			return none, err
		}
		if err := entitlement.AdmitAllottedOf(ctx, s.Base, tx, sums); err != nil {
			return none, err
		}
		out := api.PlanChanged{Plan: entitlement.PlanView(a, plan, found.Reseller, template, int64(len(accounts)),
			row.Version), Frozen: held}
		var changed []int64
		over := 0
		for i := range after {
			e := entitlement.Effect(a, before[i], after[i])
			e.Unchanged = keptByAccount(after[i])
			if len(e.Gains)+len(e.Losses) > 0 {
				out.Accounts++
			}
			if len(e.Over) > 0 {
				over++
			}
			if a.Preview != nil && len(a.Preview.Effects) < usecase.MaxEffects &&
				(len(e.Gains)+len(e.Losses) > 0 || e.Unchanged != "") {
				a.Preview.Effects = append(a.Preview.Effects, e)
			}
			if entitlement.ChangesServer(before[i], after[i]) {
				changed = append(changed, accounts[i].ID)
			}
		}
		a.Summarize("change plan %s, and with it %d of %d accounts; %d would be over a limit", was, out.Accounts,
			len(accounts), over)
		noteWarnings(a, plan)
		if out.Operation,
			err = s.rollout.ApplyAccounts(ctx, tx, a, "plan.change", usecase.About("plan %s", is).Of(row.ResellerID),
			changed); err != nil {
			return none, err
		}
		return out, usecase.Record(ctx, tx, a, "plan.change", usecase.About("plan %s", is).Of(row.ResellerID),
			entitlement.PlanRecordOf(old, templateWas), entitlement.PlanRecordOf(plan, template))
	})
}

// keptByAccount says why a change of the plan does not reach an account, or not all of it.
func keptByAccount(st entitlement.Entitlement) string {
	var reasons []string
	if st.Account.FrozenTerms != nil {
		reasons = append(reasons, "its limits are frozen")
	}
	var own []string
	for _, e := range st.Exceptions {
		if e.Feature != "" {
			own = append(own, string(e.Feature))
		} else {
			own = append(own, string(e.Limit))
		}
	}
	if len(own) > 0 {
		slices.Sort(own)
		reasons = append(reasons, "exceptions stay: "+strings.Join(own, ", "))
	}
	return strings.Join(reasons, "; ")
}

// freezeSome holds accounts on the limits of the plan as it was, as the change of the plan asks,
// and returns how all stand afterwards.
func (s *Service) freezeSome(ctx context.Context, tx store.Tx, a usecase.Actor, which, plan string, old plans.Plan,
	accounts []db.Account, before []entitlement.Entitlement) (after []entitlement.Entitlement, count int64, err error) {
	after, err = entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
	if err != nil || which == "" || which == "none" {
		return after, 0, err
	}
	for i := range accounts {
		over := len(after[i].Allowance().Over(after[i].Used)) > len(before[i].Allowance().Over(before[i].Used))
		if accounts[i].FrozenTerms != nil || which == "over" && !over {
			continue
		}
		if err := freeze(ctx, tx, a, accounts[i], plan, old.Limits, old.Features); err != nil {
			return nil, 0, err
		}
		count++
		if accounts[i], err = tx.Account(ctx, accounts[i].ID); err != nil {
			return nil, 0, err
		}
	}
	after, err = entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
	return after, count, err
}

// freeze holds an account on limits and features, those of a plan at a time.
func freeze(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account, plan string, limits plans.Limits,
	features plans.Features) error {
	text, err := json.Marshal(entitlement.FrozenTerms{Plan: plan, Limits: limits, Features: features})
	if err != nil {
		return err
	}
	if err := tx.SetFrozenTerms(ctx, db.SetFrozenTermsParams{ID: account.ID, FrozenTerms: text}); err != nil {
		return err
	}
	return usecase.Record(ctx, tx, a, "account.freeze", usecase.AboutAccount(account), nil,
		map[string]string{"held_on": "plan " + plan})
}

// RemovePlan removes a plan that no account is on.
//
// Refusals: InUse, InvalidInput, NotFound.
// Locks: the plan.
func (s *Service) RemovePlan(ctx context.Context, a usecase.Actor, reference string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		found, err := usecase.FindPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return err
		}
		if _, err := usecase.LockPlan(ctx, tx, found.ID); store.None(err) {
			return usecase.NotFound("plan", reference)
		} else if err != nil {
			return err
		}
		accounts, err := tx.AccountsOnPlan(ctx, found.ID)
		if err != nil {
			return err
		}
		if len(accounts) > 0 {
			if len(accounts) == 1 {
				return refusal.New(refusal.InUse, "1 account is on plan %s: %s; put it on another plan first",
					reference, usecase.ListSome(accounts))
			}
			return refusal.New(refusal.InUse, "%d accounts are on plan %s: %s; put them on another plan first",
				len(accounts), reference, usecase.ListSome(accounts))
		}
		plan, err := entitlement.LoadPlan(ctx, tx.Queries, found.ID, found.Name)
		if err != nil {
			return err
		}
		if err := tx.RemovePlan(ctx, found.ID); err != nil {
			return err
		}
		ref := entitlement.PlanRef(found.Reseller, found.Name)
		a.Summarize("remove plan %s", ref)
		return usecase.Record(ctx, tx, a, "plan.remove", usecase.About("plan %s", ref).Of(found.ResellerID),
			entitlement.PlanRecordOf(plan, ""), nil)
	})
}
