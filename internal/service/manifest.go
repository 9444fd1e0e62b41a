package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"

	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// manifestParts fill a manifest from an account's rows and what it may use. Each file whose rows
// end up on servers adds one.
var manifestParts []func(context.Context, *Service, *db.Queries, standing, *manifest.Manifest) error

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
	none := manifest.Manifest{AccountID: account.ID, SignInName: account.SignInName, Revision: account.Revision, Wanted: manifest.Absent}
	wanted := map[int64]manifest.Manifest{account.ServerID: none}
	order := []int64{account.ServerID}
	for _, row := range before {
		if _, known := wanted[row.ServerID]; !known {
			wanted[row.ServerID] = none
			order = append(order, row.ServerID)
		}
	}
	if account.State != "closing" && account.State != "closed" {
		whole := none
		whole.Wanted = manifest.Present
		st, err := s.standingOf(ctx, q, account)
		if err != nil {
			return nil, err
		}
		for _, part := range manifestParts {
			if err := part(ctx, s, q, st, &whole); err != nil {
				return nil, err
			}
		}
		if whole.Suspended {
			whole.Logins, whole.Shell = locked(whole.Logins), false
		}
		zones := whole.Zones
		whole.Zones = nil
		wanted[account.ServerID] = whole
		if len(zones) > 0 {
			primary, err := primaryNameServer(ctx, q)
			if err != nil {
				return nil, err
			}
			m, known := wanted[primary.ID]
			if !known {
				order = append(order, primary.ID)
			}
			if !m.Here() {
				m = none
				m.Wanted, m.Elsewhere = manifest.Present, true
			}
			m.Zones = zones
			wanted[primary.ID] = m
		}
	}
	var list []placed
	for _, number := range order {
		p := placed{manifest: wanted[number]}
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
