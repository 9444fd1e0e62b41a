package rollout

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

const (
	// changesEvery is how often whoever follows changes is told of them.
	changesEvery = time.Second
	// quietest is how long they hear nothing, so that both sides know that the other one is there.
	quietest = 20 * time.Second
	// overlap is how many events before the newest are asked for again, as some of them may only
	// now be there.
	overlap = 500
)

// WatchChanges calls tell with what has changed of what the actor may see, at most once a second,
// until the context ends or tell fails. The first call, and one in each 20 seconds without changes,
// is empty. It tells of what kind things are and whose account they are of, not what they are now:
// whoever wants to know asks, with the rights they have.
func (s *Service) WatchChanges(ctx context.Context, a usecase.Actor, tell func(api.Changes) error) error {
	operations := s.hub.collect()
	defer operations.stop()
	newest, err := s.Store.LastEvent(ctx)
	if err != nil {
		return err
	}
	told := &toldChanges{events: map[int64]bool{}, states: map[int64]string{}}
	// What is there already is no change.
	if _, err := s.changesSince(ctx, a, told, &newest, nil); err != nil {
		return err
	}
	if err := tell(api.NewChanges()); err != nil {
		return err
	}
	last := time.Now()
	for ticker := time.NewTicker(changesEvery); ; {
		select {
		case <-ctx.Done():
			ticker.Stop()
			return ctx.Err()
		case <-ticker.C:
		}
		changes, err := s.changesSince(ctx, a, told, &newest, operations.drain())
		if err != nil {
			return err
		}
		if len(changes.Things) == 0 && time.Since(last) < quietest {
			continue
		}
		if err := tell(changes); err != nil {
			return err
		}
		last = time.Now()
	}
}

// toldChanges is what somebody has been told of already.
type toldChanges struct {
	events map[int64]bool
	states map[int64]string // of operations
}

// changesSince returns what has been recorded and which of these operations have come to another
// state, without what was told before; newest is the number of the newest event that was seen.
func (s *Service) changesSince(ctx context.Context, a usecase.Actor, told *toldChanges, newest *int64,
	operations []int64) (api.Changes, error) {
	things, accounts := map[string]bool{}, map[int64]bool{}
	reseller, customer := a.Scope()
	events, err := s.Store.EventsAfter(ctx, db.EventsAfterParams{After: *newest - overlap, Reseller: reseller,
		Customer: customer})
	if err != nil {
		return api.Changes{}, err
	}
	for _, e := range events {
		if told.events[e.ID] {
			continue
		}
		told.events[e.ID] = true
		thing, _, _ := strings.Cut(e.Action, ".")
		things[thing] = true
		accounts[e.AccountID] = true
		*newest = max(*newest, e.ID)
	}
	maps.DeleteFunc(told.events, func(id int64, _ bool) bool { return id <= *newest-overlap })
	if len(operations) > 0 {
		states, err := s.Store.OperationStates(ctx, db.OperationStatesParams{Ids: operations, Reseller: reseller,
			Customer: customer})
		if err != nil {
			return api.Changes{}, err
		}
		for _, o := range states {
			if told.states[o.ID] == o.State {
				continue
			}
			things["operation"] = true
			accounts[o.AccountID] = true
			if o.State == "done" || o.State == "failed" || o.State == "cancelled" {
				delete(told.states, o.ID) // it changes no more
			} else {
				told.states[o.ID] = o.State
			}
		}
	}
	delete(accounts, 0)
	changes := api.NewChanges()
	changes.Things = slices.AppendSeq(changes.Things, maps.Keys(things))
	changes.Accounts = slices.AppendSeq(changes.Accounts, maps.Keys(accounts))
	slices.Sort(changes.Things)
	slices.Sort(changes.Accounts)
	return changes, nil
}
