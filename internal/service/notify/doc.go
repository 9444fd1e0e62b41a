package notify

import (
	"victualler/internal/service/usecase"
)

// Service tells people by mail. Make one with [New].
type Service struct {
	*usecase.Base
}

// New makes the use cases.
func New(b *usecase.Base) *Service {
	return &Service{Base: b}
}
