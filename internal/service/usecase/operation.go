package usecase

import (
	"context"

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

// FinishOperationsTx ends operations: done, or failed with the error that people then read.
func FinishOperationsTx(ctx context.Context, tx store.Tx, err error, ids ...int64) error {
	p := db.FinishOperationsParams{Ids: ids, State: "done"}
	if err != nil {
		text := err.Error()
		if r := refusal.As(err); r != nil {
			text = r.Detail
		}
		p.State, p.Failure = "failed", &text
	}
	if err := tx.FinishOperations(ctx, p); err != nil {
		return err
	}
	if err := tx.FinishSteps(ctx, db.FinishStepsParams{Ids: ids, State: p.State}); err != nil {
		return err
	}
	return tx.NotifyOperation(ctx, ids)
}
