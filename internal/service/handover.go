package service

import (
	"context"
	"net"

	"victualler/internal/api"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// onSheet are the limits that people ask for first.
var onSheet = []plans.Key{plans.Disk, plans.Traffic, plans.Domains, plans.Mailboxes, plans.Databases}

// Handover returns what the customer of an account needs to know to start.
func (s *Service) Handover(ctx context.Context, a Actor, reference string) (api.Handover, error) {
	number, err := findAccount(ctx, s.store.Queries, a, reference)
	if err != nil {
		return api.Handover{}, err
	}
	out, _, err := s.handover(ctx, s.store.Queries, number)
	return out, err
}

func (s *Service) handover(ctx context.Context, q *db.Queries, number int64) (api.Handover, letter, error) {
	none := api.Handover{}
	row, err := q.AccountRow(ctx, number)
	if err != nil {
		return none, letter{}, err
	}
	if row.State == "closed" {
		return none, letter{}, refusal.New(refusal.WrongState, "%s is closed; there is nothing to hand over", row.SignInName)
	}
	account, err := q.Account(ctx, number)
	if err != nil {
		return none, letter{}, err
	}
	customer, err := q.CustomerByID(ctx, row.CustomerID)
	if err != nil {
		return none, letter{}, err
	}
	server, err := q.ServerByID(ctx, row.ServerID)
	if err != nil {
		return none, letter{}, err
	}
	settings, err := q.Settings(ctx)
	if err != nil {
		return none, letter{}, err
	}
	st, err := s.standingOf(ctx, q, account)
	if err != nil {
		return none, letter{}, err
	}
	from, senderName, senderAt, err := s.senderFor(ctx, q, row.ResellerID)
	if err != nil {
		return none, letter{}, err
	}
	domains, err := q.DomainsOfAccount(ctx, number)
	if err != nil {
		return none, letter{}, err
	}
	people, err := q.People(ctx, db.PeopleParams{OfCustomer: customer.ID, Most: 50})
	if err != nil {
		return none, letter{}, err
	}
	out := api.Handover{Account: row.SignInName, Customer: customer.Name, Language: customer.Language, From: from.Title, Footer: from.Footer, Domains: []string{}, Addresses: addressesOf(server),
		NameServers: []string{}, Console: settings.Console, People: []string{}, Plan: row.Plan, Limits: []api.HandoverLimit{}}
	allowance := st.allowance()
	if allowance.Features["dns"].On {
		out.NameServers = nonNil(settings.NameServers)
	}
	for _, d := range domains {
		out.Domains = append(out.Domains, unicode(d.Name))
	}
	if len(out.Domains) == 0 {
		out.Domains = []string{unicode(row.MainDomain)}
	}
	for _, p := range people {
		out.People = append(out.People, p.Name)
	}
	sheet := notices.Sheet{Customer: out.Customer, Account: out.Account, Console: out.Console, Plan: out.Plan, Domains: out.Domains, Addresses: out.Addresses,
		NameServers: out.NameServers, People: out.People}
	for _, key := range onSheet {
		info, _ := plans.Info(key)
		l := api.HandoverLimit{What: info.What, Value: allowance.Limits[key].Format(info.Unit)}
		out.Limits = append(out.Limits, l)
		sheet.Limits = append(sheet.Limits, notices.LimitName(customer.Language, key, info.What)+": "+notices.Amount(customer.Language, l.Value))
	}
	if customer.Email != nil {
		out.To = *customer.Email
	}
	out.Text = sheet.Text(customer.Language)
	return out, letter{kind: "handover sheet", to: out.To, language: customer.Language, customer: &customer.ID, reseller: row.ResellerID, senderName: senderName, senderAt: senderAt,
		notice: notices.Handover(customer.Language, from, sheet)}, nil
}

// addressesOf is where a server's sites are found.
func addressesOf(server db.Server) []string {
	if len(server.Addresses) > 0 {
		return server.Addresses
	}
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return []string{server.Address}
	}
	return []string{host}
}

// MailHandover mails the handover sheet to the customer.
func (s *Service) MailHandover(ctx context.Context, a Actor, reference string) (api.Handover, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Handover, error) {
		none := api.Handover{}
		number, err := findAccount(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		out, l, err := s.handover(ctx, tx.Queries, number)
		if err != nil {
			return none, err
		}
		if l.to == "" {
			return none, refusal.New(refusal.WrongState, "%s has no contact address; give them one first", out.Customer)
		}
		a.say("mail the handover sheet of %s to %s", out.Account, l.to)
		if err := s.post(ctx, tx, l); err != nil {
			return none, err
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return none, err
		}
		return out, record(ctx, tx, a, "handover.mail", aboutAccount(account), nil, map[string]string{"to": l.to})
	})
}
