package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/rights"
)

func (a *API) sessionRoutes() {
	const tag = "Session"
	type answer struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      api.Session
	}
	begun := func(session api.Session, token bool) *answer {
		out := &answer{Body: session}
		if !token {
			out.SetCookie = a.cookie(session.Token)
			out.Body.Token = ""
		}
		return out
	}
	show := func(ctx context.Context) (*struct{ Body api.Session }, error) {
		session, err := a.service.People.Session(ctx, actor(ctx))
		return &struct{ Body api.Session }{session}, err
	}
	register(a, route{id: "start-session", method: http.MethodPost, path: "/session", summary: "Sign in",
		permission: rights.Public, tag: tag,
		description: "The answer sets a cookie, or holds a bearer token if one was asked for. Whoever has a second " +
			"factor is asked for its code."},
		func(ctx context.Context, in *struct{ Body api.SignIn }) (*answer, error) {
			session, err := a.service.People.SignIn(ctx, actor(ctx), in.Body)
			if err != nil {
				return nil, err
			}
			return begun(session, in.Body.Token), nil
		})
	register(a, route{id: "check-link", method: http.MethodPost, path: "/session/check-link",
		summary: "Ask what a one-time link is for", permission: rights.Public, tag: tag},
		func(ctx context.Context, in *struct{ Body api.LinkCheck }) (*struct{ Body api.LinkPurpose }, error) {
			purpose, err := a.service.People.CheckLink(ctx, in.Body.Link)
			return &struct{ Body api.LinkPurpose }{purpose}, err
		})
	register(a, route{id: "start-session-by-link", method: http.MethodPost, path: "/session/link",
		summary: "Sign in with a one-time link", permission: rights.Public, tag: tag},
		func(ctx context.Context, in *struct{ Body api.LinkSignIn }) (*answer, error) {
			session, err := a.service.People.SignInByLink(ctx, actor(ctx), in.Body)
			if err != nil {
				return nil, err
			}
			return begun(session, in.Body.Token), nil
		})
	register(a, route{id: "forgotten-password", method: http.MethodPost, path: "/session/forgotten",
		summary: "Have a link for a new password mailed", permission: rights.Public, tag: tag,
		status:      http.StatusAccepted,
		description: "The answer is the same whether there is such a name or not."},
		func(ctx context.Context, in *struct{ Body api.Forgotten }) (*struct{}, error) {
			return nil, a.service.People.RequestPasswordReset(ctx, actor(ctx), in.Body)
		})
	register(a, route{id: "show-session", method: http.MethodGet, path: "/session", summary: "Show who is signed in",
		permission: rights.Own, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) { return show(ctx) })
	register(a, route{id: "choose-language", method: http.MethodPut, path: "/session/language",
		summary: "Choose what one reads", permission: rights.Personal, tag: tag, status: http.StatusNoContent,
		description: "Answers, notices and the console are in this language from then on."},
		func(ctx context.Context, in *struct{ Body api.LanguageChoice }) (*struct{}, error) {
			return nil, a.service.People.ChooseLanguage(ctx, actor(ctx), in.Body.Language)
		})
	register(a, route{id: "list-languages", method: http.MethodGet, path: "/languages",
		summary: "List the languages that the service speaks", permission: rights.Public, tag: tag},
		func(context.Context, *struct{}) (*struct{ Body api.Languages }, error) {
			return &struct{ Body api.Languages }{api.Languages{Languages: language.Tags()}}, nil
		})
	register(a, route{id: "act-as", method: http.MethodPut, path: "/session/acting",
		summary: "Act on a customer's or a reseller's behalf", permission: rights.PeopleActAs, tag: tag,
		status:      http.StatusNoContent,
		description: "This session then has their rights and no others; the record names both."},
		func(ctx context.Context, in *struct{ Body api.ActAs }) (*struct{}, error) {
			return nil, a.service.People.ActAs(ctx, actor(ctx), in.Body)
		})
	register(a, route{id: "stop-acting", method: http.MethodDelete, path: "/session/acting",
		summary: "Act on nobody's behalf any more", permission: rights.Own, tag: tag, status: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			return nil, a.service.People.StopActing(ctx, actor(ctx))
		})
	register(a, route{id: "end-session", method: http.MethodDelete, path: "/session", summary: "Sign out",
		permission: rights.Own, tag: tag, status: http.StatusNoContent},
		func(ctx context.Context, _ *struct{}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			gone := a.cookie("")
			gone.MaxAge = -1
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{gone}, a.service.People.SignOut(ctx, actor(ctx))
		})
}

func (a *API) cookie(token string) http.Cookie {
	return http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, Secure: a.secure,
		SameSite: http.SameSiteStrictMode}
}
