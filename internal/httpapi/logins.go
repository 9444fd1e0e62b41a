package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// LoginPath is how a login is named in a path.
type LoginPath struct {
	AccountPath
	Login string `path:"login" maxLength:"32" doc:"Its name; what follows the hyphen is enough."`
}

func (a *API) loginRoutes() {
	const tag = "Logins"
	register(a, route{id: "list-logins", method: http.MethodGet, path: "/accounts/{account}/logins",
		summary: "List the sign-ins for file transfer", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.LoginList }, error) {
			list, err := a.service.Logins.Logins(ctx, actor(ctx), in.Account)
			return &struct{ Body api.LoginList }{list}, err
		})
	registerChange(a, route{id: "add-login", method: http.MethodPost, path: "/accounts/{account}/logins",
		summary: "Add a login", permission: rights.LoginsChange, tag: tag, status: http.StatusAccepted,
		description: "It sees its folder and nothing above. All files belong to the account, whoever wrote them."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewLogin
		}) (api.LoginChanged, error) {
			return a.service.Logins.AddLogin(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-login", method: http.MethodPatch, path: "/accounts/{account}/logins/{login}",
		summary: "Change folder, password or keys of a login", permission: rights.LoginsChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			LoginPath
			Versioned
			Previewable
			Body api.LoginChange
		}) (api.LoginChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.LoginChanged{}, err
			}
			return a.service.Logins.ChangeLogin(ctx, who, in.Account, in.Login, version, in.Body)
		})
	registerChange(a, route{id: "remove-login", method: http.MethodDelete, path: "/accounts/{account}/logins/{login}",
		summary: "Take a login away; its files stay", permission: rights.LoginsChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			LoginPath
			Previewable
		}) (api.Started, error) {
			return a.service.Logins.RemoveLogin(ctx, who, in.Account, in.Login)
		})
}
