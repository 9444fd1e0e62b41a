package usecase

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/resolve"
	"victualler/internal/seal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Queue takes work to be done after the transaction. Package jobs implements it.
type Queue interface {
	// Apply has an account applied on its servers.
	Apply(ctx context.Context, tx store.Tx, accountID int64) error
	// Join waits for a new server's agent.
	Join(ctx context.Context, tx store.Tx, serverID, operationID int64) error
	// Order has work on a certificate order go on.
	Order(ctx context.Context, tx store.Tx, orderID int64) error
	// Kit has work with a site's kit go on.
	Kit(ctx context.Context, tx store.Tx, siteKitID int64) error
	// ReceiveImport has an import receive its file from the account's home.
	ReceiveImport(ctx context.Context, tx store.Tx, accountID int64, importID string) error
	// RollOut has all accounts of an operation applied.
	RollOut(ctx context.Context, tx store.Tx, operationID int64) error
	// SendMail sends a message that is waiting.
	SendMail(ctx context.Context, tx store.Tx, mailID int64) error
	// MailPasswordReset mails a link for a new password, if there is somebody to mail it to.
	MailPasswordReset(ctx context.Context, tx store.Tx, name, address, request string) error
	// Sweep compares a server's accounts with what is found there, and repairs it if asked to.
	Sweep(ctx context.Context, tx store.Tx, serverID, operationID int64, repair bool) error
}

// Base is what all use cases work with. It is made once, with [NewBase], and shared; nothing in it
// changes once the service runs, so any number of goroutines may use it.
type Base struct {
	Store *store.Store
	// Queue takes work to be done after a transaction.
	Queue Queue
	// Key seals secrets in the database.
	Key *seal.Key
	// Agents calls the agents on servers.
	Agents Agents
	// Joiner is the installation's authority, whose certificates agents have.
	Joiner *agentlink.Authority
	// Resolver asks public DNS.
	Resolver *resolve.Resolver
	// Now is the clock.
	Now func() time.Time
	Log *slog.Logger

	changes *changeLimiter
}

// NewBase opens the installation; the first time, it makes its authority.
func NewBase(ctx context.Context, s *store.Store, key *seal.Key, log *slog.Logger) (*Base, error) {
	authority, err := openAuthority(ctx, s, key)
	if err != nil {
		return nil, fmt.Errorf("the agents' authority: %w", err)
	}
	return &Base{Store: s, Key: key, Joiner: authority, Agents: dialer{agentlink.NewDialer(authority, time.Now)},
		Resolver: resolve.New(""), Now: time.Now, Log: log, changes: newChangeLimiter(s.MaxConns())}, nil
}

// Ready returns an error unless the service can work: the database answers.
func (s *Base) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }

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
		if _, err := s.AddInstallation(ctx, db.AddInstallationParams{Authority: certificate,
			AuthorityKey: key.Seal(sealedAuthority, secret)}); err != nil {
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
