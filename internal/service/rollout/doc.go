// Package rollout has servers match the records.
//
// What a server must hold for an account is a manifest, made of [Part]s: each package whose rows
// end up on servers has one, and package service lists them in the order in which they are asked.
// This package knows none of them by name.
//
// [Service.Apply] brings the servers of one account to what its rows say: it reads
// them at one moment, has each server that does not hold just that take its
// manifest, and ends the operations that this brings about. Changes made meanwhile
// are done together by the next turn. [Service.RollOut] does the same for the many
// accounts of one operation, and [Service.Sweep] finds on a server what differs.
//
// Use cases start it with [Service.ChangeAccount] (one account) or
// [Service.ApplyAccounts] (any number), which raise revisions, write the
// operation and queue the work, or ask the servers if it is only a preview.
package rollout

import (
	"victualler/internal/service/usecase"
)

// Service has servers match the records. Make one with [New], then give
// it its parts with [Service.SetParts].
type Service struct {
	*usecase.Base
	// applying has one worker at a time apply an account.
	applying usecase.Coalescer
	hub      *hub
	parts    []Part
}

// New makes the rollout of an installation.
func New(b *usecase.Base) *Service { return &Service{Base: b, hub: newHub()} }

// SetParts gives the service what manifests are made of, in the order in which they are filled.
// Parts are packages that use rollout, so they come after it.
func (s *Service) SetParts(parts ...Part) { s.parts = parts }
