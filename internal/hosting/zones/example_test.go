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

// A domain with mailboxes is led to the server that has them; what people have set themselves wins.
func ExampleDerive_mail() {
	records := zones.Derive(zones.Facts{
		Zone: "ferries.example",
		Mail: []zones.Exchange{{Domain: "ferries.example", Server: "mx1.ternisland.example"},
			{Domain: "crew.ferries.example", Server: "mx1.ternisland.example"}},
	})
	own := zones.Own{ID: 1, Record: zones.Record{Name: "@", Type: zones.MX, TTL: 3600, Data: "10 mx.provider.test."}}
	for _, r := range zones.InForce(zones.Merge(records, []zones.Own{own})) {
		fmt.Println(r.Name, r.Type, r.Data)
	}
	// Output:
	// @ MX 10 mx.provider.test.
	// crew MX 10 mx1.ternisland.example.
}
