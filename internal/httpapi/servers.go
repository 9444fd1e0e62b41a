package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
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

func init() {
	nouns = append(nouns, func(a *API) {
		const tag = "Servers"
		type ServerPath struct {
			Server string `path:"server" maxLength:"31" doc:"Label."`
		}
		type tagged struct {
			ETag string `header:"ETag"`
			Body api.Server
		}
		register(a, route{id: "list-servers", method: http.MethodGet, path: "/servers", summary: "List servers", permission: rights.ServersRead, tag: tag},
			func(ctx context.Context, _ *struct{}) (*struct{ Body api.ServerList }, error) {
				list, err := a.service.Servers(ctx)
				return &struct{ Body api.ServerList }{list}, err
			})
		register(a, route{id: "join-server", method: http.MethodPost, path: "/servers", summary: "Add a server and wait for its agent", permission: rights.ServersChange, tag: tag, status: http.StatusAccepted},
			func(ctx context.Context, in *struct{ Body api.NewServer }) (*struct {
				Location string `header:"Location"`
				Body     api.Joining
			}, error) {
				joining, err := a.service.JoinServer(ctx, actor(ctx), in.Body)
				return &struct {
					Location string `header:"Location"`
					Body     api.Joining
				}{operationPath(joining.Operation), joining}, err
			})
		register(a, route{id: "show-server", method: http.MethodGet, path: "/servers/{server}", summary: "Show a server", permission: rights.ServersRead, tag: tag},
			func(ctx context.Context, in *ServerPath) (*tagged, error) {
				s, err := a.service.Server(ctx, in.Server)
				return &tagged{etag(s.Version), s}, err
			})
		register(a, route{id: "change-server", method: http.MethodPatch, path: "/servers/{server}", summary: "Change a server", permission: rights.ServersChange, tag: tag},
			func(ctx context.Context, in *struct {
				ServerPath
				IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused if somebody was quicker."`
				Body    api.ServerChange
			}) (*tagged, error) {
				version, err := versionOf(in.IfMatch)
				if err != nil {
					return nil, err
				}
				s, err := a.service.ChangeServer(ctx, actor(ctx), in.Server, version, in.Body)
				return &tagged{etag(s.Version), s}, err
			})
		register(a, route{id: "remove-server", method: http.MethodDelete, path: "/servers/{server}", summary: "Remove a server without accounts", permission: rights.ServersChange, tag: tag, status: http.StatusNoContent},
			func(ctx context.Context, in *ServerPath) (*struct{}, error) {
				return nil, a.service.RemoveServer(ctx, actor(ctx), in.Server)
			})
		register(a, route{id: "list-drift", method: http.MethodGet, path: "/servers/{server}/drift", summary: "List what the last sweep found", permission: rights.ServersRead, tag: tag},
			func(ctx context.Context, in *ServerPath) (*struct{ Body api.DriftList }, error) {
				list, err := a.service.Drifts(ctx, in.Server)
				return &struct{ Body api.DriftList }{list}, err
			})
		register(a, route{id: "sweep-server", method: http.MethodPost, path: "/servers/{server}/sweep", summary: "Sweep a server", permission: rights.ServersChange, tag: tag, status: http.StatusAccepted,
			description: "Compares what the server holds with what it should hold, and changes nothing there."},
			func(ctx context.Context, in *ServerPath) (*struct {
				Location string `header:"Location"`
				Body     api.Started
			}, error) {
				started, err := a.service.SweepServer(ctx, actor(ctx), in.Server, false)
				return &struct {
					Location string `header:"Location"`
					Body     api.Started
				}{operationPath(started.Operation), started}, err
			})
		register(a, route{id: "repair-server", method: http.MethodPost, path: "/servers/{server}/repair", summary: "Repair a server", permission: rights.ServersChange, tag: tag, status: http.StatusAccepted,
			description: "Sweeps, puts right what differs, and sweeps again.", previews: reflect.TypeFor[api.Started]()},
			func(ctx context.Context, in *struct {
				ServerPath
				Previewable
			}) (*outcome, error) {
				if in.Preview {
					preview, err := a.service.PreviewRepairServer(ctx, in.Server)
					return previewed(preview), err
				}
				started, err := a.service.SweepServer(ctx, actor(ctx), in.Server, true)
				return begun(started, started.Operation), err
			})
	})
}
