// Package people is the use cases of those who sign in: people, their passwords, second factors,
// sessions, tokens and links, and the record of who did what.
//
// [Service.SignIn] starts a session, [Service.Identify] turns its token, or a program's, into the
// actor of each request. Wrong name, wrong password, wrong code and wrong network have one answer,
// and the time until it comes is the same.
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
