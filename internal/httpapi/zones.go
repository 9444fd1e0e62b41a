package httpapi

import (
	"context"
	"net/http"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/dns"
	"victualler/internal/service/usecase"
)

// ZonePath is how a zone is named in a path.
type ZonePath struct {
	Zone string `path:"zone" maxLength:"300" doc:"In A-labels or as people read it; a name within a zone means that zone."`
}

// RecordPath is how an own record of a zone is named in a path.
type RecordPath struct {
	ZonePath
	Record int64 `path:"record" doc:"Number of the record."`
}

func (a *API) zoneRoutes() {
	const tag = "DNS"
	register(a, route{id: "list-zones", method: http.MethodGet, path: "/zones", summary: "List zones",
		permission: rights.AccountsRead, tag: tag},
		func(ctx context.Context, in *struct {
			Page
			Search  string `query:"search" maxLength:"300" doc:"Part of the name."`
			Account string `query:"account" maxLength:"300" doc:"Only those of one account."`
			Hosted  string `query:"hosted" enum:"here,elsewhere"`
		}) (*struct{ Body api.ZonePage }, error) {
			page, err := a.service.DNS.ZoneList(ctx, actor(ctx), dns.ZoneFilter{Account: in.Account, Search: in.Search,
				Hosted: in.Hosted}, in.Cursor, in.Limit)
			return &struct{ Body api.ZonePage }{page}, err
		})
	register(a, route{id: "show-zone", method: http.MethodGet, path: "/zones/{zone}",
		summary: "Show a zone with its records", permission: rights.AccountsRead, tag: tag,
		description: "Where DNS is hosted elsewhere, the derived records are those to be entered there."},
		func(ctx context.Context, in *ZonePath) (*struct {
			ETag string `header:"ETag"`
			Body api.ZoneDetail
		}, error) {
			z, err := a.service.DNS.Zone(ctx, actor(ctx), in.Zone)
			return &struct {
				ETag string `header:"ETag"`
				Body api.ZoneDetail
			}{etag(z.Version), z}, err
		})
	registerChange(a, route{id: "change-zone", method: http.MethodPatch, path: "/zones/{zone}",
		summary: "Change where a zone's DNS is hosted, and whether it is signed", permission: rights.ZonesChange,
		tag: tag, status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ZonePath
			Versioned
			Previewable
			Body api.ZoneChange
		}) (api.ZoneChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.ZoneChanged{}, err
			}
			return a.service.DNS.ChangeZone(ctx, who, in.Zone, version, in.Body)
		})
	registerChange(a, route{id: "add-record", method: http.MethodPost, path: "/zones/{zone}/records",
		summary: "Add a record to a zone", permission: rights.ZonesChange, tag: tag, status: http.StatusAccepted,
		description: "An own record replaces derived ones of the same name and type."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ZonePath
			Previewable
			Body api.NewRecord
		}) (api.ZoneChanged, error) {
			return a.service.DNS.AddRecord(ctx, who, in.Zone, in.Body)
		})
	registerChange(a, route{id: "change-record", method: http.MethodPatch, path: "/zones/{zone}/records/{record}",
		summary: "Change an own record of a zone", permission: rights.ZonesChange, tag: tag,
		status:      http.StatusAccepted,
		description: "If-Match takes the ETag of the zone."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			RecordPath
			Versioned
			Previewable
			Body api.RecordChange
		}) (api.ZoneChanged, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.ZoneChanged{}, err
			}
			return a.service.DNS.ChangeRecord(ctx, who, in.Zone, in.Record, version, in.Body)
		})
	registerChange(a, route{id: "remove-record", method: http.MethodDelete, path: "/zones/{zone}/records/{record}",
		summary: "Take an own record out of a zone", permission: rights.ZonesChange, tag: tag,
		status:      http.StatusAccepted,
		description: "Derived records whose place it took are answered with again."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			RecordPath
			Previewable
		}) (api.Started, error) {
			return a.service.DNS.RemoveRecord(ctx, who, in.Zone, in.Record)
		})
	registerChange(a, route{id: "reset-zone", method: http.MethodPost, path: "/zones/{zone}/reset",
		summary: "Have derived records answered with again", permission: rights.ZonesChange, tag: tag,
		status:      http.StatusAccepted,
		description: "Removes own records that replace derived ones; other own records stay."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ZonePath
			Previewable
			Body api.ZoneReset
		}) (api.ZoneChanged, error) {
			return a.service.DNS.ResetZone(ctx, who, in.Zone, in.Body)
		})
	registerChange(a, route{id: "import-zone", method: http.MethodPost, path: "/zones/{zone}/import",
		summary: "Take records over from a zone file or from another name server", permission: rights.ZonesChange,
		tag: tag, status: http.StatusAccepted,
		description: "All of them, or none: lines that cannot be are named. SOA, the zone's own NS records and what " +
			"signing adds are left out."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ZonePath
			Previewable
			Body api.ZoneImport
		}) (api.ZoneChanged, error) {
			return a.service.DNS.ImportZone(ctx, who, in.Zone, in.Body)
		})
	register(a, route{id: "export-zone", method: http.MethodGet, path: "/zones/{zone}/file",
		summary: "Write a zone as a zone file", permission: rights.AccountsRead, tag: tag,
		description: "As it is in force, without SOA and the zone's own NS records (RFC 1035, section 5; RFC 4027)."},
		func(ctx context.Context, in *ZonePath) (*struct {
			ContentType string `header:"Content-Type"`
			Body        []byte
		}, error) {
			text, err := a.service.DNS.ZoneFile(ctx, actor(ctx), in.Zone)
			return &struct {
				ContentType string `header:"Content-Type"`
				Body        []byte
			}{"text/dns; charset=us-ascii", []byte(text)}, err
		})
	register(a, route{id: "check-zone", method: http.MethodGet, path: "/zones/{zone}/check",
		summary: "Check what public DNS shows of a zone", permission: rights.AccountsRead, tag: tag,
		description: "Asks the parent, every authoritative server it leads to, and the resolver, just now."},
		func(ctx context.Context, in *ZonePath) (*struct{ Body api.ZoneCheck }, error) {
			check, err := a.service.DNS.CheckZone(ctx, actor(ctx), in.Zone)
			return &struct{ Body api.ZoneCheck }{check}, err
		})
	register(a, route{id: "show-signing", method: http.MethodGet, path: "/zones/{zone}/signing",
		summary: "Show how a zone is signed", permission: rights.AccountsRead, tag: tag,
		description: "Keys, and the DS record to be given to the registrar, asked just now."},
		func(ctx context.Context, in *ZonePath) (*struct{ Body api.ZoneSigning }, error) {
			signing, err := a.service.DNS.ZoneSigning(ctx, actor(ctx), in.Zone)
			return &struct{ Body api.ZoneSigning }{signing}, err
		})
	registerChange(a, route{id: "set-name-servers", method: http.MethodPut, path: "/resellers/{reseller}/name-servers",
		summary: "Give a reseller's zones name servers of their own names", permission: rights.BrandChange, tag: tag,
		description: "The preview lists the zones that would name them."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Reseller string `path:"reseller" maxLength:"40" doc:"Name."`
			Previewable
			Body api.NameServers
		}) (api.NameServersChanged, error) {
			return a.service.DNS.SetNameServers(ctx, who, in.Reseller, in.Body)
		})
}
