package databases

import (
	"context"
	"math"
	"slices"
	"strings"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// Filter says which databases are wanted; what is empty is any.
type Filter struct {
	// Search is a part of the name.
	Search, Server, Engine string
	// Limited are only those of accounts that are over their limit.
	Limited bool
}

// All returns a page of the databases of all accounts that the actor sees, the biggest first.
//
// Refusals: InvalidInput.
func (s *Service) All(ctx context.Context, a usecase.Actor, f Filter, cursor string, most int) (api.DatabasePage,
	error) {
	page := api.DatabasePage{Databases: []api.PlacedDatabase{}}
	p := db.AllDatabasesParams{Search: usecase.EscapeLike(strings.ToLower(f.Search)), Server: f.Server,
		Engine: f.Engine, Limited: f.Limited, BeforeSize: math.MaxInt64, BeforeID: math.MaxInt64, Most: int32(most + 1)}
	if err := usecase.ReadCursor(cursor, &p.BeforeSize, &p.BeforeID); err != nil {
		return page, err
	}
	p.Reseller, p.Customer = a.Scope()
	rows, err := s.Store.Fresh().AllDatabases(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].OrderSize, rows[most-1].ID)
	}
	for _, r := range rows {
		one := api.PlacedDatabase{Name: r.Name, Engine: r.Engine, Size: r.Size, Growth: r.Growth, Account: r.SignInName,
			AccountState: r.State, Customer: r.Customer, AddedAt: r.AddedAt}
		if a.Role == rights.Operator { // others' servers are none of theirs
			one.Server = r.Server
		}
		page.Databases = append(page.Databases, one)
	}
	return page, nil
}

// Engines lists the engines of all servers that keep databases, and what accounts have in them.
func (s *Service) Engines(ctx context.Context) (api.EngineList, error) {
	out := api.EngineList{Engines: []api.Engine{}}
	counts, err := s.Store.EngineCounts(ctx)
	if err != nil {
		return out, err
	}
	servers, err := s.Store.Servers(ctx)
	if err != nil {
		return out, err
	}
	for _, row := range servers {
		server := row.Server
		status := usecase.LastStatus(server)
		for _, e := range databases.Engines {
			one := api.Engine{Server: server.Label, Engine: string(e), Title: e.Title(),
				Reachable: server.Reachable}
			here := false
			if status != nil && slices.Contains(server.Roles, "database") {
				for _, p := range status.Programs {
					if p.Name == string(e) {
						here, one.Version, one.Running = true, p.Version, p.Running
					}
				}
			}
			for _, c := range counts {
				if c.ServerID == server.ID && c.Engine == string(e) {
					here, one.Accounts, one.Databases, one.Size, one.Limited = true, c.Accounts, c.Databases, c.Size,
						c.Limited
				}
			}
			if at := measured(status, e); at != nil {
				one.MeasuredAt, one.MeasuredIn, one.Measured = &at.At, at.Took.Seconds(), at.Databases
			}
			if here {
				out.Engines = append(out.Engines, one)
			}
		}
	}
	return out, nil
}

// measured is the last measurement of an engine that a server has told of; nil is none.
func measured(status *agentlink.Status, e databases.Engine) *agentlink.MeasuredEngine {
	if status == nil {
		return nil
	}
	for _, one := range status.Measured {
		if one.Engine == e {
			return &one
		}
	}
	return nil
}
