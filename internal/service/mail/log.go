package mail

import (
	"context"
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// logDays is how long it is known what has become of a message.
const logDays = 30

// CollectLogs asks all mail servers what is new of messages. One that does not answer is asked
// again with the next round.
//
// Refusals: MailFailed.
func (s *Service) CollectLogs(ctx context.Context) error {
	servers, err := s.Store.MailServers(ctx)
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	for _, one := range servers {
		group.Go(func() {
			if err := s.collectLog(ctx, one.Server); err != nil {
				s.Log.Debug("what is new of messages is not known", "server", one.Server.Label, "reason", err)
			}
		})
	}
	group.Wait()
	return nil
}

// collectLog asks a server what is new of messages, and writes it down.
func (s *Service) collectLog(ctx context.Context, server db.Server) error {
	for more := true; more; {
		now, err := s.Store.ServerByID(ctx, server.ID)
		if err != nil {
			return err
		}
		page, err := s.Agents.Agent(server.ID, server.Address).MailLog(ctx,
			agentlink.MailLogRequest{After: now.MailLogChange})
		if err != nil {
			return err
		}
		if len(page.Deliveries) > 0 {
			if err := s.saveDeliveries(ctx, server.ID, now.MailLogChange, page.Deliveries); err != nil {
				return err
			}
		}
		if more = page.More; !more {
			return s.syncStops(ctx, server, page.Stops)
		}
	}
	return nil
}

// saveDeliveries writes down what has changed after a change, unless somebody else has.
func (s *Service) saveDeliveries(ctx context.Context, server, after int64, list []agentlink.Delivery) error {
	p := db.SaveDeliveriesParams{ServerID: server}
	var names []string
	for _, d := range list {
		names = append(names, domainOf(d.Sender), domainOf(d.Recipient), domainOf(d.SignIn))
	}
	domains, err := s.ownersOf(ctx, names)
	if err != nil {
		return err
	}
	for _, d := range list {
		from := domains[domainOf(d.SignIn)]
		if d.SignIn == "" && d.Local {
			from = domains[domainOf(d.Sender)]
		}
		to := domains[domainOf(d.Recipient)]
		p.Numbers, p.Queues = append(p.Numbers, d.ID), append(p.Queues, d.Queue)
		p.Came, p.Happened = append(p.Came, d.Came), append(p.Happened, d.At)
		p.Senders, p.Recipients = append(p.Senders, d.Sender), append(p.Recipients, d.Recipient)
		p.LedTo, p.MessageIds = append(p.LedTo, d.DeliveredTo), append(p.MessageIds, d.MessageID)
		p.Sizes, p.Clients = append(p.Sizes, d.Size), append(p.Clients, d.Client)
		p.SignIns, p.Outcomes = append(p.SignIns, d.SignIn), append(p.Outcomes, d.Outcome)
		p.Codes, p.Relays = append(p.Codes, d.Code), append(p.Relays, d.Relay)
		p.Replies, p.Tries = append(p.Replies, d.Reply), append(p.Tries, d.Tries)
		p.FromAccounts, p.ToAccounts = append(p.FromAccounts, from), append(p.ToAccounts, to)
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		known, err := tx.MailLogChange(ctx, server)
		if err != nil || known != after {
			return err
		}
		if err := tx.SaveDeliveries(ctx, p); err != nil {
			return err
		}
		return tx.SaveMailLogChange(ctx, db.SaveMailLogChangeParams{ID: server,
			MailLogChange: list[len(list)-1].Change})
	})
}

// domainOf is the domain of an address, in lower case; empty where it has none.
func domainOf(address string) string {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	return domain
}

// ownersOf are the accounts that domains belong to; those of nobody here are not among them.
func (s *Service) ownersOf(ctx context.Context, domains []string) (map[string]int64, error) {
	slices.Sort(domains)
	rows, err := s.Store.AccountsOfDomains(ctx, slices.Compact(domains))
	owners := map[string]int64{}
	for _, row := range rows {
		owners[row.Name] = row.AccountID
	}
	return owners, err
}

// TidyLog removes what has become of messages a month ago.
func (s *Service) TidyLog(ctx context.Context) error {
	for {
		gone, err := s.Store.TidyMailLog(ctx, s.Now().AddDate(0, 0, -logDays))
		if err != nil || gone == 0 {
			return err
		}
	}
}

// MessageFilter narrows a list of messages; empty fields do not.
type MessageFilter struct {
	Account, Sender, Recipient, MessageID, Outcome string
	// Since and Until are of when the message came.
	Since, Until *time.Time
}

// patience is how long servers may take to tell what is new before what is known is shown.
const patience = 1500 * time.Millisecond

// Messages returns a page of what became of messages, the newest first. The first page has what
// servers know at this moment.
//
// Refusals: InvalidInput, MailFailed, NotFound.
func (s *Service) Messages(ctx context.Context, a usecase.Actor, f MessageFilter, before int64,
	most int) (api.MessagePage, error) {
	page := api.MessagePage{Messages: []api.Message{}}
	accounts, all, err := s.scope(ctx, a, f.Account)
	if err != nil {
		return page, err
	}
	if before == 0 {
		before = math.MaxInt64
		soon, cancel := context.WithTimeout(ctx, patience)
		err := s.CollectLogs(soon)
		cancel()
		if err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return page, err
		}
	}
	p := db.MessagesParams{Sender: f.Sender, Recipient: strings.ToLower(f.Recipient),
		MessageID: strings.Trim(f.MessageID, "<> "), Outcome: f.Outcome, Since: f.Since, Until: f.Until, Before: before,
		Most: int32(most + 1)}
	var rows []db.MessagesRow
	if all {
		rows, err = s.Store.Fresh().Messages(ctx, p)
	} else {
		var some []db.MessagesOfAccountsRow
		some, err = s.Store.Fresh().MessagesOfAccounts(ctx, db.MessagesOfAccountsParams{Accounts: accounts,
			Sender: p.Sender, Recipient: p.Recipient, MessageID: p.MessageID, Outcome: p.Outcome, Since: p.Since,
			Until: p.Until, Before: p.Before, Most: p.Most})
		for _, row := range some {
			rows = append(rows, db.MessagesRow(row))
		}
	}
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].MailLog.ID)
	}
	for _, row := range rows {
		page.Messages = append(page.Messages, viewMessage(a, row))
	}
	return page, nil
}

// scope is the accounts whose messages the actor sees; all of them where that is said.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) scope(ctx context.Context, a usecase.Actor, account string) (accounts []int64, all bool, err error) {
	if account != "" {
		number, err := usecase.FindAccount(ctx, s.Store.Queries, a, account)
		return []int64{number}, false, err
	}
	p := db.AccountsInScopeParams{}
	if p.Reseller, p.Customer = a.Scope(); p.Reseller == 0 && p.Customer == 0 {
		return nil, true, nil
	}
	accounts, err = s.Store.AccountsInScope(ctx, p)
	return accounts, false, err
}

// Message returns what became of a message for one recipient.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Message(ctx context.Context, a usecase.Actor, number int64) (api.Message, error) {
	row, err := s.Store.Message(ctx, number)
	if store.None(err) {
		return api.Message{}, usecase.NotFound("message", strconv.FormatInt(number, 10))
	}
	if err != nil {
		return api.Message{}, err
	}
	accounts, all, err := s.scope(ctx, a, "")
	if err != nil {
		return api.Message{}, err
	}
	for _, account := range accounts {
		all = all || account == usecase.OrZero(row.MailLog.FromAccount) ||
			account == usecase.OrZero(row.MailLog.ToAccount)
	}
	if !all {
		return api.Message{}, usecase.NotFound("message", strconv.FormatInt(number, 10))
	}
	return viewMessage(a, db.MessagesRow(row)), nil
}

func viewMessage(a usecase.Actor, row db.MessagesRow) api.Message {
	m := row.MailLog
	if m.Outcome == "forwarded" {
		m.DeliveredTo = "" // that is how servers call it among themselves
	}
	return api.Message{ID: m.ID, Server: row.Label, Queue: m.Queue, CameAt: m.CameAt, At: m.At, Sender: m.Sender,
		FirstSender: mail.FirstSender(m.Sender), Recipient: m.Recipient, DeliveredTo: m.DeliveredTo,
		MessageID: m.MessageID, Size: m.Size, Client: m.Client,
		SignIn: m.SignIn, FromAccount: row.FromName, ToAccount: row.ToName, Outcome: m.Outcome,
		Says: messageSays(m).In(a.Language), Code: m.Code, Relay: m.Relay, Reply: m.Reply, Tries: m.Tries}
}

// messageSays is what became of a message, in words.
func messageSays(m db.MailLog) language.Text {
	host, _, _ := strings.Cut(m.Relay, "[")
	inside := strings.HasSuffix(m.Relay, "[private/victualler-lmtp]")
	switch m.Outcome {
	case "delivered":
		if inside {
			return language.New("in the mailbox %s", usecase.OrEmpty(m.DeliveredTo, m.Recipient))
		}
		return language.New("taken by %s", usecase.OrEmpty(host, "?"))
	case "forwarded":
		return language.New("passed on")
	case "waiting":
		if m.Tries > 1 {
			return language.New("waits, tried %d times: %s", m.Tries, m.Reply)
		}
		return language.New("waits: %s", m.Reply)
	case "failed":
		return language.New("came back: %s", m.Reply)
	}
	return language.New("refused: %s", m.Reply)
}
