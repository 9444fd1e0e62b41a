package rollout

import (
	"context"

	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// Service has servers match the records. Make one with [New], then give
// it its parts with [Service.SetParts].
type Service struct {
	*usecase.Base
	// applying has one worker at a time apply an account.
	applying usecase.Coalescer
	hub      *hub
	parts    []Part
	describe Describe
}

// Describe says what a server holds for all accounts together.
type Describe func(context.Context, *db.Queries, db.Server) (manifest.Server, error)

// New makes the rollout of an installation.
func New(b *usecase.Base) *Service { return &Service{Base: b, hub: newHub()} }

// SetParts gives the service what manifests are made of: the parts of an account's in the order in
// which they are filled, and what a server holds for all accounts together. Parts are packages that
// use rollout, so they come after it.
func (s *Service) SetParts(describe Describe, parts ...Part) { s.describe, s.parts = describe, parts }
