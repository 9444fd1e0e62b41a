package kits

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/sites"
	dbservice "victualler/internal/service/databases"
	"victualler/internal/service/domains"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
)

// prepare waits until the account is there.
func (w *run) prepare(ctx context.Context) error {
	w.progress.Expect("prepare", "files", "steps", "place", "check")
	w.begin("prepare")
	if w.account.State == "opening" {
		return errWait
	}
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
		Charset: charset}, at)
	out["database_name"], out["database_user"], out["database_password"] = s.Database, s.User, s.Password
	return out, nil
}

// stage puts the files of the kit beside the site, and waits for the database meanwhile.
func (w *run) stage(ctx context.Context) error {
	w.begin("files")
	var digests map[string]string
	staged := make(chan error, 1)
	go func() {
		var err error
		digests, err = w.stageFiles(ctx)
		staged <- err
	}()
	there := w.databaseMade(ctx)
	if there == nil {
		detail := language.New("nothing is needed but files")
		if w.kit.Needs.Database != "" {
			detail = language.New("its database is there")
		}
		w.done("prepare", detail)
	}
	err := cmp.Or(<-staged, there) // what the files fail at, nobody need wait for
	if err != nil {
		return err
	}
	w.done("files", usecase.Counted(len(digests), "file"))
	return w.advance(ctx, stateRunning, func(store.Tx) error {
		w.row.Step = 0
		w.row.Digests, err = json.Marshal(digests)
		return err
	})
}

// databaseMade waits for the kit's database. What else the server of the sites is told may end
// while steps are run; another server says nothing of its own before its end.
func (w *run) databaseMade(ctx context.Context) error {
	if w.kit.Needs.Database == "" {
		return w.applied(ctx)
	}
	at, err := dbservice.Place(ctx, w.service.Store.Queries, w.account, w.kit.Needs.Database)
	if err != nil {
		return err
	}
	if !at.Local {
		return w.applied(ctx)
	}
	return w.reached(ctx, "databases")
}

// stageFiles puts the files of the kit beside the site, and returns their digests.
func (w *run) stageFiles(ctx context.Context) (map[string]string, error) {
	if err := w.checkPHP(ctx, w.kit.Needs); err != nil {
		return nil, err
	}
	digests, tree, err := w.send(ctx, agentlink.KitStage, nil, w.kit, w.row.KitID, w.row.Answers, w.secrets, nil)
	if err == nil && tree.Other != "" && !w.row.ReplaceFiles {
		err = fails("there are files in the site already, such as %s", tree.Other)
	}
	return digests, err
}

// checkPHP fails where the PHP of the site lacks what is needed.
func (w *run) checkPHP(ctx context.Context, needs kits.Needs) error {
	if needs.PHP == "" {
		return nil
	}
	outcome, err := w.agent().KitPHP(ctx, agentlink.KitPHP{KitSite: w.site(), Extensions: needs.Extensions})
	if err != nil {
		return agentError(err)
	}
	if outcome.Failure != "" {
		return failed{language.Decode(outcome.Failure)}
	}
	return nil
}

// send sends files of a kit, with its templates filled in, to the agent, and returns the digests of
// all, and what the agent tells of the site. Only are those that are sent; nil is all. Paths are
// files to be taken away.
func (w *run) send(ctx context.Context, do string, paths []string, k kits.Kit, kitID int64, answers []byte, s secrets,
	only map[string]bool) (digests map[string]string, tree agentlink.KitTree, err error) {
	archive, err := w.service.Store.KitArchive(ctx, kitID)
	if err != nil {
		return nil, tree, err
	}
	values, err := w.values(ctx, k, answers, s)
	if err != nil {
		return nil, tree, err
	}
	from, to := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		written, err := k.WriteSite(to, archive, values, only)
		digests = written
		to.CloseWithError(err)
	}()
	tree, err = w.files(ctx, do, paths, from)
	from.CloseWithError(errors.New("the agent takes no more"))
	<-done
	return digests, tree, err
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
	if err := w.applied(ctx); err != nil {
		return err
	}
	w.begin("place")
	if _, err := w.files(ctx, agentlink.KitPlace, nil, nil); err != nil {
		return err
	}
	return w.advance(ctx, stateChecking, func(tx store.Tx) error {
		set, err := w.setSettings(ctx, tx, w.kit)
		if err != nil || !set {
			return err
		}
		return w.tellServers(ctx, tx)
	})
}

// setSettings gives the site the settings of a kit, and takes those that an earlier one has set
// back to what they were. Set reports whether there are any; whoever calls it has the servers told.
func (w *run) setSettings(ctx context.Context, tx store.Tx, k kits.Kit) (set bool, err error) {
	before := map[string]json.RawMessage{}
	if err := json.Unmarshal(w.row.SettingsBefore, &before); err != nil {
		return false, err
	}
	wanted := maps.Clone(before)
	for key, value := range k.Site {
		text, err := json.Marshal(value)
		if err != nil {
			return false, err
		}
		wanted[string(key)] = text
	}
	w.row.ApplyID = nil
	if len(wanted) == 0 {
		return false, nil
	}
	st, err := w.lock(ctx, tx)
	if err != nil {
		return false, err
	}
	was, err := domains.SetSettings(ctx, tx, st, w.domain.ID, wanted)
	if err != nil {
		return false, err
	}
	for key := range wanted {
		if _, is := k.Site[sites.Key(key)]; !is {
			delete(before, key) // it is as it was
		} else if _, known := before[key]; !known {
			before[key] = was[key]
		}
	}
	w.row.SettingsBefore, err = json.Marshal(before)
	return true, err
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
		return w.ends(ctx, nil, nil)
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

// ends takes the row away, and ends the operation: well where cause is nil. Before changes, in the
// same transaction, what goes with the row; nil is nothing.
func (w *run) ends(ctx context.Context, before func(store.Tx) error, cause error) error {
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		if before != nil {
			if err := before(tx); err != nil {
				return err
			}
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
	if _, err := w.setSettings(ctx, tx, kits.Kit{}); err != nil {
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
	return w.ends(ctx, func(tx store.Tx) error { return w.takeBack(ctx, tx) }, cause)
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
