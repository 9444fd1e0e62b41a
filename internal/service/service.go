// Package service puts the use cases together: each package below it
// holds those of one part of the work.
package service

import (
	"context"
	"log/slog"

	"victualler/internal/resolve"
	"victualler/internal/seal"
	"victualler/internal/service/accounts"
	"victualler/internal/service/certs"
	"victualler/internal/service/databases"
	"victualler/internal/service/dns"
	"victualler/internal/service/domains"
	"victualler/internal/service/fleet"
	"victualler/internal/service/kits"
	"victualler/internal/service/logins"
	"victualler/internal/service/mail"
	"victualler/internal/service/notify"
	"victualler/internal/service/overview"
	"victualler/internal/service/people"
	"victualler/internal/service/rollout"
	"victualler/internal/service/selling"
	"victualler/internal/service/settings"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
)

// Service is all use cases. Make one with [New].
type Service struct {
	base      *usecase.Base
	Accounts  *accounts.Service
	Certs     *certs.Service
	Databases *databases.Service
	DNS       *dns.Service
	Domains   *domains.Service
	Fleet     *fleet.Service
	Kits      *kits.Service
	Logins    *logins.Service
	Mail      *mail.Service
	Notify    *notify.Service
	Overview  *overview.Service
	People    *people.Service
	Rollout   *rollout.Service
	Selling   *selling.Service
	Settings  *settings.Service
}

// New opens the installation. The service needs a queue before it runs: [Service.SetQueue].
func New(ctx context.Context, st *store.Store, key *seal.Key, log *slog.Logger) (*Service, error) {
	base, err := usecase.NewBase(ctx, st, key, log)
	if err != nil {
		return nil, err
	}
	return Assemble(base), nil
}

// Assemble puts the use cases together on a base.
func Assemble(base *usecase.Base) *Service {
	s := &Service{base: base}
	s.Notify = notify.New(base)
	s.Rollout = rollout.New(base)
	s.DNS = dns.New(base, s.Rollout)
	s.Domains = domains.New(base, s.Rollout)
	s.People = people.New(base, s.Notify)
	s.Certs = certs.New(base, s.Domains, s.Notify, s.People, s.Rollout)
	s.Selling = selling.New(base, s.Domains, s.Rollout)
	s.Fleet = fleet.New(base, s.DNS, s.Rollout)
	s.Overview = overview.New(base, s.Fleet)
	s.Logins = logins.New(base, s.Rollout)
	s.Databases = databases.New(base, s.Rollout, s.Notify)
	s.Kits = kits.New(base, s.Rollout, s.Domains, s.Databases)
	s.Mail = mail.New(base, s.Rollout, s.Notify, s.Certs, s.People)
	s.Settings = settings.New(base, s.Rollout)
	s.Accounts = accounts.New(base, s.Domains, s.Fleet, s.Kits, s.Notify, s.People, s.Rollout, s.Selling)
	// What servers hold for an account, in the order in which it is filled: logins and certificates
	// need to know what the parts before them have said.
	s.Rollout.SetParts(
		s.Selling.SuspensionPart(),
		s.Selling.LimitsPart(),
		s.Selling.BrandPart(),
		s.Domains.SitesPart(),
		s.Certs.CertificatesPart(),
		s.DNS.ZonesPart(),
		s.Logins.LoginsPart(),
		s.Mail.Part(),
		s.Databases.Part(),
		s.Kits.Part(),
	)
	return s
}

// SetQueue gives the service its queue, which is made with the service.
func (s *Service) SetQueue(q usecase.Queue) { s.base.Queue = q }

// SetResolver has public DNS asked through another resolver, host:port.
func (s *Service) SetResolver(address string) { s.base.Resolver = resolve.New(address) }

// Ready returns an error unless the service can work.
func (s *Service) Ready(ctx context.Context) error { return s.base.Ready(ctx) }

// Run passes on progress that any process of the installation tells, until the context ends.
func (s *Service) Run(ctx context.Context) { s.Rollout.Run(ctx) }
