// Package domains is the use cases of domains and how they are served:
// sites with their settings, templates and protected folders, mirrors,
// redirects; and the trace, which says who answers for a name.
//
// [Service.AddDomain], [Service.ChangeDomain] and [Service.RemoveDomain] change an account's
// domains; every change has the zones follow. A setting has the first value of these: the site's
// own, its template's, the usual one, within what the allowance leaves (hosting/sites decides).
package domains

import (
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of domains, sites and templates. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service) *Service {
	return &Service{Base: b, rollout: rollout}
}
