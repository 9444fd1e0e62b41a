// Package mail is the use cases of mail: on which server the mail of an account is, and its
// mailboxes.
package mail

import (
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of mail. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service) *Service {
	return &Service{Base: b, rollout: rollout}
}
