package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
)

// PersonPath is how one person is named in a path.
type PersonPath struct {
	Person string `path:"person" maxLength:"100" doc:"Sign-in name."`
}

func (a *API) peopleRoutes() {
	const tag = "People"
	register(a, route{id: "list-people", method: http.MethodGet, path: "/people", summary: "List who can sign in",
		permission: rights.PeopleRead, tag: tag},
		func(ctx context.Context, in *struct {
			Page
			Search   string `query:"search" maxLength:"200" doc:"Part of a sign-in name or mail address."`
			Role     string `query:"role" enum:",operator,reseller,customer" doc:"Only people of this role."`
			Customer string `query:"customer" maxLength:"200" doc:"Only people of this customer, by number or name."`
			Reseller string `query:"reseller" maxLength:"40" doc:"Only people of this reseller and of their customers."`
		}) (*struct{ Body api.PersonPage }, error) {
			list, err := a.service.People.People(ctx, actor(ctx), people.PersonFilter{Search: in.Search, Role: in.Role,
				Customer: in.Customer, Reseller: in.Reseller}, in.Cursor, in.Limit)
			return &struct{ Body api.PersonPage }{list}, err
		})
	registerChange(a, route{id: "add-person", method: http.MethodPost, path: "/people", summary: "Let somebody sign in",
		permission: rights.PeopleChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewPerson
		}) (api.Person, error) {
			return a.service.People.AddPerson(ctx, who, in.Body)
		})
	register(a, route{id: "show-person", method: http.MethodGet, path: "/people/{person}",
		summary: "Show somebody who can sign in", permission: rights.PeopleRead, tag: tag},
		func(ctx context.Context, in *PersonPath) (*struct {
			ETag string `header:"ETag"`
			Body api.Person
		}, error) {
			p, err := a.service.People.Person(ctx, actor(ctx), in.Person)
			return &struct {
				ETag string `header:"ETag"`
				Body api.Person
			}{etag(p.Version), p}, err
		})
	registerChange(a, route{id: "change-person", method: http.MethodPatch, path: "/people/{person}",
		summary: "Change somebody's sign-in", permission: rights.PeopleChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Versioned
			Previewable
			Body api.PersonChange
		}) (api.Person, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Person{}, err
			}
			return a.service.People.ChangePerson(ctx, who, in.Person, version, in.Body)
		})
	registerChange(a, route{id: "remove-person", method: http.MethodDelete, path: "/people/{person}",
		summary: "Let somebody sign in no longer", permission: rights.PeopleChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.People.RemovePerson(ctx, who, in.Person)
		})
	registerChange(a, route{id: "give-password", method: http.MethodPut, path: "/people/{person}/password",
		summary: "Give somebody else a new password", permission: rights.PeopleChange, tag: tag,
		description: "Ends their sessions."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Previewable
			Body api.NewPassword
		}) (nothing, error) {
			return nothing{}, a.service.People.ResetPassword(ctx, who, in.Person, in.Body)
		})
	registerChange(a, route{id: "add-link", method: http.MethodPost, path: "/people/{person}/links",
		summary: "Make a one-time link for somebody else", permission: rights.PeopleChange, tag: tag,
		status: http.StatusCreated,
		description: "To set a password (48 hours), or to sign in without one (15 minutes). The newest of a kind " +
			"counts. A second factor is asked for all the same."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Previewable
			Body api.NewLink
		}) (api.Link, error) {
			return a.service.People.AddLink(ctx, who, in.Person, in.Body)
		})
	registerChange(a, route{id: "end-sessions-of", method: http.MethodDelete, path: "/people/{person}/sessions",
		summary: "End all sessions of somebody", permission: rights.PeopleChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.People.EndSessionsOf(ctx, who, in.Person)
		})
	registerChange(a, route{id: "drop-second-factor-of", method: http.MethodDelete,
		path: "/people/{person}/second-factor", summary: "Switch somebody else's second factor off",
		permission: rights.PeopleChange, tag: tag,
		description: "For the day when authenticator and recovery codes are lost."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			PersonPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.People.DropSecondFactorOf(ctx, who, in.Person)
		})
}
