package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// ExceptionPath is how one exception is named in a path.
type ExceptionPath struct {
	AccountPath
	What string `path:"what" enum:"limits,features"`
	Key  string `path:"key" maxLength:"40" doc:"Key of the limit, or the feature."`
}

func (a *API) exceptionRoutes() {
	const tag = "Exceptions"
	register(a, route{id: "list-exceptions", method: http.MethodGet, path: "/accounts/{account}/exceptions",
		summary: "List what is set by hand on an account", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.ExceptionList }, error) {
			list, err := a.service.Selling.Exceptions(ctx, actor(ctx), in.Account)
			return &struct{ Body api.ExceptionList }{list}, err
		})
	registerChange(a, route{id: "set-exception", method: http.MethodPut, path: "/accounts/{account}/exceptions",
		summary: "Set a limit or a feature of one account by hand", permission: rights.ExceptionsChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewException
		}) (api.TermsChanged, error) {
			return a.service.Selling.SetException(ctx, who, in.Account, in.Body)
		})
	registerChange(a, route{id: "remove-exception", method: http.MethodDelete,
		path: "/accounts/{account}/exceptions/{what}/{key}", summary: "Let the plan's value return",
		permission: rights.ExceptionsChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ExceptionPath
			Previewable
		}) (api.TermsChanged, error) {
			return a.service.Selling.RemoveException(ctx, who, in.Account, in.What, in.Key)
		})
}

func (a *API) resellerRoutes() {
	const tag = "Resellers"
	type ResellerPath struct {
		Reseller string `path:"reseller" maxLength:"40" doc:"Name."`
	}
	register(a, route{id: "list-resellers", method: http.MethodGet, path: "/resellers", summary: "List resellers",
		permission: rights.ResellersRead, tag: tag},
		func(ctx context.Context, in *struct {
			Page
			Search string `query:"search" maxLength:"200" doc:"Part of the name or title."`
		}) (*struct{ Body api.ResellerPage }, error) {
			list, err := a.service.Selling.Resellers(ctx, actor(ctx), in.Search, in.Cursor, in.Limit)
			return &struct{ Body api.ResellerPage }{list}, err
		})
	registerChange(a, route{id: "add-reseller", method: http.MethodPost, path: "/resellers", summary: "Add a reseller",
		permission: rights.ResellersChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewReseller
		}) (api.Reseller, error) {
			return a.service.Selling.AddReseller(ctx, who, in.Body)
		})
	register(a, route{id: "show-reseller", method: http.MethodGet, path: "/resellers/{reseller}",
		summary: "Show a reseller", permission: rights.ResellersRead, tag: tag},
		func(ctx context.Context, in *ResellerPath) (*struct {
			ETag string `header:"ETag"`
			Body api.Reseller
		}, error) {
			r, err := a.service.Selling.Reseller(ctx, actor(ctx), in.Reseller)
			return &struct {
				ETag string `header:"ETag"`
				Body api.Reseller
			}{etag(r.Version), r}, err
		})
	registerChange(a, route{id: "change-reseller", method: http.MethodPatch, path: "/resellers/{reseller}",
		summary: "Change a reseller and their share", permission: rights.ResellersChange, tag: tag,
		description: "A share below what is given out needs a decision."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Versioned
			Previewable
			Body api.ResellerChange
		}) (api.Reseller, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Reseller{}, err
			}
			return a.service.Selling.ChangeReseller(ctx, who, in.Reseller, version, in.Body)
		})
	registerChange(a, route{id: "remove-reseller", method: http.MethodDelete, path: "/resellers/{reseller}",
		summary: "Remove a reseller without customers", permission: rights.ResellersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Selling.RemoveReseller(ctx, who, in.Reseller)
		})
	registerChange(a, route{id: "suspend-reseller", method: http.MethodPost, path: "/resellers/{reseller}/suspend",
		summary: "Suspend a reseller", permission: rights.ResellersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Previewable
			Body api.SuspendReseller
		}) (api.ResellerSuspended, error) {
			return a.service.Selling.SuspendReseller(ctx, who, in.Reseller, in.Body)
		})
	registerChange(a, route{id: "resume-reseller", method: http.MethodPost, path: "/resellers/{reseller}/resume",
		summary: "Resume a suspended reseller", permission: rights.ResellersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Previewable
		}) (api.ResellerSuspended, error) {
			return a.service.Selling.ResumeReseller(ctx, who, in.Reseller)
		})
	register(a, route{id: "show-share", method: http.MethodGet, path: "/resellers/{reseller}/share",
		summary: "Show a reseller's share with both sums", permission: rights.ResellersRead, tag: tag},
		func(ctx context.Context, in *ResellerPath) (*struct{ Body api.Share }, error) {
			share, err := a.service.Selling.Share(ctx, actor(ctx), in.Reseller)
			return &struct{ Body api.Share }{share}, err
		})
	register(a, route{id: "show-brand", method: http.MethodGet, path: "/resellers/{reseller}/brand",
		summary: "Show a reseller's brand", permission: rights.ResellersRead, tag: tag},
		func(ctx context.Context, in *ResellerPath) (*struct {
			ETag string `header:"ETag"`
			Body api.BrandInForce
		}, error) {
			b, err := a.service.Selling.Brand(ctx, actor(ctx), in.Reseller)
			return &struct {
				ETag string `header:"ETag"`
				Body api.BrandInForce
			}{etag(b.Version), b}, err
		})
	registerChange(a, route{id: "keep-brand", method: http.MethodPut, path: "/resellers/{reseller}/brand",
		summary: "Change a reseller's brand", permission: rights.BrandChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Versioned
			Previewable
			Body api.Brand
		}) (api.BrandInForce, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.BrandInForce{}, err
			}
			return a.service.Selling.ChangeBrand(ctx, who, in.Reseller, version, in.Body)
		})
	registerChange(a, route{id: "keep-logo", method: http.MethodPut, path: "/resellers/{reseller}/brand/logo",
		summary: "Change a reseller's logo", permission: rights.BrandChange, tag: tag,
		description: "The body is the image: PNG, WebP or SVG, at most 256 KiB. An SVG is written anew from what is " +
			"harmless."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Previewable
			RawBody []byte `contentType:"application/octet-stream"`
		}) (nothing, error) {
			return nothing{}, a.service.Selling.ChangeLogo(ctx, who, in.Reseller, in.RawBody)
		})
	registerChange(a, route{id: "remove-logo", method: http.MethodDelete, path: "/resellers/{reseller}/brand/logo",
		summary: "Take a reseller's logo away", permission: rights.BrandChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ResellerPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Selling.ChangeLogo(ctx, who, in.Reseller, nil)
		})
	register(a, route{id: "show-logo", method: http.MethodGet, path: "/resellers/{reseller}/brand/logo",
		summary: "A reseller's logo", permission: rights.Public, tag: tag},
		func(ctx context.Context, in *ResellerPath) (*struct {
			ContentType string `header:"Content-Type"`
			Policy      string `header:"Content-Security-Policy"`
			Body        []byte
		}, error) {
			image, mediaType, err := a.service.Selling.Logo(ctx, in.Reseller)
			return &struct {
				ContentType string `header:"Content-Type"`
				Policy      string `header:"Content-Security-Policy"`
				Body        []byte
			}{mediaType, "default-src 'none'; sandbox", image}, err
		})
}
