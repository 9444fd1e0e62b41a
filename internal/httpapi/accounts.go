package httpapi

import (
	"context"
	"net/http"
	"reflect"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service"
)

// Page is how a list is asked for.
type Page struct {
	Cursor string `query:"cursor" maxLength:"2000" doc:"The “next” of the page before."`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50" doc:"Most rows of a page."`
}

// AccountPath is how one account is named in a path.
type AccountPath struct {
	Account string `path:"account" maxLength:"300" doc:"Number, sign-in name or one of its domains."`
}

func init() {
	nouns = append(nouns, func(a *API) {
		const tag = "Accounts"
		register(a, route{id: "list-accounts", method: http.MethodGet, path: "/accounts", summary: "List accounts", permission: rights.AccountsRead, tag: tag,
			description: "In the order of main domains. Closed accounts are listed only with state=closed."},
			func(ctx context.Context, in *struct {
				Page
				Search string `query:"search" maxLength:"300" doc:"Part of a domain, sign-in name or customer's name."`
				State  string `query:"state" enum:",opening,active,closing,closed" doc:"Only accounts in this state."`
				Server string `query:"server" maxLength:"31" doc:"Only accounts on this server."`
				Plan   string `query:"plan" maxLength:"40" doc:"Only accounts on this plan."`
			}) (*struct{ Body api.AccountPage }, error) {
				list, err := a.service.Accounts(ctx, service.AccountFilter{Search: in.Search, State: in.State, Server: in.Server, Plan: in.Plan}, in.Cursor, in.Limit)
				return &struct{ Body api.AccountPage }{list}, err
			})
		register(a, route{id: "check-domain", method: http.MethodGet, path: "/check/domain", summary: "Check a domain while it is typed", permission: rights.AccountsOpen, tag: tag,
			description: "Tells what would be put right, whether the domain can be used, and a sign-in name that is free."},
			func(ctx context.Context, in *struct {
				Domain string `query:"domain" required:"true" maxLength:"2048" doc:"As typed."`
			}) (*struct{ Body api.DomainCheck }, error) {
				check, err := a.service.CheckDomain(ctx, in.Domain)
				return &struct{ Body api.DomainCheck }{check}, err
			})
		register(a, route{id: "check-sign-in-name", method: http.MethodGet, path: "/check/sign-in-name", summary: "Check a sign-in name while it is typed", permission: rights.AccountsOpen, tag: tag, status: http.StatusNoContent},
			func(ctx context.Context, in *struct {
				Name string `query:"name" required:"true" maxLength:"100"`
			}) (*struct{}, error) {
				return nil, a.service.CheckSignIn(ctx, in.Name)
			})
		register(a, route{id: "open-account", method: http.MethodPost, path: "/accounts", summary: "Open an account", permission: rights.AccountsOpen, tag: tag, status: http.StatusAccepted,
			previews: reflect.TypeFor[api.Opening]()},
			func(ctx context.Context, in *struct {
				Previewable
				Body api.OpenAccount
			}) (*outcome, error) {
				if in.Preview {
					preview, err := a.service.PreviewOpen(ctx, actor(ctx), in.Body)
					return previewed(preview), err
				}
				opening, err := a.service.OpenAccount(ctx, actor(ctx), in.Body)
				return begun(opening, opening.Operation), err
			})
		register(a, route{id: "show-account", method: http.MethodGet, path: "/accounts/{account}", summary: "Show an account", permission: rights.AccountsRead, tag: tag},
			func(ctx context.Context, in *AccountPath) (*struct {
				ETag string `header:"ETag"`
				Body api.AccountDetail
			}, error) {
				detail, err := a.service.Account(ctx, in.Account)
				return &struct {
					ETag string `header:"ETag"`
					Body api.AccountDetail
				}{etag(detail.Version), detail}, err
			})
		register(a, route{id: "close-account", method: http.MethodPost, path: "/accounts/{account}/close", summary: "Close an account", permission: rights.AccountsClose, tag: tag, status: http.StatusAccepted,
			description: "Deletes everything the account has on its server.", previews: reflect.TypeFor[api.Started]()},
			func(ctx context.Context, in *struct {
				AccountPath
				Previewable
				Body api.CloseAccount
			}) (*outcome, error) {
				if in.Preview {
					preview, err := a.service.PreviewClose(ctx, in.Account, in.Body.SignInName)
					return previewed(preview), err
				}
				started, err := a.service.CloseAccount(ctx, actor(ctx), in.Account, in.Body.SignInName)
				return begun(started, started.Operation), err
			})
		register(a, route{id: "repair-account", method: http.MethodPost, path: "/accounts/{account}/repair", summary: "Repair an account", permission: rights.AccountsRepair, tag: tag, status: http.StatusAccepted,
			description: "Has the account's server made to match what is wanted, once more.", previews: reflect.TypeFor[api.Started]()},
			func(ctx context.Context, in *struct {
				AccountPath
				Previewable
			}) (*outcome, error) {
				if in.Preview {
					preview, err := a.service.PreviewRepair(ctx, in.Account)
					return previewed(preview), err
				}
				started, err := a.service.RepairAccount(ctx, actor(ctx), in.Account)
				return begun(started, started.Operation), err
			})
	})
}
