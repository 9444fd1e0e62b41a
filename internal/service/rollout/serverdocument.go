package rollout

import (
	"context"

	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// SyncServer tells a server what it holds for all accounts together, unless it knows.
func (s *Service) SyncServer(ctx context.Context, server db.Server) error {
	m, err := s.describe(ctx, s.Store.Queries, server)
	if err != nil {
		return err
	}
	digest := m.Digest()
	now, err := s.Store.ServerByID(ctx, server.ID)
	if err != nil || now.Told == digest || now.Told == "" && m.DNS == nil {
		return err
	}
	if err := s.Agents.Agent(server.ID, server.Address).ApplyServer(ctx, m); err != nil {
		return &usecase.AgentError{Err: err}
	}
	return s.Store.SaveServerDigest(ctx, db.SaveServerDigestParams{ID: server.ID, Told: digest})
}
