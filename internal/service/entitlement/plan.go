package entitlement

import (
	"context"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// LoadPlan reads a plan's limits and features.
func LoadPlan(ctx context.Context, q *db.Queries, id int64, name string) (plans.Plan, error) {
	loaded, err := LoadPlans(ctx, q, []int64{id})
	plan := loaded[id]
	plan.Name = name
	return plan, err
}

// LoadPlans reads limits and features of many plans; the names are left empty.
func LoadPlans(ctx context.Context, q *db.Queries, ids []int64) (map[int64]plans.Plan, error) {
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
		loaded[l.PlanID].Limits[plans.Key(l.Key)] = AmountOf(l.Amount)
	}
	features, err := q.PlanFeatures(ctx, ids)
	for _, f := range features {
		loaded[f.PlanID].Features[plans.Feature(f.Feature)] = true
	}
	return loaded, err
}

// SavePlan writes a plan's limits and features.
func SavePlan(ctx context.Context, tx store.Tx, id int64, plan plans.Plan) error {
	keys, amounts := ColumnsOf(plan.Limits)
	if err := tx.SavePlanLimits(ctx, db.SavePlanLimitsParams{Plan: id, Keys: keys, Amounts: amounts}); err != nil {
		return err
	}
	if err := tx.DeletePlanFeatures(ctx, id); err != nil {
		return err
	}
	return tx.AddPlanFeatures(ctx, db.AddPlanFeaturesParams{Plan: id, Features: SwitchedOn(plan.Features)})
}

// PlanView shows a plan to somebody. A reseller's own plans do not name the reseller to them.
func PlanView(a usecase.Actor, plan plans.Plan, reseller, template string, accounts, version int64) api.Plan {
	out := api.Plan{Name: plan.Name, Template: template, Limits: plan.Limits, Features: plan.Features,
		Accounts: accounts, Warnings: []refusal.Field{}, Version: version}
	for _, w := range plan.Warnings() {
		out.Warnings = append(out.Warnings, w.In(a.Language))
	}
	if reseller != a.Reseller {
		out.Reseller = reseller
	}
	return out
}

// PlanRecord is a plan as events hold it.
type PlanRecord struct {
	Name     string         `json:"name"`
	Limits   plans.Limits   `json:"limits"`
	Features plans.Features `json:"features"`
	Template string         `json:"template,omitempty"`
}

// PlanRecordOf is a plan, with the name of its site template, as events hold it.
func PlanRecordOf(p plans.Plan, template string) PlanRecord {
	return PlanRecord{Name: p.Name, Limits: p.Limits, Features: p.Features, Template: template}
}

// PlanRef is how a plan, or a template, is called in the record:
// RESELLER.PLAN where it is a reseller's.
func PlanRef(reseller, plan string) string {
	if reseller == "" {
		return plan
	}
	return fmt.Sprintf("%s.%s", reseller, plan)
}

// PlanRefFor is how somebody calls it: a reseller and their customers
// know only theirs, and need not say whose it is.
func PlanRefFor(a usecase.Actor, reseller, plan string) string {
	if a.Role != rights.Operator {
		return plan
	}
	return PlanRef(reseller, plan)
}
