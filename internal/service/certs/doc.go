// Package certs is the use cases of certificates: authorities, orders, renewals, rehearsals, what
// people upload, revocation, the inventory and the notices before one ends.
//
// Every site has a row that says how it gets its certificate and when it is checked
// next. [Service.OrderCertificates] takes what is due, rehearses the names and
// begins orders; [Service.Order] is the job that has one go on, step by step, each
// written down before what must not happen twice. A new certificate is "installing"
// until the apply that brings it to its server has been verified; then the one
// before it is retired. Start reading at certificates.go, then orders.go.
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
