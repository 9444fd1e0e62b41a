// Package dns is the use cases of zones: records, import, signing, checks of what public DNS shows,
// and the names of the name servers.
//
// A zone follows from the domains of its account ([SyncZones]). It holds
// derived records, worked out each time from what is configured, and own ones,
// which people add and which win; only own ones are rows. Its part of the
// manifest goes to the primary name server, wherever the account's home is.
package dns

import (
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of zones and name servers. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service) *Service {
	return &Service{Base: b, rollout: rollout}
}
