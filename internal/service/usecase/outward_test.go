package usecase_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// Others than operators have the service call the public network, and our own servers.
func TestMayCall(t *testing.T) {
	b := servicetest.New(t)
	b.Server("skua")
	row, err := b.Store.ServerByLabel(t.Context(), "skua")
	require.NoError(t, err)
	customer := b.Customer("Tern Ferries", "")
	for address, ok := range map[string]bool{"192.0.2.7": true, "2001:db8::7": true, "127.0.0.1": false,
		"10.1.2.3":         false,
		"::ffff:127.0.0.1": false, "169.254.169.254": false, "fd00::1": false, "::1": false, "0.0.0.0": false,
		usecase.AddressesOf(row)[0]: true} {
		err := b.Base.MayCall(t.Context(), customer, netip.MustParseAddr(address))
		if ok {
			assert.NoError(t, err, address)
		} else {
			assert.ErrorIs(t, err, usecase.ErrInner, address)
		}
		assert.NoError(t, b.Base.MayCall(t.Context(), b.Operator, netip.MustParseAddr(address)))
	}
}
