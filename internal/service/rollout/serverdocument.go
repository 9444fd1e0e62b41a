package rollout

import (
	"context"

	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// SyncServer tells a server what it holds for all accounts together, unless it knows.
func (s *Service) SyncServer(ctx context.Context, server db.Server) error {
	m := manifest.Server{}
	for _, part := range s.parts {
		if part.Describe == nil {
			continue
		}
		if err := part.Describe(ctx, s.Store.Queries, server, &m); err != nil {
			return err
		}
	}
	digest := m.Digest()
	now, err := s.Store.ServerByID(ctx, server.ID)
	if err != nil || now.Told == digest || now.Told == "" && m == (manifest.Server{}) {
		return err
	}
	if err := s.Agents.Agent(server.ID, server.Address).ApplyServer(ctx, m); err != nil {
		return &usecase.AgentError{Err: err}
	}
	return s.Store.SaveServerDigest(ctx, db.SaveServerDigestParams{ID: server.ID, Told: digest})
}
