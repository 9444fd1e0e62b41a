// Package networks knows which addresses are those of the public network, and which are of one
// subscriber.
package networks

import (
	"net/netip"
	"slices"
)

// special are networks that nobody reaches from outside, or that lead to such
// (RFC 6890), beyond those that netip knows of.
var special = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"),
}

// Public reports whether an address is one of the public network: not loopback, not link-local, not
// private, and nothing that leads to these.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsGlobalUnicast() && !a.IsPrivate() && !slices.ContainsFunc(special, func(p netip.Prefix) bool {
		return p.Contains(a)
	})
}

// OfSubscriber is what of an address counts as one: an IPv4 address, or the IPv6 network of which
// one subscriber has all addresses (RFC 6177).
func OfSubscriber(a netip.Addr) netip.Prefix {
	a = a.Unmap().WithZone("")
	if a.Is4() {
		return netip.PrefixFrom(a, 32)
	}
	return netip.PrefixFrom(a, 64).Masked()
}
