package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
)

// kindInfo says how a kind of refusal looks over HTTP.
type kindInfo struct {
	kind   refusal.Kind
	status int
	title  string
}

// Kinds that only this layer knows.
const (
	malformed refusal.Kind = "malformed-request"
	tooLarge  refusal.Kind = "too-large"
	wrongType refusal.Kind = "wrong-media-type"
	noMethod  refusal.Kind = "wrong-method"
	foreign   refusal.Kind = "foreign-origin"
	internal  refusal.Kind = "internal"
)

// kinds lists every problem type there is.
var kinds = []kindInfo{
	{malformed, http.StatusBadRequest, "The request cannot be read"},
	{refusal.NotSignedIn, http.StatusUnauthorized, "Not signed in"},
	{refusal.WrongSignIn, http.StatusUnauthorized, "Wrong name or password"},
	{refusal.NeedsCode, http.StatusUnauthorized, "A code is needed as well"},
	{refusal.NotAllowed, http.StatusForbidden, "Not allowed"},
	{refusal.Suspended, http.StatusForbidden, "Suspended"},
	{refusal.MustDoFirst, http.StatusForbidden, "Something about the sign-in comes first"},
	{foreign, http.StatusForbidden, "The request comes from another site"},
	{refusal.NotFound, http.StatusNotFound, "Not there"},
	{noMethod, http.StatusMethodNotAllowed, "This method is not possible here"},
	{refusal.NameTaken, http.StatusConflict, "The name is in use"},
	{refusal.DomainTaken, http.StatusConflict, "The domain cannot be taken"},
	{refusal.WrongState, http.StatusConflict, "Not possible in this state"},
	{refusal.InUse, http.StatusConflict, "Still in use"},
	{refusal.LimitReached, http.StatusConflict, "A limit is reached"},
	{refusal.NeedsDecision, http.StatusConflict, "A decision is needed"},
	{refusal.LinkEnded, http.StatusGone, "The link has ended"},
	{refusal.ServerClosed, http.StatusConflict, "The server takes no new accounts"},
	{refusal.ServerFull, http.StatusConflict, "The server has no room left"},
	{refusal.NoServer, http.StatusConflict, "No server fits"},
	{refusal.Changed, http.StatusPreconditionFailed, "Changed meanwhile"},
	{tooLarge, http.StatusRequestEntityTooLarge, "The request is too large"},
	{wrongType, http.StatusUnsupportedMediaType, "The media type is not understood"},
	{refusal.InvalidInput, http.StatusUnprocessableEntity, "Something in the request is wrong"},
	{refusal.WeakPassword, http.StatusUnprocessableEntity, "The password is too weak"},
	{refusal.KeyReused, http.StatusUnprocessableEntity, "The Idempotency-Key was used for something else"},
	{refusal.TooManyTries, http.StatusTooManyRequests, "Too many tries"},
	{internal, http.StatusInternalServerError, "Something went wrong in the service"},
	{refusal.ApplyFailed, http.StatusBadGateway, "The server refused"},
	{refusal.MailFailed, http.StatusBadGateway, "Mail does not go out"},
	{refusal.DatabaseUnreachable, http.StatusServiceUnavailable, "The service's database does not answer"},
	{refusal.ServerUnreachable, http.StatusServiceUnavailable, "The server does not answer"},
}

func infoOf(kind refusal.Kind) kindInfo {
	for _, info := range kinds {
		if info.kind == kind {
			return info
		}
	}
	return kindInfo{kind, http.StatusConflict, string(kind)}
}

// problem makes a problem with a formatted detail.
func problem(kind refusal.Kind, format string, args ...any) *api.Problem {
	return refused(refusal.New(kind, format, args...))
}

func refused(r *refusal.Refusal) *api.Problem {
	info := infoOf(r.Kind)
	return api.NewProblem(info.status, info.title, r)
}

// toProblem turns an error of a use case into a problem, in the language of whoever asks. What is
// not a refusal is a fault of ours: it is logged, and told without its inside.
func (a *API) toProblem(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	request := requestOf(ctx)
	var p *api.Problem
	switch r := usecase.RefusalIn(err); {
	case errors.As(err, &p):
	case r != nil:
		if r.Kind == refusal.DatabaseUnreachable {
			a.log.Error("the database does not answer", "request", request.id, "reason", err)
		}
		p = refused(r.For(string(actor(ctx).Role)))
	case ctx.Err() != nil:
		p = problem(internal, "the request was given up")
	default:
		a.log.Error("request failed", "request", request.id, "reason", err)
		p = problem(internal, "nothing was changed; the service's log has more under request %s", request.id)
	}
	p.Say(request.language)
	return p
}

// newProblem makes problems of what huma itself finds wrong with a request.
func newProblem(ctx huma.Context, status int, message string, errs ...error) huma.StatusError {
	kind := malformed
	for _, info := range kinds {
		if info.status == status {
			kind = info.kind
			break
		}
	}
	var fields []refusal.Field
	for _, err := range errs {
		var known *api.Problem
		if errors.As(err, &known) {
			return known
		}
		var detail *huma.ErrorDetail
		if errors.As(err, &detail) {
			name := strings.TrimPrefix(strings.TrimPrefix(detail.Location, "body."), "query.")
			fields = append(fields, refusal.Wrong(name, "%s", sentence(detail.Message)))
		} else if err != nil {
			fields = append(fields, refusal.Wrong("request", "%s", err))
		}
	}
	switch kind {
	case malformed:
		message = "the request cannot be read: send one JSON document as the API description says"
	case refusal.InvalidInput:
		message = "something in the request is wrong; see the fields"
	case tooLarge:
		message = "the request is larger than this call takes: 1 MiB, unless its description says otherwise"
	}
	p := refused(refusal.New(kind, "%s", language.Plain(message)).At(fields))
	if ctx != nil {
		p.Say(requestOf(ctx.Context()).language)
	}
	return p
}

func init() {
	huma.NewErrorWithContext = newProblem
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		return newProblem(nil, status, message, errs...)
	}
}

// problemRoutes describe the kinds of problems to people who follow a type.
func (a *API) problemRoutes() {
	type answer struct {
		Body struct {
			Problems []problemKind `json:"problems"`
		}
	}
	type kindAnswer struct{ Body problemKind }
	register(a, route{id: "list-problems", method: http.MethodGet, path: "/problems",
		summary: "List the kinds of problems", permission: "public", tag: "Problems"},
		func(ctx context.Context, _ *struct{}) (*answer, error) {
			out := &answer{}
			for _, info := range kinds {
				out.Body.Problems = append(out.Body.Problems, problemKind{api.ProblemBase + string(info.kind),
					language.Plain(info.title).In(actor(ctx).Language), info.status})
			}
			return out, nil
		})
	register(a, route{id: "show-problem", method: http.MethodGet, path: "/problems/{kind}",
		summary: "Explain a kind of problem", permission: "public", tag: "Problems"},
		func(ctx context.Context, in *struct {
			Kind string `path:"kind" maxLength:"60" doc:"The last part of a problem's type."`
		}) (*kindAnswer, error) {
			for _, info := range kinds {
				if string(info.kind) == in.Kind {
					return &kindAnswer{problemKind{api.ProblemBase + in.Kind,
						language.Plain(info.title).In(actor(ctx).Language), info.status}}, nil
				}
			}
			return nil, problem(refusal.NotFound, "there is no such kind of problem")
		})
}

type problemKind struct {
	Type   string `json:"type" format:"uri-reference"`
	Title  string `json:"title"`
	Status int    `json:"status"`
}
