package usecase

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"

	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// errPreview rolls a transaction back that only looked at what would be.
var errPreview = errors.New("preview")

const sealedAnswer = "answer to a repeated request"

// Change runs a use case that changes something, in one transaction. A request
// repeated with the same Idempotency-Key gets the first answer again and has no second effect,
// however close together the two come. With a preview to be filled, everything is decided and
// written as ever, and then rolled back. Those of one customer, reseller or operator wait for each
// other, beyond some.
func Change[T any](ctx context.Context, s *Base, a Actor, fn func(store.Tx) (T, error)) (T, error) {
	var answer T
	release, err := s.changes.acquire(ctx, a)
	if err != nil {
		return answer, err
	}
	defer release()
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		if a.Preview != nil {
			a.Preview.begin()
			var err error
			if answer, err = fn(tx); err != nil {
				return err
			}
			return errPreview
		}
		a.Notes.begin()
		if a.IdempotencyKey != "" {
			earlier, repeated, err := claimKey[T](ctx, s, tx, a)
			if err != nil || repeated {
				answer = earlier
				return err
			}
		}
		var err error
		if answer, err = fn(tx); err != nil {
			return err
		}
		if a.IdempotencyKey == "" {
			return nil
		}
		text, err := json.Marshal(answer)
		if err != nil {
			return err
		}
		// Sealed: the answer may hold what is shown only once.
		return tx.SaveIdempotentAnswer(ctx, db.SaveIdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey,
			Answer: s.Key.Seal(sealedAnswer, text)})
	})
	if errors.Is(err, errPreview) {
		return answer, a.Preview.finish(ctx)
	}
	return answer, err
}

// Do is change for a use case without an answer.
func Do(ctx context.Context, s *Base, a Actor, fn func(store.Tx) error) error {
	_, err := Change(ctx, s, a, func(tx store.Tx) (struct{}, error) { return struct{}{}, fn(tx) })
	return err
}

func claimKey[T any](ctx context.Context, s *Base, tx store.Tx, a Actor) (answer T, repeated bool, err error) {
	first, err := tx.ClaimIdempotencyKey(ctx, db.ClaimIdempotencyKeyParams{PersonID: a.PersonID, Key: a.IdempotencyKey,
		Digest: a.digest()})
	if err != nil || first == 1 {
		return answer, false, err
	}
	return StoredAnswer[T](ctx, s, tx.Queries, a)
}

// StoredAnswer is the first answer to a repeated request, for use cases that ask somebody else
// before their transaction begins.
func StoredAnswer[T any](ctx context.Context, s *Base, q *db.Queries, a Actor) (answer T, repeated bool, err error) {
	if a.IdempotencyKey == "" || a.Preview != nil {
		return answer, false, nil
	}
	row, err := q.IdempotentAnswer(ctx, db.IdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey})
	if store.None(err) {
		return answer, false, nil
	}
	if err != nil {
		return answer, false, err
	}
	if !bytes.Equal(row.Digest, a.digest()) {
		return answer, false, refusal.New(refusal.KeyReused, "this Idempotency-Key was used for another request "+
			"before; use a new one for each new request")
	}
	text, err := s.Key.Open(sealedAnswer, row.Answer)
	if err != nil {
		return answer, false, err
	}
	return answer, true, json.Unmarshal(text, &answer)
}

// digest identifies the request and for whom it is made: a key used
// while acting for somebody is of no use for another.
func (a Actor) digest() []byte {
	sum := sha256.Sum256(append([]byte(a.OnBehalf+"\n"), a.RequestDigest...))
	return sum[:]
}

// RequestDigest identifies a request for its Idempotency-Key.
func RequestDigest(method, path string, body []byte) []byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s\n%s", method, path, body))
	return sum[:]
}

// CheckVersion refuses a change to something that has changed since the caller read it (RFC 9110,
// section 13.1.1). Version is the one the caller has seen, or 0.
func CheckVersion(what string, version, now int64) error {
	if version == 0 || version == now {
		return nil
	}
	return refusal.New(refusal.Changed, "%s has been changed since you read it; read it again and repeat your change",
		what)
}
