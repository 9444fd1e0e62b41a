package kits

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
	"victualler/internal/service/domains"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

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

// find finds a site of an account without locking anything.
//
// Refusals: InvalidInput, NotFound, Suspended, WrongState.
func (s *Service) find(ctx context.Context, a usecase.Actor, reference, name string) (target, error) {
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

// taken refuses a site that has a kit, or is about to.
func taken(row db.SiteKit, d db.Domain) error {
	if row.Work != "" {
		return domains.KitAtWork(row, d)
	}
	return refusal.New(refusal.InUse, "%s has a kit already; remove it first, or choose another site",
		usecase.Unicode(d.Name)).On("kit")
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
		err = domains.KitAtWork(row, d)
	}
	return row, err
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
