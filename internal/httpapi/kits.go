package httpapi

import (
	"context"
	"net/http"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// KitPath is how a kit is named in a path.
type KitPath struct {
	Kit string `path:"kit" maxLength:"40"`
}

// KitVersionPath is how a version of a kit is named in a path.
type KitVersionPath struct {
	KitPath
	Version string `path:"version" maxLength:"40"`
}

func (a *API) kitRoutes() {
	const tag = "Kits"
	register(a, route{id: "list-kits", method: http.MethodGet, path: "/kits",
		summary: "List the kits, and which plans offer them", permission: rights.KitsRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.KitList }, error) {
			out, err := a.service.Kits.Kits(ctx, actor(ctx))
			return &struct{ Body api.KitList }{out}, err
		})
	registerChange(a, route{id: "register-kit", method: http.MethodPut, path: "/kit-archives/{digest}",
		summary: "Register a version of a kit", permission: rights.KitsRegister, tag: tag,
		description: "The body is the kit's directory, packed with tar, as it is or with gzip, up to 64 MiB. A " +
			"version never changes. Where the settings have keys for kits, the archive must be signed with one of " +
			"them.",
		largest: kits.MaxArchive + 1, time: 5 * time.Minute},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Digest    string `path:"digest" pattern:"^[0-9a-f]{64}$" doc:"SHA-256 of the archive, in hexadecimal digits."`
			Signature string `header:"Kit-Signature" maxLength:"20000" doc:"Of the archive, as minisign or ssh-keygen -Y sign -n kit has written it, in Base64."`
			RawBody   []byte `contentType:"application/octet-stream"`
		}) (api.Kit, error) {
			return a.service.Kits.Register(ctx, who, in.Digest, in.RawBody, in.Signature)
		})
	register(a, route{id: "show-kit", method: http.MethodGet, path: "/kits/{kit}", summary: "Show a kit",
		permission: rights.KitsRead, tag: tag},
		func(ctx context.Context, in *KitPath) (*struct{ Body api.Kit }, error) {
			out, err := a.service.Kits.Kit(ctx, actor(ctx), in.Kit)
			return &struct{ Body api.Kit }{out}, err
		})
	registerChange(a, route{id: "change-kit", method: http.MethodPatch, path: "/kits/{kit}",
		summary: "Change which plans offer a kit, and which versions sites get", permission: rights.KitsOffer, tag: tag,
		description: "Resellers change that of their plans. Versions are for operators to withdraw: sites that have " +
			"one keep it."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			KitPath
			Previewable
			Body api.KitChange
		}) (api.Kit, error) {
			return a.service.Kits.ChangeKit(ctx, who, in.Kit, in.Body)
		})
	registerChange(a, route{id: "remove-kit", method: http.MethodDelete, path: "/kits/{kit}/versions/{version}",
		summary: "Remove a version of a kit that no site has", permission: rights.KitsRegister, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			KitVersionPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Kits.RemoveKit(ctx, who, in.Kit, in.Version)
		})
	a.siteKitRoutes(tag)
}

func (a *API) siteKitRoutes(tag string) {
	register(a, route{id: "list-account-kits", method: http.MethodGet, path: "/accounts/{account}/kits",
		summary: "What kits an account is offered, and which its sites have", permission: rights.AccountsRead,
		tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.AccountKits }, error) {
			out, err := a.service.Kits.AccountKits(ctx, actor(ctx), in.Account)
			return &struct{ Body api.AccountKits }{out}, err
		})
	const path = "/accounts/{account}/domains/{domain}/kit"
	registerChange(a, route{id: "install-kit", method: http.MethodPost, path: path,
		summary: "Have a site begin with a kit", permission: rights.KitsInstall, tag: tag, status: http.StatusAccepted,
		description: "All of it or nothing: what fails leaves the site as it was."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.NewSiteKit
		}) (api.Started, error) {
			return a.service.Kits.Install(ctx, who, in.Account, in.Domain, in.Body)
		})
	registerChange(a, route{id: "update-kit", method: http.MethodPatch, path: path,
		summary:    "Bring a site to another version of its kit, or give it other settings",
		permission: rights.KitsInstall,
		tag:        tag, status: http.StatusAccepted,
		description: "Files and database are copied first; what fails brings them back. Files that were changed in " +
			"the site stay as they are unless the kit's are taken."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Body api.SiteKitUpdate
		}) (api.Started, error) {
			return a.service.Kits.Update(ctx, who, in.Account, in.Domain, in.Body)
		})
	register(a, route{id: "plan-kit-update", method: http.MethodPost, path: path + "/plan",
		summary: "What an update would do, file by file", permission: rights.KitsInstall, tag: tag},
		func(ctx context.Context, in *struct {
			DomainPath
			Body api.SiteKitUpdate
		}) (*struct{ Body api.SiteKitPlan }, error) {
			out, err := a.service.Kits.PlanUpdate(ctx, actor(ctx), in.Account, in.Domain, in.Body)
			return &struct{ Body api.SiteKitPlan }{out}, err
		})
	registerChange(a, route{id: "remove-site-kit", method: http.MethodDelete, path: path,
		summary: "Take a kit from a site, with its files and database", permission: rights.KitsInstall, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			DomainPath
			Previewable
			Delete bool `query:"delete" doc:"True, as everything in the site is deleted with it."`
		}) (api.Started, error) {
			return a.service.Kits.Remove(ctx, who, in.Account, in.Domain, in.Delete)
		})
}
