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
		most := mostWatched
		if who.Role == rights.Operator { // whose programs may do much at once
			most = mostWatchedByOperators
		}
		if !a.watchers.begin(who.PersonID, most) {
			return nil, a.toProblem(ctx, refusal.New(refusal.TooManyTries, "you watch %d operations already; close "+
				"some windows or end some programs", most))
		}
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			defer a.watchers.end(who.PersonID)
			a.stream(hc, who, in.ID, in.LastEventID)
		}}, nil
	})
}

// What watching may take: how many operations one person watches at a time, and how long whoever
// watches may take to read what was sent.
const (
	mostWatched            = 30
	mostWatchedByOperators = 500
	longestRead            = 20 * time.Second
)

// watchers counts who watches how many operations.
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

// stream sends an operation as server-sent events (WHATWG HTML, section 9.2).
func (a *API) stream(hc huma.Context, who usecase.Actor, id, seen int64) {
	hc.SetHeader("Content-Type", "text/event-stream")
	hc.SetHeader("X-Accel-Buffering", "no") // for proxies that would hold it back
	hc.SetStatus(http.StatusOK)
	w := hc.BodyWriter()
	ctx, cancel := context.WithTimeout(hc.Context(), 15*time.Minute) // the client connects again
	defer cancel()
	control := http.NewResponseController(w.(http.ResponseWriter)) // which it always is
	defer control.SetWriteDeadline(time.Time{})                    // the next answer on the connection has its own time
	// send sends, and drops whoever does not read.
	send := func(format string, args ...any) error {
		_ = control.SetWriteDeadline(time.Now().Add(longestRead))
		if _, err := fmt.Fprintf(w, format, args...); err != nil {
			return err
		}
		return control.Flush()
	}
	if send("retry: 1000\n\n") != nil {
		return
	}
	err := a.service.Rollout.WatchOperation(ctx, who, id, seen, func(o api.Operation) error {
		text, err := json.Marshal(o)
		if err != nil {
			return err
		}
		return send("id: %d\nevent: operation\ndata: %s\n\n", o.Version, text)
	})
	if err == nil {
		_ = send("event: end\ndata: {}\n\n")
	}
}
