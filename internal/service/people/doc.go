package people

import (
	"victualler/internal/service/notify"
	"victualler/internal/service/usecase"
)

// Service is the use cases of people, sign-in and events. Make one with [New].
type Service struct {
	*usecase.Base
	notify *notify.Service
}

// New makes the use cases.
func New(b *usecase.Base, notify *notify.Service) *Service {
	return &Service{Base: b, notify: notify}
}
