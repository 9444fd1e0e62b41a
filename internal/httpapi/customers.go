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
		const tag = "Customers"
		register(a, route{id: "list-customers", method: http.MethodGet, path: "/customers", summary: "List customers", permission: rights.CustomersRead, tag: tag},
			func(ctx context.Context, in *struct {
				Page
				Search string `query:"search" maxLength:"200" doc:"Part of the name."`
			}) (*struct{ Body api.CustomerPage }, error) {
				var after string
				if err := service.ReadCursor(in.Cursor, &after); err != nil {
					return nil, err
				}
				list, err := a.service.Customers(ctx, in.Search, after, in.Limit)
				return &struct{ Body api.CustomerPage }{list}, err
			})
		register(a, route{id: "add-customer", method: http.MethodPost, path: "/customers", summary: "Add a customer", permission: rights.CustomersAdd, tag: tag, status: http.StatusCreated},
			func(ctx context.Context, in *struct{ Body api.NewCustomer }) (*struct{ Body api.Customer }, error) {
				customer, err := a.service.AddCustomer(ctx, actor(ctx), in.Body)
				return &struct{ Body api.Customer }{customer}, err
			})
	})
}
