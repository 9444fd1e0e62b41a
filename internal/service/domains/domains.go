package domains

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/manifest"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// checkDomainFree refuses a domain that is hosted already, or lies above or below
// one of another account. It does not say whose: that is nobody else's business.
//
// Refusals: DomainTaken.
func checkDomainFree(ctx context.Context, q *db.Queries, domain names.Domain, account int64) error {
	related, err := q.RelatedDomains(ctx, domain.Registrable())
	if err != nil {
		return err
	}
	above := domain.Above()
	for _, other := range related {
		switch {
		case other.Name == domain.String():
			return refusal.New(refusal.DomainTaken, "%s is hosted here already", domain.Unicode()).On("domain")
		case other.AccountID == account:
		case slices.Contains(above, other.Name):
			return refusal.New(refusal.DomainTaken,
				"%s lies below a domain of another account; only that account can add it",
				domain.Unicode()).On("domain")
		case strings.HasSuffix(other.Name, "."+domain.String()):
			return refusal.New(refusal.DomainTaken,
				"a name below %s belongs to another account; it must be given up there first",
				domain.Unicode()).On("domain")
		}
	}
	return nil
}

// checkNotInstallationName keeps everybody but operators from taking the names by which the
// installation itself is found, its name servers' and its console's: whoever has such a domain
// decides what DNS answers for it. An account that has it already may add names below it.
//
// Refusals: DomainTaken, InvalidInput, NotAllowed.
func checkNotInstallationName(ctx context.Context, q *db.Queries, a usecase.Actor, domain names.Domain,
	account int64) error {
	if a.Role == rights.Operator {
		return nil
	}
	if domain.Special() {
		return refusal.New(refusal.NotAllowed, "%s is a name that nobody can register; only an operator can have "+
			"it served", domain.Unicode()).On("domain")
	}
	settings, err := q.Settings(ctx)
	if err != nil {
		return err
	}
	ours := slices.Clone(settings.NameServers)
	if u, err := url.Parse(settings.Console); err == nil && u.Hostname() != "" {
		ours = append(ours, u.Hostname())
	}
	taken := slices.ContainsFunc(ours, func(name string) bool {
		d, _, err := names.ParseDomain(name)
		return err == nil && d.Registrable() == domain.Registrable()
	})
	if !taken {
		return nil
	}
	related, err := q.RelatedDomains(ctx, domain.Registrable())
	if err != nil {
		return err
	}
	for _, other := range related {
		if other.AccountID == account {
			return nil
		}
	}
	return refusal.New(refusal.DomainTaken, "%s belongs to the installation itself; an operator can add it",
		domain.Unicode()).On("domain")
}

// DomainView shows a domain; rows are what [LoadSites] read of its account.
func DomainView(d db.Domain, rows SiteRows) api.Domain {
	v := domainView(d)
	v.Folders = len(rows.folders[d.ID])
	switch sites.ServedAs(d.ServedAs) {
	case sites.Site:
		v.Own = len(rows.own[d.ID])
		v.Template = rows.templateOf(d).ref
	case sites.Mirror:
		v.MirrorOf = rows.byID(*d.MirrorOf).Name
	}
	return v
}

// domainView shows what the row of a domain says by itself.
func domainView(d db.Domain) api.Domain {
	v := api.Domain{Name: d.Name, Unicode: usecase.Unicode(d.Name), ServedAs: d.ServedAs, CountsAs: d.CountsAs,
		Main: d.Main, Proof: proofView(d), Version: d.Version}
	switch sites.ServedAs(d.ServedAs) {
	case sites.Site:
		v.Root = d.Root
	case sites.Redirect:
		v.Target, v.Code, v.KeepPath, v.KeepQuery = d.Target, int(d.Code), d.KeepPath, d.KeepQuery
	}
	return v
}

// Domain returns a domain of an account with everything about it.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Domain(ctx context.Context, a usecase.Actor, reference, name string) (api.DomainDetail, error) {
	none := api.DomainDetail{}
	rows, d, server, err := s.LoadDomain(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	account := rows.account
	out := api.DomainDetail{Domain: DomainView(d, rows), Account: account.SignInName, AccountID: account.ID,
		Home: usecase.HomeOf(account), Addresses: usecase.AddressesOf(server),
		Mirrors: []string{}, Settings: []api.Setting{}, Protected: []api.Folder{}}
	for _, other := range rows.Domains {
		if usecase.OrZero(other.MirrorOf) == d.ID {
			out.Mirrors = append(out.Mirrors, other.Name)
		}
	}
	if shown, serves := rows.shown(d); serves {
		for _, e := range rows.effective(shown) {
			out.Settings = append(out.Settings, api.Setting{Key: string(e.Key), Value: e.Value,
				Source:  sourceFor(a, e.Source),
				Bounded: e.Bounded.In(a.Language)})
		}
		for _, f := range rows.folders[shown.ID] {
			out.Protected = append(out.Protected, folderView(f))
		}
	}
	all, err := s.rollout.Warnings(ctx, a, rows.terms)
	out.Warnings = slices.DeleteFunc(append(rows.ProofWarnings(a), all...), func(w api.Warning) bool {
		return w.Part != homes.Sandbox && (w.Part != "site" || w.Subject != d.Name)
	})
	return out, err
}

// sourceFor says where a setting comes from: "site" is a word of the
// API, "template shop" is for people.
func sourceFor(a usecase.Actor, source string) string {
	if source == ownSource {
		return source
	}
	return a.SaySubject(source)
}

// decideServing decides how a domain is to be served after a change,
// from how it is served now. It refuses what cannot be.
func decideServing(a usecase.Actor, d db.Domain, in api.Serving, rows SiteRows) (db.Domain, []language.Text, error) {
	var corrections []language.Text
	if in.ServedAs != "" {
		d.ServedAs = in.ServedAs
	}
	as := sites.ServedAs(d.ServedAs)
	for _, given := range []struct {
		field string
		given bool
		of    sites.ServedAs
	}{{"root", in.Root != "", sites.Site}, {"mirror_of", in.MirrorOf != "", sites.Mirror},
		{"target", in.Target != "", sites.Redirect}, {"code", in.Code != 0, sites.Redirect},
		{"keep_path", in.KeepPath != nil, sites.Redirect}, {"keep_query", in.KeepQuery != nil, sites.Redirect}} {
		if given.given && as != given.of {
			return d, nil, refusal.Input(given.field, "%s is served as %s; this is only for a %s",
				usecase.Unicode(d.Name), usecase.Word(string(as)), usecase.Word(string(given.of)))
		}
	}
	if in.Root != "" {
		d.Root = strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(in.Root, usecase.HomeOf(rows.account)+"/"),
			"/"), "/")
	}
	d.MirrorOf = nil
	switch as {
	case sites.Site:
		if err := sites.CheckRoot(d.Root); err != nil {
			return d, nil, err
		}
		for _, other := range rows.Domains {
			switch {
			case other.ID == d.ID || other.ServedAs != string(sites.Site):
			case other.Root == d.Root:
				return d, nil, refusal.New(refusal.InUse, "%s shows %s already; serve %s as a mirror of it, or give "+
					"another directory", usecase.Unicode(other.Name), d.Root, usecase.Unicode(d.Name)).On("root")
			case strings.HasPrefix(d.Root+"/", other.Root+"/"):
				a.Note("%s lies within what %s shows: visitors of that site see it, too", d.Root,
					usecase.Unicode(other.Name))
			case strings.HasPrefix(other.Root+"/", d.Root+"/"):
				a.Note("%s, which %s shows, lies within %s: visitors of this site see it, too", other.Root,
					usecase.Unicode(other.Name), d.Root)
			}
		}
	case sites.Mirror:
		of := in.MirrorOf
		if was := rows.byID(d.ID); of == "" && was.MirrorOf != nil {
			of = rows.byID(*was.MirrorOf).Name
		}
		if of == "" {
			return d, nil, refusal.Input("mirror_of", "name the site whose content %s is to show",
				usecase.Unicode(d.Name))
		}
		shown, err := rows.find(of)
		switch {
		case err != nil:
			return d, nil, refusal.Input("mirror_of", "%s is no domain of this account", of)
		case shown.ID == d.ID:
			return d, nil, refusal.Input("mirror_of", "%s cannot show itself", usecase.Unicode(d.Name))
		case shown.ServedAs != string(sites.Site):
			return d, nil, refusal.Input("mirror_of", "%s is served as %s; only a site can be shown",
				usecase.Unicode(shown.Name), usecase.Word(shown.ServedAs))
		}
		d.MirrorOf = &shown.ID
	case sites.Redirect:
		if in.Target != "" {
			var err error
			if d.Target, corrections, err = sites.ParseTarget(in.Target); err != nil {
				return d, nil, err
			}
		}
		if in.Code != 0 {
			d.Code = int32(in.Code)
		}
		if in.KeepPath != nil {
			d.KeepPath = *in.KeepPath
		}
		if in.KeepQuery != nil {
			d.KeepQuery = *in.KeepQuery
		}
		if err := redirection(d).Check(); err != nil {
			return d, nil, err
		}
		leads := map[string]string{d.Name: sites.TargetHost(d.Target)}
		for _, other := range rows.Domains {
			if other.ID != d.ID && other.ServedAs == string(sites.Redirect) {
				leads[other.Name] = sites.TargetHost(other.Target)
			}
		}
		if sites.Circle(d.Name, leads) {
			return d, nil, refusal.Input("target", "visitors of %s would be sent in a circle: %s leads back here",
				usecase.Unicode(d.Name), d.Target)
		}
	}
	if as != sites.Site {
		for _, other := range rows.Domains {
			if d.ID != 0 && usecase.OrZero(other.MirrorOf) == d.ID {
				return d, nil, refusal.New(refusal.InUse, "%s shows the content of %s; change or remove that mirror "+
					"first", usecase.Unicode(other.Name), usecase.Unicode(d.Name)).On("served_as")
			}
		}
	}
	d.CountsAs = countsAs(d, rows)
	return d, corrections, nil
}

func redirection(d db.Domain) sites.Redirection {
	return sites.Redirection{Target: d.Target, Code: int(d.Code), KeepPath: d.KeepPath, KeepQuery: d.KeepQuery}
}

// countsAs tells against which limit a domain counts.
func countsAs(d db.Domain, rows SiteRows) string {
	if d.ServedAs == string(sites.Mirror) {
		return string(plans.Mirrors)
	}
	for _, other := range rows.Domains {
		if other.ID != d.ID && strings.HasSuffix(d.Name, "."+other.Name) {
			return string(plans.Subdomains)
		}
	}
	return string(plans.Domains)
}

// AddDomain adds a domain to an account.
//
// Refusals: ApplyFailed, DomainTaken, InUse, InvalidInput, LimitReached, NoServer, NotAllowed,
// NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) AddDomain(ctx context.Context, a usecase.Actor, reference string,
	in api.NewDomain) (api.DomainChanged, error) {
	domain, corrections, err := names.ParseDomain(in.Domain)
	if err != nil {
		return api.DomainChanged{}, err
	}
	return s.changeDomains(ctx, a, reference, "domain.add", domain,
		func(tx store.Tx, st entitlement.Entitlement, rows SiteRows) (db.Domain, []language.Text, error) {
			none := db.Domain{}
			if _, err := rows.find(domain.String()); err == nil {
				return none, nil, refusal.New(refusal.DomainTaken, "%s is in this account already",
					domain.Unicode()).On("domain")
			}
			p, err := s.NewDomain(ctx, tx, a, domain, st.Account.ID, rows.Domains)
			if err != nil {
				return none, nil, err
			}
			fresh := db.Domain{AccountID: st.Account.ID, Name: domain.String(), ServedAs: string(sites.Site),
				Root: manifest.RootFor(domain), Code: 301, KeepPath: true, KeepQuery: true}
			d, more, err := decideServing(a, fresh, in.Serving, rows)
			if err != nil {
				return none, nil, err
			}
			if err := st.Admit(plans.Key(d.CountsAs), 1); err != nil {
				return none, nil, err
			}
			if d.TemplateID, err = tx.TemplateOfPlan(ctx, st.Account.PlanID); err != nil {
				return none, nil, err
			}
			p.Root, p.CountsAs, p.ServedAs, p.Target, p.Code = d.Root, d.CountsAs, d.ServedAs, d.Target, d.Code
			p.KeepPath, p.KeepQuery, p.MirrorOf, p.TemplateID = d.KeepPath, d.KeepQuery, d.MirrorOf, d.TemplateID
			row, err := tx.AddDomain(ctx, p)
			if err != nil {
				return none, nil, err
			}
			a.Summarize("add %s to account %s, served as %s, counted as one of its %s", domain.Unicode(),
				st.Account.SignInName, row.ServedAs, row.CountsAs)
			return row, append(corrections, more...),
				usecase.Record(ctx, tx, a, "domain.add", usecase.AboutAccount(st.Account), nil, domainRecord(row, rows))
		})
}

// ChangeDomain changes how a domain is served, and its settings.
// Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InUse, InvalidInput, LimitReached, NeedsDecision, NoServer,
// NotAllowed, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the domain's name, the reseller, the template (shared).
func (s *Service) ChangeDomain(ctx context.Context, a usecase.Actor, reference, name string, version int64,
	in api.DomainChange) (api.DomainChanged, error) {
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return api.DomainChanged{}, err
	}
	return s.changeDomains(ctx, a, reference, "domain.change", domain,
		func(tx store.Tx, st entitlement.Entitlement, rows SiteRows) (db.Domain, []language.Text, error) {
			none := db.Domain{}
			was, err := rows.find(domain.String())
			if err != nil {
				return none, nil, err
			}
			if err := usecase.CheckVersion(domain.Unicode(), version, was.Version); err != nil {
				return none, nil, err
			}
			d, corrections, err := decideServing(a, was, in.Serving, rows)
			if err != nil {
				return none, nil, err
			}
			if d.CountsAs != was.CountsAs {
				if err := st.Admit(plans.Key(d.CountsAs), 1); err != nil {
					return none, nil, err
				}
			}
			if err := s.changeSite(ctx, tx, a, st, was, &d, in, rows); err != nil {
				return none, nil, err
			}
			row, err := tx.ChangeDomain(ctx, db.ChangeDomainParams{ID: d.ID, ServedAs: d.ServedAs, CountsAs: d.CountsAs,
				Root: d.Root, MovedFrom: d.MovedFrom, Target: d.Target, Code: d.Code,
				KeepPath: d.KeepPath, KeepQuery: d.KeepQuery, MirrorOf: d.MirrorOf, Settings: d.Settings,
				TemplateID: d.TemplateID})
			if err != nil {
				return none, nil, err
			}
			a.Summarize("change %s of account %s", domain.Unicode(), st.Account.SignInName)
			return row, corrections, usecase.Record(ctx, tx, a, "domain.change", usecase.AboutAccount(st.Account),
				domainRecord(was, rows), domainRecord(row, rows))
		})
}

// domainRecord is a domain as events hold it.
func domainRecord(d db.Domain, rows SiteRows) map[string]any {
	out := map[string]any{"domain": d.Name, "served_as": d.ServedAs, "counts_as": d.CountsAs}
	switch sites.ServedAs(d.ServedAs) {
	case sites.Site:
		out["root"] = d.Root
		if d.TemplateID != nil {
			out["template"] = rows.templateOf(d).ref
		}
		if own, err := readSettings(d.Settings); err == nil && len(own) > 0 {
			out["settings"] = settingWords(own)
		}
	case sites.Mirror:
		out["mirror_of"] = rows.byID(*d.MirrorOf).Name
	case sites.Redirect:
		out["redirect"] = redirection(d)
	}
	return out
}

// RemoveDomain takes a domain from an account. Its files stay where they are.
//
// Refusals: ApplyFailed, InUse, InvalidInput, NoServer, NotAllowed, NotFound, ServerUnreachable,
// Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) RemoveDomain(ctx context.Context, a usecase.Actor, reference, name string) (api.Started, error) {
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return api.Started{}, err
	}
	done, err := s.changeDomains(ctx, a, reference, "domain.remove", domain,
		func(tx store.Tx, st entitlement.Entitlement, rows SiteRows) (db.Domain, []language.Text, error) {
			none := db.Domain{}
			d, err := rows.find(domain.String())
			if err != nil {
				return none, nil, err
			}
			if d.Main {
				return none, nil,
					refusal.New(refusal.InUse, "%s is the main domain of %s; it goes when the account is "+
						"closed", domain.Unicode(), st.Account.SignInName)
			}
			for _, other := range rows.Domains {
				if usecase.OrZero(other.MirrorOf) == d.ID {
					return none, nil, refusal.New(refusal.InUse, "%s shows the content of %s; change or remove that "+
						"mirror first", usecase.Unicode(other.Name), domain.Unicode())
				}
			}
			mail, err := tx.MailOfDomain(ctx, d.ID)
			if err != nil {
				return none, nil, err
			}
			for _, has := range []struct {
				what string
				n    int64
			}{{"mailbox", mail.Mailboxes}, {"mail address", mail.Addresses}, {"list", mail.Lists}} {
				if has.n > 0 {
					return none, nil, refusal.New(refusal.InUse, "%s has %s; remove what is not needed first",
						domain.Unicode(), usecase.Counted(int(has.n), has.what))
				}
			}
			a.Summarize("remove %s from account %s", domain.Unicode(), st.Account.SignInName)
			if err := s.forgetKit(ctx, tx, a, d); err != nil {
				return none, nil, err
			}
			if err := tx.RemoveDomain(ctx, d.ID); err != nil {
				return none, nil, err
			}
			if d.ServedAs == string(sites.Site) {
				a.Note("its files stay in %s", d.Root)
			}
			return d, nil, usecase.Record(ctx, tx, a, "domain.remove", usecase.AboutAccount(st.Account),
				domainRecord(d, rows), nil)
		})
	return api.Started{Operation: done.Operation}, err
}

// forgetKit has a site that is being removed no longer count as one of its kit. Its files and its
// database stay, as they may hold more than the kit has brought.
//
// Refusals: WrongState.
func (s *Service) forgetKit(ctx context.Context, tx store.Tx, a usecase.Actor, d db.Domain) error {
	kit, err := tx.SiteKitOfDomain(ctx, &d.ID)
	if store.None(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if kit.Work != "" {
		return KitAtWork(kit, d)
	}
	if kit.DatabaseID != nil {
		database, err := tx.DatabaseByID(ctx, *kit.DatabaseID)
		if err != nil {
			return err
		}
		a.Note("the database %s of its kit stays", database.Name)
	}
	return tx.DeleteSiteKit(ctx, kit.ID)
}

// KitAtWork refuses what cannot be done while a site's kit is being installed, updated or removed.
//
// Refusals: InvalidInput, WrongState.
func KitAtWork(kit db.SiteKit, d db.Domain) error {
	return refusal.New(refusal.WrongState, "work with the kit of %s is under way (operation %d); wait until it has "+
		"ended", usecase.Unicode(d.Name), usecase.OrZero(kit.OperationID))
}

// changeDomains changes the domains of an account and starts the operation that brings it about.
// What fn returns is the domain, and what was put right in the input.
func (s *Service) changeDomains(ctx context.Context, a usecase.Actor, reference, kind string, domain names.Domain,
	fn func(store.Tx, entitlement.Entitlement, SiteRows) (db.Domain, []language.Text, error)) (api.DomainChanged,
	error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.DomainChanged, error) {
		none := api.DomainChanged{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		if err := usecase.LockDomainName(ctx, tx, domain.Registrable()); err != nil {
			return none, err
		}
		st, err := entitlement.LockToChange(ctx, s.Base, tx, a, number)
		if err != nil {
			return none, err
		}
		rows, err := LoadSites(ctx, tx.Queries, st)
		if err != nil {
			return none, err
		}
		d, corrections, err := fn(tx, st, rows)
		if err != nil {
			return none, err
		}
		a.NoteAll(corrections)
		if err := tx.AddSiteCertificates(ctx, st.Account.ID); err != nil {
			return none, err
		}
		if err := dns.SyncZones(ctx, tx, a, st); err != nil {
			return none, err
		}
		operation, err := s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account), []int64{number})
		if err != nil {
			return none, err
		}
		if err := rows.put(ctx, tx.Queries, d); err != nil {
			return none, err
		}
		return api.DomainChanged{Domain: DomainView(d, rows), Corrections: a.SayAll(corrections),
			Operation: operation, Version: d.Version}, nil
	})
}
