package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Part is one part of what servers hold for an account. A package whose rows end up on servers has one,
// and the list of them, in the order in which they are asked, is given to the service when it is made.
// Every function may be nil.
type Part struct {
	Name string
	// Fill adds to the manifests of an account what its rows say, in a transaction that sees one moment.
	Fill func(ctx context.Context, q *db.Queries, st standing, m *Manifests) error
	// Prepare does what must precede an apply of a manifest on a server.
	Prepare func(ctx context.Context, server db.Server, m manifest.Manifest) error
	// Applied writes down that a revision is in force on all servers of the account, which is locked.
	// Latest says that nothing newer is wanted.
	Applied func(ctx context.Context, tx store.Tx, account db.Account, latest bool) error
	// Failed writes down that a revision was refused; the servers are as before. The account is locked.
	Failed func(ctx context.Context, tx store.Tx, accountID, revision int64) error
	// Closed removes the rows of an account that is closed, and of which servers hold nothing any more.
	Closed func(ctx context.Context, tx store.Tx, accountID int64) error
}

// Manifests are what the servers of one account are to hold, while its parts fill them.
type Manifests struct {
	home    int64
	empty   manifest.Manifest
	servers []int64 // in the order of their applies, home first
	wanted  map[int64]*manifest.Manifest
}

// newManifests begins with nothing wanted on the home and on each other server that holds something.
func newManifests(account db.Account, others []db.AccountServer) *Manifests {
	m := &Manifests{home: account.ServerID, wanted: map[int64]*manifest.Manifest{},
		empty: manifest.Manifest{AccountID: account.ID, SignInName: account.SignInName, Revision: account.Revision, Wanted: manifest.Absent}}
	m.add(account.ServerID)
	for _, row := range others {
		m.add(row.ServerID)
	}
	return m
}

func (m *Manifests) add(server int64) {
	if m.wanted[server] == nil {
		empty := m.empty
		m.wanted[server] = &empty
		m.servers = append(m.servers, server)
	}
}

// Home is the manifest of the server with the account's home.
func (m *Manifests) Home() *manifest.Manifest { return m.wanted[m.home] }

// On is the manifest of any server, which from now on holds something of the account.
func (m *Manifests) On(server int64) *manifest.Manifest {
	m.add(server)
	wanted := m.wanted[server]
	if wanted.Wanted == manifest.Absent {
		wanted.Wanted, wanted.Elsewhere = manifest.Present, true
	}
	return wanted
}

// placed is what one server must hold for an account.
type placed struct {
	server   db.Server
	manifest manifest.Manifest
	// digest identifies the manifest, whatever its revision.
	digest []byte
	// there says that the server holds just this already.
	there bool
}

// buildManifests turns an account's rows into what its servers must hold: the one with its home first. A server that holds something of it
// and should not any longer gets a manifest that says so.
func (s *Service) buildManifests(ctx context.Context, q *db.Queries, account db.Account) ([]placed, error) {
	before, err := q.ServersOfAccount(ctx, account.ID)
	if err != nil {
		return nil, err
	}
	m := newManifests(account, before)
	if account.State != "closing" && account.State != "closed" {
		m.Home().Wanted = manifest.Present
		st, err := s.standingOf(ctx, q, account)
		if err != nil {
			return nil, err
		}
		for _, part := range s.parts {
			if part.Fill == nil {
				continue
			}
			if err := part.Fill(ctx, q, st, m); err != nil {
				return nil, fmt.Errorf("%s: %w", part.Name, err)
			}
		}
	}
	var list []placed
	for _, number := range m.servers {
		p := placed{manifest: *m.wanted[number]}
		if p.server, err = q.ServerByID(ctx, number); err != nil {
			return nil, err
		}
		without := p.manifest
		without.Revision = 0
		text, err := json.Marshal(without)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(text)
		p.digest = sum[:]
		for _, row := range before {
			p.there = p.there || row.ServerID == number && bytes.Equal(row.Digest, p.digest)
		}
		list = append(list, p)
	}
	return list, nil
}

// manifestOn returns what one server must hold for an account.
func (s *Service) manifestOn(ctx context.Context, q *db.Queries, account db.Account, server int64) (manifest.Manifest, error) {
	list, err := s.buildManifests(ctx, q, account)
	if err != nil {
		return manifest.Manifest{}, err
	}
	for _, p := range list {
		if p.server.ID == server {
			return p.manifest, nil
		}
	}
	return manifest.Manifest{AccountID: account.ID, SignInName: account.SignInName, Revision: account.Revision, Wanted: manifest.Absent}, nil
}

// took writes down that a server holds what it should for an account.
func (s *Service) took(ctx context.Context, p placed) error {
	return s.store.InTx(ctx, func(tx store.Tx) error {
		if p.manifest.Wanted == manifest.Absent {
			return tx.LeftServer(ctx, db.LeftServerParams{AccountID: p.manifest.AccountID, ServerID: p.server.ID})
		}
		return tx.PlacedAccount(ctx, db.PlacedAccountParams{AccountID: p.manifest.AccountID, ServerID: p.server.ID, Revision: p.manifest.Revision, Digest: p.digest})
	})
}
