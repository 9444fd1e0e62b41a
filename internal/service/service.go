// Package service holds the use cases. Each one checks, decides by the core,
// and writes rows, event, operation and job in one transaction: nothing is done
// that is not recorded, nor recorded and not done.
package service

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
	"victualler/internal/resolve"
	"victualler/internal/seal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Queue takes work to be done after the transaction. Package jobs implements it.
type Queue interface {
	// Apply has an account applied on its server.
	Apply(ctx context.Context, tx store.Tx, accountID int64) error
	// Join waits for a new server's agent.
	Join(ctx context.Context, tx store.Tx, serverID, operationID int64) error
	// Order brings an order of a certificate on its way.
	Order(ctx context.Context, tx store.Tx, orderID int64) error
	// Spread has all accounts of an operation applied.
	Spread(ctx context.Context, tx store.Tx, operationID int64) error
	// Send sends a mail that is waiting.
	Send(ctx context.Context, tx store.Tx, mailID int64) error
	// Forgotten mails a link for a new password, if there is somebody to mail it to.
	Forgotten(ctx context.Context, tx store.Tx, name, address, request string) error
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
	// resolver asks the world's name service.
	resolver *resolve.Resolver
	// applying has one worker at a time apply an account, ordering one be at an order.
	applying, ordering turns
	parts              []Part
	describe           func(context.Context, *db.Queries, db.Server) (manifest.Server, error)
	// outward bounds what people have it ask of the world.
	outward outward
	hub     *hub
	now     func() time.Time
	log     *slog.Logger
}

// New opens the installation; the first time, it makes its authority.
func New(ctx context.Context, s *store.Store, key *seal.Key, log *slog.Logger) (*Service, error) {
	authority, err := openAuthority(ctx, s, key)
	if err != nil {
		return nil, fmt.Errorf("the agents' authority: %w", err)
	}
	sv := &Service{store: s, key: key, joiner: authority, agents: agentlink.NewDialer(authority, time.Now), hub: newHub(),
		resolver: resolve.New(""), now: time.Now, log: log}
	sv.describe = sv.serverManifest
	sv.parts = []Part{sv.SuspensionPart(), sv.LimitsPart(), sv.BrandPart(), sv.SitesPart(), sv.CertificatesPart(), sv.ZonesPart(), sv.LoginsPart()}
	return sv, nil
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
