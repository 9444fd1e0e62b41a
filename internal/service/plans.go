package service

import (
	"context"
	"slices"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddPlan adds a plan.
func (s *Service) AddPlan(ctx context.Context, a Actor, in api.NewPlan) (api.Plan, error) {
	plan, err := plans.NewPlan(in.Name, in.Limits, in.Features)
	if err != nil {
		return api.Plan{}, err
	}
	return change(ctx, s, a, func(tx store.Tx) (api.Plan, error) {
		out := api.Plan{Name: plan.Name, Limits: plan.Limits, Features: plan.Features}
		row, err := tx.AddPlan(ctx, plan.Name)
		if store.Violated(err) == "plans_name_key" {
			return out, refusal.New(refusal.NameTaken, "there is a plan %q already; choose another name", plan.Name).On("name")
		}
		if err != nil {
			return out, err
		}
		for key, amount := range plan.Limits {
			p := db.AddPlanLimitParams{PlanID: row.ID, Key: string(key)}
			if !amount.Unlimited {
				p.Amount = &amount.N
			}
			if err := tx.AddPlanLimit(ctx, p); err != nil {
				return out, err
			}
		}
		for feature, on := range plan.Features {
			if !on {
				continue
			}
			if err := tx.AddPlanFeature(ctx, db.AddPlanFeatureParams{PlanID: row.ID, Feature: string(feature)}); err != nil {
				return out, err
			}
		}
		return out, record(ctx, tx, a, "plan.add", "plan "+plan.Name, nil, out)
	})
}

// Plan returns one plan.
func (s *Service) Plan(ctx context.Context, name string) (api.Plan, error) {
	row, err := s.store.PlanByName(ctx, name)
	if store.None(err) {
		return api.Plan{}, notFound("plan", name)
	}
	if err != nil {
		return api.Plan{}, err
	}
	plan, err := loadPlan(ctx, s.store.Queries, row.ID, row.Name)
	return api.Plan{Name: plan.Name, Limits: plan.Limits, Features: plan.Features}, err
}

// Plans returns a page of plans in the order of their names.
func (s *Service) Plans(ctx context.Context, after string, most int) (api.PlanPage, error) {
	page := api.PlanPage{Plans: []api.Plan{}}
	rows, err := s.store.Plans(ctx, db.PlansParams{After: after, Most: int32(most + 1)})
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(rows[most-1].Name)
	}
	for _, row := range rows {
		plan, err := loadPlan(ctx, s.store.Queries, row.ID, row.Name)
		if err != nil {
			return page, err
		}
		page.Plans = append(page.Plans, api.Plan{Name: plan.Name, Limits: plan.Limits, Features: plan.Features, Accounts: row.Accounts})
	}
	return page, nil
}

// loadPlan reads a plan's limits and features.
func loadPlan(ctx context.Context, q *db.Queries, id int64, name string) (plans.Plan, error) {
	plan := plans.Plan{Name: name, Limits: plans.Limits{}, Features: plans.Features{}}
	limits, err := q.PlanLimits(ctx, []int64{id})
	if err != nil {
		return plan, err
	}
	for _, l := range limits {
		plan.Limits[plans.Key(l.Key)] = amount(l.Amount)
	}
	features, err := q.PlanFeatures(ctx, []int64{id})
	for _, f := range plans.AllFeatures {
		plan.Features[f] = slices.ContainsFunc(features, func(row db.PlanFeature) bool { return row.Feature == string(f) })
	}
	return plan, err
}

// amount reads a limit's column, where null is unlimited.
func amount(column *int64) plans.Amount {
	if column == nil {
		return plans.Unlimited
	}
	return plans.Of(*column)
}

// mostWorkers is how many PHP requests at once "unlimited" means on a real server.
const mostWorkers = 50

// What the plan says of the home and of PHP.
func init() {
	manifestParts = append(manifestParts, func(ctx context.Context, q *db.Queries, account db.Account, m *manifest.Manifest) error {
		plan, err := loadPlan(ctx, q, account.PlanID, "")
		if err != nil {
			return err
		}
		if disk := plan.Limits[plans.Disk]; !disk.Unlimited {
			m.Home.DiskLimit = &disk.N
		}
		workers := plan.Limits[plans.PHPWorkers]
		if workers.Unlimited {
			workers.N = mostWorkers
		}
		m.PHP.Workers = int(min(max(workers.N, 1), mostWorkers))
		return nil
	})
}
