package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// What is one's own: password, second factor, sessions, tokens.
func (a *API) personalRoutes() {
	const tag = "One's own"
	type Numbered struct {
		ID int64 `path:"number" minimum:"1"`
		Previewable
	}
	register(a, route{id: "check-password", method: http.MethodPost, path: "/check/password",
		summary: "Estimate how well a password would hold", permission: rights.Public, tag: tag,
		description: "Nothing of it is kept."},
		func(ctx context.Context, in *struct{ Body api.PasswordCheck }) (*struct{ Body api.Strength }, error) {
			return &struct{ Body api.Strength }{a.service.People.CheckPassword(actor(ctx), in.Body)}, nil
		})
	register(a, route{id: "generate-password", method: http.MethodGet, path: "/generate/password",
		summary: "Make a random password", permission: rights.Public, tag: tag,
		description: "It is not kept. What is mistaken for something else when read aloud is left out."},
		func(_ context.Context, in *struct {
			Length int  `query:"length" minimum:"8" maximum:"128" default:"16" doc:"Characters."`
			Small  bool `query:"small" default:"true" doc:"With small letters."`
			Large  bool `query:"large" default:"true" doc:"With capital letters."`
			Digits bool `query:"digits" default:"true" doc:"With digits."`
			Signs  bool `query:"signs" doc:"With signs that are typed on every keyboard."`
		}) (*struct{ Body api.GeneratedPassword }, error) {
			p, err := a.service.People.GeneratePassword(in.Length, in.Small, in.Large, in.Digits, in.Signs)
			return &struct{ Body api.GeneratedPassword }{p}, err
		})
	registerChange(a, route{id: "change-password", method: http.MethodPut, path: "/password",
		summary: "Change one's own password", permission: rights.Personal, tag: tag,
		description: "Ends all one's other sessions."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.PasswordChange
		}) (nothing, error) {
			return nothing{}, a.service.People.ChangePassword(ctx, who, in.Body)
		})
	register(a, route{id: "show-second-factor", method: http.MethodGet, path: "/second-factor",
		summary: "Show how one's second factor is", permission: rights.Personal, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.SecondFactor }, error) {
			f, err := a.service.People.SecondFactor(ctx, actor(ctx))
			return &struct{ Body api.SecondFactor }{f}, err
		})
	registerChange(a, route{id: "start-second-factor", method: http.MethodPost, path: "/second-factor",
		summary: "Set up a second factor (RFC 6238)", permission: rights.Personal, tag: tag, status: http.StatusCreated,
		description: "It counts when a code of it was given."},
		func(ctx context.Context, who usecase.Actor, _ *struct{ Previewable }) (api.SecondFactorSetup, error) {
			return a.service.People.StartSecondFactor(ctx, who)
		})
	registerChange(a, route{id: "confirm-second-factor", method: http.MethodPost, path: "/second-factor/confirm",
		summary: "Switch one's second factor on", permission: rights.Personal, tag: tag,
		description: "Answers with recovery codes, which are shown once."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.Code
		}) (api.RecoveryCodes, error) {
			return a.service.People.ConfirmSecondFactor(ctx, who, in.Body.Code)
		})
	registerChange(a, route{id: "renew-recovery-codes", method: http.MethodPost, path: "/second-factor/recovery-codes",
		summary: "Make new recovery codes", permission: rights.Personal, tag: tag,
		description: "The old ones work no longer."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.Proof
		}) (api.RecoveryCodes, error) {
			return a.service.People.RenewRecoveryCodes(ctx, who, in.Body)
		})
	registerChange(a, route{id: "drop-second-factor", method: http.MethodPost, path: "/second-factor/drop",
		summary: "Switch one's second factor off", permission: rights.Personal, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.Proof
		}) (nothing, error) {
			return nothing{}, a.service.People.DropSecondFactor(ctx, who, in.Body)
		})
	register(a, route{id: "list-sessions", method: http.MethodGet, path: "/sessions",
		summary: "List one's own sessions", permission: rights.Personal, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.OpenSessions }, error) {
			list, err := a.service.People.Sessions(ctx, actor(ctx))
			return &struct{ Body api.OpenSessions }{list}, err
		})
	registerChange(a, route{id: "end-other-session", method: http.MethodDelete, path: "/sessions/{number}",
		summary: "End one of one's own sessions", permission: rights.Personal, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *Numbered) (nothing, error) {
			return nothing{}, a.service.People.EndSession(ctx, who, in.ID)
		})
	register(a, route{id: "list-scopes", method: http.MethodGet, path: "/scopes",
		summary: "List what a token can be allowed", permission: rights.Own, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.ScopeList }, error) {
			return &struct{ Body api.ScopeList }{a.service.People.Scopes(actor(ctx))}, nil
		})
	register(a, route{id: "list-tokens", method: http.MethodGet, path: "/tokens", summary: "List one's own tokens",
		permission: rights.Personal, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.TokenList }, error) {
			list, err := a.service.People.Tokens(ctx, actor(ctx))
			return &struct{ Body api.TokenList }{list}, err
		})
	registerChange(a, route{id: "add-token", method: http.MethodPost, path: "/tokens",
		summary: "Make a token for a program", permission: rights.Personal, tag: tag, status: http.StatusCreated,
		description: "Its secret is in the answer and can never be looked up again."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewToken
		}) (api.Token, error) {
			return a.service.People.AddToken(ctx, who, in.Body)
		})
	registerChange(a, route{id: "remove-token", method: http.MethodDelete, path: "/tokens/{number}",
		summary: "Take a token back", permission: rights.Personal, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *Numbered) (nothing, error) {
			return nothing{}, a.service.People.RemoveToken(ctx, who, in.ID)
		})
}
