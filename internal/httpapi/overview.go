package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
)

func (a *API) overviewRoutes() {
	register(a, route{id: "show-overview", method: http.MethodGet, path: "/overview", summary: "Show the overview",
		permission: rights.AccountsRead, tag: "Overview",
		description: "What needs somebody now, and figures over time, of what the person may see."},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.Overview }, error) {
			o, err := a.service.Overview.Overview(ctx, actor(ctx))
			return &struct{ Body api.Overview }{o}, err
		})
}
