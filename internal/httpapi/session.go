package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
)

func init() {
	nouns = append(nouns, func(a *API) {
		const tag = "Session"
		type answer struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      api.Session
		}
		register(a, route{id: "start-session", method: http.MethodPost, path: "/session", summary: "Sign in", permission: rights.Public, tag: tag,
			description: "The answer sets a cookie, or holds a bearer token if one was asked for."},
			func(ctx context.Context, in *struct{ Body api.SignIn }) (*answer, error) {
				session, err := a.service.SignIn(ctx, actor(ctx), in.Body)
				if err != nil {
					return nil, err
				}
				out := &answer{Body: session}
				if !in.Body.Token {
					out.SetCookie = a.cookie(session.Token)
					out.Body.Token = ""
				}
				return out, nil
			})
		register(a, route{id: "show-session", method: http.MethodGet, path: "/session", summary: "Show who is signed in", permission: rights.Own, tag: tag},
			func(ctx context.Context, _ *struct{}) (*struct{ Body api.Session }, error) {
				who := actor(ctx)
				return &struct{ Body api.Session }{api.Session{Name: who.Name, Role: string(who.Role), EndsAt: who.SessionEnds.UTC()}}, nil
			})
		register(a, route{id: "end-session", method: http.MethodDelete, path: "/session", summary: "Sign out", permission: rights.Own, tag: tag, status: http.StatusNoContent},
			func(ctx context.Context, _ *struct{}) (*struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}, error) {
				gone := a.cookie("")
				gone.MaxAge = -1
				return &struct {
					SetCookie http.Cookie `header:"Set-Cookie"`
				}{gone}, a.service.SignOut(ctx, actor(ctx))
			})
	})
}

func (a *API) cookie(token string) http.Cookie {
	return http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, Secure: a.secure, SameSite: http.SameSiteStrictMode}
}
