// Package mail is the use cases of mail: on which server the mail of an account is, its mailboxes
// and addresses, and what its messages are signed with.
package mail

import (
	"victualler/internal/service/certs"
	"victualler/internal/service/notify"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of mail. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
	notify  *notify.Service
	certs   *certs.Service
	people  *people.Service
	spare   spareKeys
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service, notify *notify.Service, certs *certs.Service,
	people *people.Service) *Service {
	return &Service{Base: b, rollout: rollout, notify: notify, certs: certs, people: people, spare: make(spareKeys, 4)}
}
