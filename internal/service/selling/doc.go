// Package selling is the use cases of what is sold, and to whom: plans, resellers with their shares
// and brands, customers, exceptions, changes of plan, and suspension.
//
// What touches many accounts locks the plan, then resellers, then accounts, compares their
// entitlements before and after, and rolls out to those whose servers have to know.
package selling

import (
	"victualler/internal/service/domains"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of plans, resellers and customers. Make one with [New].
type Service struct {
	*usecase.Base
	domains *domains.Service
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, domains *domains.Service, rollout *rollout.Service) *Service {
	return &Service{Base: b, domains: domains, rollout: rollout}
}
