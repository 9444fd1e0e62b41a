package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/databases"
	"victualler/internal/service/usecase"
)

// DatabasePath is how a database is named in a path.
type DatabasePath struct {
	AccountPath
	Database string `path:"database" maxLength:"64" doc:"Its name; what follows the account's sign-in name and the underscore is enough."`
}

// DatabaseUserPath is how a database user is named in a path.
type DatabaseUserPath struct {
	AccountPath
	User string `path:"user" maxLength:"64" doc:"Its name; what follows the account's sign-in name and the underscore is enough."`
}

func (a *API) databaseRoutes() {
	const tag = "Databases"
	register(a, route{id: "list-databases", method: http.MethodGet, path: "/accounts/{account}/databases",
		summary: "List the databases and database users", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.DatabaseList }, error) {
			list, err := a.service.Databases.Databases(ctx, actor(ctx), in.Account)
			return &struct{ Body api.DatabaseList }{list}, err
		})
	register(a, route{id: "list-all-databases", method: http.MethodGet, path: "/databases",
		summary: "List the databases of all accounts, the biggest first", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *struct {
			Page
			Search  string `query:"search" maxLength:"100" doc:"Part of the name."`
			Server  string `query:"server" maxLength:"63" doc:"Only those on one server."`
			Engine  string `query:"engine" enum:"mariadb,postgresql" doc:"Only those of one engine."`
			Limited bool   `query:"limited" doc:"Only those of accounts that are over their limit."`
		}) (*struct{ Body api.DatabasePage }, error) {
			page, err := a.service.Databases.All(ctx, actor(ctx), databases.Filter{Search: in.Search,
				Server: in.Server, Engine: in.Engine, Limited: in.Limited}, in.Cursor, in.Limit)
			return &struct{ Body api.DatabasePage }{page}, err
		})
	register(a, route{id: "list-engines", method: http.MethodGet, path: "/database-engines",
		summary: "List the engines of servers, with what accounts have in them", permission: rights.ServersRead,
		tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.EngineList }, error) {
			list, err := a.service.Databases.Engines(ctx)
			return &struct{ Body api.EngineList }{list}, err
		})
	registerChange(a, route{id: "add-database", method: http.MethodPost, path: "/accounts/{account}/databases",
		summary: "Add a database, with a user if one is named", permission: rights.DatabasesChange, tag: tag,
		status:      http.StatusAccepted,
		description: "The first one of an engine decides on which server the account's databases of that engine are."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewDatabase
		}) (api.DatabaseChanged, error) {
			return a.service.Databases.AddDatabase(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-database", method: http.MethodPatch,
		path:    "/accounts/{account}/databases/{database}",
		summary: "Change the character set of a database, for tables that are made from then on",
		status:  http.StatusAccepted, permission: rights.DatabasesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DatabasePath
			Versioned
			Previewable
			Body api.DatabaseChange
		}) (api.DatabaseChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.DatabaseChanged{}, err
			}
			return a.service.Databases.ChangeDatabase(ctx, who, in.Account, in.Database, version, in.Body)
		})
	registerChange(a, route{id: "remove-database", method: http.MethodDelete,
		path:    "/accounts/{account}/databases/{database}",
		summary: "Remove a database with everything in it", permission: rights.DatabasesChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DatabasePath
			Previewable
		}) (api.Started, error) {
			return a.service.Databases.RemoveDatabase(ctx, who, in.Account, in.Database)
		})
	a.databaseUserRoutes(tag)
}

func (a *API) databaseUserRoutes(tag string) {
	registerChange(a, route{id: "add-database-user", method: http.MethodPost,
		path:    "/accounts/{account}/database-users",
		summary: "Add a database user", permission: rights.DatabasesChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewDatabaseUser
		}) (api.DatabaseUserChanged, error) {
			return a.service.Databases.AddDatabaseUser(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "change-database-user", method: http.MethodPatch,
		path:    "/accounts/{account}/database-users/{user}",
		summary: "Change password, networks or rights of a database user", permission: rights.DatabasesChange, tag: tag,
		status:      http.StatusAccepted,
		description: "Connections of the user end when it loses a right, and when its password changes."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DatabaseUserPath
			Versioned
			Previewable
			Body api.DatabaseUserChange
		}) (api.DatabaseUserChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.DatabaseUserChanged{}, err
			}
			return a.service.Databases.ChangeDatabaseUser(ctx, who, in.Account, in.User, version, in.Body)
		})
	registerChange(a, route{id: "remove-database-user", method: http.MethodDelete,
		path:    "/accounts/{account}/database-users/{user}",
		summary: "Remove a database user; what it has made stays", permission: rights.DatabasesChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DatabaseUserPath
			Previewable
		}) (api.Started, error) {
			return a.service.Databases.RemoveDatabaseUser(ctx, who, in.Account, in.User)
		})
}
