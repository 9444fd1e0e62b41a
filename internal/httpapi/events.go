package httpapi

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
)

// EventFilter is how events are filtered.
type EventFilter struct {
	Search  string    `query:"search" maxLength:"200" doc:"Part of an actor, an action, a subject or an address."`
	Actor   string    `query:"actor" maxLength:"200" doc:"Only what this actor did."`
	Action  string    `query:"action" maxLength:"60" doc:"Only this action, or all of a kind, such as plan."`
	Account string    `query:"account" maxLength:"300" doc:"Only what concerns this account."`
	Since   time.Time `query:"since" doc:"Not before."`
	Until   time.Time `query:"until" doc:"Before."`
}

func (f EventFilter) filter() people.EventFilter {
	out := people.EventFilter{Search: f.Search, Actor: f.Actor, Action: f.Action, Account: f.Account}
	if !f.Since.IsZero() {
		out.Since = &f.Since
	}
	if !f.Until.IsZero() {
		out.Until = &f.Until
	}
	return out
}

func (a *API) eventRoutes() {
	const tag = "Events"
	register(a, route{id: "list-events", method: http.MethodGet, path: "/events", summary: "List who did what",
		permission: rights.EventsRead, tag: tag,
		description: "Newest first. Nothing can change or delete them."},
		func(ctx context.Context, in *struct {
			Page
			EventFilter
		}) (*struct{ Body api.EventPage }, error) {
			var before int64
			if err := usecase.ReadCursor(in.Cursor, &before); err != nil {
				return nil, err
			}
			list, err := a.service.People.Events(ctx, actor(ctx), in.filter(), before, in.Limit)
			return &struct{ Body api.EventPage }{list}, err
		})
	export := route{id: "export-events", method: http.MethodGet, path: "/export/events", summary: "Export who did what",
		permission: rights.EventsRead, tag: tag,
		description: "All that the filter lets through, newest first: as CSV (RFC 4180), or as one JSON document on " +
			"each line."}.operation(a.huma.OpenAPI().Components.Schemas)
	text := map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: huma.TypeString}},
		"application/jsonl": {Schema: &huma.Schema{Type: huma.TypeString}}}
	export.Responses = map[string]*huma.Response{"200": {Description: "The events", Content: text}}
	huma.Register(a.huma, export, func(ctx context.Context, in *struct {
		EventFilter
		Format string `query:"format" enum:"csv,jsonl" default:"csv"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		if _, err := a.service.People.Events(ctx, who, in.filter(), 0, 1); err != nil {
			return nil, a.toProblem(ctx, err)
		}
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			hc.SetHeader("Content-Disposition", `attachment; filename="events.`+in.Format+`"`)
			if in.Format == "csv" {
				hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
				a.exportCSV(hc, who, in.filter())
				return
			}
			hc.SetHeader("Content-Type", "application/jsonl")
			encoder := json.NewEncoder(hc.BodyWriter())
			if err := a.service.People.ExportEvents(hc.Context(), who, in.filter(), func(e api.Event) error {
				return encoder.Encode(e)
			}); err != nil {
				a.log.Warn("export ended early", "reason", err)
			}
		}}, nil
	})
}

func (a *API) exportCSV(hc huma.Context, who usecase.Actor, f people.EventFilter) {
	w := csv.NewWriter(hc.BodyWriter())
	w.UseCRLF = true // RFC 4180, section 2
	defer w.Flush()
	w.Write([]string{"at", "actor", "on behalf of", "address", "action", "subject", "changes", "request"})
	err := a.service.People.ExportEvents(hc.Context(), who, f, func(e api.Event) error {
		var changes []string
		for _, field := range e.Fields {
			changes = append(changes, field.Name+": "+field.Before+" → "+field.After)
		}
		row := []string{e.At.UTC().Format(time.RFC3339), e.Actor, e.OnBehalf, e.Address, e.Action, e.Subject,
			strings.Join(changes, "; "), e.Request}
		for i := range row {
			row[i] = inert(row[i])
		}
		return w.Write(row)
	})
	if err != nil {
		a.log.Warn("export ended early", "reason", err)
	}
}

// inert keeps a spreadsheet from taking a cell for a formula.
func inert(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}
