package usecase

import (
	"context"
	"fmt"
	"time"

	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/store/db"
)

// What somebody may have the service ask of other people's servers: so
// many probes in a row, then one in so long.
const (
	probesInARow = 30
	probeEvery   = 10 * time.Second
)

// AllowProbe counts a probe of other people's servers, such as a rehearsal, an order or a check of
// a zone, and refuses (refusal.TooManyTries, with when to try again) what is too many, so that
// nobody uses the service to pester others. All processes of the installation count together.
// Operators are not bound: they look after everybody's.
func (s *Base) AllowProbe(ctx context.Context, a Actor) error {
	subject := fmt.Sprint("person ", a.PersonID)
	if a.Mailbox != "" {
		subject = "mailbox " + a.Mailbox
	} else if a.Role == rights.Operator || a.PersonID == 0 {
		return nil
	}
	now := s.Now()
	counted, err := s.Store.CountProbe(ctx, db.CountProbeParams{Subject: subject, Now: now,
		Next:   now.Add(probeEvery),
		Latest: now.Add(probesInARow * probeEvery)})
	if err != nil || counted > 0 {
		return err
	}
	until, err := s.Store.ProbesUsedUntil(ctx, subject)
	if err != nil {
		return err
	}
	r := refusal.New(refusal.TooManyTries,
		"too many checks of other people's servers in a row; try again in some seconds")
	r.After = until.Add(probeEvery).Sub(now.Add(probesInARow * probeEvery)).Round(time.Second)
	return r
}
