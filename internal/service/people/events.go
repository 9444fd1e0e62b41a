package people

import (
	"context"
	"math"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/actions"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// EventFilter narrows the record; empty fields do not.
type EventFilter struct {
	// Search is part of an actor, an action, a subject or an address.
	Search string
	// Actor is a whole name, Action a whole action or what is before its dot.
	Actor, Action string
	// Account is an account's number, sign-in name or domain.
	Account string
	// Since and Until bound the time; Until is not included.
	Since, Until *time.Time
}

// Events returns a page of the record, newest first: everything for
// operators, what concerns theirs for others.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Events(ctx context.Context, a usecase.Actor, f EventFilter, before int64, most int) (api.EventPage,
	error) {
	page := api.EventPage{Events: []api.Event{}}
	p := db.EventsParams{BeforeID: before, Actor: strings.TrimSpace(f.Actor),
		Action: usecase.EscapeLike(strings.TrimSpace(f.Action)),
		Search: usecase.EscapeLike(strings.TrimSpace(f.Search)),
		Since:  f.Since, Until: f.Until, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if before == 0 {
		p.BeforeID = math.MaxInt64
	}
	if f.Account != "" {
		number, err := usecase.FindAccount(ctx, s.Store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.Store.Fresh().Events(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].ID)
	}
	for _, row := range rows {
		e := api.Event{ID: row.ID, At: row.At, Actor: row.Actor, Address: row.Address, Request: row.Request,
			Action: row.Action, Title: a.SayPlain(actions.Title(row.Action)), Subject: a.SaySubject(row.Subject),
			Fields: a.ChangedFields(row.Before, row.After)}
		if row.Address == usecase.System().Address {
			e.Address = a.Say("this machine")
		}
		// From where others work is nobody's business but the operators'.
		if p.Customer != 0 && row.ActorCustomer != p.Customer || p.Reseller != 0 && row.ActorReseller != p.Reseller {
			e.Address = ""
		}
		if row.OnBehalf != nil {
			e.OnBehalf = *row.OnBehalf
		}
		page.Events = append(page.Events, e)
	}
	return page, nil
}

// exportPage is how many events an export reads at a time.
const exportPage = 1000

// ExportEvents calls tell with every event that the filter lets through, newest first.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) ExportEvents(ctx context.Context, a usecase.Actor, f EventFilter, tell func(api.Event) error) error {
	for before := int64(0); ; {
		page, err := s.Events(ctx, a, f, before, exportPage)
		if err != nil {
			return err
		}
		for _, e := range page.Events {
			if err := tell(e); err != nil {
				return err
			}
			before = e.ID
		}
		if page.Next == "" {
			return nil
		}
	}
}
