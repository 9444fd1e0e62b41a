package certs

import (
	"context"
	"time"

	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// NotifyExpiring tells people of certificates that end and that nothing has replaced: customers of
// theirs, operators of all in one message. Each is told of at set days left.
//
// Refusals: InvalidInput, MailFailed.
func (s *Service) NotifyExpiring(ctx context.Context) error {
	now := s.Now()
	rows, err := s.Store.ExpiringCertificates(ctx, now.Add(certificates.FirstNotice))
	if err != nil {
		return err
	}
	var told []notices.Ending
	// All in one: cut off anywhere, everybody is told when it is done again.
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		told = nil
		for _, row := range rows {
			days := certificates.Notice(row.NotAfter.Sub(row.NotBefore), row.NotAfter.Sub(now), int(row.ToldDays))
			if days == 0 {
				continue
			}
			e := notices.Ending{Domain: usecase.Unicode(row.Name), At: row.NotAfter, Why: language.Decode(row.Problem),
				Uploaded: row.AuthorityID == nil}
			first, err := s.notifyCustomer(ctx, tx, row, int32(days), e)
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
		return s.notify.Operators(ctx, tx, "certificates end",
			func(language string, from notices.Sender) notices.Notice {
				return notices.CertificatesEnd(language, from, told)
			})
	})
	if err == nil && len(told) > 0 {
		s.Log.Warn("certificates end", "sites", len(told), "first", told[0].Domain, "at",
			told[0].At.Format(time.RFC3339))
	}
	return err
}

// notifyCustomer tells the customer of a site, unless another process has done so.
func (s *Service) notifyCustomer(ctx context.Context, tx store.Tx, row db.ExpiringCertificatesRow, days int32,
	e notices.Ending) (first bool, err error) {
	n, err := tx.MarkExpiryNoticed(ctx, db.MarkExpiryNoticedParams{DomainID: row.DomainID, ToldDays: days})
	if err != nil || n == 0 {
		return false, err
	}
	account, err := tx.Account(ctx, row.AccountID)
	if err != nil {
		return false, err
	}
	if err := usecase.Record(ctx, tx, usecase.System(), "certificate.ends", usecase.AboutAccount(account), nil,
		map[string]any{"domain": row.Name, "ends": row.NotAfter, "days": days,
			"problem": language.Decode(row.Problem).String()}); err != nil {
		return false, err
	}
	return true, s.notify.Customer(ctx, tx, account, "certificate ends",
		func(language string, from notices.Sender) notices.Notice {
			return notices.CertificateEnds(language, from, e)
		})
}
