package mail

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"strings"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

const (
	// stopWindow is the time of which it is looked at what came back.
	stopWindow = 24 * time.Hour
	// stopLeast is how many messages must have come back before an account is stopped: one mistyped
	// address of two is no reason.
	stopLeast = 10
)

// whose is the account that a message is of which a mailbox's holder or a site has sent.
func (t *Tables) whose(ctx context.Context, signIn, sender string) (account int64, err error) {
	query, name := "select account from mailboxes where address = ?", signIn
	if signIn == "" {
		local, domain, _ := strings.Cut(strings.ToLower(sender), "@")
		if mail.IsReturn(local) {
			return 0, nil // passed on: what others have written is not the account's doing
		}
		query, name = "select account from domains where name = ?", domain
	}
	err = t.flow.QueryRowContext(ctx, query, name).Scan(&account)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return account, err
}

// judge stops those of some accounts from sending of whose messages too many came back.
func (t *Tables) judge(ctx context.Context, accounts []int64) error {
	now := time.Now()
	for _, account := range accounts {
		var share int64
		var released sql.NullInt64
		var stopped bool
		err := t.flow.QueryRowContext(ctx, `select a.bounce_share, s.released, s.account is not null and s.released is null
			from accounts a left join stops s on s.account = a.account where a.account = ?`, account).
			Scan(&share, &released, &stopped)
		if errors.Is(err, sql.ErrNoRows) || err == nil && (stopped || share == definition.Unlimited) {
			continue
		}
		if err != nil {
			return err
		}
		since := now.Add(-stopWindow)
		if at := time.UnixMilli(released.Int64); released.Valid && at.After(since) {
			since = at
		}
		arrived, failed, err := t.Log.Outgoing(ctx, account, since)
		if err != nil {
			return err
		}
		if failed < stopLeast || failed*100 <= share*(arrived+failed) {
			continue
		}
		slog.Warn("an account is stopped from sending", "account", account, "sent", arrived+failed, "came back", failed)
		t.mu.Lock()
		_, err = t.flow.ExecContext(ctx, "insert or replace into stops (account, at, sent, failed) values (?, ?, ?, ?)",
			account, now.UnixMilli(), arrived+failed, failed)
		t.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// stops are the accounts that are stopped.
func (t *Tables) stops(ctx context.Context) ([]agentlink.MailStop, error) {
	rows, err := t.flow.QueryContext(ctx, "select account, at, sent, failed from stops where released is null")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []agentlink.MailStop{}
	for rows.Next() {
		var s agentlink.MailStop
		var at int64
		if err := rows.Scan(&s.Account, &at, &s.Sent, &s.Failed); err != nil {
			return nil, err
		}
		s.At = time.UnixMilli(at).UTC()
		list = append(list, s)
	}
	return list, rows.Err()
}

// ReleaseSending implements agent.Mailer: an account sends again, and what was held of it meanwhile
// goes out. What came back before no longer counts.
func (m *Mailer) ReleaseSending(ctx context.Context, account int64) error {
	t := m.Tables
	t.mu.Lock()
	_, err := t.flow.ExecContext(ctx, "update stops set released = ? where account = ? and released is null",
		time.Now().UnixMilli(), account)
	t.mu.Unlock()
	if err != nil {
		return err
	}
	queue, err := m.Queue(ctx)
	if err != nil {
		return err
	}
	var held []string
	for _, one := range queue.Messages {
		if !one.Held {
			continue
		}
		owner, err := t.whoseHeld(ctx, one.Sender)
		if err != nil {
			return err
		}
		if owner == account {
			held = append(held, one.Queue)
		}
	}
	if len(held) == 0 {
		return nil
	}
	return m.ChangeQueue(ctx, agentlink.QueueChange{Do: agentlink.QueueRelease, Messages: held})
}

// whoseHeld is the account that may send as an address.
func (t *Tables) whoseHeld(ctx context.Context, sender string) (account int64, err error) {
	_, domain, _ := strings.Cut(strings.ToLower(sender), "@")
	err = t.routes.QueryRowContext(ctx, "select account from domains where name = ?", domain).Scan(&account)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return account, err
}
