package httpapi

import (
	"context"
	"net/http"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/domains"
	"victualler/internal/service/usecase"
)

// DomainPath is how one domain of an account is named in a path.
type DomainPath struct {
	AccountPath
	Domain string `path:"domain" maxLength:"300" doc:"In A-labels or as people read it."`
}

// FolderPath is how a protected folder is named in a path.
type FolderPath struct {
	DomainPath
	Folder int64 `path:"folder" doc:"Number of the protected folder."`
}

// FolderUserPath is how somebody who may see a protected folder is named in a path.
type FolderUserPath struct {
	FolderPath
	User string `path:"user" maxLength:"64"`
}

// TemplatePath is how a template is named in a path.
type TemplatePath struct {
	Template string `path:"template" maxLength:"81" doc:"Name; RESELLER.NAME is a reseller's."`
}

func (a *API) siteRoutes() {
	const tag = "Domains and sites"
	register(a, route{id: "list-domains", method: http.MethodGet, path: "/domains", summary: "List domains",
		permission: rights.AccountsRead, tag: tag,
		description: "In the order of names, without those of closed accounts."},
		func(ctx context.Context, in *struct {
			Page
			Search   string `query:"search" maxLength:"300" doc:"Part of the name."`
			Domain   string `query:"domain" maxLength:"300" doc:"The whole name. Several accounts have it if others wait for its proof."`
			Account  string `query:"account" maxLength:"300" doc:"Only those of one account."`
			ServedAs string `query:"served_as" enum:",site,mirror,redirect,dns-only"`
			Waiting  bool   `query:"waiting" doc:"True for only those that wait for the proof whose they are."`
		}) (*struct{ Body api.DomainPage }, error) {
			page, err := a.service.Domains.Domains(ctx, actor(ctx), domains.Filter{Search: in.Search, Domain: in.Domain,
				Account: in.Account, ServedAs: in.ServedAs, Waiting: in.Waiting}, in.Cursor, in.Limit)
			return &struct{ Body api.DomainPage }{page}, err
		})
	registerChange(a, route{id: "add-domain", method: http.MethodPost, path: "/accounts/{account}/domains",
		summary: "Add a domain", permission: rights.DomainsChange, tag: tag, status: http.StatusAccepted,
		description: "Served as a site of its own, a mirror, a redirect, or in DNS alone (dns-only). A name below " +
			"one of the account's own domains counts as a subdomain."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			AccountPath
			Previewable
			Body api.NewDomain
		}) (api.DomainChanged, error) {
			return a.service.Domains.AddDomain(ctx, who, in.Account, in.Body)
		})
	register(a, route{id: "show-domain", method: http.MethodGet, path: "/accounts/{account}/domains/{domain}",
		summary: "Show a domain with its site", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *DomainPath) (*struct {
			ETag string `header:"ETag"`
			Body api.DomainDetail
		}, error) {
			d, err := a.service.Domains.Domain(ctx, actor(ctx), in.Account, in.Domain)
			return &struct {
				ETag string `header:"ETag"`
				Body api.DomainDetail
			}{etag(d.Version), d}, err
		})
	registerChange(a, route{id: "change-domain", method: http.MethodPatch, path: "/accounts/{account}/domains/{domain}",
		summary: "Change how a domain is served, and the settings of its site", permission: rights.DomainsChange,
		tag: tag, status: http.StatusAccepted,
		description: "What is absent stays. With a new document root, files stay where they are unless move_files is " +
			"set."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Versioned
			Previewable
			Body api.DomainChange
		}) (api.DomainChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.DomainChanged{}, err
			}
			return a.service.Domains.ChangeDomain(ctx, who, in.Account, in.Domain, version, in.Body)
		})
	registerChange(a, route{id: "remove-domain", method: http.MethodDelete,
		path: "/accounts/{account}/domains/{domain}", summary: "Remove a domain", permission: rights.DomainsChange,
		tag: tag, status: http.StatusAccepted,
		description: "Its files stay where they are."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
		}) (api.Started, error) {
			return a.service.Domains.RemoveDomain(ctx, who, in.Account, in.Domain)
		})
	registerChange(a, route{id: "prove-domain", method: http.MethodPost,
		path: "/accounts/{account}/domains/{domain}/proof", summary: "Ask DNS whether a domain is its account's",
		permission: rights.DomainsChange, tag: tag, status: http.StatusAccepted,
		description: "DNS is asked automatically, too, less and less often. A domain that waits is served when the " +
			"answer is yes. Operators can vouch for a domain instead."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.ProofRequest
		}) (api.DomainChanged, error) {
			return a.service.Domains.ProveDomain(ctx, who, in.Account, in.Domain, in.Body.Vouch)
		})
	registerChange(a, route{id: "protect-folder", method: http.MethodPost,
		path: "/accounts/{account}/domains/{domain}/folders", summary: "Protect a folder of a site",
		permission: rights.DomainsChange, tag: tag, status: http.StatusAccepted,
		description: "Visitors are asked for a name and a password (RFC 7617). A folder that is protected already " +
			"gets the title and people given."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.NewFolder
		}) (api.FolderChanged, error) {
			return a.service.Domains.ProtectFolder(ctx, who, in.Account, in.Domain, in.Body)
		})
	registerChange(a, route{id: "open-folder", method: http.MethodDelete,
		path: "/accounts/{account}/domains/{domain}/folders/{folder}", summary: "Let everybody see a folder",
		permission: rights.DomainsChange, tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			FolderPath
			Previewable
		}) (api.Started, error) {
			return a.service.Domains.UnprotectFolder(ctx, who, in.Account, in.Domain, in.Folder)
		})
	registerChange(a, route{id: "let-in", method: http.MethodPut,
		path:    "/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}",
		summary: "Let somebody into a protected folder", permission: rights.DomainsChange, tag: tag,
		status:      http.StatusAccepted,
		description: "Sets the password of somebody who may see it already."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			FolderUserPath
			Previewable
			Body api.FolderPassword
		}) (api.FolderChanged, error) {
			return a.service.Domains.AddFolderUser(ctx, who, in.Account, in.Domain, in.Folder, in.User,
				in.Body.Password)
		})
	registerChange(a, route{id: "shut-out", method: http.MethodDelete,
		path:    "/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}",
		summary: "Shut somebody out of a protected folder", permission: rights.DomainsChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			FolderUserPath
			Previewable
		}) (api.Started, error) {
			return a.service.Domains.RemoveFolderUser(ctx, who, in.Account, in.Domain, in.Folder, in.User)
		})
	register(a, route{id: "read-site-log", method: http.MethodGet, path: "/accounts/{account}/domains/{domain}/log",
		summary: "Read the access log of a site", permission: rights.AccountsRead, tag: tag,
		description: "The last lines; or, with after, those that have come since, for which the answer waits up to " +
			"the given time. Asked again and again with the “next” of the answer before, it follows the log."},
		func(ctx context.Context, in *struct {
			DomainPath
			Lines int    `query:"lines" minimum:"1" maximum:"1000" default:"100" doc:"Most lines, without after."`
			After string `query:"after" maxLength:"60" pattern:"^[0-9]{1,18}-[0-9]{1,18}$" doc:"The “next” of an earlier answer."`
			Wait  int    `query:"wait" minimum:"0" maximum:"20" doc:"Seconds to wait for a line, with after."`
		}) (*struct{ Body api.LogPage }, error) {
			page, err := a.service.Domains.SiteLog(ctx, actor(ctx), in.Account, in.Domain, in.Lines, in.After,
				time.Duration(in.Wait)*time.Second)
			return &struct{ Body api.LogPage }{page}, err
		})
	register(a, route{id: "list-site-settings", method: http.MethodGet, path: "/site-settings",
		summary: "List the settings that a site can have", permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.SettingList }, error) {
			return &struct{ Body api.SettingList }{domains.SiteSettings(actor(ctx))}, nil
		})
	register(a, route{id: "trace-name", method: http.MethodGet, path: "/trace", summary: "Trace a name",
		permission: rights.AccountsRead, tag: tag,
		description: "Tells which server and site would answer, by which rule, what the server answers just now, and " +
			"where public DNS leads."},
		func(ctx context.Context, in *struct {
			Name string `query:"name" required:"true" maxLength:"2048" doc:"As typed, with or without www."`
		}) (*struct{ Body api.Trace }, error) {
			t, err := a.service.Domains.Trace(ctx, actor(ctx), in.Name)
			return &struct{ Body api.Trace }{t}, err
		})
}

func (a *API) templateRoutes() {
	const tag = "Templates"
	register(a, route{id: "list-templates", method: http.MethodGet, path: "/templates",
		summary: "List templates of sites", permission: rights.TemplatesRead, tag: tag,
		description: "The operator's, which everybody may use, and the reseller's own."},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.TemplateList }, error) {
			list, err := a.service.Domains.Templates(ctx, actor(ctx))
			return &struct{ Body api.TemplateList }{list}, err
		})
	registerChange(a, route{id: "add-template", method: http.MethodPost, path: "/templates", summary: "Add a template",
		permission: rights.TemplatesChange, tag: tag, status: http.StatusCreated},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewTemplate
		}) (api.Template, error) {
			return a.service.Domains.AddTemplate(ctx, who, in.Body)
		})
	register(a, route{id: "show-template", method: http.MethodGet, path: "/templates/{template}",
		summary: "Show a template", permission: rights.TemplatesRead, tag: tag},
		func(ctx context.Context, in *TemplatePath) (*struct {
			ETag string `header:"ETag"`
			Body api.Template
		}, error) {
			t, err := a.service.Domains.Template(ctx, actor(ctx), in.Template)
			return &struct {
				ETag string `header:"ETag"`
				Body api.Template
			}{etag(t.Version), t}, err
		})
	registerChange(a, route{id: "change-template", method: http.MethodPatch, path: "/templates/{template}",
		summary: "Change a template", permission: rights.TemplatesChange, tag: tag,
		description: "Changes every site that follows it, but for what a site sets itself."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			TemplatePath
			Versioned
			Previewable
			Body api.TemplateChange
		}) (api.TemplateChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.TemplateChanged{}, err
			}
			return a.service.Domains.ChangeTemplate(ctx, who, in.Template, version, in.Body)
		})
	registerChange(a, route{id: "remove-template", method: http.MethodDelete, path: "/templates/{template}",
		summary: "Remove a template that nothing follows", permission: rights.TemplatesChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			TemplatePath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Domains.RemoveTemplate(ctx, who, in.Template)
		})
}
