package service

import (
	"context"
	"encoding/json"
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

// loadPlan reads a plan's limits and features.
func loadPlan(ctx context.Context, q *db.Queries, id int64, name string) (plans.Plan, error) {
	loaded, err := loadPlans(ctx, q, []int64{id})
	plan := loaded[id]
	plan.Name = name
	return plan, err
}

// loadPlans reads limits and features of many plans; the names are left empty.
func loadPlans(ctx context.Context, q *db.Queries, ids []int64) (map[int64]plans.Plan, error) {
	loaded := map[int64]plans.Plan{}
	for _, id := range ids {
		loaded[id] = plans.Plan{Limits: plans.Limits{}, Features: plans.Features{}}
		for _, f := range plans.AllFeatures {
			loaded[id].Features[f] = false
		}
	}
	limits, err := q.PlanLimits(ctx, ids)
	if err != nil {
		return loaded, err
	}
	for _, l := range limits {
		loaded[l.PlanID].Limits[plans.Key(l.Key)] = amount(l.Amount)
	}
	features, err := q.PlanFeatures(ctx, ids)
	for _, f := range features {
		loaded[f.PlanID].Features[plans.Feature(f.Feature)] = true
	}
	return loaded, err
}

// keepPlan writes a plan's limits and features.
func keepPlan(ctx context.Context, tx store.Tx, id int64, plan plans.Plan) error {
	keys, amounts := columns(plan.Limits)
	if err := tx.KeepPlanLimits(ctx, db.KeepPlanLimitsParams{Plan: id, Keys: keys, Amounts: amounts}); err != nil {
		return err
	}
	if err := tx.ForgetPlanFeatures(ctx, id); err != nil {
		return err
	}
	return tx.AddPlanFeatures(ctx, db.AddPlanFeaturesParams{Plan: id, Features: switchedOn(plan.Features)})
}

// findPlan finds a plan that the actor may see by how they call it.
func findPlan(ctx context.Context, q *db.Queries, a Actor, reference string) (db.FindPlanRow, error) {
	reseller, name, qualified := strings.Cut(reference, ".")
	if !qualified {
		reseller, name = a.Reseller, reference
	}
	if a.Role != rights.Operator && reseller != a.Reseller {
		return db.FindPlanRow{}, notFound("plan", reference)
	}
	row, err := q.FindPlan(ctx, db.FindPlanParams{Name: name, Reseller: reseller})
	if store.None(err) {
		return row, notFound("plan", reference)
	}
	return row, err
}

// sharePlan keeps a plan found before as it is until the transaction ends.
func sharePlan(ctx context.Context, tx store.Tx, plan db.FindPlanRow) error {
	_, err := tx.SharePlan(ctx, plan.ID)
	if store.None(err) {
		err = notFound("plan", plan.Name)
	}
	return err
}

// resellerFor returns the reseller to whom something new belongs: the actor's own, or for operators the one they name.
func resellerFor(ctx context.Context, q *db.Queries, a Actor, named string) (db.Reseller, *int64, error) {
	if a.Role != rights.Operator {
		named = a.Reseller
	}
	if named == "" {
		return db.Reseller{}, nil, nil
	}
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: named})
	if store.None(err) {
		return row, nil, noReseller(named)
	}
	return row, &row.ID, err
}

func noReseller(name string) error {
	return refusal.New(refusal.NotFound, "there is no reseller %q; see the list of resellers", name).On("reseller")
}

// keepReseller sees to it that the reseller found before is there until the transaction ends. Nil is the operator.
func keepReseller(ctx context.Context, tx store.Tx, owner *int64) error {
	if owner == nil {
		return nil
	}
	_, err := tx.KeepReseller(ctx, *owner)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return err
}

func planTaken(name string) error {
	return refusal.New(refusal.NameTaken, "there is a plan %q already; choose another name", name).On("name")
}

func planView(a Actor, plan plans.Plan, reseller, template string, accounts, version int64) api.Plan {
	out := api.Plan{Name: plan.Name, Template: template, Limits: plan.Limits, Features: plan.Features, Accounts: accounts, Warnings: plan.Warnings(), Version: version}
	if reseller != a.Reseller {
		out.Reseller = reseller
	}
	if out.Warnings == nil {
		out.Warnings = []refusal.Field{}
	}
	return out
}

// planRecord is a plan as events hold it.
type planRecord struct {
	Name     string         `json:"name"`
	Limits   plans.Limits   `json:"limits"`
	Features plans.Features `json:"features"`
	Template string         `json:"template,omitempty"`
}

func noteWarnings(a Actor, plan plans.Plan) {
	for _, w := range plan.Warnings() {
		a.note(w.Name + ": " + w.Message)
	}
}

// AddPlan adds a plan, made from nothing or like another.
func (s *Service) AddPlan(ctx context.Context, a Actor, in api.NewPlan) (api.Plan, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Plan, error) {
		none := api.Plan{}
		reseller, owner, err := resellerFor(ctx, tx.Queries, a, in.Reseller)
		if err != nil {
			return none, err
		}
		var plan plans.Plan
		if in.Like == "" {
			plan, err = plans.NewPlan(in.Name, in.Limits, in.Features)
		} else {
			var row db.FindPlanRow
			if row, err = findPlan(ctx, tx.Queries, a, in.Like); err != nil {
				return none, err
			}
			if in.Template == "" {
				if in.Template, err = templateOfPlan(ctx, tx.Queries, a, row.ID); err != nil {
					return none, err
				}
			}
			if plan, err = loadPlan(ctx, tx.Queries, row.ID, row.Name); err == nil {
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
		if store.Violated(err) == "plans_name" {
			return none, planTaken(plan.Name)
		}
		if err != nil {
			return none, err
		}
		if err := keepPlan(ctx, tx, row.ID, plan); err != nil {
			return none, err
		}
		if err := s.setPlanTemplate(ctx, tx, a, row, in.Template); err != nil {
			return none, err
		}
		template, err := templateOfPlan(ctx, tx.Queries, a, row.ID)
		if err != nil {
			return none, err
		}
		ref := planRef("", reseller.Name, plan.Name)
		a.say("add plan %s", ref)
		noteWarnings(a, plan)
		return planView(a, plan, reseller.Name, template, 0, row.Version),
			record(ctx, tx, a, "plan.add", about("plan %s", ref).of(owner), nil, planRecord{plan.Name, plan.Limits, plan.Features, template})
	})
}

// checkPlanOf refuses a reseller's plan that gives more than their share.
func checkPlanOf(ctx context.Context, tx store.Tx, reseller int64, plan plans.Plan) error {
	if _, err := lockResellerByID(ctx, tx, reseller); err != nil {
		return err
	}
	share, err := loadShare(ctx, tx.Queries, reseller)
	if err != nil {
		return err
	}
	return share.CheckPlan(plan)
}

// Plan returns one plan.
func (s *Service) Plan(ctx context.Context, a Actor, reference string) (api.Plan, error) {
	row, err := findPlan(ctx, s.store.Queries, a, reference)
	if err != nil {
		return api.Plan{}, err
	}
	plan, err := loadPlan(ctx, s.store.Queries, row.ID, row.Name)
	if err != nil {
		return api.Plan{}, err
	}
	template, err := templateOfPlan(ctx, s.store.Queries, a, row.ID)
	if err != nil {
		return api.Plan{}, err
	}
	accounts, err := s.store.AccountsOnPlan(ctx, row.ID)
	return planView(a, plan, row.Reseller, template, int64(len(accounts)), row.Version), err
}

// PlanFilter narrows a list of plans.
type PlanFilter struct {
	// Search is part of a name, or of RESELLER.NAME.
	Search string
	// Reseller lists one reseller's plans only; Own, for operators, those of no reseller. Both together list those
	// that an account of the reseller's customers can be on.
	Reseller string
	Own      bool
}

// Plans returns a page of plans: the operator's first, each reseller's after them, in the order of their names.
func (s *Service) Plans(ctx context.Context, a Actor, f PlanFilter, next string, most int) (api.PlanPage, error) {
	page := api.PlanPage{Plans: []api.Plan{}}
	p := db.PlansParams{Scope: a.ResellerID, Own: f.Own && a.Role == rights.Operator, Search: escapeLike(strings.TrimSpace(f.Search)), Most: int32(most + 1)}
	if f.Reseller != "" {
		reseller, err := s.findReseller(ctx, s.store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Scope = reseller.ID
	}
	if err := ReadCursor(next, &p.AfterReseller, &p.AfterName); err != nil {
		return page, err
	}
	rows, err := s.store.Fresh().Plans(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(rows[most-1].Reseller, rows[most-1].Name)
	}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
	}
	templates, err := templatesOfPlans(ctx, s.store.Queries, a, ids)
	if err != nil {
		return page, err
	}
	loaded, err := loadPlans(ctx, s.store.Queries, ids)
	for _, row := range rows {
		plan := loaded[row.ID]
		plan.Name = row.Name
		page.Plans = append(page.Plans, planView(a, plan, row.Reseller, templates[row.ID], row.Accounts, row.Version))
	}
	return page, err
}

// mostCompared is how many plans stand side by side and can still be read.
const mostCompared = 6

// ComparePlans lays plans side by side.
func (s *Service) ComparePlans(ctx context.Context, a Actor, references []string) (api.PlanComparison, error) {
	out := api.PlanComparison{Plans: []string{}, Rows: []api.ComparisonRow{}}
	if len(references) < 2 || len(references) > mostCompared {
		return out, refusal.Input("plan", "2 to %d plans can be compared, not %d", mostCompared, len(references))
	}
	var list []plans.Plan
	for _, reference := range references {
		row, err := findPlan(ctx, s.store.Queries, a, reference)
		if err != nil {
			return out, err
		}
		plan, err := loadPlan(ctx, s.store.Queries, row.ID, row.Name)
		if err != nil {
			return out, err
		}
		list = append(list, plan)
		out.Plans = append(out.Plans, planRef(a.Reseller, row.Reseller, row.Name))
	}
	for _, row := range plans.Compare(list) {
		view := api.ComparisonRow{Feature: string(row.Feature), What: "feature " + string(row.Feature), On: row.On, Differs: row.Differs}
		if row.Limit != nil {
			view.Limit, view.What, view.Unit = string(row.Limit.Key), row.Limit.What, string(row.Limit.Unit)
			for _, a := range row.Amounts {
				view.Amounts = append(view.Amounts, column(a))
			}
		}
		out.Rows = append(out.Rows, view)
	}
	return out, nil
}

// mostEffects is how many accounts a preview lists one by one.
const mostEffects = 500

// ChangePlan changes a plan and with it every account that is on it, but for those that are
// held. Version is the one the caller has seen, or 0.
func (s *Service) ChangePlan(ctx context.Context, a Actor, reference string, version int64, in api.PlanChange) (api.PlanChanged, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.PlanChanged, error) {
		none := api.PlanChanged{}
		found, err := findPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		row, err := tx.LockPlan(ctx, found.ID)
		if store.None(err) {
			err = notFound("plan", reference)
		}
		if err != nil {
			return none, err
		}
		accounts, err := s.lockAccountsOn(ctx, tx, found.ID)
		if err != nil {
			return none, err
		}
		if err := unchanged("plan "+reference, version, row.Version); err != nil {
			return none, err
		}
		old, err := loadPlan(ctx, tx.Queries, row.ID, row.Name)
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
		before, err := s.standingsOf(ctx, tx.Queries, accounts)
		if err != nil {
			return none, err
		}
		sums, err := s.sumsOf(ctx, tx, accounts)
		if err != nil {
			return none, err
		}
		if row, err = tx.RenamePlan(ctx, db.RenamePlanParams{ID: row.ID, Name: plan.Name}); store.Violated(err) == "plans_name" {
			return none, planTaken(plan.Name)
		} else if err != nil {
			return none, err
		}
		if err := keepPlan(ctx, tx, row.ID, plan); err != nil {
			return none, err
		}
		templateWas, err := templateOfPlan(ctx, tx.Queries, a, row.ID)
		if err != nil {
			return none, err
		}
		template := templateWas
		if in.Template != nil {
			if err := s.setPlanTemplate(ctx, tx, a, row, *in.Template); err != nil {
				return none, err
			}
			if template, err = templateOfPlan(ctx, tx.Queries, a, row.ID); err != nil {
				return none, err
			}
		}
		was, is := planRef("", found.Reseller, old.Name), planRef("", found.Reseller, plan.Name)
		after, held, err := s.holdSome(ctx, tx, a, in.Hold, was, old, accounts, before)
		if err != nil {
			return none, err
		}
		if err := s.admitSums(ctx, tx, sums); err != nil {
			return none, err
		}
		out := api.PlanChanged{Plan: planView(a, plan, found.Reseller, template, int64(len(accounts)), row.Version), Held: held}
		var changed []int64
		over := 0
		for i := range after {
			e := effect(before[i], after[i])
			e.Keeps = keeps(after[i])
			if len(e.Gains)+len(e.Losses) > 0 {
				out.Accounts++
			}
			if len(e.Over) > 0 {
				over++
			}
			if a.Preview != nil && len(a.Preview.effects) < mostEffects && (len(e.Gains)+len(e.Losses) > 0 || e.Keeps != "") {
				a.Preview.effects = append(a.Preview.effects, e)
			}
			if onServer(before[i], after[i]) {
				changed = append(changed, accounts[i].ID)
			}
		}
		a.say("change plan %s, and with it %d of %d accounts; %d would be over a limit", was, out.Accounts, len(accounts), over)
		noteWarnings(a, plan)
		if out.Operation, err = s.applyAll(ctx, tx, a, "plan.change", about("plan %s", is).of(row.ResellerID), changed); err != nil {
			return none, err
		}
		return out, record(ctx, tx, a, "plan.change", about("plan %s", is).of(row.ResellerID),
			planRecord{old.Name, old.Limits, old.Features, templateWas}, planRecord{plan.Name, plan.Limits, plan.Features, template})
	})
}

// keeps says why a change of the plan does not reach an account, or not all of it.
func keeps(st standing) string {
	var reasons []string
	if st.account.Held != nil {
		reasons = append(reasons, "held on its present limits")
	}
	var own []string
	for _, e := range st.exceptions {
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

// lockAccountsOn locks the resellers of all accounts on a plan, and then the accounts, in the
// order of their numbers, so that nobody waits in a circle.
func (s *Service) lockAccountsOn(ctx context.Context, tx store.Tx, plan int64) ([]db.Account, error) {
	rows, err := tx.AccountsOnPlan(ctx, plan)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
	}
	return lockAccounts(ctx, tx, ids)
}

// lockAccounts locks accounts and before them their resellers.
func lockAccounts(ctx context.Context, tx store.Tx, ids []int64) ([]db.Account, error) {
	resellers, err := tx.ResellersOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	if err := tx.LockResellers(ctx, resellers); err != nil {
		return nil, err
	}
	return tx.LockAccounts(ctx, ids)
}

// sum is what a reseller has given out before a change.
type sum struct {
	reseller int64
	before   plans.Limits
}

// sumsOf sums what the resellers of accounts have given out.
func (s *Service) sumsOf(ctx context.Context, tx store.Tx, accounts []db.Account) ([]sum, error) {
	var list []sum
	for _, account := range accounts {
		if account.ResellerID == nil || slices.ContainsFunc(list, func(x sum) bool { return x.reseller == *account.ResellerID }) {
			continue
		}
		given, err := s.givenBy(ctx, tx.Queries, *account.ResellerID, 0)
		if err != nil {
			return nil, err
		}
		list = append(list, sum{*account.ResellerID, given})
	}
	return list, nil
}

// admitSums refuses a change by which what a reseller has given out grows beyond the share.
func (s *Service) admitSums(ctx context.Context, tx store.Tx, sums []sum) error {
	for _, x := range sums {
		share, err := loadShare(ctx, tx.Queries, x.reseller)
		if err != nil {
			return err
		}
		after, err := s.givenBy(ctx, tx.Queries, x.reseller, 0)
		if err != nil {
			return err
		}
		if err := share.AdmitSums(x.before, after); err != nil {
			return err
		}
	}
	return nil
}

// holdSome holds accounts on the limits of the plan as it was, as the change of the plan asks, and returns
// how all stand afterwards.
func (s *Service) holdSome(ctx context.Context, tx store.Tx, a Actor, which, plan string, old plans.Plan, accounts []db.Account, before []standing) (after []standing, count int64, err error) {
	after, err = s.standingsOf(ctx, tx.Queries, accounts)
	if err != nil || which == "" || which == "none" {
		return after, 0, err
	}
	for i := range accounts {
		over := len(after[i].allowance().Over(after[i].used)) > len(before[i].allowance().Over(before[i].used))
		if accounts[i].Held != nil || which == "over" && !over {
			continue
		}
		if err := hold(ctx, tx, a, accounts[i], plan, old.Limits, old.Features); err != nil {
			return nil, 0, err
		}
		count++
		if accounts[i], err = tx.Account(ctx, accounts[i].ID); err != nil {
			return nil, 0, err
		}
	}
	after, err = s.standingsOf(ctx, tx.Queries, accounts)
	return after, count, err
}

// hold holds an account on limits and features, those of a plan at a time.
func hold(ctx context.Context, tx store.Tx, a Actor, account db.Account, plan string, limits plans.Limits, features plans.Features) error {
	text, err := json.Marshal(held{Plan: plan, Limits: limits, Features: features})
	if err != nil {
		return err
	}
	if err := tx.Hold(ctx, db.HoldParams{ID: account.ID, Held: text}); err != nil {
		return err
	}
	return record(ctx, tx, a, "account.hold", aboutAccount(account), nil, map[string]string{"held_on": "plan " + plan})
}

// RemovePlan removes a plan that no account is on.
func (s *Service) RemovePlan(ctx context.Context, a Actor, reference string) error {
	return do(ctx, s, a, func(tx store.Tx) error {
		found, err := findPlan(ctx, tx.Queries, a, reference)
		if err != nil {
			return err
		}
		if _, err := tx.LockPlan(ctx, found.ID); store.None(err) {
			return notFound("plan", reference)
		} else if err != nil {
			return err
		}
		accounts, err := tx.AccountsOnPlan(ctx, found.ID)
		if err != nil {
			return err
		}
		if len(accounts) > 0 {
			return refusal.New(refusal.InUse, "%s on plan %s: %s; put them on another plan first", areIs(len(accounts), "account"), reference, someOf(accounts))
		}
		plan, err := loadPlan(ctx, tx.Queries, found.ID, found.Name)
		if err != nil {
			return err
		}
		if err := tx.RemovePlan(ctx, found.ID); err != nil {
			return err
		}
		ref := planRef("", found.Reseller, found.Name)
		a.say("remove plan %s", ref)
		return record(ctx, tx, a, "plan.remove", about("plan %s", ref).of(found.ResellerID), planRecord{plan.Name, plan.Limits, plan.Features, ""}, nil)
	})
}

// someOf names the first accounts of a list, and how many there are besides.
func someOf(accounts []db.AccountsOnPlanRow) string {
	const most = 20
	var names []string
	for i, account := range accounts {
		if i == most {
			names = append(names, fmt.Sprintf("and %d more", len(accounts)-most))
			break
		}
		names = append(names, fmt.Sprintf("%s (%s)", unicode(account.MainDomain), account.SignInName))
	}
	return strings.Join(names, ", ")
}

func areIs(n int, what string) string {
	if n == 1 {
		return "1 " + what + " is"
	}
	return fmt.Sprintf("%d %ss are", n, what)
}

// What the allowance says of the home and of PHP.
// LimitsPart is what plans, exceptions and shares allow on the server.
func (s *Service) LimitsPart() Part {
	return Part{Name: "limits", Fill: func(_ context.Context, _ *db.Queries, st standing, m *Manifests) error {
		p := st.parts()
		home := m.Home()
		home.Home.DiskLimit = column(p.disk)
		home.PHP.Workers = p.workers
		return nil
	}}
}
