package service

import (
	"context"

	"victualler/internal/manifest"
	"victualler/internal/store/db"
)

// manifestParts fill a manifest from an account's rows and what it may use. Each file whose rows
// end up on servers adds one.
var manifestParts []func(context.Context, *Service, *db.Queries, standing, *manifest.Manifest) error

// buildManifest turns an account's rows into what its server must hold.
func (s *Service) buildManifest(ctx context.Context, q *db.Queries, account db.Account) (manifest.Manifest, error) {
	m := manifest.Manifest{AccountID: account.ID, SignInName: account.SignInName, Revision: account.Revision, Wanted: manifest.Absent}
	if account.State == "closing" || account.State == "closed" {
		return m, nil
	}
	m.Wanted = manifest.Present
	st, err := s.standingOf(ctx, q, account)
	if err != nil {
		return m, err
	}
	for _, part := range manifestParts {
		if err := part(ctx, s, q, st, &m); err != nil {
			return m, err
		}
	}
	return m, nil
}
