package service

import (
	"context"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
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

func unicode(ascii string) string {
	domain, _, err := names.ParseDomain(ascii)
	if err != nil {
		return ascii
	}
	return domain.Unicode()
}

// Sites of the manifest: one for each domain that is served as one.
func init() {
	manifestParts = append(manifestParts, func(ctx context.Context, q *db.Queries, account db.Account, m *manifest.Manifest) error {
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
