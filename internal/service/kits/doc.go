// Package kits is the use cases of kits: which there are and who is offered them (kits.go), the
// kits of sites (sites.go) with what can be asked for them (install.go, updates.go), and how that
// is done (run.go, and what each state does in runsteps.go and runupdate.go).
//
// What is asked for is written down in one transaction: the row of the site's kit (site_kits), its
// database and user, an operation, and a job. The job takes one step after the other; the state
// that it comes to is on record before the next step is taken, and each step can be repeated. Files
// are put beside the site first and take its place when all steps have been run, so that whatever
// fails or is killed leaves the site as it was: state “undoing” brings it back. A step of a kit is
// the one thing that is not repeated, as nobody knows what it does twice: one that was cut off is
// undone with the rest.
package kits

import (
	"victualler/internal/service/databases"
	"victualler/internal/service/domains"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
)

// Service is the use cases of kits. Make one with [New].
type Service struct {
	*usecase.Base
	rollout   *rollout.Service
	domains   *domains.Service
	databases *databases.Service
	working   usecase.Coalescer
}

// New makes the use cases.
func New(b *usecase.Base, rollout *rollout.Service, domains *domains.Service,
	databases *databases.Service) *Service {
	return &Service{Base: b, rollout: rollout, domains: domains, databases: databases}
}
