// Package accounts is the use cases of accounts as a whole: opening, closing, repairing, lists, and
// the handover sheet. It composes what the other packages offer, so it comes last.
package accounts

import (
	"victualler/internal/service/domains"
	"victualler/internal/service/fleet"
	"victualler/internal/service/kits"
	"victualler/internal/service/notify"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/selling"
	"victualler/internal/service/usecase"
)

// Service is the use cases of opening, closing and handing over accounts. Make one with [New].
type Service struct {
	*usecase.Base
	domains *domains.Service
	fleet   *fleet.Service
	kits    *kits.Service
	notify  *notify.Service
	people  *people.Service
	rollout *rollout.Service
	selling *selling.Service
}

// New makes the use cases.
func New(b *usecase.Base, domains *domains.Service, fleet *fleet.Service, kits *kits.Service,
	notify *notify.Service, people *people.Service, rollout *rollout.Service, selling *selling.Service) *Service {
	return &Service{Base: b, domains: domains, fleet: fleet, kits: kits, notify: notify, people: people,
		rollout: rollout, selling: selling}
}
