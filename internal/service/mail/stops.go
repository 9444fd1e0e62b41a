package mail

import (
	"context"
	"fmt"
	"slices"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// syncStops writes down which accounts a server has stopped from sending, and tells the customer
// and the operators of each new one.
func (s *Service) syncStops(ctx context.Context, server db.Server, stops []agentlink.MailStop) error {
	known, err := s.Store.MailStopsOn(ctx, server.ID)
	if err != nil {
		return err
	}
	stopped := []int64{}
	for _, stop := range stops {
		stopped = append(stopped, stop.Account)
		if slices.ContainsFunc(known, func(k db.MailStop) bool { return k.AccountID == stop.Account }) {
			continue
		}
		if err := s.tellOfStop(ctx, server, stop); err != nil {
			return err
		}
	}
	if slices.ContainsFunc(known, func(k db.MailStop) bool { return !slices.Contains(stopped, k.AccountID) }) {
		return s.Store.EndOtherMailStops(ctx, db.EndOtherMailStopsParams{ServerID: server.ID, Stopped: stopped})
	}
	return nil
}

// mostFailures is how many messages that came back are named.
const mostFailures = 10

func (s *Service) tellOfStop(ctx context.Context, server db.Server, stop agentlink.MailStop) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		added, err := tx.AddMailStop(ctx, db.AddMailStopParams{ServerID: server.ID, At: stop.At, Sent: stop.Sent,
			Failed: stop.Failed, Account: stop.Account})
		if err != nil || added == 0 {
			return err
		}
		account, err := tx.Account(ctx, stop.Account)
		if err != nil {
			return err
		}
		if err := usecase.Record(ctx, tx, usecase.System(), "sending.stop", usecase.AboutAccount(account), nil,
			map[string]any{"sent": stop.Sent, "failed": stop.Failed}); err != nil {
			return err
		}
		rows, err := tx.FailuresOfAccount(ctx, db.FailuresOfAccountParams{Account: account.ID, Most: mostFailures})
		if err != nil {
			return err
		}
		var failures []string
		for _, row := range rows {
			failures = append(failures, fmt.Sprintf("%s → %s: %s", row.Sender, row.Recipient, row.Reply))
		}
		write := func(language string, from notices.Sender) notices.Notice {
			return notices.SendingStopped(language, from, account.MainDomain, stop.Sent, stop.Failed, failures)
		}
		if err := s.notify.Customer(ctx, tx, account, "sending stopped", write); err != nil {
			return err
		}
		return s.notify.Operators(ctx, tx, "sending stopped", write)
	})
}

// ReleaseSending has an account send again that was stopped, with the messages that wait.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) ReleaseSending(ctx context.Context, a usecase.Actor, reference string) (api.SendingReleased, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.SendingReleased, error) {
		none := api.SendingReleased{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		stop, err := tx.MailStop(ctx, number)
		if store.None(err) {
			return none, refusal.New(refusal.WrongState, "%s is not stopped from sending", account.SignInName)
		}
		if err != nil {
			return none, err
		}
		server, err := tx.ServerByID(ctx, stop.ServerID)
		if err != nil {
			return none, err
		}
		a.Summarize("release sending of account %s", account.SignInName)
		if err := usecase.Record(ctx, tx, a, "sending.release", usecase.AboutAccount(account), nil,
			map[string]any{"sent": stop.Sent, "failed": stop.Failed}); err != nil {
			return none, err
		}
		if err := tx.DeleteMailStop(ctx, number); err != nil {
			return none, err
		}
		if a.Preview != nil {
			return none, nil
		}
		if err := s.Agents.Agent(server.ID, server.Address).ReleaseSending(ctx, number); err != nil {
			return none, usecase.Unreachable(server.Label, err)
		}
		return api.SendingReleased{Account: account.SignInName}, nil
	})
}
