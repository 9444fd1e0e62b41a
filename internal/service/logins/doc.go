// Package logins is the use cases of file transfer: the account's own sign-in and further logins,
// their folders, passwords and keys.
package logins

import (
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of file-transfer logins. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service) *Service {
	return &Service{Base: b, rollout: rollout}
}
