package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/accounts"
	"victualler/internal/service/usecase"
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

func (a *API) accountRoutes() {
	const tag = "Accounts"
	register(a, route{id: "list-accounts", method: http.MethodGet, path: "/accounts", summary: "List accounts",
		permission: rights.AccountsRead, tag: tag,
		description: "In the order of main domains. Closed accounts are listed only with state=closed."},
		func(ctx context.Context, in *struct {
			Page
			Search   string `query:"search" maxLength:"300" doc:"Part of a domain, sign-in name or customer's name."`
			State    string `query:"state" enum:",opening,active,suspended,closing,closed" doc:"Only accounts in this state."`
			Server   string `query:"server" maxLength:"31" doc:"Only accounts on this server."`
			Plan     string `query:"plan" maxLength:"81" doc:"Only accounts on this plan."`
			Customer string `query:"customer" maxLength:"200" doc:"Only accounts of this customer, by number or name."`
			Reseller string `query:"reseller" maxLength:"40" doc:"Only accounts of this reseller's customers."`
			Needs    string `query:"needs" enum:",drift,warning,disk" doc:"Only those that need somebody: not as they should be on their server, with something in the home that does not work, or with hardly any disk space left."`
		}) (*struct{ Body api.AccountPage }, error) {
			list, err := a.service.Accounts.Accounts(ctx, actor(ctx), accounts.AccountFilter{Search: in.Search,
				State: in.State, Server: in.Server, Plan: in.Plan, Customer: in.Customer, Reseller: in.Reseller,
				Needs: in.Needs},
				in.Cursor, in.Limit)
			return &struct{ Body api.AccountPage }{list}, err
		})
	register(a, route{id: "check-domain", method: http.MethodGet, path: "/check/domain",
		summary: "Check a domain while it is typed", permission: rights.AccountsOpen, tag: tag,
		description: "Tells what would be put right, whether the domain can be used, and a sign-in name that is free."},
		func(ctx context.Context, in *struct {
			Domain string `query:"domain" required:"true" maxLength:"2048" doc:"As typed."`
		}) (*struct{ Body api.DomainCheck }, error) {
			check, err := a.service.Accounts.CheckDomain(ctx, actor(ctx), in.Domain)
			return &struct{ Body api.DomainCheck }{check}, err
		})
	register(a, route{id: "check-sign-in-name", method: http.MethodGet, path: "/check/sign-in-name",
		summary: "Check a sign-in name while it is typed", permission: rights.AccountsOpen, tag: tag,
		status: http.StatusNoContent},
		func(ctx context.Context, in *struct {
			Name string `query:"name" required:"true" maxLength:"100"`
		}) (*struct{}, error) {
			return nil, a.service.Accounts.CheckSignIn(ctx, in.Name)
		})
	registerChange(a, route{id: "open-account", method: http.MethodPost, path: "/accounts", summary: "Open an account",
		permission: rights.AccountsOpen, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.OpenAccount
		}) (api.Opening, error) {
			return a.service.Accounts.OpenAccount(ctx, who, in.Body)
		})
	register(a, route{id: "show-account", method: http.MethodGet, path: "/accounts/{account}",
		summary: "Show an account", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct {
			ETag string `header:"ETag"`
			Body api.AccountDetail
		}, error) {
			detail, err := a.service.Accounts.Account(ctx, actor(ctx), in.Account)
			return &struct {
				ETag string `header:"ETag"`
				Body api.AccountDetail
			}{etag(detail.Version), detail}, err
		})
	started := func(r route, fn func(context.Context, usecase.Actor, string) (api.Started, error)) {
		r.tag, r.method, r.status = tag, http.MethodPost, http.StatusAccepted
		registerChange(a, r, func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
		}) (api.Started, error) {
			return fn(ctx, who, in.Account)
		})
	}
	registerChange(a, route{id: "close-account", method: http.MethodPost, path: "/accounts/{account}/close",
		summary: "Close an account", permission: rights.AccountsClose, tag: tag, status: http.StatusAccepted,
		description: "Deletes everything the account has on its server."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.CloseAccount
		}) (api.Started, error) {
			return a.service.Accounts.CloseAccount(ctx, who, in.Account, in.Body.SignInName)
		})
	started(route{id: "repair-account", path: "/accounts/{account}/repair", summary: "Repair an account",
		permission:  rights.AccountsRepair,
		description: "Has the account's server made to match what is wanted, once more."},
		a.service.Accounts.RepairAccount)
	registerChange(a, route{id: "suspend-account", method: http.MethodPost, path: "/accounts/{account}/suspend",
		summary: "Suspend an account", permission: rights.AccountsSuspend, tag: tag, status: http.StatusAccepted,
		description: "Visitors see a notice; everything the account has stays."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.Suspend
		}) (api.Started, error) {
			return a.service.Selling.SuspendAccount(ctx, who, in.Account, in.Body.Why)
		})
	started(route{id: "resume-account", path: "/accounts/{account}/resume", summary: "Resume a suspended account",
		permission: rights.AccountsSuspend}, a.service.Selling.ResumeAccount)
	registerChange(a, route{id: "freeze-account", method: http.MethodPut, path: "/accounts/{account}/frozen-terms",
		summary: "Hold an account on its present limits, or no longer", permission: rights.AccountsChange, tag: tag,
		description: "An account with frozen terms keeps its limits and features when its plan changes."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.Freeze
		}) (api.TermsChanged, error) {
			return a.service.Selling.FreezeTerms(ctx, who, in.Account, in.Body.Frozen)
		})
	registerChange(a, route{id: "give-account", method: http.MethodPut, path: "/accounts/{account}/customer",
		summary: "Give an account to another customer", permission: rights.AccountsChange, tag: tag,
		status:      http.StatusNoContent,
		description: "Of the same seller. Nothing of what the account holds changes."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewOwner
		}) (nothing, error) {
			_, err := a.service.Selling.GiveAccount(ctx, who, in.Account, in.Body)
			return nothing{}, err
		})
	register(a, route{id: "show-handover", method: http.MethodGet, path: "/accounts/{account}/handover",
		summary: "Show the handover sheet", permission: rights.AccountsRead, tag: tag,
		description: "What the customer needs to know to start; no password is ever on it."},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.Handover }, error) {
			sheet, err := a.service.Accounts.Handover(ctx, actor(ctx), in.Account)
			return &struct{ Body api.Handover }{sheet}, err
		})
	registerChange(a, route{id: "mail-handover", method: http.MethodPost, path: "/accounts/{account}/handover/mail",
		summary: "Mail the handover sheet to the customer", permission: rights.AccountsChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
		}) (api.Handover, error) {
			return a.service.Accounts.MailHandover(ctx, who, in.Account)
		})
}
