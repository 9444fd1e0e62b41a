package rollout

import (
	"context"
	"math"
	"strconv"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/actions"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Operation returns one operation with its steps.
//
// Refusals: NotFound.
func (s *Service) Operation(ctx context.Context, a usecase.Actor, id int64) (api.Operation, error) {
	p := db.OperationByIDParams{ID: id}
	p.Reseller, p.Customer = a.Scope()
	row, err := s.Store.OperationByID(ctx, p)
	if store.None(err) {
		return api.Operation{}, usecase.NotFound("operation", strconv.FormatInt(id, 10))
	}
	if err != nil {
		return api.Operation{}, err
	}
	views, err := s.operationViews(ctx, a, []db.Operation{row})
	if err != nil {
		return api.Operation{}, err
	}
	return views[0], nil
}

// OperationFilter narrows a list of operations; empty fields do not.
type OperationFilter struct {
	Account, Server, State string
	// Since leaves out those asked for before.
	Since time.Time
}

// Operations returns a page of operations, newest first.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Operations(ctx context.Context, a usecase.Actor, f OperationFilter, before int64,
	most int) (api.OperationPage, error) {
	page := api.OperationPage{Operations: []api.Operation{}}
	p := db.OperationsParams{Before: before, State: f.State, Since: f.Since, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if before == 0 {
		p.Before = math.MaxInt64
	}
	if f.Account != "" {
		id, err := usecase.FindAccount(ctx, s.Store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = id
	}
	if f.Server != "" && !a.Allows(rights.ServersRead) {
		return page, usecase.NotFound("server", f.Server)
	}
	if f.Server != "" {
		row, err := s.Store.ServerByLabel(ctx, f.Server)
		if store.None(err) {
			return page, usecase.NotFound("server", f.Server)
		}
		if err != nil {
			return page, err
		}
		p.Server = row.ID
	}
	rows, err := s.Store.Fresh().Operations(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].ID)
	}
	page.Operations, err = s.operationViews(ctx, a, rows)
	return page, err
}

func (s *Service) operationViews(ctx context.Context, a usecase.Actor, rows []db.Operation) ([]api.Operation, error) {
	views := make([]api.Operation, len(rows))
	index := map[int64]*api.Operation{}
	var ids []int64
	for i, row := range rows {
		views[i] = api.Operation{ID: row.ID, Kind: row.Kind, Title: a.SayPlain(actions.Title(row.Kind)),
			Subject: a.SaySubject(row.Subject),
			Actor:   row.Actor, State: row.State, Note: a.SayKept(row.Note), Steps: []api.Step{}, Version: row.Version,
			CreatedAt: row.CreatedAt, StartedAt: row.StartedAt,
			FinishedAt: row.FinishedAt}
		if row.Failure != nil {
			views[i].Failure = a.SayKept(*row.Failure)
		}
		index[row.ID] = &views[i]
		ids = append(ids, row.ID)
	}
	steps, err := s.Store.StepsOf(ctx, ids)
	for _, step := range steps {
		v := index[step.OperationID]
		v.Steps = append(v.Steps, api.Step{Name: step.Name, Title: actions.StepTitle(step.Name).In(a.Language),
			State: step.State, Detail: a.SayKept(step.Detail), StartedAt: step.StartedAt, FinishedAt: step.FinishedAt})
	}
	return views, err
}

// WatchOperation calls tell with the operation as it is, and again after each
// change, until it has finished. Seen is the version the caller has already,
// so that a connection made anew goes on where the old one ended.
//
// Refusals: NotFound.
func (s *Service) WatchOperation(ctx context.Context, a usecase.Actor, id, seen int64,
	tell func(api.Operation) error) error {
	return s.watch(ctx, a, id, seen, "", tell)
}

// AwaitStep waits until a step of an operation has been done, or the operation has finished, and
// returns what it has been told of the operation last. A step that another process does is not seen
// before the end.
//
// Refusals: NotFound.
func (s *Service) AwaitStep(ctx context.Context, id int64, step string) (last api.Operation, err error) {
	err = s.watch(ctx, usecase.System(), id, 0, step, func(o api.Operation) error {
		last = o
		return nil
	})
	return last, err
}

// watch is WatchOperation, which a step ends as well; none does if it is empty.
func (s *Service) watch(ctx context.Context, a usecase.Actor, id, seen int64, step string,
	tell func(api.Operation) error) error {
	changed, stop := s.hub.watch(id)
	defer stop()
	for !s.hub.isDone(id, step) {
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
	return nil
}

// Run passes on progress that any process of the installation tells, until the context ends.
func (s *Service) Run(ctx context.Context) {
	s.Store.Listen(ctx, store.OperationChannel, s.hub.notify, s.hub.wakeAll)
}
