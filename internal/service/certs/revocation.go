package certs

import (
	"context"
	"crypto/x509"
	"strings"

	"victualler/internal/acme"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// RevokeCertificate has an authority revoke a certificate. The one in use is used no longer, and
// the next is ordered at once.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) RevokeCertificate(ctx context.Context, a usecase.Actor, reference, name string,
	in api.Revocation) (api.Started, error) {
	if answer, repeated, err := usecase.StoredAnswer[api.Started](ctx, s.Base, s.Store.Queries, a); err != nil ||
		repeated {
		return answer, err
	}
	none := api.Started{}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	reason, err := certificates.ParseReason(in.Reason)
	if err != nil {
		return none, err
	}
	if err := checkCertificatesAllowed(ctx, s.Store.Queries, a, c); err != nil { // before the authority hears of it
		return none, err
	}
	row, err := s.toRevoke(ctx, c, in.Serial)
	if err != nil {
		return none, err
	}
	if a.Preview == nil {
		if err := s.revokeAt(ctx, row, reason); err != nil {
			return none, err
		}
	}
	return withCertificateTx(ctx, s, a, c, func(tx store.Tx, c siteCertificate) (api.Started, error) {
		a.Summarize("have %s revoked (%s)", row.Serial, reason.Means)
		if err := tx.RevokeCertificate(ctx, row.ID); err != nil {
			return none, err
		}
		words := map[string]any{"domain": c.domain.Name, "serial": row.Serial, "reason": reason.Word}
		if err := usecase.Record(ctx, tx, a, "certificate.revoke", usecase.AboutAccount(c.entitlement.Account), nil,
			words); err != nil {
			return none, err
		}
		if c.inUse == nil || c.inUse.ID != row.ID {
			return none, nil
		}
		a.Note("the site shows a self-signed certificate until the next one is there; it is ordered at once")
		p := db.ChangeSiteCertificateParams{DomainID: c.domain.ID, Mode: c.config.Mode, Names: c.config.Names,
			KeyType: c.config.KeyType, AuthorityID: c.config.AuthorityID, DueAt: s.Now()}
		if _, err := tx.ChangeSiteCertificate(ctx, p); err != nil { // the key is not kept: PinKey is off
			return none, err
		}
		operation, err := s.rollout.ApplyAccounts(ctx, tx, a, "certificate.revoke",
			usecase.AboutAccount(c.entitlement.Account), []int64{c.entitlement.Account.ID})
		return api.Started{Operation: operation}, err
	})
}

// toRevoke finds the certificate of a site that is to be revoked: the
// one in use, or another one of ours.
func (s *Service) toRevoke(ctx context.Context, c siteCertificate, serial string) (db.Certificate, error) {
	row := db.Certificate{}
	switch {
	case serial != "":
		var err error
		row, err = s.Store.CertificateBySerial(ctx, db.CertificateBySerialParams{DomainID: c.domain.ID,
			Serial: strings.ToLower(strings.ReplaceAll(strings.TrimSpace(serial), ":", ""))})
		if store.None(err) {
			return row, refusal.Input("serial", "%s has no certificate %s and had none", usecase.Unicode(c.domain.Name),
				serial)
		}
		if err != nil {
			return row, err
		}
	case c.inUse == nil:
		return row, noneInUse(c)
	default:
		row = *c.inUse
	}
	switch {
	case row.AuthorityID == nil:
		return row, refusal.New(refusal.WrongState, "this certificate was brought: have its authority revoke it "+
			"where it was bought, and install another one, or have one ordered (mode: automatic)")
	case row.State == "revoked":
		return row, refusal.New(refusal.WrongState, "this certificate is revoked already")
	}
	return row, nil
}

func (s *Service) revokeAt(ctx context.Context, row db.Certificate, reason certificates.Reason) error {
	return s.withIssuer(ctx, row, func(client *acme.Client, leaf *x509.Certificate, authority db.Authority) error {
		if err := client.Revoke(ctx, leaf, reason.Code); err != nil {
			if why := acme.Reason(err); why.Kind != "alreadyRevoked" {
				return refusal.New(refusal.WrongState, "%s does not revoke it: %s. Nothing was changed", authority.Name,
					why.Detail)
			}
		}
		return nil
	})
}
