package mail

import (
	"context"
	"time"

	"victualler/internal/api"
	"victualler/internal/store/db"
)

const (
	// sendingSpan is of which time it is told what became of what was sent.
	sendingSpan = 24 * time.Hour
	// mostSending is how many accounts, and how many domains elsewhere, are told of.
	mostSending = 50
)

// Sending tells what became of what the installation has sent to others within a day: by account,
// and by where it went. It is for operators: domains elsewhere say something about all accounts.
func (s *Service) Sending(ctx context.Context) (api.Sending, error) {
	out := api.Sending{Since: s.Now().Add(-sendingSpan).UTC(), Accounts: []api.SendingAccount{},
		Destinations: []api.SendingDestination{}}
	accounts, err := s.Store.SendingByAccount(ctx, db.SendingByAccountParams{Since: out.Since, Most: mostSending})
	if err != nil {
		return out, err
	}
	for _, a := range accounts {
		out.Accounts = append(out.Accounts, api.SendingAccount{Account: a.SignInName, Domain: a.MainDomain,
			Server: a.Server, Delivered: a.Delivered, Failed: a.Failed, Waiting: a.Waiting, Stopped: a.Stopped})
	}
	destinations, err := s.Store.SendingByDestination(ctx, db.SendingByDestinationParams{Since: out.Since,
		Most: mostSending})
	for _, d := range destinations {
		out.Destinations = append(out.Destinations, api.SendingDestination{Domain: d.Destination,
			Delivered: d.Delivered, Failed: d.Failed, Waiting: d.Waiting, Reply: d.Reply})
	}
	return out, err
}
