package mail

import (
	"context"
	"errors"
	"strings"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/homes"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// syncFailures writes down how many sign-ins to the mailboxes on a server have failed within the
// last day, and records it of each for which there are many now. Nil says nothing.
func (s *Service) syncFailures(ctx context.Context, server db.Server, told []agentlink.SignInFailures) error {
	if told == nil {
		return nil
	}
	of := db.MailboxFailuresToldParams{Server: server.ID, Domains: []string{}, Addresses: []string{}}
	byAddress := map[string]agentlink.SignInFailures{}
	for _, f := range told {
		_, domain, _ := strings.Cut(f.Mailbox, "@")
		of.Addresses, of.Domains = append(of.Addresses, f.Mailbox), append(of.Domains, domain)
		byAddress[f.Mailbox] = f
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		rows, err := tx.MailboxFailuresTold(ctx, of)
		if err != nil {
			return err
		}
		p := db.SaveMailboxFailuresParams{Mailboxes: []int64{}}
		for _, row := range rows {
			f := byAddress[row.Address]
			p.Mailboxes, p.Failures = append(p.Mailboxes, row.ID), append(p.Failures, f.Count)
			p.Clients, p.LastAt = append(p.Clients, f.Clients), append(p.LastAt, f.LastAt)
			p.LastFrom = append(p.LastFrom, f.LastFrom)
			if f.Count < homes.ManyFailures || row.Before >= homes.ManyFailures {
				continue
			}
			account, err := tx.Account(ctx, row.AccountID)
			if err != nil {
				return err
			}
			if err := usecase.Record(ctx, tx, usecase.System(), "mailbox.sign_ins_fail", usecase.AboutAccount(account),
				nil,
				map[string]any{"address": f.Mailbox, "failures": f.Count, "from": f.LastFrom}); err != nil {
				return err
			}
		}
		return errors.Join(tx.SaveMailboxFailures(ctx, p), tx.DeleteOtherMailboxFailures(ctx,
			db.DeleteOtherMailboxFailuresParams{Server: server.ID, Told: p.Mailboxes}))
	})
}

// failuresView is what is told of a mailbox; nil where no sign-in has failed.
func failuresView(rows []db.MailboxFailuresOfAccountRow, mailbox int64) *api.SignInFailures {
	for _, row := range rows {
		if row.MailboxID == mailbox {
			return &api.SignInFailures{Count: row.Failures, Addresses: row.Clients, LastAt: row.LastAt,
				LastFrom: row.LastFrom}
		}
	}
	return nil
}
