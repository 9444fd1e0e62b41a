package service

import (
	"context"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// CheckDomain tells what would become of a domain that is being typed.
func (s *Service) CheckDomain(ctx context.Context, typed string) (api.DomainCheck, error) {
	domain, corrections, err := names.ParseDomain(typed)
	if err != nil {
		return api.DomainCheck{}, err
	}
	out := api.DomainCheck{Domain: domain.String(), Unicode: domain.Unicode(), Corrections: nonNil(corrections)}
	if err := domainFree(ctx, s.store.Queries, domain, 0); err != nil {
		if refusal.As(err) == nil {
			return out, err
		}
		out.Taken = err.Error()
	}
	out.SignInName, err = proposeSignIn(ctx, s.store.Queries, domain)
	return out, err
}

// domainFree refuses a domain that is hosted already, or lies above or below
// one of another account. It does not say whose: that is nobody else's business.
func domainFree(ctx context.Context, q *db.Queries, domain names.Domain, account int64) error {
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
			return refusal.New(refusal.DomainTaken, "%s lies below a domain of another account; only that account can add it", domain.Unicode()).On("domain")
		case strings.HasSuffix(other.Name, "."+domain.String()):
			return refusal.New(refusal.DomainTaken, "a name below %s belongs to another account; it must be given up there first", domain.Unicode()).On("domain")
		}
	}
	return nil
}

func domainView(d db.Domain) api.Domain {
	return api.Domain{Name: d.Name, Unicode: unicode(d.Name), ServedAs: d.ServedAs, CountsAs: d.CountsAs, Main: d.Main, Root: d.Root}
}

// AddDomain adds a domain to an account, served as a site of its own.
func (s *Service) AddDomain(ctx context.Context, a Actor, reference string, in api.NewDomain) (api.DomainAdded, error) {
	domain, corrections, err := names.ParseDomain(in.Domain)
	if err != nil {
		return api.DomainAdded{}, err
	}
	out := api.DomainAdded{Corrections: nonNil(corrections)}
	started, err := s.onDomains(ctx, a, reference, "domain.add", domain, func(tx store.Tx, st standing, own []db.Domain) error {
		if err := domainFree(ctx, tx.Queries, domain, st.account.ID); err != nil {
			return err
		}
		counts := plans.Domains
		above := domain.Above()
		if slices.ContainsFunc(own, func(d db.Domain) bool { return slices.Contains(above, d.Name) }) {
			counts = plans.Subdomains
		}
		if err := st.admit(counts, 1); err != nil {
			return err
		}
		row, err := tx.AddDomain(ctx, db.AddDomainParams{AccountID: st.account.ID, Name: domain.String(), Registrable: domain.Registrable(),
			Root: manifest.RootFor(domain), CountsAs: string(counts)})
		if err != nil {
			return err
		}
		out.Domain = domainView(row)
		a.say("add %s to account %s", domain.Unicode(), st.account.SignInName)
		a.note(corrections...)
		return record(ctx, tx, a, "domain.add", aboutAccount(st.account), nil, map[string]string{"domain": row.Name, "counts_as": row.CountsAs, "root": row.Root})
	})
	out.Operation = started.Operation
	return out, err
}

// RemoveDomain takes a domain from an account. Its files stay where they are.
func (s *Service) RemoveDomain(ctx context.Context, a Actor, reference, name string) (api.Started, error) {
	domain, _, err := names.ParseDomain(name)
	if err != nil {
		return api.Started{}, err
	}
	return s.onDomains(ctx, a, reference, "domain.remove", domain, func(tx store.Tx, st standing, own []db.Domain) error {
		at := slices.IndexFunc(own, func(d db.Domain) bool { return d.Name == domain.String() })
		if at < 0 {
			return notFound("domain", name)
		}
		if own[at].Main {
			return refusal.New(refusal.InUse, "%s is the main domain of %s; it goes when the account is closed", domain.Unicode(), st.account.SignInName)
		}
		if err := tx.RemoveDomain(ctx, own[at].ID); err != nil {
			return err
		}
		a.say("remove %s from account %s; its files stay in %s", domain.Unicode(), st.account.SignInName, own[at].Root)
		return record(ctx, tx, a, "domain.remove", aboutAccount(st.account), map[string]string{"domain": own[at].Name, "root": own[at].Root}, nil)
	})
}

// onDomains changes the domains of an account and starts the operation that brings it about.
func (s *Service) onDomains(ctx context.Context, a Actor, reference, kind string, domain names.Domain, fn func(store.Tx, standing, []db.Domain) error) (api.Started, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Started, error) {
		none := api.Started{}
		number, err := findAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		if err := tx.LockDomain(ctx, domain.Registrable()); err != nil {
			return none, err
		}
		st, err := s.lockStanding(ctx, tx, number)
		if err != nil {
			return none, err
		}
		row, err := tx.AccountRow(ctx, number)
		if err != nil {
			return none, err
		}
		if err := mayChange(a, row); err != nil {
			return none, err
		}
		own, err := tx.DomainsOfAccount(ctx, number)
		if err != nil {
			return none, err
		}
		if err := fn(tx, st, own); err != nil {
			return none, err
		}
		operation, err := s.applyAll(ctx, tx, a, kind, aboutAccount(st.account), []int64{number})
		return api.Started{Operation: operation}, err
	})
}

func unicode(ascii string) string {
	domain, _, err := names.ParseDomain(ascii)
	if err != nil {
		return ascii
	}
	return domain.Unicode()
}

// Sites of the manifest: one for each domain that is served as one.
func init() {
	manifestParts = append(manifestParts, func(ctx context.Context, _ *Service, q *db.Queries, account db.Account, m *manifest.Manifest) error {
		rows, err := q.DomainsOfAccount(ctx, account.ID)
		if err != nil {
			return err
		}
		for _, row := range rows {
			domain, _, err := names.ParseDomain(row.Name)
			if err != nil {
				return err
			}
			m.Sites = append(m.Sites, manifest.Site{Domain: domain, Root: row.Root, Starter: true})
		}
		return nil
	})
}
