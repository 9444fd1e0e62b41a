package service

import (
	"context"
	"time"

	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// TellRunningOut tells people of certificates that end and that nothing has replaced: customers of theirs, operators of all in one message. Each is told of at set days left.
func (s *Service) TellRunningOut(ctx context.Context) error {
	now := s.now()
	rows, err := s.store.CertificatesRunningOut(ctx, now.Add(certificates.FirstNotice))
	if err != nil {
		return err
	}
	var told []notices.Ending
	// All in one: cut off anywhere, everybody is told when it is done again.
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		told = nil
		for _, row := range rows {
			days := certificates.Notice(row.NotAfter.Sub(row.NotBefore), row.NotAfter.Sub(now), int(row.ToldDays))
			if days == 0 {
				continue
			}
			e := notices.Ending{Domain: unicode(row.Name), At: row.NotAfter, Why: row.Problem, Brought: row.AuthorityID == nil}
			first, err := s.tellCustomer(ctx, tx, row, int32(days), e)
			if err != nil {
				return err
			}
			if first {
				told = append(told, e)
			}
		}
		if len(told) == 0 {
			return nil
		}
		return s.tellOperators(ctx, tx, told)
	})
	if err == nil && len(told) > 0 {
		s.log.Warn("certificates end", "sites", len(told), "first", told[0].Domain, "at", told[0].At.Format(time.RFC3339))
	}
	return err
}

// tellCustomer tells the customer of a site, unless another process has done so.
func (s *Service) tellCustomer(ctx context.Context, tx store.Tx, row db.CertificatesRunningOutRow, days int32, e notices.Ending) (first bool, err error) {
	n, err := tx.ToldOfCertificate(ctx, db.ToldOfCertificateParams{DomainID: row.DomainID, ToldDays: days})
	if err != nil || n == 0 {
		return false, err
	}
	account, err := tx.Account(ctx, row.AccountID)
	if err != nil {
		return false, err
	}
	if err := record(ctx, tx, machine(), "certificate.ends", aboutAccount(account), nil, map[string]any{"domain": row.Name, "ends": row.NotAfter, "days": days, "problem": row.Problem}); err != nil {
		return false, err
	}
	customer, err := tx.CustomerByID(ctx, account.CustomerID)
	if err != nil || customer.Email == nil {
		return true, err
	}
	from, name, address, err := s.senderFor(ctx, tx.Queries, account.ResellerID)
	if err != nil {
		return false, err
	}
	return true, unlessNoMail(s.post(ctx, tx, letter{kind: "certificate ends", to: *customer.Email, language: customer.Language, customer: &customer.ID, reseller: account.ResellerID, senderName: name, senderAt: address,
		notice: notices.CertificateEnds(customer.Language, from, e)}))
}

// tellOperators sends one message to each operator who has an address.
func (s *Service) tellOperators(ctx context.Context, tx store.Tx, told []notices.Ending) error {
	people, err := tx.OperatorsWithMail(ctx)
	if err != nil {
		return err
	}
	from, name, address, err := s.senderFor(ctx, tx.Queries, nil)
	if err != nil {
		return err
	}
	for _, p := range people {
		err := s.post(ctx, tx, letter{kind: "certificates end", to: *p.Email, language: p.Language, senderName: name, senderAt: address, notice: notices.CertificatesEnd(p.Language, from, told)})
		if err := unlessNoMail(err); err != nil {
			return err
		}
	}
	return nil
}

// unlessNoMail takes it that no mail goes out from here yet: what was to be told is on record all the same.
func unlessNoMail(err error) error {
	if refusal.Is(err, refusal.MailFailed) {
		return nil
	}
	return err
}
