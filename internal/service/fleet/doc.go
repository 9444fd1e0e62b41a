// Package fleet is the use cases of servers: joining, health, sweeps and repairs on demand, drift,
// and which server a new account goes to.
package fleet

import (
	"victualler/internal/service/dns"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of servers. Make one with [New].
type Service struct {
	*usecase.Base
	dns     *dns.Service
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, dns *dns.Service, rollout *rollout.Service) *Service {
	return &Service{Base: b, dns: dns, rollout: rollout}
}
