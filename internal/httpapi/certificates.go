package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/certs"
	"victualler/internal/service/usecase"
)

// AuthorityPath is how an authority is named in a path.
type AuthorityPath struct {
	Authority string `path:"authority" maxLength:"31"`
}

func (a *API) certificateRoutes() {
	const tag = "Certificates"
	register(a, route{id: "list-authorities", method: http.MethodGet, path: "/authorities",
		summary: "List the authorities that issue certificates", permission: rights.AuthoritiesRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.AuthorityList }, error) {
			list, err := a.service.Certs.Authorities(ctx)
			return &struct{ Body api.AuthorityList }{list}, err
		})
	register(a, route{id: "ask-authority", method: http.MethodPost, path: "/authorities/ask",
		summary: "Ask an authority what it says of itself, before it is added", permission: rights.AuthoritiesChange,
		tag: tag},
		func(ctx context.Context, in *struct{ Body api.AuthorityQuestion }) (*struct{ Body api.AuthorityAnswer },
			error) {
			answer, err := a.service.Certs.CheckAuthority(ctx, in.Body)
			return &struct{ Body api.AuthorityAnswer }{answer}, err
		})
	registerChange(a, route{id: "add-authority", method: http.MethodPost, path: "/authorities",
		summary: "Add an authority (RFC 8555) and register an account with it", permission: rights.AuthoritiesChange,
		tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewAuthority
		}) (api.Authority, error) {
			return a.service.Certs.AddAuthority(ctx, who, in.Body)
		})
	registerChange(a, route{id: "change-authority", method: http.MethodPatch, path: "/authorities/{authority}",
		summary:    "Make an authority the usual one, order another profile, or change the account's key",
		permission: rights.AuthoritiesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AuthorityPath
			Versioned
			Previewable
			Body api.AuthorityChange
		}) (api.Authority, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Authority{}, err
			}
			return a.service.Certs.ChangeAuthority(ctx, who, in.Authority, version, in.Body)
		})
	registerChange(a, route{id: "remove-authority", method: http.MethodDelete, path: "/authorities/{authority}",
		summary: "Forget an authority that has issued nothing", permission: rights.AuthoritiesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AuthorityPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Certs.RemoveAuthority(ctx, who, in.Authority)
		})
	register(a, route{id: "list-certificates", method: http.MethodGet, path: "/certificates",
		summary:    "List all sites with their certificates, those with the fewest days left first",
		permission: rights.AccountsRead, tag: tag,
		description: "Sites that have none for all trying come before all others, self-signed ones after."},
		func(ctx context.Context, in *struct {
			Page
			Search    string `query:"search" maxLength:"300" doc:"Part of the domain."`
			Domain    string `query:"domain" maxLength:"300" doc:"Only the site of this name."`
			Account   string `query:"account" maxLength:"300" doc:"Only those of one account."`
			Authority string `query:"authority" maxLength:"31" doc:"Only those of one authority."`
			State     string `query:"state" enum:"self-signed,ordered,valid,failing,expired,uploaded" doc:"Only those that are so."`
			Days      int    `query:"days" minimum:"0" maximum:"10000" doc:"Only those that end within so many days."`
		}) (*struct{ Body api.CertificatePage }, error) {
			ends, id := int64(-1), int64(0)
			if err := usecase.ReadCursor(in.Cursor, &ends, &id); err != nil {
				return nil, err
			}
			page, err := a.service.Certs.Certificates(ctx, actor(ctx), certs.CertificateFilter{Account: in.Account,
				Domain: in.Domain, Authority: in.Authority, Search: in.Search, State: in.State, Days: in.Days}, ends,
				id, in.Limit)
			return &struct{ Body api.CertificatePage }{page}, err
		})
	register(a, route{id: "show-certificate", method: http.MethodGet,
		path:    "/accounts/{account}/domains/{domain}/certificate",
		summary: "Show how a site stands with its certificate", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *DomainPath) (*struct {
			ETag string `header:"ETag"`
			Body api.SiteCertificate
		}, error) {
			c, err := a.service.Certs.Certificate(ctx, actor(ctx), in.Account, in.Domain)
			return &struct {
				ETag string `header:"ETag"`
				Body api.SiteCertificate
			}{etag(c.Version), c}, err
		})
	registerChange(a, route{id: "change-certificate", method: http.MethodPatch,
		path: "/accounts/{account}/domains/{domain}/certificate", summary: "Change how a site comes by its certificate",
		permission: rights.CertificatesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Versioned
			Previewable
			Body api.CertificateChange
		}) (api.CertificateChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.CertificateChanged{}, err
			}
			return a.service.Certs.ChangeCertificate(ctx, who, in.Account, in.Domain, version, in.Body)
		})
	register(a, route{id: "rehearse-certificate", method: http.MethodPost,
		path:    "/accounts/{account}/domains/{domain}/certificate/rehearsal",
		summary: "Say of each name what an authority would do, and ask none", permission: rights.CertificatesChange,
		tag: tag},
		func(ctx context.Context, in *struct {
			DomainPath
			Body api.RehearsalQuestion
		}) (*struct{ Body api.Rehearsal }, error) {
			r, err := a.service.Certs.Rehearse(ctx, actor(ctx), in.Account, in.Domain, in.Body)
			return &struct{ Body api.Rehearsal }{r}, err
		})
	registerChange(a, route{id: "order-certificate", method: http.MethodPost,
		path:    "/accounts/{account}/domains/{domain}/certificate/order",
		summary: "Order a certificate now, for the names that would pass", permission: rights.CertificatesChange,
		tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body *api.CertificateOrder
		}) (api.Started, error) {
			order := api.CertificateOrder{}
			if in.Body != nil {
				order = *in.Body
			}
			return a.service.Certs.OrderCertificate(ctx, who, in.Account, in.Domain, order)
		})
	registerChange(a, route{id: "cancel-certificate-order", method: http.MethodDelete,
		path:       "/accounts/{account}/domains/{domain}/certificate/order",
		summary:    "Cancel the order that is on its way, before the authority issues",
		permission: rights.CertificatesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Certs.CancelOrder(ctx, who, in.Account, in.Domain)
		})
	registerChange(a, route{id: "install-certificate", method: http.MethodPost,
		path:    "/accounts/{account}/domains/{domain}/certificate/install",
		summary: "Install a certificate that an authority has given you", permission: rights.CertificatesChange,
		tag: tag, status: http.StatusAccepted,
		description: "The chain is ordered, and completed with certificates of authorities that are known. The key " +
			"is found automatically where the signing request was made here."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.UploadedCertificate
		}) (api.InstalledCertificate, error) {
			return a.service.Certs.InstallCertificate(ctx, who, in.Account, in.Domain, in.Body)
		})
	registerChange(a, route{id: "make-signing-request", method: http.MethodPost,
		path:       "/accounts/{account}/domains/{domain}/certificate/requests",
		summary:    "Make a key and a signing request for an authority of your own choice",
		permission: rights.CertificatesChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.NewSigningRequest
		}) (api.SigningRequest, error) {
			return a.service.Certs.MakeSigningRequest(ctx, who, in.Account, in.Domain, in.Body)
		})
	registerChange(a, route{id: "remove-signing-request", method: http.MethodDelete,
		path:    "/accounts/{account}/domains/{domain}/certificate/requests/{request}",
		summary: "Forget a signing request and its key", permission: rights.CertificatesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Request int64 `path:"request"`
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Certs.RemoveSigningRequest(ctx, who, in.Account, in.Domain, in.Request)
		})
	register(a, route{id: "download-certificate", method: http.MethodGet,
		path:    "/accounts/{account}/domains/{domain}/certificate/chain",
		summary: "Take the certificate that a site shows, without its key", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *DomainPath) (*struct{ Body api.CertificateText }, error) {
			text, err := a.service.Certs.CertificateText(ctx, actor(ctx), in.Account, in.Domain)
			return &struct{ Body api.CertificateText }{text}, err
		})
	register(a, route{id: "take-certificate-key", method: http.MethodPost,
		path:       "/accounts/{account}/domains/{domain}/certificate/key",
		summary:    "Take the certificate with its key, as the customer whose it is",
		permission: rights.CertificatesChange, tag: tag,
		description: "Needs a session of the account's own customer, the password and the second factor. That the " +
			"key was given is recorded."},
		func(ctx context.Context, in *struct {
			DomainPath
			Body api.KeyProof
		}) (*struct {
			CacheControl string `header:"Cache-Control"`
			Body         api.CertificateWithKey
		}, error) {
			with, err := a.service.Certs.CertificateWithKey(ctx, actor(ctx), in.Account, in.Domain, in.Body)
			return &struct {
				CacheControl string `header:"Cache-Control"`
				Body         api.CertificateWithKey
			}{"no-store", with}, err
		})
	registerChange(a, route{id: "revoke-certificate", method: http.MethodPost,
		path:    "/accounts/{account}/domains/{domain}/certificate/revocation",
		summary: "Have a certificate revoked; the next one is ordered at once", permission: rights.CertificatesChange,
		tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.Revocation
		}) (api.Started, error) {
			return a.service.Certs.RevokeCertificate(ctx, who, in.Account, in.Domain, in.Body)
		})
}
