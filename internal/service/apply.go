package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// giveUpAfter is how long an operation waits for a server that does not answer.
const giveUpAfter = 10 * time.Minute

// Apply brings an account's server to what the rows say now, and ends the
// operations that this brings about. Nothing to do is no error. An error means that it should be tried again.
func (s *Service) Apply(ctx context.Context, accountID int64) error {
	if !s.applying.take(accountID) {
		return nil
	}
	for {
		if err := s.applyOnce(ctx, accountID); err != nil {
			s.applying.end(accountID)
			return err // the next try does what has come meanwhile, too
		}
		if !s.applying.next(accountID) {
			return nil
		}
	}
}

// applyOnce is Apply without regard to who else is at it.
func (s *Service) applyOnce(ctx context.Context, accountID int64) error {
	var account db.Account
	var waiting []int64
	var list []placed
	// One moment for all of it, or a manifest could bear one revision and hold what belongs to another.
	err := s.store.Snapshot(ctx, func(q *db.Queries) error {
		var err error
		if account, err = q.Account(ctx, accountID); err != nil {
			return err
		}
		if waiting, err = q.UnfinishedOfAccount(ctx, db.UnfinishedOfAccountParams{AccountID: &accountID, Revision: &account.Revision}); err != nil {
			return err
		}
		list, err = s.buildManifests(ctx, q, account)
		return err
	})
	if err != nil {
		return err
	}
	if len(waiting) == 0 && account.AppliedRevision == account.Revision {
		return nil
	}
	p := s.progress(waiting...)
	for _, part := range list {
		if part.there {
			continue
		}
		receipt, err := s.applyOn(ctx, account, part, p)
		var refused *agentError
		switch {
		case errors.As(err, &refused):
			if ctx.Err() == nil {
				p.note(fmt.Sprintf("%s does not answer; trying again", part.server.Label))
			}
			p.close()
			return s.unanswered(ctx, account, part.server.Label, waiting, refused.err)
		case err == nil && receipt.Failure != nil:
			p.close()
			return s.applyFailed(ctx, account, part.server.Label, receipt.Failure, waiting)
		case err == nil:
			err = s.took(ctx, part)
		}
		if err != nil { // the database's: no server has refused anything
			p.close()
			return err
		}
	}
	p.close()
	return s.applied(ctx, account, waiting)
}

// agentError is what came of calling an agent, and not of anything else.
type agentError struct{ err error }

func (e *agentError) Error() string { return e.err.Error() }
func (e *agentError) Unwrap() error { return e.err }

// applyOn has one server hold what it should for an account. Steps of servers without its home bear the server's label.
func (s *Service) applyOn(ctx context.Context, account db.Account, part placed, p *progress) (agentlink.Receipt, error) {
	tell := p.step
	if part.server.ID != account.ServerID {
		tell = func(step agentlink.Step) {
			step.Name = part.server.Label + ": " + step.Name
			p.step(step)
		}
	}
	if err := s.store.PlaceAccount(ctx, db.PlaceAccountParams{AccountID: account.ID, ServerID: part.server.ID}); err != nil {
		return agentlink.Receipt{}, err
	}
	for _, p := range s.parts {
		if p.Prepare != nil {
			if err := p.Prepare(ctx, part.server, part.manifest); err != nil {
				return agentlink.Receipt{}, err
			}
		}
	}
	receipt, err := s.agents.Agent(part.server.ID, part.server.Address).Apply(ctx, part.manifest, tell)
	if err != nil {
		return receipt, &agentError{err}
	}
	return receipt, nil
}

// applied writes down that a revision is in force.
func (s *Service) applied(ctx context.Context, account db.Account, operations []int64) error {
	return s.store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockAccount(ctx, account.ID); err != nil {
			return err
		}
		after, err := tx.AccountApplied(ctx, db.AccountAppliedParams{ID: account.ID, Revision: account.Revision})
		if err != nil && !store.None(err) {
			return err
		}
		if err := tx.ForgetDriftsOfAccount(ctx, &account.ID); err != nil {
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
		return finishIn(ctx, tx, nil, operations...)
	})
}

// applyFailed ends the operations of an apply that the server refused. The
// agent has put back what was before. An account that was being opened is given up: all of it or none.
func (s *Service) applyFailed(ctx context.Context, account db.Account, label string, f *agentlink.Failure, operations []int64) error {
	if f.Code == agentlink.FailedStale {
		// A newer revision is there: the job that brought it ends the operations.
		s.log.Warn("stale apply", "account", account.SignInName, "revision", account.Revision, "reason", f.Message)
		return nil
	}
	s.log.Warn("apply failed", "account", account.SignInName, "server", label, "step", f.Step, "reason", f.Message)
	return s.store.InTx(ctx, func(tx store.Tx) error {
		return s.fail(ctx, tx, account.ID, account.Revision, fmt.Errorf("%s: %s", f.Step, f.Message), operations)
	})
}

// fail ends operations; the opening of an account is turned into its closing.
func (s *Service) fail(ctx context.Context, tx store.Tx, accountID, revision int64, cause error, operations []int64) error {
	account, err := tx.LockAccount(ctx, accountID)
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
	outcome := "the server is as it was before"
	if account.State == "opening" && account.Revision == revision {
		outcome = "the account was not opened; nothing of it is left"
		if _, err := tx.WantAccount(ctx, db.WantAccountParams{ID: accountID, State: "closing"}); err != nil {
			return err
		}
		if err := s.queue.Apply(ctx, tx, accountID); err != nil {
			return err
		}
	}
	return finishIn(ctx, tx, fmt.Errorf("%w (%s)", cause, outcome), operations...)
}

// unanswered decides what becomes of an apply that the agent did not answer:
// another try, or the end of the operations that have waited too long.
func (s *Service) unanswered(ctx context.Context, account db.Account, label string, operations []int64, cause error) error {
	if ctx.Err() != nil || len(operations) == 0 {
		return cause
	}
	if !errors.Is(cause, agentlink.ErrUnreachable) {
		return s.applyFailed(ctx, account, label, &agentlink.Failure{Code: agentlink.FailedStep, Step: "apply", Message: cause.Error()}, operations)
	}
	first, err := s.store.OperationByID(ctx, db.OperationByIDParams{ID: operations[0]})
	if err != nil {
		return err
	}
	if s.now().Sub(first.CreatedAt) < giveUpAfter {
		return cause
	}
	return s.store.InTx(ctx, func(tx store.Tx) error {
		return s.fail(ctx, tx, account.ID, account.Revision, fmt.Errorf("%s did not answer for %s", label, giveUpAfter), operations)
	})
}

// spreadAtOnce is how many accounts of an operation are applied at the same time; the agents' group commit
// makes few reloads of them.
const spreadAtOnce = 128

// Spread applies all accounts of an operation and tells how far it is, server by server. An error means that it
// should be tried again.
func (s *Service) Spread(ctx context.Context, operation int64) error {
	row, err := s.store.OperationByID(ctx, db.OperationByIDParams{ID: operation})
	if err != nil || row.FinishedAt != nil {
		return err
	}
	accounts, err := s.store.CoveredAccounts(ctx, operation)
	if err != nil {
		return err
	}
	p := s.progress(operation)
	defer p.close()
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
		p.step(agentlink.Step{Name: server, State: state, Detail: fmt.Sprintf("%d of %s", done[server], counted(whole[server], "account"))})
	}
	for _, account := range accounts {
		whole[account.Server]++
		if account.Applied {
			done[account.Server]++
		}
	}
	for server := range whole {
		tell(server)
	}
	behind := slices.DeleteFunc(accounts, func(account db.CoveredAccountsRow) bool { return account.Applied })
	atOnce(spreadAtOnce, behind, func(account db.CoveredAccountsRow) {
		err := s.applyOnce(ctx, account.ID) // whoever is at it already need not be before what this brings
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			p.note(fmt.Sprintf("%s: %s; trying again", account.SignInName, err))
			return
		}
		done[account.Server]++
		tell(account.Server)
	})
	p.close()
	if accounts, err = s.store.CoveredAccounts(ctx, operation); err != nil {
		return err
	}
	var missing []string
	for _, account := range accounts {
		if !account.Applied {
			missing = append(missing, account.SignInName+" on "+account.Server)
		}
	}
	if len(missing) == 0 {
		return s.finish(ctx, nil, operation)
	}
	cause := fmt.Errorf("not applied: %s; a sweep tries again", strings.Join(missing, ", "))
	if s.now().Sub(row.CreatedAt) < giveUpAfter {
		return cause
	}
	return s.finish(ctx, cause, operation)
}

// Resume gives work that was left by a killed process to somebody else.
func (s *Service) Resume(ctx context.Context) error {
	return s.store.InTx(ctx, func(tx store.Tx) error {
		stalled, err := tx.Stalled(ctx, stalledAfter.Seconds())
		if err != nil || len(stalled) == 0 {
			return err
		}
		var ids []int64
		for _, o := range stalled {
			ids = append(ids, o.ID)
			switch {
			case o.AccountID != nil:
				err = s.queue.Apply(ctx, tx, *o.AccountID)
			case o.ServerID == nil:
				err = s.queue.Spread(ctx, tx, o.ID)
			case o.Kind == "server.join":
				err = s.queue.Join(ctx, tx, *o.ServerID, o.ID)
			case o.Kind == "server.sweep" || o.Kind == "server.repair":
				err = s.queue.Sweep(ctx, tx, *o.ServerID, o.ID, o.Kind == "server.repair")
			}
			if err != nil {
				return err
			}
		}
		return tx.TouchStalled(ctx, ids)
	})
}

// Sweep compares the accounts of a server with what is found there, keeps what
// differs and what is used, and has accounts applied that are behind. With
// repair, what differs is put right first. Operation may be 0.
func (s *Service) Sweep(ctx context.Context, serverID, operation int64, repair bool) error {
	server, err := s.store.ServerByID(ctx, serverID)
	if err != nil {
		return err
	}
	var ids []int64
	if operation != 0 {
		ids = []int64{operation}
	}
	p := s.progress(ids...)
	if err := s.tellServer(ctx, server); err != nil && ctx.Err() == nil {
		s.log.Warn("server not told what it is for", "server", server.Label, "reason", err)
	}
	found, err := s.sweepOnce(ctx, server, p, "sweep")
	if err == nil && repair && found > 0 {
		if err = s.repair(ctx, server, p); err == nil {
			found, err = s.sweepOnce(ctx, server, p, "sweep again")
			if err == nil && found > 0 {
				err = fmt.Errorf("%s still there after the repair; look at the drift of %s", differences(found), server.Label)
			}
		}
	}
	p.close()
	if len(ids) == 0 || ctx.Err() != nil {
		return err
	}
	return s.finish(ctx, err, ids...)
}

func differences(n int) string {
	if n == 1 {
		return "1 difference"
	}
	return fmt.Sprintf("%d differences", n)
}

// sweepOnce does one sweep and returns the number of differences.
func (s *Service) sweepOnce(ctx context.Context, server db.Server, p *progress, step string) (int, error) {
	p.step(agentlink.Step{Name: step, State: agentlink.StepRunning})
	sweep, err := s.agents.Agent(server.ID, server.Address).Sweep(ctx)
	if err != nil {
		err = unreachable(server.Label, err)
		p.step(agentlink.Step{Name: step, State: agentlink.StepFailed, Detail: err.Error()})
		return 0, err
	}
	found := 0
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		found, err = s.keepSweep(ctx, tx, server, sweep)
		return err
	})
	detail := fmt.Sprintf("%d accounts compared, no difference", len(sweep.Accounts))
	if found > 0 {
		detail = fmt.Sprintf("%d accounts compared, %s", len(sweep.Accounts), differences(found))
	}
	p.step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail})
	return found, err
}

func (s *Service) keepSweep(ctx context.Context, tx store.Tx, server db.Server, sweep agentlink.Sweep) (found int, err error) {
	// What the agent holds counts: it may have lost what it was told.
	if err := tx.ToldServer(ctx, db.ToldServerParams{ID: server.ID, Told: sweep.Server}); err != nil {
		return 0, err
	}
	wanted, err := tx.AccountsOnServer(ctx, server.ID)
	if err != nil {
		return 0, err
	}
	states := map[int64]agentlink.AccountState{}
	for _, state := range sweep.Accounts {
		states[state.AccountID] = state
	}
	if err := tx.ForgetDrifts(ctx, server.ID); err != nil {
		return 0, err
	}
	keep := func(account *int64, d agentlink.Drift) error {
		found++
		return tx.AddDrift(ctx, db.AddDriftParams{ServerID: server.ID, AccountID: account, Part: d.Part, Subject: d.Subject, What: d.What, Diff: d.Diff})
	}
	for _, account := range wanted {
		state, there := states[account.ID]
		if there {
			delete(states, account.ID)
		}
		if account.AppliedRevision < account.Revision {
			// Work is under way or was given up; either way the server is to get there.
			if err := s.queue.Apply(ctx, tx, account.ID); err != nil {
				return found, err
			}
			continue
		}
		if !there || state.Revision < account.There {
			d := agentlink.Drift{Part: "agent", Subject: account.SignInName, What: "is not what was applied: the agent has lost or undone it"}
			if err := keep(&account.ID, d); err != nil {
				return found, err
			}
		}
		for _, d := range state.Drift {
			if err := keep(&account.ID, d); err != nil {
				return found, err
			}
		}
		if state.DiskUsed != nil {
			if err := tx.Measured(ctx, db.MeasuredParams{ID: account.ID, DiskUsed: state.DiskUsed}); err != nil {
				return found, err
			}
		}
	}
	for _, state := range states {
		for _, d := range state.Drift { // what is left of a closed account
			d.Subject = state.SignInName + ": " + d.Subject
			if err := keep(nil, d); err != nil {
				return found, err
			}
		}
		if state.Wanted == manifest.Present {
			if err := keep(nil, agentlink.Drift{Part: "agent", Subject: state.SignInName, What: "is on the server but is no account of it"}); err != nil {
				return found, err
			}
		}
	}
	for _, d := range sweep.Strays {
		if err := keep(nil, d); err != nil {
			return found, err
		}
	}
	return found, tx.Swept(ctx, server.ID)
}

// straysStep is the step of a repair that deals with files of no account.
const straysStep = "files of nobody"

// repair applies every account of a server that differs, and clears what
// belongs to nobody.
func (s *Service) repair(ctx context.Context, server db.Server, p *progress) error {
	rows, err := s.store.DriftsOfServer(ctx, server.ID)
	if err != nil {
		return err
	}
	agent := s.agents.Agent(server.ID, server.Address)
	repaired := map[int64]bool{}
	strays := false
	for _, d := range rows {
		if d.AccountID == nil {
			strays = true
			continue
		}
		if repaired[*d.AccountID] {
			continue
		}
		repaired[*d.AccountID] = true
		account, err := s.store.Account(ctx, *d.AccountID)
		if err != nil {
			return err
		}
		m, err := s.manifestOn(ctx, s.store.Queries, account, server.ID)
		if err != nil {
			return err
		}
		name := account.SignInName
		p.step(agentlink.Step{Name: name, State: agentlink.StepRunning})
		receipt, err := agent.Apply(ctx, m, func(agentlink.Step) {})
		if err == nil && receipt.Failure != nil {
			err = fmt.Errorf("%s: %s: %s", name, receipt.Failure.Step, receipt.Failure.Message)
		}
		if err != nil {
			p.step(agentlink.Step{Name: name, State: agentlink.StepFailed, Detail: err.Error()})
			return err
		}
		p.step(agentlink.Step{Name: name, State: agentlink.StepDone, Detail: "as its manifest wants it"})
	}
	if !strays {
		return nil
	}
	p.step(agentlink.Step{Name: straysStep, State: agentlink.StepRunning})
	cleared, err := agent.Clear(ctx)
	if err != nil {
		p.step(agentlink.Step{Name: straysStep, State: agentlink.StepFailed, Detail: err.Error()})
		return err
	}
	p.step(agentlink.Step{Name: straysStep, State: agentlink.StepDone, Detail: fmt.Sprintf("%d removed or put right", cleared.Files)})
	return nil
}

// SweepServers starts a sweep of every joined server.
func (s *Service) SweepServers(ctx context.Context) error {
	rows, err := s.store.Servers(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Server.State != "joined" {
			continue
		}
		if err := s.store.InTx(ctx, func(tx store.Tx) error { return s.queue.Sweep(ctx, tx, row.Server.ID, 0, false) }); err != nil {
			return err
		}
	}
	return nil
}
