package certs

import (
	"victualler/internal/service/domains"
	"victualler/internal/service/notify"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of certificates. Make one with [New].
type Service struct {
	*usecase.Base
	domains *domains.Service
	notify  *notify.Service
	people  *people.Service
	rollout *rollout.Service
	// ordering has one worker at a time be at an order.
	ordering usecase.Coalescer
}

// New makes the use cases.
func New(b *usecase.Base, domains *domains.Service, notify *notify.Service, people *people.Service,
	rollout *rollout.Service) *Service {
	return &Service{Base: b, domains: domains, notify: notify, people: people, rollout: rollout}
}
