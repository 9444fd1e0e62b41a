package kits

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/refusal"
	"victualler/internal/passwords"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// PlanUpdate says what an update of a site's kit would do to its files.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
func (s *Service) PlanUpdate(ctx context.Context, a usecase.Actor, reference, name string,
	in api.SiteKitUpdate) (api.SiteKitPlan, error) {
	out := api.SiteKitPlan{Files: []api.KitFileChange{}}
	u, err := s.planned(ctx, a, reference, name, in)
	if err != nil {
		return out, err
	}
	out.From, out.To = u.from.Version, u.to.Version
	for _, c := range u.changes {
		out.Files = append(out.Files, api.KitFileChange{Path: c.Path, Action: c.Action})
	}
	return out, nil
}

// update is what an update of a site's kit comes to.
type update struct {
	row      db.SiteKit
	from, to kits.Kit
	changes  []kits.Change
}

// planned decides about an update, and asks the site's server how its files are.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
func (s *Service) planned(ctx context.Context, a usecase.Actor, reference, name string, in api.SiteKitUpdate) (update,
	error) {
	u, q := update{}, s.Store.Queries
	t, err := s.find(ctx, a, reference, name)
	if err != nil {
		return u, err
	}
	if u.row, err = installed(ctx, q, t.domain); err != nil {
		return u, err
	}
	w := &run{service: s, row: u.row, account: t.st.Account, domain: t.domain, server: t.server}
	row, err := q.KitByID(ctx, u.row.KitID)
	if err != nil {
		return u, err
	}
	if w.kit, err = readKit(row); err != nil {
		return u, err
	}
	u.from = w.kit
	if w.secrets, err = s.openSecrets(u.row.Secrets); err != nil {
		return u, err
	}
	next := row
	if in.Version != row.Version && (in.Version != "" || !in.NewPassword && len(in.Answers) == 0) {
		if next, _, err = s.pick(ctx, q, t.st, row.Name, in.Version); err != nil {
			return u, err
		}
	}
	if u.to, err = readKit(next); err != nil {
		return u, err
	}
	if err := follows(u.from, u.to, in); err != nil {
		return u, err
	}
	if err := w.fillNext(next.ID, u.to, in); err != nil {
		return u, err
	}
	u.row = w.row
	secrets, err := s.openSecrets(w.row.NextSecrets)
	if err != nil {
		return u, err
	}
	ask, cancel := context.WithTimeout(ctx, 10*usecase.AgentTimeout) // a site may have many files
	defer cancel()
	if u.changes, _, err = w.compare(ask, u.to, next.ID, w.row.NextAnswers, secrets); err != nil {
		if unreached, is := err.(*usecase.AgentError); is {
			err = usecase.Unreachable(t.server.Label, unreached.Err)
		}
		return u, err
	}
	return u, nil
}

// follows refuses a version that does not follow the one that is there.
//
// Refusals: InvalidInput, WrongState.
func follows(from, to kits.Kit, in api.SiteKitUpdate) error {
	order := kits.CompareVersions(to.Version, from.Version)
	switch {
	case order == 0 && !in.NewPassword && len(in.Answers) == 0:
		return refusal.New(refusal.WrongState, "version %s is there already, and is the newest that the account is "+
			"offered", from.Version)
	case order < 0:
		return refusal.Input("version", "version %s is older than %s, which is there; there is no way back", to.Version,
			from.Version)
	case to.Update.From != "" && kits.CompareVersions(from.Version, to.Update.From) < 0:
		return refusal.New(refusal.WrongState, "version %s follows %s at the earliest, and %s is there; update to a "+
			"version between them first", to.Version, to.Update.From, from.Version).On("version")
	case to.Needs.Database != from.Needs.Database:
		return refusal.New(refusal.WrongState, "version %s needs another database than %s; install it anew", to.Version,
			from.Version).On("version")
	case in.NewPassword && from.Needs.Database == "":
		return refusal.New(refusal.WrongState, "%s has no database, and so no password", from.Title).On("new_password")
	}
	return nil
}

// fillNext writes into the row what an update leads to.
func (w *run) fillNext(id int64, next kits.Kit, in api.SiteKitUpdate) error {
	answers := map[string]string{}
	if err := json.Unmarshal(w.row.Answers, &answers); err != nil {
		return err
	}
	maps.DeleteFunc(answers, func(name, _ string) bool {
		return !slices.ContainsFunc(next.Asks, func(a kits.Ask) bool { return a.Name == name })
	})
	for _, a := range next.Asks {
		if a.Kind == kits.AskSecret {
			answers[a.Name] = w.secrets.Own[a.Name]
		}
	}
	maps.Copy(answers, in.Answers)
	answers, err := next.Answers(answers)
	if err != nil {
		return err
	}
	secrets := w.secrets
	if secrets.Own = newSecrets(next, w.secrets.Own, answers); in.NewPassword {
		secrets.Password = passwords.Generate(passwordLength)
	}
	if w.row.NextAnswers, err = json.Marshal(answers); err != nil {
		return err
	}
	if w.row.NextSecrets, err = w.service.sealSecrets(secrets); err != nil {
		return err
	}
	w.row.NextKitID, w.row.Take = &id, in.Take
	return nil
}

// Update brings a site to another version of its kit, or gives it other settings. Files that were
// changed both in the site and in the kit have to be decided about first.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NeedsDecision, NotFound, ServerUnreachable,
// Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) Update(ctx context.Context, a usecase.Actor, reference, name string,
	in api.SiteKitUpdate) (api.Started, error) {
	// The server is asked before anything is locked. What is changed there from then on is seen
	// when the files are written: it stays.
	u, err := s.planned(ctx, a, reference, name, in)
	if err != nil {
		return api.Started{}, err
	}
	if err := decided(u.changes, in); err != nil {
		return api.Started{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Started, error) {
		t, err := s.findSite(ctx, tx, a, reference, name)
		if err != nil {
			return api.Started{}, err
		}
		if now, err := installed(ctx, tx.Queries, t.domain); err != nil {
			return api.Started{}, err
		} else if err := usecase.CheckVersion("the kit of "+usecase.Unicode(t.domain.Name), u.row.Version,
			now.Version); err != nil {
			return api.Started{}, err
		}
		a.Summarize("update %s in %s from version %s to %s", u.to.Title, usecase.Unicode(t.domain.Name), u.from.Version,
			u.to.Version)
		write, remove := changed(u.changes, in.Take)
		a.Note("%d written, %d taken away; files and database are copied first", len(write), len(remove))
		u.row.State, u.row.Work = stateCopying, workUpdate
		return s.start(ctx, tx, a, t, u.row, "kit.update", map[string]any{"domain": t.domain.Name, "kit": u.from.Name,
			"version": u.from.Version}, map[string]any{"domain": t.domain.Name, "kit": u.to.Name,
			"version": u.to.Version})
	})
}

// decided refuses an update with files that were changed on both sides and that nobody has decided
// about.
//
// Refusals: NeedsDecision.
func decided(changes []kits.Change, in api.SiteKitUpdate) error {
	if in.KeepOthers {
		return nil
	}
	var open []string
	for _, c := range changes {
		if c.Action == kits.Conflict && !slices.Contains(in.Take, c.Path) {
			open = append(open, c.Path)
		}
	}
	if len(open) == 0 {
		return nil
	}
	shown := strings.Join(open[:min(len(open), 5)], ", ")
	if len(open) > 5 {
		shown += fmt.Sprintf(" … (%d)", len(open))
	}
	return refusal.New(refusal.NeedsDecision, "these files were changed both here and in the kit: %s. Name those in "+
		"whose place the kit's are to come (take), and leave the others as they are (keep_others)", shown).
		Choose(refusal.Decision("keep_others", "true", "leave them as they were changed here"))
}
