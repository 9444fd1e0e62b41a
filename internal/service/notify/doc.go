// Package notify tells people by mail. A use case queues a message in its own transaction
// ([Service.QueueMail]); a job sends it afterwards ([Service.SendMail]), for a day if need be.
// Messages are sealed until they are sent, as they may hold links, and forgotten then.
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
