package kits

import (
	"context"
	"encoding/json"
	"strings"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/passwords"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

const sealedSecrets = "secrets of a site's kit"

// secrets are what was generated for a site, and its database with the user that signs in.
type secrets struct {
	Own      map[string]string `json:"own"`
	Database string            `json:"database,omitempty"`
	User     string            `json:"user,omitempty"`
	Password string            `json:"password,omitempty"`
}

// passwordLength is how many letters and digits a database user's password has.
const passwordLength = 24

func (s *Service) openSecrets(column []byte) (out secrets, err error) {
	text, err := s.Key.Open(sealedSecrets, column)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(text, &out)
}

func (s *Service) sealSecrets(v secrets) ([]byte, error) {
	text, err := json.Marshal(v)
	return s.Key.Seal(sealedSecrets, text), err
}

// newSecrets generates those of a kit that are not there yet, and takes those that were asked for
// out of the answers, which people can see.
func newSecrets(k kits.Kit, there, answers map[string]string) map[string]string {
	out := map[string]string{}
	for _, a := range k.Asks {
		if a.Kind == kits.AskSecret {
			out[a.Name] = answers[a.Name]
			delete(answers, a.Name)
		}
	}
	for _, one := range k.Secrets {
		if out[one.Name] = there[one.Name]; out[one.Name] == "" {
			out[one.Name] = passwords.Generate(one.Length)
		}
	}
	return out
}

// Install has a site begin with a kit.
//
// Refusals: ApplyFailed, InUse, InvalidInput, LimitReached, NameTaken, NeedsDecision, NoServer,
// NotAllowed, NotFound, ServerUnreachable, Suspended, WeakPassword, WrongState.
// Locks: the account, the reseller.
func (s *Service) Install(ctx context.Context, a usecase.Actor, reference, name string, in api.NewSiteKit) (api.Started,
	error) {
	if !in.Replace {
		if err := s.checkEmpty(ctx, a, reference, name); err != nil {
			return api.Started{}, err
		}
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Started, error) {
		t, err := s.findSite(ctx, tx, a, reference, name)
		if err != nil {
			return api.Started{}, err
		}
		operation, err := s.install(ctx, tx, a, t, in, true)
		return api.Started{Operation: operation}, err
	})
}

// InstallAtOpening has the main site of an account that is being opened begin with a kit; servers
// are told of its database with the rest of the account.
//
// Refusals: ApplyFailed, InUse, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed,
// NotFound, ServerUnreachable, Suspended, WeakPassword, WrongState.
func (s *Service) InstallAtOpening(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account,
	in api.NewSiteKit) (int64, error) {
	st, err := entitlement.Load(ctx, s.Base, tx.Queries, account)
	if err != nil {
		return 0, err
	}
	t, err := s.site(ctx, tx.Queries, st, account.MainDomain)
	if err != nil {
		return 0, err
	}
	return s.install(ctx, tx, a, t, in, false)
}

// checkEmpty asks the site's server whether there are files in it.
//
// Refusals: ApplyFailed, InvalidInput, NeedsDecision, NotFound, ServerUnreachable, Suspended,
// WrongState.
func (s *Service) checkEmpty(ctx context.Context, a usecase.Actor, reference, name string) error {
	t, err := s.find(ctx, a, reference, name)
	if err != nil || t.st.Account.State != "active" {
		return err
	}
	if _, err := s.Store.SiteKitOfDomain(ctx, &t.domain.ID); err == nil {
		return nil // which is the reason that counts
	}
	ask, cancel := context.WithTimeout(ctx, 10*usecase.AgentTimeout) // a site may have many files
	defer cancel()
	tree, err := s.Agents.Agent(t.server.ID, t.server.Address).KitFiles(ask, agentlink.KitFiles{
		KitSite: agentlink.KitSite{AccountID: t.st.Account.ID, SignInName: t.st.Account.SignInName,
			Domain: t.domain.Name},
		Do: agentlink.KitInspect}, nil)
	if err != nil {
		return usecase.Unreachable(t.server.Label, err)
	}
	if tree.Other != "" {
		return refusal.New(refusal.NeedsDecision, "there are files in %s already, such as %s; they would be deleted",
			t.domain.Root, tree.Other).
			Choose(refusal.Decision("replace", "true", "delete them, and begin with the kit"))
	}
	return nil
}

// install writes down that a site gets a kit, and starts the work. Alone, servers are told of its
// database now.
//
// Refusals: ApplyFailed, InUse, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed,
// NotFound, ServerUnreachable, WeakPassword, WrongState.
func (s *Service) install(ctx context.Context, tx store.Tx, a usecase.Actor, t target, in api.NewSiteKit,
	alone bool) (int64, error) {
	row, k, err := s.pick(ctx, tx.Queries, t.st, in.Kit, in.Version)
	if err != nil {
		return 0, err
	}
	if there, err := tx.SiteKitOfDomain(ctx, &t.domain.ID); err == nil {
		return 0, taken(there, t.domain)
	} else if !store.None(err) {
		return 0, err
	}
	if err := missing(t.st, t.server, k); err != nil {
		return 0, err
	}
	answers, err := k.Answers(in.Answers)
	if err != nil {
		return 0, err
	}
	own := secrets{Own: newSecrets(k, nil, answers)}
	p := db.AddSiteKitParams{AccountID: t.st.Account.ID, DomainID: &t.domain.ID, KitID: row.ID,
		ReplaceFiles: in.Replace}
	if k.Needs.Database != "" {
		own.Password = passwords.Generate(passwordLength)
		typed := strings.ReplaceAll(k.Name, "-", "_")
		database, user, err := s.databases.AddWithUser(ctx, tx, a, t.st, k.Needs.Database, typed[:min(len(typed), 26)],
			own.Password)
		if err != nil {
			return 0, err
		}
		own.Database, own.User, p.DatabaseID, p.DatabaseUserID = database.Name, user.Name, &database.ID, &user.ID
		a.Note("it gets the %s database %s", k.Needs.Database.Title(), database.Name)
	}
	if p.Answers, err = json.Marshal(answers); err != nil {
		return 0, err
	}
	if p.Secrets, err = s.sealSecrets(own); err != nil {
		return 0, err
	}
	a.Summarize("install %s %s in %s", k.Title, k.Version, usecase.Unicode(t.domain.Name))
	operation, apply, err := s.begin(ctx, tx, a, t, "kit.install", alone && k.Needs.Database != "")
	if err != nil || a.Preview != nil {
		return 0, err
	}
	p.OperationID, p.ApplyID = &operation, apply
	added, err := tx.AddSiteKit(ctx, p)
	if err != nil {
		return 0, err
	}
	if err := usecase.Record(ctx, tx, a, "kit.install", usecase.AboutAccount(t.st.Account), nil,
		map[string]any{"domain": t.domain.Name, "kit": k.Name, "version": k.Version}); err != nil {
		return 0, err
	}
	return operation, s.Queue.Kit(ctx, tx, added.ID)
}

// begin writes down the operation of work with a kit, and has servers told as a part of it if they
// have to know of something first.
func (s *Service) begin(ctx context.Context, tx store.Tx, a usecase.Actor, t target, kind string,
	tell bool) (operation int64, apply *int64, err error) {
	account := t.st.Account
	within := a
	if a.Preview == nil {
		operation, err = usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: kind,
			Subject: usecase.Unicode(t.domain.Name), AccountID: &account.ID, ServerID: &account.ServerID})
		if err != nil {
			return 0, nil, err
		}
		within = a.Within(operation)
	}
	if !tell {
		return operation, nil, nil
	}
	id, err := s.rollout.ApplyAccounts(ctx, tx, within, kind, usecase.AboutAccount(account), []int64{account.ID})
	return operation, &id, err
}

// pick finds the version of a kit that an account is to get: the newest, or the one that is named.
//
// Refusals: NotAllowed, NotFound.
func (s *Service) pick(ctx context.Context, q *db.Queries, st entitlement.Entitlement, name, version string) (db.Kit,
	kits.Kit, error) {
	all, err := offered(ctx, q, st)
	if err != nil {
		return db.Kit{}, kits.Kit{}, err
	}
	list := all[name]
	if len(list) == 0 {
		return db.Kit{}, kits.Kit{}, refusal.New(refusal.NotFound, "this account is offered no kit %q", name).
			Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("see which kits the account is offered"),
				Command: "kit list " + st.Account.SignInName}).On("kit")
	}
	at := 0
	if version != "" {
		if at = indexOf(list, version); at < 0 {
			var there []string
			for _, row := range list {
				there = append(there, row.Version)
			}
			return db.Kit{}, kits.Kit{}, refusal.New(refusal.NotFound, "there is no version %s of %s; there are %s",
				version, name, strings.Join(there, ", ")).On("version")
		}
	}
	k, err := readKit(list[at])
	return list[at], k, err
}

// Remove takes a kit from a site: its files, with all that was added to them, its database, and its
// settings.
//
// Refusals: ApplyFailed, InvalidInput, NeedsDecision, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) Remove(ctx context.Context, a usecase.Actor, reference, name string, sure bool) (api.Started, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Started, error) {
		t, err := s.findSite(ctx, tx, a, reference, name)
		if err != nil {
			return api.Started{}, err
		}
		row, err := installed(ctx, tx.Queries, t.domain)
		if err != nil {
			return api.Started{}, err
		}
		known, err := s.openSecrets(row.Secrets)
		if err != nil {
			return api.Started{}, err
		}
		gone := language.New("all files in %s", t.domain.Root)
		if known.Database != "" {
			gone = language.New("all files in %s, and the database %s", t.domain.Root, known.Database)
		}
		a.Summarize("remove the kit of %s, with %s", usecase.Unicode(t.domain.Name), gone)
		if !sure && a.Preview == nil {
			return api.Started{}, refusal.New(refusal.NeedsDecision, "%s would be deleted, with whatever was added "+
				"since, and nothing brings them back", gone).
				Choose(refusal.Decision("delete", "true", "delete them"))
		}
		k, err := s.Store.KitByID(ctx, row.KitID)
		if err != nil {
			return api.Started{}, err
		}
		row.State, row.Work = stateLeaving, workRemove
		return s.start(ctx, tx, a, t, row, "kit.remove", map[string]any{"domain": t.domain.Name, "kit": k.Name,
			"version": k.Version}, nil)
	})
}

// start begins work with a kit that is there.
func (s *Service) start(ctx context.Context, tx store.Tx, a usecase.Actor, t target, row db.SiteKit, kind string,
	before, after map[string]any) (api.Started, error) {
	operation, _, err := s.begin(ctx, tx, a, t, kind, false)
	if err != nil || a.Preview != nil {
		return api.Started{}, err
	}
	row.OperationID, row.ApplyID, row.Step, row.Failure = &operation, nil, 0, ""
	row.BegunAt = s.Now()
	if err := (&run{service: s, row: row}).save(ctx, tx); err != nil {
		return api.Started{}, err
	}
	if err := usecase.Record(ctx, tx, a, kind, usecase.AboutAccount(t.st.Account), orNothing(before),
		orNothing(after)); err != nil {
		return api.Started{}, err
	}
	return api.Started{Operation: operation}, s.Queue.Kit(ctx, tx, row.ID)
}

// orNothing has no document where there is nothing to say.
func orNothing(m map[string]any) any {
	if m == nil {
		return nil
	}
	return m
}
