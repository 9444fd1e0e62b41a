package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/selling"
	"victualler/internal/service/usecase"
)

// CustomerPath is how one customer is named in a path.
type CustomerPath struct {
	Customer string `path:"customer" maxLength:"200" doc:"Number or name."`
}

func (a *API) customerRoutes() {
	const tag = "Customers"
	type tagged struct {
		ETag string `header:"ETag"`
		Body api.Customer
	}
	register(a, route{id: "list-customers", method: http.MethodGet, path: "/customers", summary: "List customers",
		permission: rights.CustomersRead, tag: tag},
		func(ctx context.Context, in *struct {
			Page
			Search   string `query:"search" maxLength:"200" doc:"Part of the name or contact address."`
			Reseller string `query:"reseller" maxLength:"40" doc:"Only this reseller's."`
			Own      bool   `query:"own" doc:"Only the operator's, no reseller's."`
		}) (*struct{ Body api.CustomerPage }, error) {
			list, err := a.service.Selling.Customers(ctx, actor(ctx), selling.CustomerFilter{Search: in.Search,
				Reseller: in.Reseller, Own: in.Own}, in.Cursor, in.Limit)
			return &struct{ Body api.CustomerPage }{list}, err
		})
	registerChange(a, route{id: "add-customer", method: http.MethodPost, path: "/customers", summary: "Add a customer",
		permission: rights.CustomersChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewCustomer
		}) (api.Customer, error) {
			return a.service.Selling.AddCustomer(ctx, who, in.Body)
		})
	register(a, route{id: "show-customer", method: http.MethodGet, path: "/customers/{customer}",
		summary: "Show a customer", permission: rights.CustomersRead, tag: tag},
		func(ctx context.Context, in *CustomerPath) (*tagged, error) {
			c, err := a.service.Selling.Customer(ctx, actor(ctx), in.Customer)
			return &tagged{etag(c.Version), c}, err
		})
	registerChange(a, route{id: "change-customer", method: http.MethodPatch, path: "/customers/{customer}",
		summary: "Change a customer", permission: rights.CustomersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			CustomerPath
			Versioned
			Previewable
			Body api.CustomerChange
		}) (api.Customer, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Customer{}, err
			}
			return a.service.Selling.ChangeCustomer(ctx, who, in.Customer, version, in.Body)
		})
	registerChange(a, route{id: "remove-customer", method: http.MethodDelete, path: "/customers/{customer}",
		summary: "Remove a customer without accounts", permission: rights.CustomersChange, tag: tag,
		description: "Contact data and sign-ins go; what closed accounts refer to stays without them."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			CustomerPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Selling.RemoveCustomer(ctx, who, in.Customer)
		})
	register(a, route{id: "show-notes", method: http.MethodGet, path: "/customers/{customer}/notes",
		summary: "Read staff's notes about a customer", permission: rights.CustomersNotes, tag: tag},
		func(ctx context.Context, in *CustomerPath) (*struct{ Body api.Notes }, error) {
			notes, err := a.service.Selling.Notes(ctx, actor(ctx), in.Customer)
			return &struct{ Body api.Notes }{notes}, err
		})
	registerChange(a, route{id: "keep-notes", method: http.MethodPut, path: "/customers/{customer}/notes",
		summary: "Keep notes about a customer", permission: rights.NotesChange, tag: tag,
		description: "For staff only: no call of a customer returns them."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			CustomerPath
			Previewable
			Body api.Notes
		}) (api.Notes, error) {
			return a.service.Selling.ChangeNotes(ctx, who, in.Customer, in.Body)
		})
	register(a, route{id: "list-mails", method: http.MethodGet, path: "/customers/{customer}/mails",
		summary: "List the last messages to a customer", permission: rights.CustomersNotes, tag: tag,
		description: "Whether they went out, not what stood in them."},
		func(ctx context.Context, in *CustomerPath) (*struct{ Body api.MailList }, error) {
			list, err := a.service.Selling.Mails(ctx, actor(ctx), in.Customer)
			return &struct{ Body api.MailList }{list}, err
		})
}
