package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

func operationPath(id int64) string { return Base + "/operations/" + strconv.FormatInt(id, 10) }

func (a *API) operationRoutes() {
	const tag = "Operations"
	type OperationPath struct {
		ID int64 `path:"operation" minimum:"1"`
	}
	register(a, route{id: "list-operations", method: http.MethodGet, path: "/operations", summary: "List operations",
		permission: rights.OperationsRead, tag: tag,
		description: "Newest first."},
		func(ctx context.Context, in *struct {
			Page
			Account string `query:"account" maxLength:"300" doc:"Only those on this account."`
			Server  string `query:"server" maxLength:"31" doc:"Only those on this server."`
			State   string `query:"state" enum:",waiting,running,done,failed" doc:"Only those in this state."`
		}) (*struct{ Body api.OperationPage }, error) {
			var before int64
			if err := usecase.ReadCursor(in.Cursor, &before); err != nil {
				return nil, err
			}
			list, err := a.service.Rollout.Operations(ctx, actor(ctx), rollout.OperationFilter{Account: in.Account,
				Server: in.Server, State: in.State}, before, in.Limit)
			return &struct{ Body api.OperationPage }{list}, err
		})
	register(a, route{id: "show-operation", method: http.MethodGet, path: "/operations/{operation}",
		summary: "Show an operation", permission: rights.OperationsRead, tag: tag},
		func(ctx context.Context, in *OperationPath) (*struct{ Body api.Operation }, error) {
			o, err := a.service.Rollout.Operation(ctx, actor(ctx), in.ID)
			return &struct{ Body api.Operation }{o}, err
		})
	watch := route{id: "watch-operation", method: http.MethodGet, path: "/operations/{operation}/progress",
		summary: "Watch an operation", permission: rights.OperationsRead, tag: tag,
		description: "Server-sent events: the whole operation each time something about it changes, until it has " +
			"finished. The event's id is the operation's version; " +
			"a connection made again with Last-Event-ID goes on from there."}.operation(
		a.huma.OpenAPI().Components.Schemas)
	watch.Responses = map[string]*huma.Response{"200": {Description: "Progress", Content: map[string]*huma.MediaType{
		"text/event-stream": {Schema: a.huma.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[api.Operation](), true,
			"")}}}}
	huma.Register(a.huma, watch, func(ctx context.Context, in *struct {
		OperationPath
		LastEventID int64 `header:"Last-Event-ID" doc:"The id of the last event that was received."`
	}) (*huma.StreamResponse, error) {
		if _, err := a.service.Rollout.Operation(ctx, actor(ctx), in.ID); err != nil {
			return nil, a.toProblem(ctx, err)
		}
		who := actor(ctx)
		return &huma.StreamResponse{Body: func(hc huma.Context) { a.stream(hc, who, in.ID, in.LastEventID) }}, nil
	})
}

// stream sends an operation as server-sent events (WHATWG HTML, section 9.2).
func (a *API) stream(hc huma.Context, who usecase.Actor, id, seen int64) {
	hc.SetHeader("Content-Type", "text/event-stream")
	hc.SetHeader("X-Accel-Buffering", "no") // for proxies that would hold it back
	hc.SetStatus(http.StatusOK)
	w := hc.BodyWriter()
	flush := func() {
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
	}
	ctx, cancel := context.WithTimeout(hc.Context(), 15*time.Minute) // the client connects again
	defer cancel()
	fmt.Fprint(w, "retry: 1000\n\n")
	flush()
	err := a.service.Rollout.WatchOperation(ctx, who, id, seen, func(o api.Operation) error {
		text, err := json.Marshal(o)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(w, "id: %d\nevent: operation\ndata: %s\n\n", o.Version, text)
		flush()
		return err
	})
	if err == nil {
		fmt.Fprint(w, "event: end\ndata: {}\n\n")
		flush()
	}
}
