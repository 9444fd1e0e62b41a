package usecase

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"victualler/internal/hosting/networks"
	"victualler/internal/hosting/rights"
)

// ErrInner is for addresses that others than operators must not have the service call.
var ErrInner = errors.New("its address is not one of the public network")

// MayCall returns [ErrInner] for an address that somebody else has
// chosen, if the actor may not have the service call it: operators may
// have it call anything, others what is public, or a server of ours.
func (s *Base) MayCall(ctx context.Context, a Actor, address netip.Addr) error {
	if a.Role == rights.Operator || networks.Public(address) {
		return nil
	}
	rows, err := s.Store.Servers(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if slices.Contains(AddressesOf(row.Server), address.Unmap().String()) {
			return nil
		}
	}
	return ErrInner
}
