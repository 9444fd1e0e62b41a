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
// Refusals: ApplyFailed, InvalidInput, MailFailed, ServerUnreachable.
// Locks: the account.
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
			return errors.Join(s.syncStops(ctx, server, page.Stops), s.syncLeaves(ctx, page.Left),
				s.syncFailures(ctx, server, page.Failures))
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
		p.Scores, p.Folders = append(p.Scores, d.Score), append(p.Folders, d.Folder)
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

// MessageCursor is the message that a page of them begins behind; zero is the first page.
type MessageCursor struct {
	Came time.Time
	ID   int64
}

// Messages returns a page of what became of messages, the newest first. The first page has what
// servers know at this moment.
//
// Refusals: ApplyFailed, InvalidInput, MailFailed, NotFound, ServerUnreachable.
// Locks: the account.
func (s *Service) Messages(ctx context.Context, a usecase.Actor, f MessageFilter, before MessageCursor,
	most int) (api.MessagePage, error) {
	page := api.MessagePage{Messages: []api.Message{}}
	accounts, all, err := s.scope(ctx, a, f.Account)
	if err != nil {
		return page, err
	}
	if before == (MessageCursor{}) {
		before = s.firstMessage()
		soon, cancel := context.WithTimeout(ctx, patience)
		err := s.CollectLogs(soon)
		cancel()
		if err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return page, err
		}
	}
	// One bound alone is what an index is entered at.
	if f.Until != nil && f.Until.Before(before.Came) {
		before = MessageCursor{Came: *f.Until}
	}
	p := db.MessagesParams{Sender: f.Sender, Recipient: strings.ToLower(f.Recipient),
		MessageID: strings.Trim(f.MessageID, "<> "), Outcome: f.Outcome, Since: f.Since, BeforeAt: before.Came,
		Before: before.ID, Most: int32(most + 1)}
	var rows []db.MessagesRow
	if all {
		rows, err = s.Store.Fresh().Messages(ctx, p)
	} else {
		var some []db.MessagesOfAccountsRow
		some, err = s.Store.Fresh().MessagesOfAccounts(ctx, db.MessagesOfAccountsParams{Accounts: accounts,
			Sender: p.Sender, Recipient: p.Recipient, MessageID: p.MessageID, Outcome: p.Outcome, Since: p.Since,
			BeforeAt: p.BeforeAt, Before: p.Before, Most: p.Most})
		for _, row := range some {
			rows = append(rows, db.MessagesRow(row))
		}
	}
	if err != nil {
		return page, err
	}
	return pageOf(a, rows, most, func(m db.MailLog) seen { return sees(accounts, all, m) }), nil
}

// firstMessage begins the first page.
func (s *Service) firstMessage() MessageCursor {
	return MessageCursor{Came: s.Now().AddDate(1, 0, 0), ID: math.MaxInt64}
}

// pageOf is a page of the rows, of which one more than are on it says that there is a next one.
func pageOf(a usecase.Actor, rows []db.MessagesRow, most int, sees func(db.MailLog) seen) api.MessagePage {
	page := api.MessagePage{Messages: []api.Message{}}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].MailLog.CameAt, rows[most-1].MailLog.ID)
	}
	for _, row := range rows {
		page.Messages = append(page.Messages, viewMessage(a, row, sees(row.MailLog)))
	}
	return page
}

// OwnMessages returns a page of what became of the messages that the holder of a mailbox has sent,
// and of those to it, the newest first.
//
// Refusals: NotSignedIn.
func (s *Service) OwnMessages(ctx context.Context, a usecase.Actor, before MessageCursor,
	most int) (api.MessagePage, error) {
	page := api.MessagePage{Messages: []api.Message{}}
	box, err := s.holder(ctx, a)
	if err != nil {
		return page, err
	}
	if before == (MessageCursor{}) {
		before = s.firstMessage()
	}
	found, err := s.Store.MessagesOfMailbox(ctx, db.MessagesOfMailboxParams{Account: box.Mailbox.AccountID,
		Address: a.Mailbox, BeforeAt: before.Came, Before: before.ID, Most: int32(most + 1)})
	if err != nil {
		return page, err
	}
	var rows []db.MessagesRow
	for _, row := range found {
		rows = append(rows, db.MessagesRow(row))
	}
	return pageOf(a, rows, most, func(m db.MailLog) seen {
		return seen{sent: strings.EqualFold(m.SignIn, a.Mailbox), got: m.Recipient == a.Mailbox ||
			m.DeliveredTo == a.Mailbox}
	}), nil
}

// seen tells of which side of a message somebody may see everything. Of the other side, they see
// what its own server would tell whoever writes or is written to.
type seen struct{ sent, got bool }

// sees is what somebody sees of a message who sees all messages, or those of accounts.
func sees(accounts []int64, all bool, m db.MailLog) seen {
	within := func(account *int64) bool { return all || account != nil && slices.Contains(accounts, *account) }
	return seen{sent: within(m.FromAccount), got: within(m.ToAccount)}
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
	may := sees(accounts, all, row.MailLog)
	if !may.sent && !may.got {
		return api.Message{}, usecase.NotFound("message", strconv.FormatInt(number, 10))
	}
	return viewMessage(a, db.MessagesRow(row), may), nil
}

func viewMessage(a usecase.Actor, row db.MessagesRow, may seen) api.Message {
	m := row.MailLog
	if !may.sent {
		row.FromName = ""
		if m.SignIn != "" {
			m.SignIn, m.Client = "", ""
		}
	}
	if !may.got {
		row.ToName = ""
		// Where it lies, and what the spam filter makes of it, is the recipient's business.
		m.DeliveredTo, m.Folder, m.Score = "", "", ""
		if within(m) {
			m.Reply = ""
		}
	}
	if m.Outcome == "forwarded" || m.Outcome == "kept" {
		m.DeliveredTo = "" // that is how servers call it among themselves
	}
	return api.Message{ID: m.ID, Server: row.Label, Queue: m.Queue, CameAt: m.CameAt, At: m.At, Sender: m.Sender,
		FirstSender: mail.FirstSender(m.Sender), Recipient: m.Recipient, DeliveredTo: m.DeliveredTo,
		MessageID: m.MessageID, Size: m.Size, Client: m.Client,
		SignIn: m.SignIn, FromAccount: row.FromName, ToAccount: row.ToName, Outcome: m.Outcome,
		Says: messageSays(m).In(a.Language), Code: m.Code, Relay: m.Relay, Reply: m.Reply, Tries: m.Tries,
		Score: m.Score, Folder: m.Folder}
}

// within reports whether a message is in a mailbox here.
func within(m db.MailLog) bool {
	return m.Outcome == "delivered" && strings.HasSuffix(m.Relay, "[private/victualler-lmtp]")
}

// messageSays is what became of a message, in words.
func messageSays(m db.MailLog) language.Text {
	host, _, _ := strings.Cut(m.Relay, "[")
	inside := within(m)
	switch m.Outcome {
	case "delivered":
		score, _, _ := strings.Cut(m.Score, ";")
		switch {
		case inside && m.Folder == "Junk" && score != "":
			return language.New("in the folder %s of %s, for a score of %s", m.Folder,
				usecase.OrEmpty(m.DeliveredTo, m.Recipient), score)
		case inside && m.Folder != "":
			return language.New("in the folder %s of %s", m.Folder, usecase.OrEmpty(m.DeliveredTo, m.Recipient))
		case inside:
			return language.New("in the mailbox %s", usecase.OrEmpty(m.DeliveredTo, m.Recipient))
		}
		return language.New("taken by %s", usecase.OrEmpty(host, "?"))
	case "forwarded":
		return language.New("passed on")
	case "kept":
		switch {
		case strings.Contains(m.Reply, mail.HeldAnswer):
			return language.New("waits for an owner of the list")
		case strings.Contains(m.Reply, mail.IgnoredAnswer):
			return language.New("left aside: no person has written it to the list")
		}
		return language.New("spam is not passed on; it is in the mailbox")
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
