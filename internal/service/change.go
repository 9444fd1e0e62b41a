package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// errPreview rolls a transaction back that only looked at what would be.
var errPreview = errors.New("preview")

const sealedAnswer = "answer to a repeated request"

// change runs a use case that changes something, in one transaction. A request
// repeated with the same Idempotency-Key gets the first answer again and has no second effect,
// however close together the two come. With a preview to be filled, everything is decided and
// written as ever, and then rolled back.
func change[T any](ctx context.Context, s *Service, a Actor, fn func(store.Tx) (T, error)) (T, error) {
	var answer T
	err := s.store.InTx(ctx, func(tx store.Tx) error {
		if a.Preview != nil {
			a.Preview.begin()
			var err error
			if answer, err = fn(tx); err != nil {
				return err
			}
			return errPreview
		}
		if a.IdempotencyKey != "" {
			earlier, repeated, err := repeatedAnswer[T](ctx, s, tx, a)
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
		return tx.KeepIdempotentAnswer(ctx, db.KeepIdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey, Answer: s.key.Seal(sealedAnswer, text)})
	})
	if errors.Is(err, errPreview) {
		return answer, a.Preview.finish(ctx)
	}
	return answer, err
}

// do is change for a use case without an answer.
func do(ctx context.Context, s *Service, a Actor, fn func(store.Tx) error) error {
	_, err := change(ctx, s, a, func(tx store.Tx) (struct{}, error) { return struct{}{}, fn(tx) })
	return err
}

func repeatedAnswer[T any](ctx context.Context, s *Service, tx store.Tx, a Actor) (answer T, repeated bool, err error) {
	first, err := tx.BeginIdempotent(ctx, db.BeginIdempotentParams{PersonID: a.PersonID, Key: a.IdempotencyKey, Digest: a.digest()})
	if err != nil || first == 1 {
		return answer, false, err
	}
	return earlierAnswer[T](ctx, s, tx.Queries, a)
}

// earlierAnswer is the first answer to a repeated request, for use cases that ask somebody else before their transaction begins.
func earlierAnswer[T any](ctx context.Context, s *Service, q *db.Queries, a Actor) (answer T, repeated bool, err error) {
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
		return answer, false, refusal.New(refusal.KeyReused, "this Idempotency-Key was used for another request before; use a new one for each new request")
	}
	text, err := s.key.Open(sealedAnswer, row.Answer)
	if err != nil {
		return answer, false, err
	}
	return answer, true, json.Unmarshal(text, &answer)
}

// digest identifies the request and for whom it is made: a key used while acting for somebody is of no use for another.
func (a Actor) digest() []byte {
	sum := sha256.Sum256(append([]byte(a.OnBehalf+"\n"), a.RequestDigest...))
	return sum[:]
}

// RequestDigest identifies a request for its Idempotency-Key.
func RequestDigest(method, path string, body []byte) []byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s\n%s", method, path, body))
	return sum[:]
}

// unchanged refuses a change to something that has changed since the caller read it (RFC 9110,
// section 13.1.1). Version is the one the caller has seen, or 0.
func unchanged(what string, version, now int64) error {
	if version == 0 || version == now {
		return nil
	}
	return refusal.New(refusal.Changed, "%s has been changed since you read it; read it again and repeat your change", what)
}

// subject is what an event is about, and who may read it besides operators.
type subject struct {
	text string
	// account says whose it is by itself; without one, customer and reseller do.
	account, customer, reseller *int64
}

func about(format string, args ...any) subject { return subject{text: fmt.Sprintf(format, args...)} }

func aboutAccount(a db.Account) subject {
	return subject{text: fmt.Sprintf("account %d %s", a.ID, a.SignInName), account: &a.ID}
}

// of names the reseller that the subject belongs to; nil is the operator's own.
func (s subject) of(reseller *int64) subject {
	s.reseller = reseller
	return s
}

// record writes an event. Before and after are what changed, without secrets; nil where there is none.
func record(ctx context.Context, tx store.Tx, a Actor, action string, of subject, before, after any) error {
	p := db.AddEventParams{Actor: a.Name, Address: a.Address, Request: a.Request, Action: action, Subject: of.text,
		AccountID: of.account, CustomerID: of.customer, ResellerID: of.reseller}
	if a.PersonID != 0 {
		p.PersonID = &a.PersonID
	}
	if a.OnBehalf != "" {
		p.OnBehalf = &a.OnBehalf
	}
	for _, side := range []struct {
		to *[]byte
		v  any
	}{{&p.Before, before}, {&p.After, after}} {
		if side.v == nil {
			continue
		}
		text, err := json.Marshal(side.v)
		if err != nil {
			return err
		}
		*side.to = text
	}
	if a.Preview != nil {
		a.Preview.records = append(a.Preview.records, api.Record{Action: action, Subject: of.text, Fields: changedFields(p.Before, p.After)})
	}
	return tx.AddEvent(ctx, p)
}

// notFound is the same answer for what is not there and what is not the actor's.
func notFound(what, reference string) error {
	return refusal.New(refusal.NotFound, "there is no %s %q here", what, reference)
}
