package kits

import (
	"context"
	"errors"
	"io"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// The states of a site's kit while work with it is under way; each names what is done next.
//
//	install  preparing → staging → running → placing → checking → settling → installed
//	update   copying → patching → applying → updating → checking → settling → installed
//	remove   leaving → clearing → settling → no row
//
// From any before settling, what fails leads to undoing: back to what was there before.
const (
	statePreparing = "preparing" // the account is being made
	stateStaging   = "staging"   // files are put beside the site, while its database is being made
	stateRunning   = "running"   // the kit's steps are run there
	statePlacing   = "placing"   // the files take the place of the site's
	stateChecking  = "checking"  // the site is asked whether it works
	stateSettling  = "settling"  // what was kept to be brought back is taken away
	stateInstalled = "installed"
	stateCopying   = "copying"  // files and database are copied
	statePatching  = "patching" // changed files are put in place
	stateApplying  = "applying" // servers are told of settings and password
	stateUpdating  = "updating" // the update's steps are run
	stateLeaving   = "leaving"  // the steps before a removal are run
	stateClearing  = "clearing" // files and database are taken away
	stateUndoing   = "undoing"
)

// The kinds of work.
const (
	workInstall = "install"
	workUpdate  = "update"
	workRemove  = "remove"
)

// run is work with a site's kit that somebody is at.
type run struct {
	service *Service
	row     db.SiteKit
	account db.Account
	domain  db.Domain
	server  db.Server
	kit     kits.Kit
	// next is what an update leads to; nil while there is none.
	next     *kits.Kit
	secrets  secrets
	progress *usecase.Progress
	// here says that the state was reached by this very run, so that nothing of it was begun
	// before.
	here bool
}

// errGone ends work whose site or account is gone.
var errGone = errors.New("the site is gone")

// failed is the reason why work comes to nothing.
type failed struct{ why language.Text }

func (f failed) Error() string       { return f.why.String() }
func (f failed) Text() language.Text { return f.why }

func fails(format string, args ...any) error { return failed{language.New(format, args...)} }

// steps are what is done in each state.
var steps = map[string]func(*run, context.Context) error{
	statePreparing: (*run).prepare,
	stateStaging:   (*run).stage,
	stateRunning:   (*run).runSteps,
	statePlacing:   (*run).place,
	stateChecking:  (*run).check,
	stateSettling:  (*run).settle,
	stateCopying:   (*run).copyAll,
	statePatching:  (*run).patch,
	stateApplying:  (*run).apply,
	stateUpdating:  (*run).runSteps,
	stateLeaving:   (*run).runSteps,
	stateClearing:  (*run).clear,
	stateUndoing:   (*run).undo,
}

// errWait asks to be called again after a while.
var errWait = errors.New("not yet")

// checkTime is how long a site may take to answer as it should, asked every checkPause; shorter in
// tests.
var checkTime, checkPause = 10 * time.Second, 500 * time.Millisecond

// watchTime is how long a job waits for servers before it is put aside; shorter in tests.
var watchTime = 10 * time.Second

// pause is how long work waits for what is not there yet.
const pause = time.Second

// Work brings the work with a site's kit as far as it goes now. With again, it goes on after that
// time. An error means that it should be tried again.
func (s *Service) Work(ctx context.Context, id int64) (again time.Duration, err error) {
	if !s.working.Begin(id) {
		return 0, nil
	}
	defer s.working.End(id)
	w := &run{service: s}
	if err := w.load(ctx, id); err != nil {
		if store.None(err) || errors.Is(err, errGone) {
			return 0, nil
		}
		return 0, err
	}
	if w.row.Work == "" {
		return 0, nil
	}
	w.progress = s.StartProgress(usecase.OrZero(w.row.OperationID))
	defer w.progress.Close()
	for w.row.Work != "" {
		at := w.row.State
		err := steps[at](w, ctx)
		switch unreached := (*usecase.AgentError)(nil); {
		case ctx.Err() != nil:
			return 0, ctx.Err()
		case errors.Is(err, errGone):
			return 0, nil
		case errors.Is(err, errWait):
			return pause, nil
		case errors.As(err, &unreached) && errors.Is(err, agentlink.ErrUnreachable) &&
			(at == stateUndoing || at == stateSettling || w.age() < rollout.GiveUpAfter):
			w.progress.Note(language.New("%s does not answer; trying again", w.server.Label))
			return 5 * time.Second, nil
		case err == nil:
			w.here = true
		case at == stateUndoing || at == stateSettling:
			// The site is as it is to be, or nearly so: it is tried again until nothing is left.
			s.Log.Warn("work with a kit cannot be ended", "site", w.domain.Name, "state", at, "reason", err)
			w.progress.Note(language.Of(err))
			return 10 * time.Second, nil
		default:
			if err := w.beginUndo(ctx, err); err != nil {
				return 0, err
			}
		}
	}
	return 0, nil
}

// age is for how long the work is under way.
func (w *run) age() time.Duration { return w.service.Now().Sub(w.row.BegunAt) }

// load reads all that the work is about.
func (w *run) load(ctx context.Context, id int64) error {
	q := w.service.Store.Queries
	var err error
	if w.row, err = q.SiteKitByID(ctx, id); err != nil {
		return err
	}
	if w.account, err = q.Account(ctx, w.row.AccountID); err != nil {
		return err
	}
	if w.row.DomainID == nil || w.account.State == "closing" || w.account.State == "closed" {
		return w.drop(ctx)
	}
	if w.domain, err = q.DomainByID(ctx, *w.row.DomainID); err != nil {
		return err
	}
	if w.server, err = q.ServerByID(ctx, w.account.ServerID); err != nil {
		return err
	}
	row, err := q.KitByID(ctx, w.row.KitID)
	if err != nil {
		return err
	}
	if w.kit, err = readKit(row); err != nil {
		return err
	}
	if w.row.NextKitID != nil {
		if row, err = q.KitByID(ctx, *w.row.NextKitID); err != nil {
			return err
		}
		next, err := readKit(row)
		if err != nil {
			return err
		}
		w.next = &next
	}
	w.secrets, err = w.service.openSecrets(w.row.Secrets)
	return err
}

// drop ends work whose site or account is gone.
func (w *run) drop(ctx context.Context) error {
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.DeleteSiteKit(ctx, w.row.ID); err != nil || w.row.OperationID == nil {
			return err
		}
		return usecase.FinishOperationsTx(ctx, tx, fails("the site was removed meanwhile"), *w.row.OperationID)
	})
	return errors.Join(errGone, err)
}

// target is the kit whose site is worked on: the one that an update leads to, or the one there is.
func (w *run) target() kits.Kit {
	if w.next != nil {
		return *w.next
	}
	return w.kit
}

func (w *run) agent() usecase.Agent { return w.service.Agents.Agent(w.server.ID, w.server.Address) }

func (w *run) site() agentlink.KitSite {
	return agentlink.KitSite{AccountID: w.account.ID, SignInName: w.account.SignInName, Domain: w.domain.Name,
		Kit: w.row.ID}
}

// files has the agent do one piece of work with the site's files.
func (w *run) files(ctx context.Context, do string, paths []string, archive io.Reader) (agentlink.KitTree, error) {
	told, err := w.agent().KitFiles(ctx, agentlink.KitFiles{KitSite: w.site(), Do: do, Paths: paths}, archive)
	return told, agentError(err)
}

// tidy brings back what was there before, or takes away what was kept. A server that cannot do that
// any more, as somebody has changed what is in the way or how the site is served, is not asked for
// ever.
func (w *run) tidy(ctx context.Context, do string) error {
	_, err := w.files(ctx, do, nil, nil)
	if err != nil && !errors.Is(err, agentlink.ErrUnreachable) && w.age() > 2*rollout.GiveUpAfter {
		w.service.Log.Warn("files of a kit are left beside a site", "site", w.domain.Name, "work", do, "reason", err)
		return nil
	}
	return err
}

func agentError(err error) error {
	if err == nil {
		return nil
	}
	return &usecase.AgentError{Err: err}
}

func (w *run) begin(step string) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepRunning})
}

func (w *run) done(step string, detail language.Text) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail.Encode()})
}

// advance puts the state that the work has come to on record, with what change does in the same
// transaction.
func (w *run) advance(ctx context.Context, state string, change func(store.Tx) error) error {
	before := w.row
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		w.row = before
		if change != nil {
			if err := change(tx); err != nil {
				return err
			}
		}
		w.row.State = state
		return w.save(ctx, tx)
	})
	if err != nil {
		w.row = before
	}
	return err
}

// save writes the row, unless somebody else has written it meanwhile.
func (w *run) save(ctx context.Context, tx store.Tx) error {
	r := w.row
	n, err := tx.SaveSiteKit(ctx, db.SaveSiteKitParams{ID: r.ID, KitID: r.KitID, State: r.State, Work: r.Work,
		OperationID: r.OperationID, ApplyID: r.ApplyID, Step: r.Step, Answers: r.Answers, Secrets: r.Secrets,
		Digests: r.Digests, SettingsBefore: r.SettingsBefore, Failure: r.Failure, NextKitID: r.NextKitID,
		NextAnswers: r.NextAnswers, NextSecrets: r.NextSecrets, NextDigests: r.NextDigests,
		SavedImport: r.SavedImport, InstalledAt: r.InstalledAt, BegunAt: r.BegunAt, Take: usecase.NonNil(r.Take),
		Seen: r.Version})
	if err == nil && n == 0 {
		err = errGone
	}
	w.row.Version++
	return err
}

// lock locks the account, as whatever changes settings and databases must.
func (w *run) lock(ctx context.Context, tx store.Tx) (entitlement.Entitlement, error) {
	return entitlement.Lock(ctx, w.service.Base, tx, w.account.ID)
}

// tellServers has the account's servers told as a part of the work.
func (w *run) tellServers(ctx context.Context, tx store.Tx) error {
	actor := usecase.System().Within(usecase.OrZero(w.row.OperationID))
	operation, err := w.service.rollout.ApplyAccounts(ctx, tx, actor, "kit."+w.row.Work,
		usecase.AboutAccount(w.account), []int64{w.account.ID})
	if operation != 0 {
		w.row.ApplyID = &operation
	}
	return err
}

// applied waits for the end of what servers were told last.
func (w *run) applied(ctx context.Context) error { return w.reached(ctx, "") }

// reached waits for a step of what servers were told last, or the end of it; the latter alone if
// step is empty.
func (w *run) reached(ctx context.Context, step string) error {
	if w.row.ApplyID == nil {
		return nil
	}
	limited, cancel := context.WithTimeout(ctx, watchTime)
	defer cancel()
	last, err := w.service.rollout.AwaitStep(limited, *w.row.ApplyID, step)
	switch {
	case limited.Err() != nil && ctx.Err() == nil:
		w.progress.Note(language.Plain(last.Note))
		return errWait
	case err != nil:
		return err
	case last.State == "failed":
		return failed{language.Plain(last.Failure)}
	}
	return nil
}
