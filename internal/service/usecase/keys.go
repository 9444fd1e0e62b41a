package usecase

import (
	"context"
	"crypto/rand"

	"victualler/internal/store/db"
)

// InstallationKey returns one of the installation's own keys, of 32 octets, which is made when it
// is first needed. What names where it is kept, sealed; of finds it there, and save puts it there
// unless there is one already.
func (s *Base) InstallationKey(ctx context.Context, q *db.Queries, what string, of func(db.Installation) []byte,
	save func(ctx context.Context, sealed []byte) error) ([]byte, error) {
	row, err := q.Installation(ctx)
	if err != nil {
		return nil, err
	}
	if of(row) == nil {
		key := make([]byte, 32)
		rand.Read(key)
		// Another process may have been quicker; then its key counts.
		if err := save(ctx, s.Key.Seal(what, key)); err != nil {
			return nil, err
		}
		if row, err = q.Installation(ctx); err != nil {
			return nil, err
		}
	}
	return s.Key.Open(what, of(row))
}
