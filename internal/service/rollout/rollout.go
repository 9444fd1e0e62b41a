package rollout

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// ChangeAccount changes an account and starts the operation that brings it about.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable.
// Locks: the account.
func (s *Service) ChangeAccount(ctx context.Context, a usecase.Actor, reference, kind string,
	fn func(store.Tx, db.Account) (db.Account, error)) (api.Started, error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return api.Started{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Started, error) {
		before, err := usecase.LockAccount(ctx, tx, number)
		if err != nil {
			return api.Started{}, err
		}
		after, err := fn(tx, before)
		if err != nil {
			return api.Started{}, err
		}
		if a.Preview != nil {
			return api.Started{}, s.PreviewAccount(ctx, tx, a, after)
		}
		operation, err := usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: kind,
			Subject: usecase.Unicode(after.MainDomain), AccountID: &number,
			ServerID: &after.ServerID, Revision: &after.Revision})
		if err != nil {
			return api.Started{}, err
		}
		return api.Started{Operation: operation}, s.Queue.Apply(ctx, tx, number)
	})
}

// GiveUpAfter is how long an operation waits for a server that does not answer.
const GiveUpAfter = 10 * time.Minute

const (
	// rollOutBatch is how many accounts are read from the records at one moment.
	rollOutBatch = 64
	// appliesPerConnection is how many accounts are applied at the same time for each connection to
	// the database: most wait for their servers, whose group commit makes few reloads of them.
	appliesPerConnection = 15
)

// RollOut applies all accounts of an operation and tells how far it is, server by server. An error
// means that it should be tried again.
//
// Locks: the account.
func (s *Service) RollOut(ctx context.Context, operation int64) error {
	row, err := s.Store.OperationByID(ctx, db.OperationByIDParams{ID: operation})
	if err != nil || row.FinishedAt != nil {
		return err
	}
	accounts, err := s.Store.Targets(ctx, operation)
	if err != nil {
		return err
	}
	p := s.StartProgress(operation)
	defer p.Close()
	var (
		mu    sync.Mutex
		whole = map[string]int{}
		done  = map[string]int{}
	)
	tell := func(server string) {
		state := agentlink.StepRunning
		if done[server] == whole[server] {
			state = agentlink.StepDone
		}
		p.Step(agentlink.Step{Name: server, State: state,
			Detail: language.New("%d of %s", done[server], usecase.Counted(whole[server], "account")).Encode()})
	}
	servers := map[int64]string{}
	for _, account := range accounts {
		servers[account.ID] = account.Server
		whole[account.Server]++
		if account.Applied {
			done[account.Server]++
		}
	}
	for server := range whole {
		tell(server)
	}
	behind := slices.DeleteFunc(accounts, func(account db.TargetsRow) bool { return account.Applied })
	// While servers are at some, the next are read.
	next := make(chan preparedApply)
	go func() {
		defer close(next)
		for batch := range slices.Chunk(behind, rollOutBatch) {
			ids := make([]int64, len(batch))
			for i, account := range batch {
				ids[i] = account.ID
			}
			prepared, err := s.prepare(ctx, ids)
			if err != nil {
				p.Note(language.New("%s; trying again", err))
				continue
			}
			for _, one := range prepared {
				next <- one
			}
		}
	}()
	var workers sync.WaitGroup
	for range min(len(behind), appliesPerConnection*s.Store.MaxConns()) {
		workers.Go(func() {
			for one := range next {
				err := s.applyPrepared(ctx, one) // whoever is at it already need not be before what this brings
				mu.Lock()
				if err != nil {
					p.Note(language.New("%s: %s; trying again", one.account.SignInName, err))
				} else {
					server := servers[one.account.ID]
					done[server]++
					tell(server)
				}
				mu.Unlock()
			}
		})
	}
	workers.Wait()
	p.Close()
	if accounts, err = s.Store.Targets(ctx, operation); err != nil {
		return err
	}
	var missing []string
	for _, account := range accounts {
		if !account.Applied {
			missing = append(missing, account.SignInName+" on "+account.Server)
		}
	}
	if len(missing) == 0 {
		return s.FinishOperations(ctx, nil, operation)
	}
	cause := fmt.Errorf("not applied: %s; a sweep tries again", strings.Join(missing, ", "))
	if s.Now().Sub(row.CreatedAt) < GiveUpAfter {
		return cause
	}
	return s.FinishOperations(ctx, cause, operation)
}

// ResumeStalled gives work that was left by a killed process to somebody else.
func (s *Service) ResumeStalled(ctx context.Context) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		stalled, err := tx.StalledOperations(ctx, usecase.StalledAfter.Seconds())
		if err != nil || len(stalled) == 0 {
			return err
		}
		var ids []int64
		for _, o := range stalled {
			ids = append(ids, o.ID)
			switch {
			case o.AccountID != nil:
				err = s.Queue.Apply(ctx, tx, *o.AccountID)
			case o.ServerID == nil:
				err = s.Queue.RollOut(ctx, tx, o.ID)
			case o.Kind == "server.join":
				err = s.Queue.Join(ctx, tx, *o.ServerID, o.ID)
			case o.Kind == "server.sweep" || o.Kind == "server.repair":
				err = s.Queue.Sweep(ctx, tx, *o.ServerID, o.ID, o.Kind == "server.repair")
			}
			if err != nil {
				return err
			}
		}
		return tx.TouchStalledOperations(ctx, ids)
	})
}

// ApplyAccounts has the servers of accounts told that what they hold has changed, and returns the
// operation by which that can be watched; 0 where no server has to know.
//
// Refusals: ApplyFailed, InvalidInput, ServerUnreachable.
func (s *Service) ApplyAccounts(ctx context.Context, tx store.Tx, a usecase.Actor, kind string, of usecase.Subject,
	accounts []int64) (int64, error) {
	if len(accounts) == 0 {
		return 0, nil
	}
	raised, err := tx.BumpRevisions(ctx, accounts)
	if err != nil || len(raised) == 0 {
		return 0, err
	}
	if a.Preview != nil {
		return 0, s.previewAccounts(ctx, tx, a, accounts)
	}
	p := db.AddOperationParams{Kind: kind, Subject: of.Text, CustomerID: of.Customer, ResellerID: of.Reseller}
	if len(raised) == 1 {
		p.AccountID, p.Revision = &raised[0].ID, &raised[0].Revision
		row, err := tx.Account(ctx, raised[0].ID)
		if err != nil {
			return 0, err
		}
		p.Subject, p.ServerID = usecase.Unicode(row.MainDomain), &row.ServerID
		operation, err := usecase.AddOperation(ctx, tx, a, p)
		if err != nil {
			return 0, err
		}
		return operation, s.Queue.Apply(ctx, tx, raised[0].ID)
	}
	operation, err := usecase.AddOperation(ctx, tx, a, p)
	if err != nil {
		return 0, err
	}
	cover := db.AddTargetsParams{Operation: operation}
	for _, row := range raised {
		cover.Accounts, cover.Revisions = append(cover.Accounts, row.ID), append(cover.Revisions, row.Revision)
	}
	if err := tx.AddTargets(ctx, cover); err != nil {
		return 0, err
	}
	return operation, s.Queue.RollOut(ctx, tx, operation)
}
