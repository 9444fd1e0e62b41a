package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
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
			Account string    `query:"account" maxLength:"300" doc:"Only those on this account."`
			Server  string    `query:"server" maxLength:"31" doc:"Only those on this server."`
			State   string    `query:"state" enum:",waiting,running,done,failed,cancelled" doc:"Only those in this state."`
			Since   time.Time `query:"since" doc:"Only those asked for since then."`
		}) (*struct{ Body api.OperationPage }, error) {
			var before int64
			if err := usecase.ReadCursor(in.Cursor, &before); err != nil {
				return nil, err
			}
			list, err := a.service.Rollout.Operations(ctx, actor(ctx), rollout.OperationFilter{Account: in.Account,
				Server: in.Server, State: in.State, Since: in.Since}, before, in.Limit)
			return &struct{ Body api.OperationPage }{list}, err
		})
	register(a, route{id: "show-operation", method: http.MethodGet, path: "/operations/{operation}",
		summary: "Show an operation", permission: rights.OperationsRead, tag: tag},
		func(ctx context.Context, in *OperationPath) (*struct{ Body api.Operation }, error) {
			o, err := a.service.Rollout.Operation(ctx, actor(ctx), in.ID)
			return &struct{ Body api.Operation }{o}, err
		})
	watch := a.streamed(route{id: "watch-operation", method: http.MethodGet, path: "/operations/{operation}/progress",
		summary: "Watch an operation", permission: rights.OperationsRead, tag: tag,
		description: "Server-sent events: the whole operation each time something about it changes, until it has " +
			"finished. The event's id is the operation's version; " +
			"a connection made again with Last-Event-ID goes on from there."}, reflect.TypeFor[api.Operation]())
	huma.Register(a.huma, watch, func(ctx context.Context, in *struct {
		OperationPath
		LastEventID int64 `header:"Last-Event-ID" doc:"The id of the last event that was received."`
	}) (*huma.StreamResponse, error) {
		if _, err := a.service.Rollout.Operation(ctx, actor(ctx), in.ID); err != nil {
			return nil, a.toProblem(ctx, err)
		}
		return a.watched(ctx, longestWatch, func(ctx context.Context, who usecase.Actor, send sender) error {
			return a.service.Rollout.WatchOperation(ctx, who, in.ID, in.LastEventID, func(o api.Operation) error {
				return send(o.Version, "operation", o)
			})
		})
	})
	changes := a.streamed(route{id: "watch-changes", method: http.MethodGet, path: "/changes",
		summary: "Watch what changes", permission: rights.OperationsRead, tag: tag,
		description: "Server-sent events: kinds of things that have changed and the accounts they are of, at most " +
			"once a second; what they are now is to be asked for. An empty one comes first, and now and then when " +
			"nothing happens. Connections are made again from time to time, with what the person may do by then."},
		reflect.TypeFor[api.Changes]())
	huma.Register(a.huma, changes, func(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
		return a.watched(ctx, longestFollow, func(ctx context.Context, who usecase.Actor, send sender) error {
			return a.service.Rollout.WatchChanges(ctx, who, func(c api.Changes) error { return send(0, "changes", c) })
		})
	})
}

// streamed describes a route that answers with server-sent events, each of which has a document.
func (a *API) streamed(r route, document reflect.Type) huma.Operation {
	schemas := a.huma.OpenAPI().Components.Schemas
	o := r.operation(schemas)
	o.Responses = map[string]*huma.Response{"200": {Description: "Events", Content: map[string]*huma.MediaType{
		"text/event-stream": {Schema: schemas.Schema(document, true, "")}}}}
	return o
}

// What watching may take: how much one person watches at a time, how long whoever watches may take
// to read what was sent, and when they have to connect again.
const (
	mostWatched            = 30
	mostWatchedByOperators = 500
	longestRead            = 20 * time.Second
	longestWatch           = 15 * time.Minute
	longestFollow          = 5 * time.Minute
)

// watchers counts who watches how much.
type watchers struct {
	mu sync.Mutex
	of map[int64]int
}

// begin counts one more, unless there are too many.
func (w *watchers) begin(person int64, most int) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.of == nil {
		w.of = map[int64]int{}
	}
	if w.of[person] >= most {
		return false
	}
	w.of[person]++
	return true
}

func (w *watchers) end(person int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.of[person]--; w.of[person] <= 0 {
		delete(w.of, person)
	}
}

// sender sends one event; an id of 0 is none.
type sender func(id int64, event string, document any) error

// watched answers with server-sent events (WHATWG HTML, section 9.2): whatever watch sends, until
// it returns or the longest time has passed.
func (a *API) watched(ctx context.Context, longest time.Duration,
	watch func(context.Context, usecase.Actor, sender) error) (*huma.StreamResponse, error) {
	who := actor(ctx)
	most := mostWatched
	if who.Role == rights.Operator { // whose programs may do much at once
		most = mostWatchedByOperators
	}
	if !a.watchers.begin(who.PersonID, most) {
		return nil, a.toProblem(ctx, refusal.New(refusal.TooManyTries, "you watch %d things already; close "+
			"some windows or end some programs", most))
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer a.watchers.end(who.PersonID)
		stream(hc, longest, func(ctx context.Context, send sender) error { return watch(ctx, who, send) })
	}}, nil
}

func stream(hc huma.Context, longest time.Duration, watch func(context.Context, sender) error) {
	hc.SetHeader("Content-Type", "text/event-stream")
	hc.SetHeader("X-Accel-Buffering", "no") // for proxies that would hold it back
	hc.SetStatus(http.StatusOK)
	w := hc.BodyWriter()
	ctx, cancel := context.WithTimeout(hc.Context(), longest) // the client connects again
	defer cancel()
	control := http.NewResponseController(w.(http.ResponseWriter)) // which it always is
	defer control.SetWriteDeadline(time.Time{})                    // the next answer on the connection has its own time
	// write drops whoever does not read.
	write := func(format string, args ...any) error {
		_ = control.SetWriteDeadline(time.Now().Add(longestRead))
		if _, err := fmt.Fprintf(w, format, args...); err != nil {
			return err
		}
		return control.Flush()
	}
	if write("retry: 1000\n\n") != nil {
		return
	}
	err := watch(ctx, func(id int64, event string, document any) error {
		text, err := json.Marshal(document)
		if err != nil {
			return err
		}
		if id != 0 {
			event += "\nid: " + strconv.FormatInt(id, 10)
		}
		return write("event: %s\ndata: %s\n\n", event, text)
	})
	if err == nil {
		_ = write("event: end\ndata: {}\n\n")
	}
}
