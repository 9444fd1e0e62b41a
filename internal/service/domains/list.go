package domains

import (
	"context"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/sites"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// Filter says which domains are listed.
type Filter struct {
	// Search is a part of the name, Domain the whole of it, Account whose they are; empty is any.
	Search, Domain, Account string
	// ServedAs is one of the kinds of [sites.ServedAs]; empty is any.
	ServedAs string
	// Waiting leaves only those that wait for the proof whose they are.
	Waiting bool
}

// Domains returns a page of the domains of all accounts that the actor may see, in the order of
// their names. Those of closed accounts are left out.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Domains(ctx context.Context, a usecase.Actor, f Filter, after string, most int) (api.DomainPage,
	error) {
	page := api.DomainPage{Domains: []api.DomainLine{}}
	p := db.DomainPageParams{ServedAs: f.ServedAs, Waiting: f.Waiting, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if err := usecase.ReadCursor(after, &p.AfterName, &p.AfterID); err != nil {
		return page, err
	}
	if d, _, err := names.ParseDomain(f.Search); err == nil {
		f.Search = d.String()
	}
	p.Search = usecase.EscapeLike(strings.ToLower(f.Search))
	if f.Domain != "" {
		d, _, err := names.ParseDomain(f.Domain)
		if err != nil {
			return page, err
		}
		p.Name = d.String()
	}
	if f.Account != "" {
		number, err := usecase.FindAccount(ctx, s.Store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.Store.Fresh().DomainPage(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].Domain.Name, rows[most-1].Domain.ID)
	}
	for _, row := range rows {
		page.Domains = append(page.Domains, api.DomainLine{Domain: lineView(a, row), Account: row.SignInName,
			AccountID: row.Domain.AccountID, Server: row.Server})
	}
	return page, nil
}

func lineView(a usecase.Actor, row db.DomainPageRow) api.Domain {
	v := domainView(row.Domain)
	v.Folders = int(row.Folders)
	switch sites.ServedAs(row.Domain.ServedAs) {
	case sites.Site:
		v.Own, v.Template = int(row.Own), entitlement.PlanRefFor(a, row.TemplateReseller, row.Template)
	case sites.Mirror:
		v.MirrorOf = row.Mirrored
	}
	return v
}
