package service

import (
	"context"
	"math"
	"strconv"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// addOperation writes an operation down for the actor and returns its number.
func addOperation(ctx context.Context, tx store.Tx, a Actor, p db.AddOperationParams) (int64, error) {
	p.Actor = a.Name
	if a.PersonID != 0 {
		p.PersonID = &a.PersonID
	}
	row, err := tx.AddOperation(ctx, p)
	return row.ID, err
}

// Operation returns one operation with its steps.
func (s *Service) Operation(ctx context.Context, a Actor, id int64) (api.Operation, error) {
	p := db.OperationByIDParams{ID: id}
	p.Reseller, p.Customer = a.scope()
	row, err := s.store.OperationByID(ctx, p)
	if store.None(err) {
		return api.Operation{}, notFound("operation", strconv.FormatInt(id, 10))
	}
	if err != nil {
		return api.Operation{}, err
	}
	views, err := s.operationViews(ctx, []db.Operation{row})
	if err != nil {
		return api.Operation{}, err
	}
	return views[0], nil
}

// OperationFilter narrows a list of operations; empty fields do not.
type OperationFilter struct {
	Account, Server, State string
}

// Operations returns a page of operations, newest first.
func (s *Service) Operations(ctx context.Context, a Actor, f OperationFilter, before int64, most int) (api.OperationPage, error) {
	page := api.OperationPage{Operations: []api.Operation{}}
	p := db.OperationsParams{Before: before, State: f.State, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.scope()
	if before == 0 {
		p.Before = math.MaxInt64
	}
	if f.Account != "" {
		id, err := findAccount(ctx, s.store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = id
	}
	if f.Server != "" && !a.Allows(rights.ServersRead) {
		return page, notFound("server", f.Server)
	}
	if f.Server != "" {
		row, err := s.store.ServerByLabel(ctx, f.Server)
		if store.None(err) {
			return page, notFound("server", f.Server)
		}
		if err != nil {
			return page, err
		}
		p.Server = row.ID
	}
	rows, err := s.store.Fresh().Operations(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(rows[most-1].ID)
	}
	page.Operations, err = s.operationViews(ctx, rows)
	return page, err
}

func (s *Service) operationViews(ctx context.Context, rows []db.Operation) ([]api.Operation, error) {
	views := make([]api.Operation, len(rows))
	index := map[int64]*api.Operation{}
	var ids []int64
	for i, row := range rows {
		views[i] = api.Operation{ID: row.ID, Kind: row.Kind, Subject: row.Subject, Actor: row.Actor, State: row.State, Note: row.Note,
			Steps: []api.Step{}, Version: row.Version, CreatedAt: row.CreatedAt, StartedAt: row.StartedAt, FinishedAt: row.FinishedAt}
		if row.Failure != nil {
			views[i].Failure = *row.Failure
		}
		index[row.ID] = &views[i]
		ids = append(ids, row.ID)
	}
	steps, err := s.store.StepsOf(ctx, ids)
	for _, step := range steps {
		v := index[step.OperationID]
		v.Steps = append(v.Steps, api.Step{Name: step.Name, State: step.State, Detail: step.Detail, StartedAt: step.StartedAt, FinishedAt: step.FinishedAt})
	}
	return views, err
}

// WatchOperation calls tell with the operation as it is, and again after each
// change, until it has finished. Seen is the version the caller has already,
// so that a connection made anew goes on where the old one ended.
func (s *Service) WatchOperation(ctx context.Context, a Actor, id, seen int64, tell func(api.Operation) error) error {
	changed, stop := s.hub.watch(id)
	defer stop()
	for {
		operation, err := s.Operation(ctx, a, id)
		if err != nil {
			return err
		}
		if operation.Version > seen {
			if err := tell(operation); err != nil {
				return err
			}
			seen = operation.Version
		}
		if operation.Finished() {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		case <-time.After(5 * time.Second): // should a notification be lost
		}
	}
}

// finish ends operations: well where err is nil.
func (s *Service) finish(ctx context.Context, err error, ids ...int64) error {
	return s.store.InTx(ctx, func(tx store.Tx) error { return finishIn(ctx, tx, err, ids...) })
}

func finishIn(ctx context.Context, tx store.Tx, err error, ids ...int64) error {
	p := db.FinishOperationsParams{Ids: ids, State: "done"}
	if err != nil {
		text := err.Error()
		if r := refusal.As(err); r != nil {
			text = r.Detail
		}
		p.State, p.Failure = "failed", &text
	}
	if err := tx.FinishOperations(ctx, p); err != nil {
		return err
	}
	return tx.TellOperation(ctx, ids)
}

// progress writes the steps of operations down as they happen, beside the work
// itself, which must not wait for the database. It also shows that the work is alive.
type progress struct {
	service *Service
	ids     []int64

	mu      sync.Mutex
	order   []string // names of steps, in the order of their first appearance
	pending map[string]agentlink.Step
	text    *string

	wake    chan struct{}
	stop    chan struct{}
	stopped chan struct{}
	once    sync.Once
}

// heartbeat is how often work in progress shows that it is alive; work that
// has not for [stalledAfter] is taken up by another process.
const (
	heartbeat    = 5 * time.Second
	stalledAfter = 20 * time.Second
)

func (s *Service) progress(ids ...int64) *progress {
	p := &progress{service: s, ids: ids, pending: map[string]agentlink.Step{}, wake: make(chan struct{}, 1), stop: make(chan struct{}), stopped: make(chan struct{})}
	p.note("")
	go p.run()
	return p
}

// step tells a step's state.
func (p *progress) step(step agentlink.Step) {
	p.mu.Lock()
	if _, known := p.pending[step.Name]; !known {
		p.order = append(p.order, step.Name)
	}
	p.pending[step.Name] = step
	p.mu.Unlock()
	wake(p.wake)
}

// note tells what the work waits for.
func (p *progress) note(text string) {
	p.mu.Lock()
	p.text = &text
	p.mu.Unlock()
	wake(p.wake)
}

// close writes what is still to be written, and ends.
func (p *progress) close() {
	p.once.Do(func() { close(p.stop) })
	<-p.stopped
}

func (p *progress) run() {
	defer close(p.stopped)
	written := map[string]agentlink.Step{}
	note := ""
	for {
		over := false
		select {
		case <-p.wake:
		case <-time.After(heartbeat):
		case <-p.stop:
			over = true
		}
		p.mu.Lock()
		var steps []agentlink.Step
		var positions []int32
		for i, name := range p.order {
			if step := p.pending[name]; written[name] != step {
				steps, positions = append(steps, step), append(positions, int32(i))
			}
		}
		if p.text != nil {
			note = *p.text
		}
		p.mu.Unlock()
		if err := p.write(note, steps, positions); err != nil {
			p.service.log.Warn("progress not written", "operations", p.ids, "reason", err)
		} else {
			for _, step := range steps {
				written[step.Name] = step
			}
		}
		if over {
			return
		}
	}
}

func (p *progress) write(note string, steps []agentlink.Step, positions []int32) error {
	if len(p.ids) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return p.service.store.InTx(ctx, func(tx store.Tx) error {
		// Progress may be lost in a crash: the work itself is what is made sure of.
		if _, err := tx.Exec(ctx, "set local synchronous_commit = off"); err != nil {
			return err
		}
		if err := tx.TouchOperations(ctx, db.TouchOperationsParams{Ids: p.ids, Note: note}); err != nil {
			return err
		}
		for i, step := range steps {
			if err := tx.KeepStep(ctx, db.KeepStepParams{Ids: p.ids, Position: positions[i], Name: step.Name, State: string(step.State), Detail: step.Detail}); err != nil {
				return err
			}
		}
		return tx.TellOperation(ctx, p.ids)
	})
}
