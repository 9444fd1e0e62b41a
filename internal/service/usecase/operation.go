package usecase

import (
	"context"
	"errors"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddOperation writes an operation down for the actor and returns its number.
func AddOperation(ctx context.Context, tx store.Tx, a Actor, p db.AddOperationParams) (int64, error) {
	p.Actor = a.Name
	if a.PersonID != 0 {
		p.PersonID = &a.PersonID
	}
	if a.partOf != 0 {
		p.PartOf = &a.partOf
	}
	row, err := tx.AddOperation(ctx, p)
	return row.ID, err
}

// FinishOperations ends operations: well where err is nil.
func (s *Base) FinishOperations(ctx context.Context, err error, ids ...int64) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error { return FinishOperationsTx(ctx, tx, err, ids...) })
}

// Cancelled is the reason why work came to an end that somebody did not want any more: it has not
// failed.
type Cancelled struct{ Why language.Text }

// Error implements error, in English.
func (c Cancelled) Error() string { return c.Why.String() }

// Text implements [language.Speaker].
func (c Cancelled) Text() language.Text { return c.Why }

// FinishOperationsTx ends operations: done, or failed with the error that people then read, or
// cancelled where that is [Cancelled].
func FinishOperationsTx(ctx context.Context, tx store.Tx, err error, ids ...int64) error {
	p := db.FinishOperationsParams{Ids: ids, State: "done"}
	if err != nil {
		said := language.Of(err)
		if r := refusal.As(err); r != nil {
			said = r.For("").Text()
		}
		text := said.Encode()
		p.State, p.Failure = "failed", &text
		if errors.As(err, new(Cancelled)) {
			p.State = "cancelled"
		}
	}
	if err := tx.FinishOperations(ctx, p); err != nil {
		return err
	}
	if err := tx.FinishSteps(ctx, db.FinishStepsParams{Ids: ids, State: p.State}); err != nil {
		return err
	}
	return tx.NotifyOperation(ctx, ids)
}
