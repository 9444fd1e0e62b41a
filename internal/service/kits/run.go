package kits

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	dbservice "victualler/internal/service/databases"
	"victualler/internal/service/domains"
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
	statePreparing = "preparing" // the account and the database are being made
	stateStaging   = "staging"   // files are put beside the site
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
func (w *run) applied(ctx context.Context) error {
	if w.row.ApplyID == nil {
		return nil
	}
	limited, cancel := context.WithTimeout(ctx, watchTime)
	defer cancel()
	var last api.Operation
	err := w.service.rollout.WatchOperation(limited, usecase.System(), *w.row.ApplyID, 0, func(o api.Operation) error {
		last = o
		return nil
	})
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

// prepare waits until the account and its database are there.
func (w *run) prepare(ctx context.Context) error {
	w.progress.Expect("prepare", "files", "steps", "place", "check")
	w.begin("prepare")
	if w.account.State == "opening" {
		account, err := w.service.Store.Account(ctx, w.account.ID)
		if err != nil {
			return err
		}
		if account.State == "opening" {
			return errWait
		}
		w.account = account
	}
	if err := w.applied(ctx); err != nil {
		return err
	}
	detail := language.New("nothing is needed but files")
	if w.kit.Needs.Database != "" {
		detail = language.New("its database is there")
	}
	w.done("prepare", detail)
	return w.advance(ctx, stateStaging, nil)
}

// values are what templates are filled in with.
func (w *run) values(ctx context.Context, k kits.Kit, answers []byte, s secrets) (kits.Values, error) {
	out := kits.Values{}
	if err := json.Unmarshal(answers, &out); err != nil {
		return nil, err
	}
	maps.Copy(out, s.Own)
	out["site_name"] = usecase.Unicode(w.domain.Name)
	out["site_address"] = "https://" + w.domain.Name
	if k.Needs.Database == "" {
		return out, nil
	}
	at, err := dbservice.Place(ctx, w.service.Store.Queries, w.account, k.Needs.Database)
	if err != nil {
		return nil, err
	}
	out["database_host"], out["database_port"], out["database_socket"] = at.Host, fmt.Sprint(k.Needs.Database.Port()),
		""
	if at.Local {
		out["database_socket"] = k.Needs.Database.Socket()
	}
	charset, _, err := databases.ParseCharset(k.Needs.Database, "", "")
	if err != nil {
		return nil, err
	}
	out["database_dsn"] = databases.DSN(databases.Database{Engine: k.Needs.Database, Name: s.Database,
		Charset: charset},
		at)
	out["database_name"], out["database_user"], out["database_password"] = s.Database, s.User, s.Password
	return out, nil
}

// stage puts the files of the kit beside the site.
func (w *run) stage(ctx context.Context) error {
	w.begin("files")
	tree, err := w.files(ctx, agentlink.KitLook, nil, nil)
	if err != nil {
		return err
	}
	if tree.Other != "" && !w.row.ReplaceFiles {
		return fails("there are files in the site already, such as %s", tree.Other)
	}
	digests, err := w.send(ctx, agentlink.KitStage, nil, w.kit, w.row.KitID, w.row.Answers, w.secrets, nil)
	if err != nil {
		return err
	}
	if step, needed := w.kit.Needs.CheckExtensions(); needed {
		if err := w.command(ctx, step, true); err != nil {
			return err
		}
	}
	w.done("files", usecase.Counted(len(digests), "file"))
	return w.advance(ctx, stateRunning, func(store.Tx) error {
		w.row.Step = 0
		w.row.Digests, err = json.Marshal(digests)
		return err
	})
}

// send sends files of a kit, with its templates filled in, to the agent, and returns the digests of
// all. Only are those that are sent; nil is all. Paths are files to be taken away.
func (w *run) send(ctx context.Context, do string, paths []string, k kits.Kit, kitID int64, answers []byte, s secrets,
	only map[string]bool) (map[string]string, error) {
	archive, err := w.service.Store.KitArchive(ctx, kitID)
	if err != nil {
		return nil, err
	}
	values, err := w.values(ctx, k, answers, s)
	if err != nil {
		return nil, err
	}
	from, to := io.Pipe()
	digests := make(chan map[string]string, 1)
	go func() {
		written, err := k.WriteSite(to, archive, values, only)
		to.CloseWithError(err)
		digests <- written
	}()
	_, err = w.files(ctx, do, paths, from)
	from.CloseWithError(errors.New("the agent takes no more"))
	return <-digests, err
}

// command runs one command in the account's sandbox.
func (w *run) command(ctx context.Context, step kits.Step, staged bool) error {
	outcome, err := w.agent().KitRun(ctx, agentlink.KitRun{KitSite: w.site(), Staged: staged, Step: step})
	if err != nil {
		return agentError(err)
	}
	why := language.Decode(outcome.Failure)
	switch {
	case outcome.Failure == "":
		return nil
	case step.Title == "":
		return failed{language.Plain(outcome.Output)}
	case outcome.Output != "":
		return fails("the step “%s” failed: %s; it says: %s", step.Title, why, outcome.Output)
	}
	return fails("the step “%s” failed: %s", step.Title, why)
}

// runSteps runs the commands that belong to the state. One that was cut off is not repeated, as
// nobody knows what it would do then.
func (w *run) runSteps(ctx context.Context) error {
	w.begin("steps")
	list, next := w.kit.Steps, statePlacing
	switch w.row.State {
	case stateUpdating:
		list, next = w.target().Update.Steps, stateChecking
	case stateLeaving:
		list, next = w.kit.Remove, stateClearing
	}
	if !w.here && len(list) > int(w.row.Step) {
		return fails("it was interrupted while the step “%s” ran", list[w.row.Step].Title)
	}
	for i := int(w.row.Step); i < len(list); i++ {
		w.progress.Note(language.Plain(list[i].Title))
		if err := w.command(ctx, list[i], w.row.State == stateRunning); err != nil {
			return err
		}
		if err := w.advance(ctx, w.row.State, func(store.Tx) error { w.row.Step++; return nil }); err != nil {
			return err
		}
	}
	w.progress.Note(language.Text{})
	w.done("steps", language.New("%d of %d", len(list), len(list)))
	return w.advance(ctx, next, func(store.Tx) error { w.row.Step = 0; return nil })
}

// place has the kit's files take the place of the site's, and the site get the settings.
func (w *run) place(ctx context.Context) error {
	w.begin("place")
	if _, err := w.files(ctx, agentlink.KitPlace, nil, nil); err != nil {
		return err
	}
	return w.advance(ctx, stateChecking, func(tx store.Tx) error { return w.setSettings(ctx, tx, w.kit) })
}

// setSettings gives the site the settings of a kit, and takes those that an earlier one has set
// back to what they were.
func (w *run) setSettings(ctx context.Context, tx store.Tx, k kits.Kit) error {
	before := map[string]json.RawMessage{}
	if err := json.Unmarshal(w.row.SettingsBefore, &before); err != nil {
		return err
	}
	wanted := maps.Clone(before)
	for key, value := range k.Site {
		text, err := json.Marshal(value)
		if err != nil {
			return err
		}
		wanted[string(key)] = text
	}
	w.row.ApplyID = nil
	if len(wanted) == 0 {
		return nil
	}
	st, err := w.lock(ctx, tx)
	if err != nil {
		return err
	}
	was, err := domains.SetSettings(ctx, tx, st, w.domain.ID, wanted)
	if err != nil {
		return err
	}
	for key := range wanted {
		if _, is := k.Site[sitesKey(key)]; !is {
			delete(before, key) // it is as it was
		} else if _, known := before[key]; !known {
			before[key] = was[key]
		}
	}
	if w.row.SettingsBefore, err = json.Marshal(before); err != nil {
		return err
	}
	return w.tellServers(ctx, tx)
}

// check asks the site whether it works.
func (w *run) check(ctx context.Context) error {
	if err := w.applied(ctx); err != nil {
		return err
	}
	if w.row.Work == workInstall {
		w.done("place", language.New("the site shows it"))
	}
	w.begin("check")
	// PHP may be starting, or still hold scripts for some seconds that were replaced.
	var last error
	for until := time.Now().Add(checkTime); last == nil || time.Now().Before(until); {
		outcome, err := w.agent().KitCheck(ctx, agentlink.KitCheck{KitSite: w.site(), Check: w.target().Check})
		if err != nil {
			return agentError(err)
		}
		if outcome.Failure == "" {
			w.done("check", language.New("%s answers as it should", w.target().Check.Path))
			return w.advance(ctx, stateSettling, nil)
		}
		last = fails("the site does not work: %s", language.Decode(outcome.Failure))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(checkPause):
		}
	}
	return last
}

// settle takes away what was kept to be brought back, and ends the work.
func (w *run) settle(ctx context.Context) error {
	if err := w.tidy(ctx, agentlink.KitSettle); err != nil {
		return err
	}
	if err := w.forgetSaved(ctx); err != nil {
		return err
	}
	w.progress.Close()
	if w.row.Work == workRemove {
		if err := w.applied(ctx); err != nil {
			return err
		}
		return w.ends(ctx, nil)
	}
	return w.advance(ctx, stateInstalled, func(tx store.Tx) error {
		if w.row.Work == workUpdate {
			w.row.KitID, w.row.Answers, w.row.Secrets, w.row.Digests = *w.row.NextKitID, w.row.NextAnswers,
				w.row.NextSecrets, w.row.NextDigests
		}
		now := w.service.Now()
		w.row.InstalledAt = &now
		return w.rest(ctx, tx, nil)
	})
}

// rest has nothing more under way with the kit, and ends the operation: well where cause is nil.
func (w *run) rest(ctx context.Context, tx store.Tx, cause error) error {
	operation := *w.row.OperationID
	w.row.Work, w.row.ApplyID, w.row.Failure, w.row.Step = "", nil, "", 0
	w.row.NextKitID, w.row.NextAnswers, w.row.NextSecrets, w.row.NextDigests, w.row.Take = nil, nil, nil, nil, nil
	return usecase.FinishOperationsTx(ctx, tx, cause, operation)
}

// ends takes the row away, and ends the operation: well where cause is nil.
func (w *run) ends(ctx context.Context, cause error) error {
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.DeleteSiteKit(ctx, w.row.ID); err != nil {
			return err
		}
		return usecase.FinishOperationsTx(ctx, tx, cause, *w.row.OperationID)
	})
	if err == nil {
		w.row.Work = ""
	}
	return err
}

// clear takes files, settings and database from the site.
func (w *run) clear(ctx context.Context) error {
	w.begin("place")
	if _, err := w.files(ctx, agentlink.KitStarter, nil, nil); err != nil {
		return err
	}
	if _, err := w.files(ctx, agentlink.KitPlace, nil, nil); err != nil {
		return err
	}
	w.done("place", language.New("the site is empty"))
	return w.advance(ctx, stateSettling, func(tx store.Tx) error { return w.takeBack(ctx, tx) })
}

// takeBack takes what the kit has got beside its files: settings, database and user.
func (w *run) takeBack(ctx context.Context, tx store.Tx) error {
	if _, err := w.lock(ctx, tx); err != nil {
		return err
	}
	if err := w.setSettings(ctx, tx, kits.Kit{}); err != nil {
		return err
	}
	if w.row.DatabaseID != nil {
		if err := tx.RemoveDatabase(ctx, *w.row.DatabaseID); err != nil {
			return err
		}
	}
	if w.row.DatabaseUserID != nil {
		if err := tx.RemoveDatabaseUser(ctx, *w.row.DatabaseUserID); err != nil {
			return err
		}
	}
	return w.tellServers(ctx, tx)
}

// beginUndo has all be as it was before the work began.
func (w *run) beginUndo(ctx context.Context, cause error) error {
	w.progress.Note(language.New("putting back what was there before"))
	return w.advance(ctx, stateUndoing, func(store.Tx) error {
		w.row.Failure = language.Of(cause).Encode()
		return nil
	})
}

// undo brings back what was there before the work began.
func (w *run) undo(ctx context.Context) error {
	cause := failed{language.Decode(w.row.Failure)}
	if w.row.Work == workRemove { // nothing has been taken away yet
		w.progress.Close()
		return w.advance(ctx, stateInstalled, func(tx store.Tx) error { return w.rest(ctx, tx, cause) })
	}
	if err := w.tidy(ctx, agentlink.KitRestore); err != nil {
		return err
	}
	if w.row.Work == workUpdate {
		return w.undoUpdate(ctx, cause)
	}
	w.progress.Close()
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		if err := w.takeBack(ctx, tx); err != nil {
			return err
		}
		if err := tx.DeleteSiteKit(ctx, w.row.ID); err != nil {
			return err
		}
		return usecase.FinishOperationsTx(ctx, tx, cause, *w.row.OperationID)
	})
	if err == nil {
		w.row.Work = ""
	}
	return err
}

// changed lists the files that an update adds or replaces, and those that it takes away; conflicts
// are decided by what the person has said.
func changed(list []kits.Change, take []string) (write map[string]bool, remove []string) {
	write = map[string]bool{}
	for _, c := range list {
		switch {
		case c.Action == kits.Add || c.Action == kits.Replace:
			write[c.Path] = true
		case c.Action == kits.Remove:
			remove = append(remove, c.Path)
		case slices.Contains(take, c.Path):
			write[c.Path] = true
		}
	}
	return write, remove
}
