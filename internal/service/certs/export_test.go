package certs

import (
	"context"

	"victualler/internal/hosting/certificates"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AuthorityClient is what orders ask of an authority.
type AuthorityClient = authorityClient

// ConnectTo has the service take a client for each authority.
func (s *Service) ConnectTo(client AuthorityClient) {
	s.connect = func(db.Authority) (authorityClient, error) { return client, nil }
}

// PlaceOrder puts an order for all names of a site on record, as it is
// when the rehearsal has let them pass, and returns its number.
func (s *Service) PlaceOrder(ctx context.Context, domainID int64, ways string) (int64, error) {
	site, err := s.loadSiteCertificate(ctx, s.Store.Queries, domainID)
	if err != nil {
		return 0, err
	}
	key, err := s.keyForOrder(site)
	if err != nil {
		return 0, err
	}
	var id int64
	return id, s.Store.InTx(ctx, func(tx store.Tx) error {
		account := site.entitlement.Account
		operation, err := usecase.AddOperation(ctx, tx, usecase.System(), db.AddOperationParams{
			Kind: "certificate.order", Subject: site.domain.Name, AccountID: &account.ID, ServerID: &account.ServerID})
		if err != nil {
			return err
		}
		order, err := tx.AddOrder(ctx, db.AddOrderParams{DomainID: domainID, AuthorityID: site.authority.ID,
			OperationID: operation, Names: site.names(), LeftOut: []byte("[]"), Key: key, Ways: []byte(ways),
			KeyType: string(certificates.KeyTypes[0])})
		id = order.ID
		return err
	})
}
