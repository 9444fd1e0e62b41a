package certs

import (
	"context"
	"crypto/x509"

	"victualler/internal/acme"
	"victualler/internal/hosting/certificates"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// CheckRenewals asks authorities when the certificates that are in use
// should be renewed (RFC 9773).
func (s *Service) CheckRenewals(ctx context.Context) error {
	s.settleAccountKeys(ctx)
	now := s.Now()
	due, err := s.Store.CertificatesToAskAbout(ctx, &now)
	if err != nil {
		return err
	}
	usecase.Concurrently(maxConcurrentOrders, due, func(row db.Certificate) {
		if err := s.checkRenewal(ctx, row); err != nil && ctx.Err() == nil {
			s.Log.Warn("authority not asked when to renew", "certificate", row.ID, "reason", err)
		}
	})
	return nil
}

// withIssuer does something with the authority that has issued a certificate.
func (s *Service) withIssuer(ctx context.Context, row db.Certificate,
	do func(client *acme.Client, leaf *x509.Certificate, authority db.Authority) error) error {
	authority, err := s.Store.AuthorityByID(ctx, *row.AuthorityID)
	if err != nil {
		return err
	}
	leaf, err := leafOf(row.Chain)
	if err != nil {
		return err
	}
	client, err := s.authorityAt(authority)
	if err != nil {
		return err
	}
	defer client.Close()
	return do(client, leaf, authority)
}

func (s *Service) checkRenewal(ctx context.Context, row db.Certificate) error {
	again := s.Now().Add(certificates.Recheck) // until it answers, what was known counts
	told := db.SaveRenewalParams{ID: row.ID, RenewAt: row.RenewAt, AskAt: &again, Explanation: row.Explanation}
	err := s.withIssuer(ctx, row, func(client *acme.Client, leaf *x509.Certificate, _ db.Authority) error {
		says, err := client.Renewal(ctx, leaf)
		switch {
		case err != nil:
			return err
		case says == nil: // it never says
			told.AskAt, told.Explanation = nil, ""
		default:
			at := certificates.RenewAt(row.NotBefore, row.NotAfter, &says.Window, row.Serial)
			again = s.Now().Add(says.RetryAfter)
			told.RenewAt, told.Explanation = &at, says.Explanation
		}
		return nil
	})
	if stored := s.Store.SaveRenewal(ctx, told); stored != nil || told.RenewAt == nil {
		return stored
	}
	if stored := s.Store.ScheduleCertificateBy(ctx, db.ScheduleCertificateByParams{DomainID: row.DomainID,
		DueAt: *told.RenewAt}); stored != nil {
		return stored
	}
	return err
}
