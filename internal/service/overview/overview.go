// Package overview says what needs somebody now and how figures go over time. It changes nothing
// and decides nothing: what is wrong with a thing is decided where that thing is.
package overview

import (
	"context"
	"slices"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/fleet"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// Service has the use case.
type Service struct {
	*usecase.Base
	fleet *fleet.Service
}

// New makes the use case.
func New(b *usecase.Base, f *fleet.Service) *Service { return &Service{Base: b, fleet: f} }

const (
	// endsSoon is how long before its end a certificate that nobody renews automatically needs
	// somebody.
	endsSoon = 14 * 24 * time.Hour
	// fullShare is from which share of its disk on a server needs somebody.
	fullShare = 0.85
	// daysShown and hoursShown are how far figures go back.
	daysShown  = 30
	hoursShown = 48
)

// titles says what each kind is, for one and for several; the most urgent comes first.
var titles = []struct{ kind, one, many string }{
	{"server-unreachable", "%d server does not answer", "%d servers do not answer"},
	{"server-program-down", "a program is down on %d server", "programs are down on %d servers"},
	{"server-full", "the disk of %d server is nearly full", "the disks of %d servers are nearly full"},
	{"certificates-failing", "%d certificate cannot be obtained", "%d certificates cannot be obtained"},
	{"certificates-ending", "%d certificate ends soon and is not renewed automatically",
		"%d certificates end soon and are not renewed automatically"},
	{"sending-stopped", "%d account is stopped from sending, as mail came back",
		"%d accounts are stopped from sending, as mail came back"},
	{"operations-stuck", "%d operation has not ended for 10 minutes", "%d operations have not ended for 10 minutes"},
	{"operations-failed", "%d operation failed within a day", "%d operations failed within a day"},
	{"accounts-drifting", "%d account is not as it should be on its server",
		"%d accounts are not as they should be on their servers"},
	{"accounts-warned", "something in the home of %d account does not work",
		"something in the homes of %d accounts does not work"},
	{"accounts-full", "%d account has hardly any disk space left", "%d accounts have hardly any disk space left"},
	{"domains-waiting", "%d domain still has to be proved", "%d domains still have to be proved"},
	{"server-limits-missing", "%d server cannot keep all limits", "%d servers cannot keep all limits"},
}

// Overview returns what needs the actor now, and figures over time, of what they may see.
func (s *Service) Overview(ctx context.Context, a usecase.Actor) (api.Overview, error) {
	found := map[string]api.Attention{}
	add := func(kind string, cases int64, worst []string) {
		if cases > 0 {
			found[kind] = api.Attention{Kind: kind, Cases: cases, Worst: worst}
		}
	}
	p := db.NeedsAttentionParams{EndsBefore: s.Now().Add(endsSoon)}
	p.Reseller, p.Customer = a.Scope()
	rows, err := s.Store.Fresh().NeedsAttention(ctx, p)
	if err != nil {
		return api.Overview{}, err
	}
	for _, row := range rows {
		add(row.Kind, row.Cases, row.Worst)
	}
	servers := a.Allows(rights.ServersRead)
	if servers {
		if err := s.serversInNeed(ctx, add); err != nil {
			return api.Overview{}, err
		}
	}
	out := api.Overview{Attention: []api.Attention{}}
	for _, t := range titles {
		attention, is := found[t.kind]
		if !is {
			continue
		}
		attention.Title = language.New(t.many, attention.Cases).In(a.Language)
		if attention.Cases == 1 {
			attention.Title = language.New(t.one, 1).In(a.Language)
		}
		out.Attention = append(out.Attention, attention)
	}
	out.Figures, err = s.figures(ctx, a, servers)
	return out, err
}

// serversInNeed adds what servers say of themselves.
func (s *Service) serversInNeed(ctx context.Context, add func(kind string, cases int64, worst []string)) error {
	list, err := s.fleet.Servers(ctx)
	if err != nil {
		return err
	}
	of := map[string][]string{}
	for _, server := range list.Servers {
		switch {
		case server.State != "joined":
			continue
		case !server.Reachable:
			of["server-unreachable"] = append(of["server-unreachable"], server.Label)
			continue
		case server.Health == nil:
			continue
		}
		h := server.Health
		if slices.ContainsFunc(h.Programs, func(p api.Program) bool { return !p.Running }) {
			of["server-program-down"] = append(of["server-program-down"], server.Label)
		}
		if float64(h.DiskTotal-h.DiskFree) >= fullShare*float64(h.DiskTotal) && h.DiskTotal > 0 {
			of["server-full"] = append(of["server-full"], server.Label)
		}
		if len(h.Sandboxes.Missing) > 0 {
			of["server-limits-missing"] = append(of["server-limits-missing"], server.Label)
		}
	}
	for kind, labels := range of {
		add(kind, int64(len(labels)), labels[:min(len(labels), 5)])
	}
	return nil
}

// figures returns the figures that the actor may see.
func (s *Service) figures(ctx context.Context, a usecase.Actor, servers bool) ([]api.Figure, error) {
	reseller, customer := a.Scope()
	now := s.Now().UTC()
	today := now.Truncate(24 * time.Hour)
	open, err := s.Store.OpenAccounts(ctx, db.OpenAccountsParams{Reseller: reseller, Customer: customer})
	if err != nil {
		return nil, err
	}
	byDay, err := s.Store.AccountsByDay(ctx, db.AccountsByDayParams{Since: today.AddDate(0, 0, -daysShown),
		Reseller: reseller, Customer: customer})
	if err != nil {
		return nil, err
	}
	grown := map[string]int64{}
	for _, row := range byDay {
		grown[row.Day.UTC().Format(time.DateOnly)] += row.Opened - row.Closed
	}
	figures := []api.Figure{accountsOverDays(a, open, grown, today)}
	byHour, err := s.Store.OperationsByHour(ctx, db.OperationsByHourParams{Reseller: reseller, Customer: customer,
		Since: now.Truncate(time.Hour).Add(-(hoursShown - 1) * time.Hour)})
	if err != nil {
		return nil, err
	}
	well, failed := map[time.Time]int64{}, map[time.Time]int64{}
	for _, row := range byHour {
		well[row.Hour.UTC()], failed[row.Hour.UTC()] = row.Well+row.Failed, row.Failed
	}
	figures = append(figures, perHour("operations", a.Say("operations per hour"), well, now),
		perHour("operations-failed", a.Say("failed operations per hour"), failed, now))
	if !servers {
		return figures, nil
	}
	hours, err := s.Store.ServerHours(ctx, now.Add(-7*24*time.Hour))
	if err != nil {
		return nil, err
	}
	return append(figures, disks(a, hours)...), nil
}

// accountsOverDays works backwards from how many accounts there are: grown says by how many that
// has become more on each day.
func accountsOverDays(a usecase.Actor, open int64, grown map[string]int64, today time.Time) api.Figure {
	f := api.Figure{Key: "accounts", Title: a.Say("accounts"), Unit: "count", Now: float64(open), Step: "day",
		Points: make([]api.Point, daysShown)}
	for i := range daysShown {
		day := today.AddDate(0, 0, -i)
		f.Points[daysShown-1-i] = api.Point{At: day, Value: float64(open)}
		open -= grown[day.Format(time.DateOnly)]
	}
	return f
}

// perHour makes a figure of what has been counted by hour: an hour without any has none.
func perHour(key, title string, counted map[time.Time]int64, now time.Time) api.Figure {
	f := api.Figure{Key: key, Title: title, Unit: "count", Step: "hour", Points: make([]api.Point, hoursShown)}
	for i := range hoursShown {
		hour := now.Truncate(time.Hour).Add(time.Duration(i-hoursShown+1) * time.Hour)
		f.Points[i] = api.Point{At: hour, Value: float64(counted[hour])}
	}
	f.Now = f.Points[hoursShown-1].Value
	return f
}

// disks makes a figure for the disk of each server, of rows in the order of servers and hours.
func disks(a usecase.Actor, rows []db.ServerHoursRow) []api.Figure {
	var figures []api.Figure
	for _, row := range rows {
		if row.DiskTotal == 0 {
			continue
		}
		key := "disk." + row.Label
		if len(figures) == 0 || figures[len(figures)-1].Key != key {
			figures = append(figures, api.Figure{Key: key, Title: a.Say("disk of %s", row.Label), Unit: "percent",
				Step: "hour"})
		}
		f := &figures[len(figures)-1]
		f.Now = 100 * float64(row.DiskUsed) / float64(row.DiskTotal)
		f.Points = append(f.Points, api.Point{At: row.Hour, Value: f.Now})
	}
	return figures
}
