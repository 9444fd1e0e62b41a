package networks_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/networks"
)

func TestPublic(t *testing.T) {
	for address, want := range map[string]bool{"203.0.113.9": true, "2001:db8::9": true, "127.0.0.1": false,
		"::1": false, "10.1.2.3": false, "::ffff:10.1.2.3": false, "169.254.169.254": false, "fe80::1": false,
		"fd00::1": false, "0.0.0.0": false, "0.1.2.3": false, "100.64.0.1": false, "64:ff9b::a00:1": false,
		"2002:a00:1::": false, "224.0.0.1": false, "255.255.255.255": false} {
		assert.Equal(t, want, networks.Public(netip.MustParseAddr(address)), address)
	}
}

func TestOfSubscriber(t *testing.T) {
	for address, want := range map[string]string{"203.0.113.9": "203.0.113.9/32",
		"::ffff:203.0.113.9": "203.0.113.9/32",
		"2001:db8:1:2:3::4":  "2001:db8:1:2::/64", "fe80::1%eth0": "fe80::/64"} {
		assert.Equal(t, want, networks.OfSubscriber(netip.MustParseAddr(address)).String(), address)
	}
}
