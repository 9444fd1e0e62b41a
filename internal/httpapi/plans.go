package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/selling"
	"victualler/internal/service/usecase"
)

// PlanPath is how one plan is named in a path.
type PlanPath struct {
	Plan string `path:"plan" maxLength:"81" doc:"Name; for operators, RESELLER.NAME is a reseller's."`
}

func (a *API) planRoutes() {
	const tag = "Plans"
	register(a, route{id: "list-plans", method: http.MethodGet, path: "/plans", summary: "List plans",
		permission: rights.PlansRead, tag: tag,
		description: "The operator's first, then each reseller's; resellers see their own."},
		func(ctx context.Context, in *struct {
			Page
			Search   string `query:"search" maxLength:"100" doc:"Part of a name, or of RESELLER.NAME."`
			Reseller string `query:"reseller" maxLength:"40" doc:"Only this reseller's."`
			Own      bool   `query:"own" doc:"Only the operator's; with a reseller named, theirs and the operator's: those that an account of their customers can be on."`
		}) (*struct{ Body api.PlanPage }, error) {
			list, err := a.service.Selling.Plans(ctx, actor(ctx), selling.PlanFilter{Search: in.Search,
				Reseller: in.Reseller, Own: in.Own}, in.Cursor, in.Limit)
			return &struct{ Body api.PlanPage }{list}, err
		})
	registerChange(a, route{id: "add-plan", method: http.MethodPost, path: "/plans", summary: "Add a plan",
		permission: rights.PlansChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewPlan
		}) (api.Plan, error) {
			return a.service.Selling.AddPlan(ctx, who, in.Body)
		})
	register(a, route{id: "show-plan", method: http.MethodGet, path: "/plans/{plan}", summary: "Show a plan",
		permission: rights.PlansRead, tag: tag},
		func(ctx context.Context, in *PlanPath) (*struct {
			ETag string `header:"ETag"`
			Body api.Plan
		}, error) {
			plan, err := a.service.Selling.Plan(ctx, actor(ctx), in.Plan)
			return &struct {
				ETag string `header:"ETag"`
				Body api.Plan
			}{etag(plan.Version), plan}, err
		})
	registerChange(a, route{id: "change-plan", method: http.MethodPatch, path: "/plans/{plan}",
		summary: "Change a plan", permission: rights.PlansChange, tag: tag,
		description: "Changes every account on it, but for exceptions and for accounts whose limits are frozen. " +
			"Nothing is deleted: being over a limit stops growth."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PlanPath
			Versioned
			Previewable
			Body api.PlanChange
		}) (api.PlanChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.PlanChanged{}, err
			}
			return a.service.Selling.ChangePlan(ctx, who, in.Plan, version, in.Body)
		})
	registerChange(a, route{id: "remove-plan", method: http.MethodDelete, path: "/plans/{plan}",
		summary: "Remove a plan that no account is on", permission: rights.PlansChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PlanPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Selling.RemovePlan(ctx, who, in.Plan)
		})
	registerChange(a, route{id: "shift-accounts", method: http.MethodPost, path: "/plans/{plan}/accounts",
		summary: "Put accounts on a plan", permission: rights.AccountsChange, tag: tag,
		description: "All of them, or none. Nothing is deleted: what is over a new limit cannot grow. Frozen limits " +
			"are unfrozen."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PlanPath
			Previewable
			Body api.Shift
		}) (api.Shifted, error) {
			return a.service.Selling.ChangeAccountPlans(ctx, who, in.Plan, in.Body)
		})
	register(a, route{id: "list-limits", method: http.MethodGet, path: "/limits",
		summary: "List the limits and features there are", permission: rights.Own, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.LimitList }, error) {
			return &struct{ Body api.LimitList }{api.AllLimits(actor(ctx).Language)}, nil
		})
	register(a, route{id: "compare-plans", method: http.MethodGet, path: "/compare/plans",
		summary: "Compare 2 to 6 plans side by side", permission: rights.PlansRead, tag: tag},
		func(ctx context.Context, in *struct {
			Plans []string `query:"plan,explode" required:"true" maxItems:"10" doc:"Names, one for each column."`
		}) (*struct{ Body api.PlanComparison }, error) {
			comparison, err := a.service.Selling.ComparePlans(ctx, actor(ctx), in.Plans)
			return &struct{ Body api.PlanComparison }{comparison}, err
		})
}
