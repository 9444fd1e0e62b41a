package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
)

// etag writes a version as an entity tag (RFC 9110, section 8.8.3).
func etag(version int64) string { return fmt.Sprintf(`"%d"`, version) }

// versionOf reads an If-Match header; 0 is any version.
func versionOf(ifMatch string) (int64, error) {
	if ifMatch == "" || ifMatch == "*" {
		return 0, nil
	}
	version, err := strconv.ParseInt(strings.Trim(ifMatch, `"`), 10, 64)
	if err != nil || version < 1 {
		return 0, refusal.Input("If-Match", "send the ETag that came with what you change")
	}
	return version, nil
}

func (a *API) serverRoutes() {
	const tag = "Servers"
	type ServerPath struct {
		Server string `path:"server" maxLength:"31" doc:"Label."`
	}
	type tagged struct {
		ETag string `header:"ETag"`
		Body api.Server
	}
	register(a, route{id: "list-servers", method: http.MethodGet, path: "/servers", summary: "List servers",
		permission: rights.ServersRead, tag: tag},
		func(ctx context.Context, _ *struct{}) (*struct{ Body api.ServerList }, error) {
			list, err := a.service.Fleet.Servers(ctx)
			return &struct{ Body api.ServerList }{list}, err
		})
	registerChange(a, route{id: "join-server", method: http.MethodPost, path: "/servers",
		summary: "Add a server and wait for its agent", permission: rights.ServersChange, tag: tag,
		status: http.StatusAccepted},
		func(ctx context.Context, who usecase.Actor, in *struct {
			Previewable
			Body api.NewServer
		}) (api.Joining, error) {
			return a.service.Fleet.JoinServer(ctx, who, in.Body)
		})
	register(a, route{id: "show-server", method: http.MethodGet, path: "/servers/{server}", summary: "Show a server",
		permission: rights.ServersRead, tag: tag},
		func(ctx context.Context, in *ServerPath) (*tagged, error) {
			s, err := a.service.Fleet.Server(ctx, in.Server)
			return &tagged{etag(s.Version), s}, err
		})
	registerChange(a, route{id: "change-server", method: http.MethodPatch, path: "/servers/{server}",
		summary: "Change a server", permission: rights.ServersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ServerPath
			Versioned
			Previewable
			Body api.ServerChange
		}) (api.Server, error) {
			version, err := versionOf(in.IfMatch)
			if err != nil {
				return api.Server{}, err
			}
			return a.service.Fleet.ChangeServer(ctx, who, in.Server, version, in.Body)
		})
	registerChange(a, route{id: "remove-server", method: http.MethodDelete, path: "/servers/{server}",
		summary: "Remove a server without accounts", permission: rights.ServersChange, tag: tag},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ServerPath
			Previewable
		}) (nothing, error) {
			return nothing{}, a.service.Fleet.RemoveServer(ctx, who, in.Server)
		})
	register(a, route{id: "list-drift", method: http.MethodGet, path: "/servers/{server}/drift",
		summary: "List what the last sweep found", permission: rights.ServersRead, tag: tag},
		func(ctx context.Context, in *ServerPath) (*struct{ Body api.DriftList }, error) {
			list, err := a.service.Fleet.Drifts(ctx, actor(ctx), in.Server)
			return &struct{ Body api.DriftList }{list}, err
		})
	register(a, route{id: "list-hungriest", method: http.MethodGet, path: "/servers/{server}/hungriest",
		summary: "List the accounts that run most on a server", permission: rights.ServersRead, tag: tag,
		description: "As of the last sweep, and those that have met a limit in the last day."},
		func(ctx context.Context, in *struct {
			ServerPath
			Sort  string `query:"sort" enum:"cpu,memory,processes" default:"cpu"`
			Limit int32  `query:"limit" minimum:"1" maximum:"100" default:"10"`
		}) (*struct{ Body api.HungriestAccounts }, error) {
			list, err := a.service.Rollout.Hungriest(ctx, in.Server, in.Sort, in.Limit)
			return &struct{ Body api.HungriestAccounts }{list}, err
		})
	registerChange(a, route{id: "sweep-server", method: http.MethodPost, path: "/servers/{server}/sweep",
		summary: "Sweep a server", permission: rights.ServersChange, tag: tag, status: http.StatusAccepted,
		description: "Compares what the server holds with what it should hold, and changes nothing there."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ServerPath
			Previewable
		}) (api.Started, error) {
			return a.service.Fleet.SweepServer(ctx, who, in.Server)
		})
	registerChange(a, route{id: "repair-server", method: http.MethodPost, path: "/servers/{server}/repair",
		summary: "Repair a server", permission: rights.ServersChange, tag: tag, status: http.StatusAccepted,
		description: "Sweeps, puts right what differs, and sweeps again."},
		func(ctx context.Context, who usecase.Actor, in *struct {
			ServerPath
			Previewable
		}) (api.Started, error) {
			return a.service.Fleet.RepairServer(ctx, who, in.Server)
		})
}
