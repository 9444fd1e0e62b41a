// Package databases is the use cases of databases: the databases of accounts and their users, which
// server they are on, and what is known of their sizes.
package databases

import (
	"victualler/internal/service/notify"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of databases. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
	notify  *notify.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service, notify *notify.Service) *Service {
	return &Service{Base: b, rollout: rollout, notify: notify}
}
