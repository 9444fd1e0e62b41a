// Package service holds the use cases. Each one checks, decides by the core,
// and writes rows, event, operation and job in one transaction: nothing is done
// that is not recorded, nor recorded and not done.
package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/seal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Actor is who makes a request, and from where.
type Actor struct {
	PersonID int64
	Name     string
	Role     rights.Role
	// Address is the network address, Request the number of the request.
	Address, Request string
	// SessionID is the session, if there is one, and SessionEnds when it ends.
	SessionID   int64
	SessionEnds time.Time
	// IdempotencyKey is the request's, if it has one; RequestDigest tells two
	// requests with the same key apart.
	IdempotencyKey string
	RequestDigest  []byte
}

// Queue takes work to be done after the transaction. Package jobs implements it.
type Queue interface {
	// Apply has an account applied on its server.
	Apply(ctx context.Context, tx store.Tx, accountID int64) error
	// Join waits for a new server's agent.
	Join(ctx context.Context, tx store.Tx, serverID, operationID int64) error
	// Sweep compares a server's accounts with what is found, and repairs it if
	// asked to.
	Sweep(ctx context.Context, tx store.Tx, serverID, operationID int64, repair bool) error
}

// Service is the use cases. Make one with [New].
type Service struct {
	store  *store.Store
	queue  Queue
	key    *seal.Key
	agents *agentlink.Dialer
	joiner *agentlink.Authority
	hub    *hub
	now    func() time.Time
	log    *slog.Logger
}

// New opens the installation; the first time, it makes its authority.
func New(ctx context.Context, s *store.Store, key *seal.Key, log *slog.Logger) (*Service, error) {
	authority, err := openAuthority(ctx, s, key)
	if err != nil {
		return nil, fmt.Errorf("the agents' authority: %w", err)
	}
	return &Service{store: s, key: key, joiner: authority, agents: agentlink.NewDialer(authority, time.Now), hub: newHub(),
		now: time.Now, log: log}, nil
}

// SetQueue gives the service its queue, which is made with the service.
func (s *Service) SetQueue(q Queue) { s.queue = q }

// Run passes on progress that any process of the installation tells, until the context ends.
func (s *Service) Run(ctx context.Context) {
	s.store.Listen(ctx, store.OperationChannel, s.hub.heard, s.hub.wakeAll)
}

// Ready reports whether the service can work: the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.store.Pool.Ping(ctx) }

const sealedAuthority = "key of the agents' authority"

func openAuthority(ctx context.Context, s *store.Store, key *seal.Key) (*agentlink.Authority, error) {
	row, err := s.Installation(ctx)
	if store.None(err) {
		made, err := agentlink.NewAuthority(time.Now())
		if err != nil {
			return nil, err
		}
		certificate, secret, err := made.Bytes()
		if err != nil {
			return nil, err
		}
		// Another process may have been quicker; then its authority counts.
		if _, err := s.AddInstallation(ctx, db.AddInstallationParams{Authority: certificate, AuthorityKey: key.Seal(sealedAuthority, secret)}); err != nil {
			return nil, err
		}
		row, err = s.Installation(ctx)
		if err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	secret, err := key.Open(sealedAuthority, row.AuthorityKey)
	if err != nil {
		return nil, err
	}
	return agentlink.OpenAuthority(row.Authority, secret)
}

// errPreview rolls a transaction back that only looked at what would be.
var errPreview = errors.New("preview")

// change runs a use case that changes something. A request repeated with the
// same Idempotency-Key gets the first answer again and has no second effect,
// however close together the two come.
func change[T any](ctx context.Context, s *Service, a Actor, fn func(store.Tx) (T, error)) (T, error) {
	var answer T
	err := s.store.InTx(ctx, func(tx store.Tx) error {
		if a.IdempotencyKey != "" {
			earlier, repeated, err := repeatedAnswer[T](ctx, tx, a)
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
		return tx.KeepIdempotentAnswer(ctx, db.KeepIdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey, Answer: text})
	})
	return answer, err
}

func repeatedAnswer[T any](ctx context.Context, tx store.Tx, a Actor) (answer T, repeated bool, err error) {
	first, err := tx.BeginIdempotent(ctx, db.BeginIdempotentParams{PersonID: a.PersonID, Key: a.IdempotencyKey, Digest: a.RequestDigest})
	if err != nil || first == 1 {
		return answer, false, err
	}
	row, err := tx.IdempotentAnswer(ctx, db.IdempotentAnswerParams{PersonID: a.PersonID, Key: a.IdempotencyKey})
	if err != nil {
		return answer, false, err
	}
	if !bytes.Equal(row.Digest, a.RequestDigest) {
		return answer, false, refusal.New(refusal.KeyReused, "this Idempotency-Key was used for another request before; use a new one for each new request")
	}
	return answer, true, json.Unmarshal(row.Answer, &answer)
}

// RequestDigest identifies a request for its Idempotency-Key.
func RequestDigest(method, path string, body []byte) []byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s\n%s", method, path, body))
	return sum[:]
}

// record writes an event. Before and after are what changed, without secrets; nil where there is none.
func record(ctx context.Context, tx store.Tx, a Actor, action, subject string, before, after any) error {
	p := db.AddEventParams{Actor: a.Name, Address: a.Address, Request: a.Request, Action: action, Subject: subject}
	if a.PersonID != 0 {
		p.PersonID = &a.PersonID
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
	return tx.AddEvent(ctx, p)
}

// notFound is the same answer for what is not there and what is not the actor's.
func notFound(what, reference string) error {
	return refusal.New(refusal.NotFound, "there is no %s %q here", what, reference)
}
