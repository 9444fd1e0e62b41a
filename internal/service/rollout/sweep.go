package rollout

import (
	"context"
	"fmt"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Sweep compares the accounts of a server with what is found there, keeps what
// differs and what is used, and has accounts applied that are behind. With
// repair, what differs is put right first. Operation may be 0.
//
// Refusals: ApplyFailed, ServerUnreachable.
func (s *Service) Sweep(ctx context.Context, serverID, operation int64, repair bool) error {
	server, err := s.Store.ServerByID(ctx, serverID)
	if err != nil {
		return err
	}
	var ids []int64
	if operation != 0 {
		ids = []int64{operation}
	}
	p := s.StartProgress(ids...)
	if err := s.SyncServer(ctx, server); err != nil && ctx.Err() == nil {
		s.Log.Warn("server not told what it is for", "server", server.Label, "reason", err)
	}
	found, err := s.sweepOnce(ctx, server, p, "sweep")
	if err == nil && repair && found > 0 {
		if err = s.repair(ctx, server, p); err == nil {
			found, err = s.sweepOnce(ctx, server, p, "sweep again")
			if err == nil && found > 0 {
				err = language.Errorf("%s still there after the repair; look at the drift of %s",
					usecase.Counted(found, "difference"), server.Label)
			}
		}
	}
	p.Close()
	if len(ids) == 0 || ctx.Err() != nil {
		return err
	}
	return s.FinishOperations(ctx, err, ids...)
}

// sweepOnce does one sweep and returns the number of differences.
func (s *Service) sweepOnce(ctx context.Context, server db.Server, p *usecase.Progress, step string) (int, error) {
	p.Step(agentlink.Step{Name: step, State: agentlink.StepRunning})
	sweep, err := s.Agents.Agent(server.ID, server.Address).Sweep(ctx)
	if err != nil {
		err = usecase.Unreachable(server.Label, err)
		p.Step(agentlink.Step{Name: step, State: agentlink.StepFailed, Detail: err.Error()})
		return 0, err
	}
	found := 0
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		found, err = s.saveSweep(ctx, tx, server, sweep)
		return err
	})
	compared := usecase.Counted(len(sweep.Accounts), "account")
	detail := language.New("%s compared, no difference", compared)
	if found > 0 {
		detail = language.New("%s compared, %s", compared, usecase.Counted(found, "difference"))
	}
	p.Step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail.Encode()})
	return found, err
}

func (s *Service) saveSweep(ctx context.Context, tx store.Tx, server db.Server, sweep agentlink.Sweep) (found int,
	err error) {
	// Detail the agent holds counts: it may have lost what it was told.
	if err := tx.SaveServerDigest(ctx, db.SaveServerDigestParams{ID: server.ID, Told: sweep.Server}); err != nil {
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
	if err := tx.DeleteDrifts(ctx, server.ID); err != nil {
		return 0, err
	}
	keep := func(account *int64, d agentlink.Drift) error {
		found++
		return tx.AddDrift(ctx, db.AddDriftParams{ServerID: server.ID, AccountID: account, Part: d.Part,
			Subject: d.Subject, Detail: d.Detail, Diff: d.Diff})
	}
	warnings, loads := map[int64][]agentlink.Warning{}, map[int64]agentlink.Load{}
	var divided []int64
	for _, account := range wanted {
		state, there := states[account.ID]
		if there {
			delete(states, account.ID)
		}
		if account.AppliedRevision < account.Revision {
			// Work is under way or was given up; either way the server is to get there.
			if err := s.Queue.Apply(ctx, tx, account.ID); err != nil {
				return found, err
			}
			continue
		}
		if !there || state.Revision < account.There {
			d := agentlink.Drift{Part: "agent", Subject: account.SignInName,
				Detail: language.New("is not what was applied: the agent has lost or undone it").Encode()}
			if err := keep(&account.ID, d); err != nil {
				return found, err
			}
		}
		for _, d := range state.Drift {
			if err := keep(&account.ID, d); err != nil {
				return found, err
			}
		}
		if there {
			warnings[account.ID] = state.Warnings
		}
		if state.Load != nil {
			loads[account.ID] = *state.Load
		}
		if state.Usage != nil {
			if err := tx.SaveUsage(ctx, db.SaveUsageParams{ID: account.ID, Server: server.ID,
				Bytes: state.Usage.Bytes, Files: state.Usage.Files}); err != nil {
				return found, err
			}
			if account.OnTwoServers && plans.Coarsely(account.Used) != plans.Coarsely(state.Usage.Bytes) {
				divided = append(divided, account.ID)
			}
		}
	}
	if err := s.divideAnew(ctx, tx, divided); err != nil {
		return found, err
	}
	if err := saveWarnings(ctx, tx, warnings); err != nil {
		return found, err
	}
	if err := saveLoads(ctx, tx, server, s.Now(), loads); err != nil {
		return found, err
	}
	for _, state := range states {
		for _, d := range state.Drift { // what is left of a closed account
			d.Subject = state.SignInName + ": " + d.Subject
			if err := keep(nil, d); err != nil {
				return found, err
			}
		}
		if state.Wanted == manifest.Present {
			if err := keep(nil, agentlink.Drift{Part: "agent", Subject: state.SignInName,
				Detail: language.New("is on the server but is no account of it").Encode()}); err != nil {
				return found, err
			}
		}
	}
	for _, d := range sweep.Strays {
		if err := keep(nil, d); err != nil {
			return found, err
		}
	}
	for _, p := range s.parts {
		if p.Swept == nil {
			continue
		}
		if err := p.Swept(ctx, tx, server, sweep); err != nil {
			return found, err
		}
	}
	return found, tx.MarkServerSwept(ctx, server.ID)
}

// UnownedStep is the step of a repair that deals with files of no account.
const UnownedStep = "files of nobody"

// divideAnew has accounts applied that hold more or less on one of two servers than before: that is
// what their disk limit leaves to the other ([plans.Room]).
func (s *Service) divideAnew(ctx context.Context, tx store.Tx, accounts []int64) error {
	if len(accounts) == 0 {
		return nil
	}
	raised, err := tx.BumpRevisions(ctx, accounts)
	if err != nil {
		return err
	}
	for _, account := range raised {
		if err := s.Queue.Apply(ctx, tx, account.ID); err != nil {
			return err
		}
	}
	return nil
}

// repair applies every account of a server that differs, and clears what
// belongs to nobody.
func (s *Service) repair(ctx context.Context, server db.Server, p *usecase.Progress) error {
	rows, err := s.Store.DriftsOfServer(ctx, server.ID)
	if err != nil {
		return err
	}
	agent := s.Agents.Agent(server.ID, server.Address)
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
		account, err := s.Store.Account(ctx, *d.AccountID)
		if err != nil {
			return err
		}
		m, err := s.manifestOn(ctx, s.Store.Queries, account, server.ID)
		if err != nil {
			return err
		}
		name := account.SignInName
		p.Step(agentlink.Step{Name: name, State: agentlink.StepRunning})
		receipt, err := agent.Apply(ctx, m, func(agentlink.Step) {})
		if err == nil && receipt.Failure != nil {
			err = fmt.Errorf("%s: %s: %s", name, receipt.Failure.Step, receipt.Failure.Message)
		}
		if err != nil {
			p.Step(agentlink.Step{Name: name, State: agentlink.StepFailed, Detail: err.Error()})
			return err
		}
		p.Step(agentlink.Step{Name: name, State: agentlink.StepDone,
			Detail: language.New("as its manifest wants it").Encode()})
	}
	if !strays {
		return nil
	}
	p.Step(agentlink.Step{Name: UnownedStep, State: agentlink.StepRunning})
	cleared, err := agent.Clear(ctx)
	if err != nil {
		p.Step(agentlink.Step{Name: UnownedStep, State: agentlink.StepFailed, Detail: err.Error()})
		return err
	}
	p.Step(agentlink.Step{Name: UnownedStep, State: agentlink.StepDone,
		Detail: language.New("%d removed or put right", cleared.Files).Encode()})
	return nil
}

// SweepServers starts a sweep of every joined server.
func (s *Service) SweepServers(ctx context.Context) error {
	rows, err := s.Store.Servers(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Server.State != "joined" {
			continue
		}
		if err := s.Store.InTx(ctx, func(tx store.Tx) error {
			return s.Queue.Sweep(ctx, tx, row.Server.ID, 0, false)
		}); err != nil {
			return err
		}
	}
	return nil
}
