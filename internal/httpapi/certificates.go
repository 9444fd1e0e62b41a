package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service"
)

// AuthorityPath is how an authority is named in a path.
type AuthorityPath struct {
	Authority string `path:"authority" maxLength:"31"`
}

func init() {
	nouns = append(nouns, func(a *API) {
		const tag = "Certificates"
		register(a, route{id: "list-authorities", method: http.MethodGet, path: "/authorities", summary: "List the authorities that issue certificates", permission: rights.AuthoritiesRead, tag: tag},
			func(ctx context.Context, _ *struct{}) (*struct{ Body api.AuthorityList }, error) {
				list, err := a.service.Authorities(ctx)
				return &struct{ Body api.AuthorityList }{list}, err
			})
		register(a, route{id: "ask-authority", method: http.MethodPost, path: "/authorities/ask", summary: "Ask an authority what it says of itself, before it is added", permission: rights.AuthoritiesChange, tag: tag},
			func(ctx context.Context, in *struct{ Body api.AuthorityQuestion }) (*struct{ Body api.AuthorityAnswer }, error) {
				answer, err := a.service.AskAuthority(ctx, in.Body)
				return &struct{ Body api.AuthorityAnswer }{answer}, err
			})
		registerChange(a, route{id: "add-authority", method: http.MethodPost, path: "/authorities", summary: "Add an authority (RFC 8555) and register an account with it", permission: rights.AuthoritiesChange, tag: tag, status: http.StatusCreated},
			func(ctx context.Context, who service.Actor, in *struct {
				Previewable
				Body api.NewAuthority
			}) (api.Authority, int64, error) {
				added, err := a.service.AddAuthority(ctx, who, in.Body)
				return added, 0, err
			})
		registerChange(a, route{id: "change-authority", method: http.MethodPatch, path: "/authorities/{authority}", summary: "Make an authority the usual one, order another profile, or change the account's key", permission: rights.AuthoritiesChange, tag: tag},
			func(ctx context.Context, who service.Actor, in *struct {
				AuthorityPath
				Versioned
				Previewable
				Body api.AuthorityChange
			}) (api.Authority, int64, error) {
				version, err := versionOf(in.IfMatch)
				if err != nil {
					return api.Authority{}, 0, err
				}
				changed, err := a.service.ChangeAuthority(ctx, who, in.Authority, version, in.Body)
				return changed, 0, err
			})
		registerChange(a, route{id: "remove-authority", method: http.MethodDelete, path: "/authorities/{authority}", summary: "Forget an authority that has issued nothing", permission: rights.AuthoritiesChange, tag: tag},
			func(ctx context.Context, who service.Actor, in *struct {
				AuthorityPath
				Previewable
			}) (nothing, int64, error) {
				return nothing{}, 0, a.service.RemoveAuthority(ctx, who, in.Authority)
			})
		register(a, route{id: "list-certificates", method: http.MethodGet, path: "/certificates", summary: "List all sites with their certificates, those with the fewest days left first", permission: rights.AccountsRead, tag: tag,
			description: "Self-signed ones come before all others."},
			func(ctx context.Context, in *struct {
				Page
				Search    string `query:"search" maxLength:"300" doc:"Part of the domain."`
				Domain    string `query:"domain" maxLength:"300" doc:"Only the site of this name."`
				Account   string `query:"account" maxLength:"300" doc:"Only those of one account."`
				Authority string `query:"authority" maxLength:"31" doc:"Only those of one authority."`
				Failing   bool   `query:"failing" doc:"Only those whose last try failed."`
				Days      int    `query:"days" minimum:"0" maximum:"10000" doc:"Only those that end within so many days."`
			}) (*struct{ Body api.CertificatePage }, error) {
				ends, id := int64(-1), int64(0)
				if err := service.ReadCursor(in.Cursor, &ends, &id); err != nil {
					return nil, err
				}
				page, err := a.service.Certificates(ctx, actor(ctx), service.CertificateFilter{Account: in.Account, Domain: in.Domain, Authority: in.Authority, Search: in.Search, Failing: in.Failing, Days: in.Days}, ends, id, in.Limit)
				return &struct{ Body api.CertificatePage }{page}, err
			})
		register(a, route{id: "show-certificate", method: http.MethodGet, path: "/accounts/{account}/domains/{domain}/certificate", summary: "Show how a site stands with its certificate", permission: rights.AccountsRead, tag: tag},
			func(ctx context.Context, in *DomainPath) (*struct {
				ETag string `header:"ETag"`
				Body api.SiteCertificate
			}, error) {
				c, err := a.service.Certificate(ctx, actor(ctx), in.Account, in.Domain)
				return &struct {
					ETag string `header:"ETag"`
					Body api.SiteCertificate
				}{etag(c.Version), c}, err
			})
		registerChange(a, route{id: "change-certificate", method: http.MethodPatch, path: "/accounts/{account}/domains/{domain}/certificate", summary: "Change how a site comes by its certificate", permission: rights.CertificatesChange, tag: tag},
			func(ctx context.Context, who service.Actor, in *struct {
				DomainPath
				Versioned
				Previewable
				Body api.CertificateChange
			}) (api.SiteCertificate, int64, error) {
				version, err := versionOf(in.IfMatch)
				if err != nil {
					return api.SiteCertificate{}, 0, err
				}
				changed, err := a.service.ChangeCertificate(ctx, who, in.Account, in.Domain, version, in.Body)
				return changed, 0, err
			})
		register(a, route{id: "rehearse-certificate", method: http.MethodPost, path: "/accounts/{account}/domains/{domain}/certificate/rehearsal", summary: "Say of each name what an authority would do, and ask none", permission: rights.CertificatesChange, tag: tag},
			func(ctx context.Context, in *struct {
				DomainPath
				Body api.RehearsalQuestion
			}) (*struct{ Body api.Rehearsal }, error) {
				r, err := a.service.Rehearse(ctx, actor(ctx), in.Account, in.Domain, in.Body)
				return &struct{ Body api.Rehearsal }{r}, err
			})
		registerChange(a, route{id: "order-certificate", method: http.MethodPost, path: "/accounts/{account}/domains/{domain}/certificate/order", summary: "Order a certificate now, for the names that would pass", permission: rights.CertificatesChange, tag: tag, status: http.StatusAccepted},
			func(ctx context.Context, who service.Actor, in *struct {
				DomainPath
				Previewable
			}) (api.Started, int64, error) {
				started, err := a.service.OrderCertificate(ctx, who, in.Account, in.Domain)
				return started, started.Operation, err
			})
	})
}
