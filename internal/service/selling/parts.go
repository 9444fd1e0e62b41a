package selling

import (
	"context"

	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// BrandPart is what pages look like that the server shows instead of a site's own, and in which
// language they are.
func (s *Service) BrandPart() rollout.Part {
	return rollout.Part{Name: "brand", Fill: func(ctx context.Context, q *db.Queries, st entitlement.Entitlement,
		m *rollout.Manifests) error {
		home := m.Home()
		customer, err := q.CustomerByID(ctx, st.Account.CustomerID)
		if err != nil {
			return err
		}
		if customer.Language != language.English {
			home.Language = customer.Language
		}
		if st.Account.ResellerID == nil {
			settings, err := q.Settings(ctx)
			if settings.Title != usecase.DefaultTitle {
				home.Brand.Title = settings.Title
			}
			return err
		}
		row, err := q.ResellerByID(ctx, *st.Account.ResellerID)
		if err != nil {
			return err
		}
		b, err := usecase.ReadBrand(row)
		home.Brand = manifest.Brand{Title: b.Title, Footer: b.Footer, Accent: b.Accent}
		return err
	}}
}

// LimitsPart is what plans, exceptions and shares allow on the server.
func (s *Service) LimitsPart() rollout.Part {
	return rollout.Part{Name: "limits", Fill: func(_ context.Context, _ *db.Queries, st entitlement.Entitlement,
		m *rollout.Manifests) error {
		p := st.ServerLimits()
		home := m.Home()
		home.Home.DiskLimit, home.Home.FilesLimit = entitlement.ColumnOf(p.Disk), entitlement.ColumnOf(p.Files)
		home.PHP.Workers = p.Workers
		home.Sandbox = manifest.Sandbox{Processes: entitlement.ColumnOf(p.Processes),
			Memory: entitlement.ColumnOf(p.Memory), CPU: entitlement.ColumnOf(p.CPU)}
		return nil
	}}
}

// SuspensionPart is whether the account is switched off, by itself or with its reseller. Parts that
// leave something out then come after it.
func (s *Service) SuspensionPart() rollout.Part {
	return rollout.Part{Name: "suspension", Fill: func(ctx context.Context, q *db.Queries, st entitlement.Entitlement,
		m *rollout.Manifests) error {
		home := m.Home()
		home.Suspended = st.Account.SuspendedAt != nil
		if st.Account.ResellerID == nil || home.Suspended {
			return nil
		}
		row, err := q.ResellerByID(ctx, *st.Account.ResellerID)
		home.Suspended = row.SuspendedAccounts
		return err
	}}
}
