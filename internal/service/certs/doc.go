// Package certs is the use cases of certificates: authorities, orders, renewals, rehearsals, what
// people upload, revocation, the inventory and the notices before one ends.
//
// Every site has a row that says how it gets its certificate and when it is looked at next; what is
// to be done then, [certificates.Site] decides. [Service.OrderCertificates] claims what is due,
// rehearses the names and begins orders. An order is a state machine: [Service.Order] is the job
// that takes its steps, and each state it comes to is on record with what belongs to it before the
// next step is taken, so that it goes on after any cut. For people it is one operation with four
// steps; what servers do for it is part of that. A new certificate is "installing" until the apply
// that brings it to its server has been verified; then the one before it is retired. Start reading
// at certificates.go, then orders.go and orderrun.go.
package certs

import (
	"victualler/internal/service/domains"
	"victualler/internal/service/notify"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
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
	// connect returns a client for an authority on record; the caller closes it.
	connect func(db.Authority) (authorityClient, error)
}

// New makes the use cases.
func New(b *usecase.Base, domains *domains.Service, notify *notify.Service, people *people.Service,
	rollout *rollout.Service) *Service {
	s := &Service{Base: b, domains: domains, notify: notify, people: people, rollout: rollout}
	s.connect = func(row db.Authority) (authorityClient, error) { return s.authorityAt(row) }
	return s
}
