package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service"
)

func init() {
	nouns = append(nouns, func(a *API) {
		const tag = "Plans"
		register(a, route{id: "list-plans", method: http.MethodGet, path: "/plans", summary: "List plans", permission: rights.PlansRead, tag: tag},
			func(ctx context.Context, in *Page) (*struct{ Body api.PlanPage }, error) {
				var after string
				if err := service.ReadCursor(in.Cursor, &after); err != nil {
					return nil, err
				}
				list, err := a.service.Plans(ctx, after, in.Limit)
				return &struct{ Body api.PlanPage }{list}, err
			})
		register(a, route{id: "add-plan", method: http.MethodPost, path: "/plans", summary: "Add a plan", permission: rights.PlansChange, tag: tag, status: http.StatusCreated},
			func(ctx context.Context, in *struct{ Body api.NewPlan }) (*struct{ Body api.Plan }, error) {
				plan, err := a.service.AddPlan(ctx, actor(ctx), in.Body)
				return &struct{ Body api.Plan }{plan}, err
			})
		register(a, route{id: "show-plan", method: http.MethodGet, path: "/plans/{plan}", summary: "Show a plan", permission: rights.PlansRead, tag: tag},
			func(ctx context.Context, in *struct {
				Plan string `path:"plan" maxLength:"40"`
			}) (*struct{ Body api.Plan }, error) {
				plan, err := a.service.Plan(ctx, in.Plan)
				return &struct{ Body api.Plan }{plan}, err
			})
	})
}
