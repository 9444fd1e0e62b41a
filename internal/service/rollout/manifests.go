package rollout

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// serverManifest is what one server must hold for an account.
type serverManifest struct {
	server   db.Server
	manifest manifest.Manifest
	// digest identifies the manifest, whatever its revision.
	digest []byte
	// there says that the server holds just this already.
	upToDate bool
}

// buildManifests turns an account's rows and what it may use into what its servers must
// hold: the one with its home first. A server that holds something of
// it and should not any longer gets a manifest that says so.
func (s *Service) buildManifests(ctx context.Context, q *db.Queries,
	st entitlement.Entitlement) ([]serverManifest, error) {
	account := st.Account
	before, err := q.ServersOfAccount(ctx, account.ID)
	if err != nil {
		return nil, err
	}
	m := newManifests(account, before)
	if !isClosed(account) {
		m.Home().Wanted = manifest.Present
		for _, part := range s.parts {
			if part.Fill == nil {
				continue
			}
			if err := part.Fill(ctx, q, st, m); err != nil {
				return nil, fmt.Errorf("%s: %w", part.Name, err)
			}
		}
	}
	var list []serverManifest
	for _, number := range m.servers {
		p := serverManifest{manifest: *m.wanted[number]}
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
			p.upToDate = p.upToDate || row.ServerID == number && bytes.Equal(row.Digest, p.digest)
		}
		list = append(list, p)
	}
	return list, nil
}

// manifestsOf is buildManifests for one account.
func (s *Service) manifestsOf(ctx context.Context, q *db.Queries, account db.Account) ([]serverManifest, error) {
	terms, err := entitlement.LoadTerms(ctx, s.Base, q, []db.Account{account})
	if err != nil {
		return nil, err
	}
	return s.buildManifests(ctx, q, terms[0])
}

// manifestOn returns what one server must hold for an account.
func (s *Service) manifestOn(ctx context.Context, q *db.Queries, account db.Account, server int64) (manifest.Manifest,
	error) {
	list, err := s.manifestsOf(ctx, q, account)
	if err != nil {
		return manifest.Manifest{}, err
	}
	for _, p := range list {
		if p.server.ID == server {
			return p.manifest, nil
		}
	}
	return nothing(account), nil
}

// markApplied writes down that a server holds what it should for an account.
func (s *Service) markApplied(ctx context.Context, p serverManifest, r agentlink.Receipt) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if p.manifest.Wanted == manifest.Absent {
			return tx.RemoveAccountServer(ctx, db.RemoveAccountServerParams{AccountID: p.manifest.AccountID,
				ServerID: p.server.ID})
		}
		if p.manifest.HasHome() {
			err := saveWarnings(ctx, tx, map[int64][]agentlink.Warning{p.manifest.AccountID: r.Warnings})
			if err != nil {
				return err
			}
		}
		return tx.MarkServerApplied(ctx, db.MarkServerAppliedParams{AccountID: p.manifest.AccountID,
			ServerID: p.server.ID, Revision: p.manifest.Revision, Digest: p.digest})
	})
}
