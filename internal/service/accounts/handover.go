package accounts

import (
	"context"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/notify"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// onSheet are the limits that people ask for first.
var onSheet = []plans.Key{plans.Disk, plans.Traffic, plans.Domains, plans.Mailboxes, plans.Databases}

// Handover returns what the customer of an account needs to know to start.
//
// Refusals: InvalidInput, NotFound, WrongState.
func (s *Service) Handover(ctx context.Context, a usecase.Actor, reference string) (api.Handover, error) {
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return api.Handover{}, err
	}
	out, _, err := s.handover(ctx, s.Store.Queries, number)
	return out, err
}

func (s *Service) handover(ctx context.Context, q *db.Queries, number int64) (api.Handover, notify.OutboundMail,
	error) {
	none := api.Handover{}
	row, err := q.AccountRow(ctx, number)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	if row.State == "closed" {
		return none, notify.OutboundMail{},
			refusal.New(refusal.WrongState, "%s is closed; there is nothing to hand over", row.SignInName)
	}
	account, err := q.Account(ctx, number)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	customer, err := q.CustomerByID(ctx, row.CustomerID)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	server, err := q.ServerByID(ctx, row.ServerID)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	settings, err := q.Settings(ctx)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	st, err := entitlement.Load(ctx, s.Base, q, account)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	from, senderName, senderAt, err := s.notify.SenderFor(ctx, q, row.ResellerID)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	domains, err := q.DomainsOfAccount(ctx, number)
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	people, err := q.People(ctx, db.PeopleParams{OfCustomer: customer.ID, Most: 50})
	if err != nil {
		return none, notify.OutboundMail{}, err
	}
	out := api.Handover{Account: row.SignInName, Customer: customer.Name, Language: customer.Language, From: from.Title,
		Footer: from.Footer, Domains: []string{}, Addresses: usecase.AddressesOf(server),
		NameServers: []string{}, Console: settings.Console, People: []string{}, Plan: row.Plan,
		Limits: []api.HandoverLimit{}}
	allowance := st.Allowance()
	if allowance.Features["dns"].On {
		out.NameServers = usecase.NonNil(settings.NameServers)
	}
	for _, d := range domains {
		out.Domains = append(out.Domains, usecase.Unicode(d.Name))
	}
	if len(out.Domains) == 0 {
		out.Domains = []string{usecase.Unicode(row.MainDomain)}
	}
	for _, p := range people {
		out.People = append(out.People, p.Name)
	}
	sheet := notices.Sheet{Customer: out.Customer, Account: out.Account, Console: out.Console, Plan: out.Plan,
		Domains: out.Domains, Addresses: out.Addresses, NameServers: out.NameServers, People: out.People}
	for _, key := range onSheet {
		info, _ := plans.Info(key)
		amount := allowance.Limits[key].Format(info.Unit)
		out.Limits = append(out.Limits, api.HandoverLimit{Title: info.Text().In(customer.Language),
			Value: amount.In(customer.Language)})
		sheet.Limits = append(sheet.Limits, language.New("%s: %s", info.Text(), amount).In(customer.Language))
	}
	if customer.Email != nil {
		out.To = *customer.Email
	}
	out.Text = sheet.Text(customer.Language)
	return out, notify.OutboundMail{Kind: "handover sheet", To: out.To, Language: customer.Language,
		Customer: &customer.ID, Reseller: row.ResellerID, SenderName: senderName, SenderAt: senderAt,
		Notice: notices.Handover(customer.Language, from, sheet)}, nil
}

// MailHandover mails the handover sheet to the customer.
//
// Refusals: InvalidInput, MailFailed, NotFound, WrongState.
func (s *Service) MailHandover(ctx context.Context, a usecase.Actor, reference string) (api.Handover, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Handover, error) {
		none := api.Handover{}
		number, err := usecase.FindAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		out, l, err := s.handover(ctx, tx.Queries, number)
		if err != nil {
			return none, err
		}
		if l.To == "" {
			return none, refusal.New(refusal.WrongState, "%s has no contact address; give them one first", out.Customer)
		}
		a.Summarize("mail the handover sheet of %s to %s", out.Account, l.To)
		if err := s.notify.QueueMail(ctx, tx, l); err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		return out, usecase.Record(ctx, tx, a, "handover.mail", usecase.AboutAccount(account), nil,
			map[string]string{"to": l.To})
	})
}
