package zones_test

import (
	"fmt"
	"net/netip"

	"victualler/internal/hosting/zones"
)

// What an account has on servers of ours becomes records.
func ExampleDerive() {
	records := zones.Derive(zones.Facts{
		Zone:        "ferries.example",
		Sites:       []zones.Host{{Name: "ferries.example", Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.7")}}},
		NameServers: []zones.Host{{Name: "ns1.ternisland.example"}},
	})
	for _, r := range records {
		fmt.Println(r.Name, r.Type, r.Data)
	}
	// Output:
	// @ A 192.0.2.7
	// www A 192.0.2.7
}

// A change is right once every authoritative server answers it; resolvers may remember longer.
func ExampleJudge() {
	was, is := []string{"192.0.2.1"}, []string{"192.0.2.7"}
	fmt.Println(zones.Judge(is, [][]string{is, is}, was))
	fmt.Println(zones.Judge(is, [][]string{is, was}, nil))
	// Output:
	// waiting
	// different
}
