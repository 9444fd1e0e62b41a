package kits

import (
	"context"
	"encoding/json"
	"io"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// visit is the kit's database in the name of its user; false where there is none.
func (w *run) visit(ctx context.Context) (v agentlink.DatabaseVisit, server db.Server, is bool, err error) {
	if w.row.DatabaseID == nil || w.row.DatabaseUserID == nil {
		return v, server, false, nil
	}
	engines, err := w.service.Store.EnginesOfAccount(ctx, w.account.ID)
	if err != nil {
		return v, server, false, err
	}
	for _, row := range engines {
		if row.Engine == string(w.kit.Needs.Database) {
			return agentlink.DatabaseVisit{Account: w.account.ID, Engine: databases.Engine(row.Engine),
				Database: w.secrets.Database, User: w.secrets.User}, row.Server, true, nil
		}
	}
	return v, server, false, nil
}

// copyAll copies files and database, to be brought back if the update comes to nothing.
func (w *run) copyAll(ctx context.Context) error {
	w.progress.Expect("prepare", "files", "steps", "check")
	w.begin("prepare")
	if _, err := w.files(ctx, agentlink.KitCopy, nil, nil); err != nil {
		return err
	}
	if err := w.forgetSaved(ctx); err != nil { // of a try that was cut off
		return err
	}
	v, server, is, err := w.visit(ctx)
	if err != nil {
		return err
	}
	saved := ""
	if is {
		told, err := w.service.Agents.Agent(server.ID, server.Address).SaveDatabase(ctx, v)
		if err != nil {
			return agentError(err)
		}
		saved = told.Import.ID
	}
	w.done("prepare", language.New("files and database are copied"))
	return w.advance(ctx, statePatching, func(store.Tx) error { w.row.SavedImport = saved; return nil })
}

// forgetSaved removes the copy of the database, if there is one. That it is gone already is as
// good.
func (w *run) forgetSaved(ctx context.Context) error {
	v, server, is, err := w.visit(ctx)
	if err != nil || !is {
		return err
	}
	agent := w.service.Agents.Agent(server.ID, server.Address)
	list, err := agent.Imports(ctx, agentlink.ImportsOf{Account: w.account.ID})
	if err != nil {
		return agentError(err)
	}
	for _, one := range list.Imports {
		if one.Name == agentlink.SavedName && one.Database == v.Database && one.State != agentlink.ImportRuns {
			if _, err := agent.OrderImport(ctx, agentlink.ImportOrder{Account: w.account.ID, ID: one.ID,
				Do: agentlink.ImportForget}); err != nil {
				return agentError(err)
			}
		}
	}
	return nil
}

// patch puts the files in place that the kit has changed and nobody else, and those that are to be
// taken all the same.
func (w *run) patch(ctx context.Context) error {
	w.begin("files")
	secrets, err := w.service.openSecrets(w.row.NextSecrets)
	if err != nil {
		return err
	}
	plan, next, err := w.compare(ctx, *w.next, *w.row.NextKitID, w.row.NextAnswers, secrets)
	if err != nil {
		return err
	}
	write, remove := changed(plan, w.row.Take)
	if err := w.checkPHP(ctx, w.next.Needs); err != nil {
		return err
	}
	if _, _, err := w.send(ctx, agentlink.KitPatch, remove, *w.next, *w.row.NextKitID, w.row.NextAnswers, secrets,
		write); err != nil {
		return err
	}
	w.done("files", language.New("%d written, %d taken away", len(write), len(remove)))
	return w.advance(ctx, stateApplying, func(tx store.Tx) error {
		if w.row.NextDigests, err = json.Marshal(next); err != nil {
			return err
		}
		return w.setNext(ctx, tx, *w.next, secrets)
	})
}

// compare compares what the kit has written with what is in the site and what another version would
// write, and returns the digests of that, too.
func (w *run) compare(ctx context.Context, next kits.Kit, nextID int64, answers []byte, s secrets) ([]kits.Change,
	map[string]string, error) {
	archive, err := w.service.Store.KitArchive(ctx, nextID)
	if err != nil {
		return nil, nil, err
	}
	values, err := w.values(ctx, next, answers, s)
	if err != nil {
		return nil, nil, err
	}
	after, err := next.WriteSite(io.Discard, archive, values, nil)
	if err != nil {
		return nil, nil, err
	}
	was := map[string]string{}
	if err := json.Unmarshal(w.row.Digests, &was); err != nil {
		return nil, nil, err
	}
	for file := range was {
		if next.Kept(file) {
			delete(was, file)
		}
	}
	wanted := map[string]string{}
	paths := make([]string, 0, len(after))
	for file, digest := range after {
		if !next.Kept(file) {
			wanted[file] = digest
			paths = append(paths, file)
		}
	}
	for file := range was {
		if _, known := wanted[file]; !known {
			paths = append(paths, file)
		}
	}
	tree, err := w.files(ctx, agentlink.KitInspect, paths, nil)
	if err != nil {
		return nil, nil, err
	}
	return kits.Compare(was, tree.Digests, wanted), after, nil
}

// setNext gives the site the settings of a version, and the database user a password where that is
// another one, and has servers told.
func (w *run) setNext(ctx context.Context, tx store.Tx, k kits.Kit, s secrets) error {
	if _, err := w.lock(ctx, tx); err != nil {
		return err
	}
	set, err := w.setSettings(ctx, tx, k)
	if err != nil {
		return err
	}
	if w.row.DatabaseUserID != nil {
		user, err := tx.DatabaseUserByID(ctx, *w.row.DatabaseUserID)
		if err != nil {
			return err
		}
		if err := w.service.databases.SetPassword(ctx, tx, user, s.Password); err != nil {
			return err
		}
		set = true
	}
	if !set {
		return nil
	}
	return w.tellServers(ctx, tx)
}

// apply waits until servers have settings and password.
func (w *run) apply(ctx context.Context) error {
	if err := w.applied(ctx); err != nil {
		return err
	}
	return w.advance(ctx, stateUpdating, func(store.Tx) error { w.row.Step = 0; return nil })
}

// undoUpdate brings back the database, settings and password; the files are back already.
func (w *run) undoUpdate(ctx context.Context, cause error) error {
	if w.row.SavedImport != "" {
		if err := w.restoreDatabase(ctx); err != nil {
			return err
		}
	}
	w.progress.Close()
	return w.advance(ctx, stateInstalled, func(tx store.Tx) error {
		if err := w.setNext(ctx, tx, w.kit, w.secrets); err != nil {
			return err
		}
		w.row.SavedImport = ""
		return w.rest(ctx, tx, cause)
	})
}

// restoreDatabase puts what was saved in the place of what is in the database.
func (w *run) restoreDatabase(ctx context.Context) error {
	_, server, is, err := w.visit(ctx)
	if err != nil || !is {
		return err
	}
	agent := w.service.Agents.Agent(server.ID, server.Address)
	order := agentlink.ImportOrder{Account: w.account.ID, ID: w.row.SavedImport, Do: agentlink.ImportStart, Mend: true,
		Empty: true}
	list, err := agent.Imports(ctx, agentlink.ImportsOf{Account: w.account.ID})
	if err != nil {
		return agentError(err)
	}
	for _, one := range list.Imports {
		if one.ID != w.row.SavedImport {
			continue
		}
		switch one.State {
		case agentlink.ImportDone:
			return nil
		case agentlink.ImportRuns:
			return errWait
		case agentlink.ImportWaits:
			if one.Progress.Failure != "" {
				w.progress.Note(language.New("the database cannot be brought back yet: %s", one.Progress.Failure))
			}
			if _, err := agent.OrderImport(ctx, order); err != nil {
				return agentError(err)
			}
			return errWait
		}
	}
	return nil
}
