package kits

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
	"victualler/internal/passwords"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
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

// AccountKits lists what an account is offered, and the kits that its sites have.
//
// Refusals: InvalidInput, LimitReached, NotAllowed, NotFound, WrongState.
func (s *Service) AccountKits(ctx context.Context, a usecase.Actor, reference string) (api.AccountKits, error) {
	out := api.AccountKits{Kits: []api.OfferedKit{}, Sites: []api.SiteKit{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return out, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return out, err
	}
	all, err := offered(ctx, s.Store.Queries, st)
	if err != nil {
		return out, err
	}
	server, err := s.Store.ServerByID(ctx, account.ServerID)
	if err != nil {
		return out, err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		row := all[name][0]
		k, err := readKit(row)
		if err != nil {
			return out, err
		}
		one := api.OfferedKit{Name: row.Name, Version: row.Version, Title: k.Title, About: k.About, Needs: needsView(k),
			Asks: usecase.NonNil(k.Asks), Size: row.Size, Missing: []string{}}
		if err := missing(st, server, k); err != nil {
			one.Missing = append(one.Missing, language.Of(err).In(a.Language))
		}
		out.Kits = append(out.Kits, one)
	}
	rows, err := s.Store.SiteKitsOfAccount(ctx, number)
	if err != nil {
		return out, err
	}
	for _, row := range rows {
		if row.DomainID == nil {
			continue
		}
		d, err := s.Store.DomainByID(ctx, *row.DomainID)
		if err != nil {
			return out, err
		}
		view, err := s.siteView(ctx, row, d, all)
		if err != nil {
			return out, err
		}
		out.Sites = append(out.Sites, view)
	}
	return out, nil
}

// words say what is under way with a kit.
var words = map[string]string{workInstall: "installing", workUpdate: "updating", workRemove: "removing",
	"": "installed"}

// siteView is the kit of a site as people see it.
func (s *Service) siteView(ctx context.Context, row db.SiteKit, d db.Domain, all map[string][]db.Kit) (api.SiteKit,
	error) {
	kitRow, err := s.Store.KitByID(ctx, row.KitID)
	if err != nil {
		return api.SiteKit{}, err
	}
	k, err := readKit(kitRow)
	if err != nil {
		return api.SiteKit{}, err
	}
	known, err := s.openSecrets(row.Secrets)
	if err != nil {
		return api.SiteKit{}, err
	}
	out := api.SiteKit{Domain: d.Name, Kit: k.Name, Version: k.Version, Title: k.Title, State: words[row.Work],
		Asks: usecase.NonNil(k.Asks), Database: known.Database, DatabaseUser: known.User, InstalledAt: row.InstalledAt}
	if row.State == stateUndoing {
		out.State = "undoing"
	}
	if row.Work != "" {
		out.Operation = usecase.OrZero(row.OperationID)
	}
	if list := all[k.Name]; len(list) > 0 && kits.CompareVersions(list[0].Version, k.Version) > 0 {
		out.Newer = list[0].Version
	}
	return out, json.Unmarshal(row.Answers, &out.Answers)
}

// missing says why an account cannot have a kit on its server; nil if it can.
//
// Refusals: LimitReached, NotAllowed, WrongState.
func missing(st entitlement.Entitlement, server db.Server, k kits.Kit) error {
	if !st.Has("kits") {
		return st.MissingFeature("kits", "kits need the feature kits, which this account does not have")
	}
	if k.Needs.Database != "" {
		if !st.Has("databases") {
			return st.MissingFeature("databases", "databases need the feature databases, which this account does not "+
				"have")
		}
		if err := st.Admit(plans.Databases, 1); err != nil {
			return err
		}
	}
	if k.Needs.PHP != "" {
		newest := ""
		if status := usecase.LastStatus(server); status != nil && status.Sandboxes != nil &&
			len(status.Sandboxes.PHP) > 0 {
			newest = status.Sandboxes.PHP[0]
		}
		if newest == "" || kits.CompareVersions(newest, k.Needs.PHP) < 0 {
			return refusal.New(refusal.WrongState, "it needs PHP %s, and %s has %s", k.Needs.PHP, server.Label,
				usecase.OrEmpty(newest, "none"))
		}
	}
	return st.Admit(plans.Disk, k.Needs.Space)
}

// target is a site that something is to be done with.
type target struct {
	st     entitlement.Entitlement
	domain db.Domain
	server db.Server
}

// findSite finds a site of an account, whose rows are locked, and refuses where no kit can be
// worked with.
//
// Refusals: InvalidInput, NotFound, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) findSite(ctx context.Context, tx store.Tx, a usecase.Actor, reference, name string) (target, error) {
	number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
	if err != nil {
		return target{}, err
	}
	st, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
	if err != nil {
		return target{}, err
	}
	return s.site(ctx, tx.Queries, st, name)
}

// site is a site of an account that kits can be worked with.
//
// Refusals: InvalidInput, NotFound, Suspended, WrongState.
func (s *Service) site(ctx context.Context, q *db.Queries, st entitlement.Entitlement, name string) (target, error) {
	t := target{st: st}
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return t, err
	}
	all, err := q.DomainsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return t, err
	}
	at := slices.IndexFunc(all, func(d db.Domain) bool { return d.Name == domain.String() })
	if at < 0 {
		return t, usecase.NotFound("domain", name)
	}
	t.domain = all[at]
	if t.domain.ServedAs != string(sites.Site) {
		return t, refusal.New(refusal.WrongState, "%s is served as %s; only a site of its own can have a kit",
			domain.Unicode(), usecase.Word(t.domain.ServedAs))
	}
	if t.domain.Waiting {
		return t, refusal.New(refusal.WrongState, "it is not proved yet whose %s is, so it is not served; prove it "+
			"first", domain.Unicode())
	}
	row, err := q.AccountRow(ctx, st.Account.ID)
	if err != nil {
		return t, err
	}
	if row.Suspended {
		return t, refusal.New(refusal.Suspended, "%s is suspended (%s), and nothing runs for it; resume it first",
			row.SignInName, row.SuspendedWhy)
	}
	for _, other := range all {
		if other.ID != t.domain.ID && other.ServedAs == string(sites.Site) && within(t.domain.Root, other.Root) {
			return t, refusal.New(refusal.WrongState, "the files of %s are in %s, too, where %s has its own; give one "+
				"of "+
				"the two another document root", domain.Unicode(), other.Root, usecase.Unicode(other.Name))
		}
	}
	t.server, err = q.ServerByID(ctx, st.Account.ServerID)
	return t, err
}

// lookAt finds a site of an account without locking anything.
//
// Refusals: InvalidInput, NotFound, Suspended, WrongState.
func (s *Service) lookAt(ctx context.Context, a usecase.Actor, reference, name string) (target, error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return target{}, err
	}
	account, err := s.Store.Account(ctx, number)
	if err != nil {
		return target{}, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return target{}, err
	}
	return s.site(ctx, s.Store.Queries, st, name)
}

// within tells whether one of two directories is in the other one, or the same.
func within(a, b string) bool {
	return a == b || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
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
	t, err := s.lookAt(ctx, a, reference, name)
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
		Do: agentlink.KitLook}, nil)
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
		at = slices.IndexFunc(list, func(row db.Kit) bool {
			return kits.CheckVersion(version) == nil && kits.CompareVersions(row.Version, version) == 0
		})
		if at < 0 {
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

// taken refuses a site that has a kit, or is about to.
func taken(row db.SiteKit, d db.Domain) error {
	if row.Work != "" {
		return busy(row, d)
	}
	return refusal.New(refusal.InUse, "%s has a kit already; remove it first, or choose another site",
		usecase.Unicode(d.Name)).On("kit")
}

func busy(row db.SiteKit, d db.Domain) error {
	return refusal.New(refusal.WrongState, "work with the kit of %s is under way (operation %d); wait until it has "+
		"ended",
		usecase.Unicode(d.Name), usecase.OrZero(row.OperationID))
}

// installed finds the kit of a site with which nothing is under way.
//
// Refusals: NotFound, WrongState.
func installed(ctx context.Context, q *db.Queries, d db.Domain) (db.SiteKit, error) {
	row, err := q.SiteKitOfDomain(ctx, &d.ID)
	if store.None(err) {
		return row, refusal.New(refusal.NotFound, "%s has no kit", usecase.Unicode(d.Name))
	}
	if err == nil && row.Work != "" {
		err = busy(row, d)
	}
	return row, err
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
	t, err := s.lookAt(ctx, a, reference, name)
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

// orNothing has no document where there is nothing to say.
func orNothing(m map[string]any) any {
	if m == nil {
		return nil
	}
	return m
}

// Resume takes up work whose process was killed.
func (s *Service) Resume(ctx context.Context) error {
	cut, err := s.Store.StalledSiteKits(ctx, usecase.StalledAfter.Seconds())
	if err != nil || len(cut) == 0 {
		return err
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		for _, id := range cut {
			if err := s.Queue.Kit(ctx, tx, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Part has the kits of an account end with it. What servers hold of them is sites and databases.
func (s *Service) Part() rollout.Part {
	return rollout.Part{Name: "kits",
		// Work that was under way has its operation end with the account's.
		Closed: func(ctx context.Context, tx store.Tx, account int64) error {
			rows, err := tx.SiteKitsOfAccount(ctx, account)
			if err != nil {
				return err
			}
			for _, row := range rows {
				if row.Work != "" && row.OperationID != nil {
					if err := usecase.FinishOperationsTx(ctx, tx,
						usecase.Cancelled{Why: language.New("the account was closed")},
						*row.OperationID); err != nil {
						return err
					}
				}
				if err := tx.DeleteSiteKit(ctx, row.ID); err != nil {
					return err
				}
			}
			return nil
		}}
}
