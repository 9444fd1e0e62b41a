package rollout

import (
	"context"
	"errors"
	"fmt"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Apply brings an account's server to what the rows say now, and ends the operations that this
// brings about. Nothing to do is no error. An error means that it should be tried again.
//
// Locks: the account.
func (s *Service) Apply(ctx context.Context, accountID int64) error {
	if !s.applying.Begin(accountID) {
		return nil
	}
	for {
		if err := s.applyOnce(ctx, accountID); err != nil {
			s.applying.End(accountID)
			return err // the next try does what has come meanwhile, too
		}
		if !s.applying.Continue(accountID) {
			return nil
		}
	}
}

// applyOnce is Apply without regard to who else is at it.
func (s *Service) applyOnce(ctx context.Context, accountID int64) error {
	prepared, err := s.prepare(ctx, []int64{accountID})
	if err != nil {
		return err
	}
	if len(prepared) == 0 {
		return fmt.Errorf("there is no account %d", accountID)
	}
	return s.applyPrepared(ctx, prepared[0])
}

// preparedApply is all that an apply needs to know from the records.
type preparedApply struct {
	account db.Account
	// waiting are the operations that end with it.
	waiting []int64
	servers []serverManifest
	// err is why there are no manifests.
	err error
}

// prepare reads accounts as they are at one moment: else a manifest could bear one revision and
// hold what belongs to another. Plans and shares are read once for all of them.
func (s *Service) prepare(ctx context.Context, accountIDs []int64) (list []preparedApply, err error) {
	err = s.Store.Snapshot(ctx, func(q *db.Queries) error {
		accounts, err := q.AccountsByID(ctx, accountIDs)
		if err != nil {
			return err
		}
		terms, err := entitlement.LoadTerms(ctx, s.Base, q, accounts)
		if err != nil {
			return err
		}
		list = make([]preparedApply, len(accounts))
		for i, account := range accounts {
			p := preparedApply{account: account}
			if p.waiting, err = q.UnfinishedOfAccount(ctx, db.UnfinishedOfAccountParams{AccountID: &account.ID,
				Revision: &account.Revision}); err != nil {
				return err
			}
			p.servers, p.err = s.buildManifests(ctx, q, terms[i])
			list[i] = p
		}
		return nil
	})
	return list, err
}

// applyPrepared has the servers of an account hold what they should,
// one after the other, home first.
func (s *Service) applyPrepared(ctx context.Context, prepared preparedApply) error {
	account, waiting := prepared.account, prepared.waiting
	if prepared.err != nil {
		return prepared.err
	}
	if len(waiting) == 0 && account.AppliedRevision == account.Revision {
		return nil
	}
	p := s.StartProgress(waiting...)
	tell := func(step agentlink.Step) {
		p.Step(step)
		if step.State == agentlink.StepDone {
			s.hub.stepDone(waiting, step.Name)
		}
	}
	for _, part := range prepared.servers {
		if part.upToDate {
			continue
		}
		receipt, err := s.applyOn(ctx, account, part, tell)
		var refused *usecase.AgentError
		switch {
		case errors.As(err, &refused):
			if ctx.Err() == nil {
				p.Note(language.New("%s does not answer; trying again", part.server.Label))
			}
			p.Close()
			return s.retryOrFail(ctx, account, part.server.Label, waiting, refused.Err)
		case err == nil && receipt.Failure != nil:
			p.Close()
			return s.applyFailed(ctx, account, part.server.Label, receipt.Failure, waiting)
		case err == nil:
			err = s.markApplied(ctx, part, receipt)
		}
		if err != nil { // the database's: no server has refused anything
			p.Close()
			return err
		}
	}
	p.Close()
	return s.completeApply(ctx, account, waiting)
}

// applyOn has one server hold what it should for an account. Steps of
// servers without its home bear the server's label.
func (s *Service) applyOn(ctx context.Context, account db.Account, part serverManifest,
	tell func(agentlink.Step)) (agentlink.Receipt, error) {
	if part.server.ID != account.ServerID {
		told := tell
		tell = func(step agentlink.Step) {
			step.Name = part.server.Label + ": " + step.Name
			told(step)
		}
	}
	if err := s.Store.AddAccountServer(ctx, db.AddAccountServerParams{AccountID: account.ID,
		ServerID: part.server.ID}); err != nil {
		return agentlink.Receipt{}, err
	}
	for _, p := range s.parts {
		if p.Prepare != nil {
			if err := p.Prepare(ctx, part.server, part.manifest); err != nil {
				return agentlink.Receipt{}, err
			}
		}
	}
	receipt, err := s.Agents.Agent(part.server.ID, part.server.Address).Apply(ctx, part.manifest, tell)
	if err != nil {
		return receipt, &usecase.AgentError{Err: err}
	}
	return receipt, nil
}

// completeApply writes down that a revision is in force.
func (s *Service) completeApply(ctx context.Context, account db.Account, operations []int64) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := usecase.LockAccount(ctx, tx, account.ID); err != nil {
			return err
		}
		after, err := tx.MarkAccountApplied(ctx, db.MarkAccountAppliedParams{ID: account.ID,
			Revision: account.Revision})
		if err != nil && !store.None(err) {
			return err
		}
		if err := tx.DeleteDriftsOfAccount(ctx, &account.ID); err != nil {
			return err
		}
		for _, part := range s.parts {
			if part.Applied != nil {
				if err := part.Applied(ctx, tx, account, after.Revision == account.Revision); err != nil {
					return fmt.Errorf("%s: %w", part.Name, err)
				}
			}
			if part.Closed != nil && after.State == "closed" {
				if err := part.Closed(ctx, tx, account.ID); err != nil {
					return fmt.Errorf("%s: %w", part.Name, err)
				}
			}
		}
		return usecase.FinishOperationsTx(ctx, tx, nil, operations...)
	})
}

// applyFailed ends the operations of an apply that the server refused. The agent has put back what
// was before. An account that was being opened is given up: all of it or none.
func (s *Service) applyFailed(ctx context.Context, account db.Account, label string, f *agentlink.Failure,
	operations []int64) error {
	if f.Code == agentlink.FailedStale {
		// A newer revision is there: the job that brought it ends the operations.
		s.Log.Warn("stale apply", "account", account.SignInName, "revision", account.Revision, "reason", f.Message)
		return nil
	}
	s.Log.Warn("apply failed", "account", account.SignInName, "server", label, "step", f.Step, "reason", f.Message)
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		return s.failOperations(ctx, tx, account.ID, account.Revision, fmt.Errorf("%s: %s", f.Step, f.Message),
			operations)
	})
}

// failOperations ends operations; the opening of an account is turned into its closing.
func (s *Service) failOperations(ctx context.Context, tx store.Tx, accountID, revision int64, cause error,
	operations []int64) error {
	account, err := usecase.LockAccount(ctx, tx, accountID)
	if err != nil {
		return err
	}
	for _, part := range s.parts {
		if part.Failed != nil {
			if err := part.Failed(ctx, tx, accountID, revision); err != nil {
				return fmt.Errorf("%s: %w", part.Name, err)
			}
		}
	}
	outcome := language.New("the server is as it was before")
	if account.State == "opening" && account.Revision == revision {
		outcome = language.New("the account was not opened; nothing of it is left")
		if _, err := tx.SetAccountState(ctx, db.SetAccountStateParams{ID: accountID, State: "closing"}); err != nil {
			return err
		}
		if err := s.Queue.Apply(ctx, tx, accountID); err != nil {
			return err
		}
	}
	return usecase.FinishOperationsTx(ctx, tx, language.Errorf("%s (%s)", cause, outcome), operations...)
}

// retryOrFail decides what becomes of an apply that the agent did not answer:
// another try, or the end of the operations that have waited too long.
func (s *Service) retryOrFail(ctx context.Context, account db.Account, label string, operations []int64,
	cause error) error {
	if ctx.Err() != nil || len(operations) == 0 {
		return cause
	}
	if !errors.Is(cause, agentlink.ErrUnreachable) {
		return s.applyFailed(ctx, account, label, &agentlink.Failure{Code: agentlink.FailedStep, Step: "apply",
			Message: cause.Error()}, operations)
	}
	first, err := s.Store.OperationByID(ctx, db.OperationByIDParams{ID: operations[0]})
	if err != nil {
		return err
	}
	if s.Now().Sub(first.CreatedAt) < GiveUpAfter {
		return cause
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		return s.failOperations(ctx, tx, account.ID, account.Revision,
			language.Errorf("%s did not answer for %s", label, GiveUpAfter), operations)
	})
}
