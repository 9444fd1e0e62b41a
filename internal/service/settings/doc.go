// Package settings is the use cases of what holds for the whole installation.
package settings

import (
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of the settings. Make one with [New].
type Service struct {
	*usecase.Base
	rollout *rollout.Service
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service) *Service {
	return &Service{Base: b, rollout: rollout}
}
