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

// Mail of a domain is led to its server, and others are told how to know it; what people have set
// themselves wins.
func ExampleDerive_mail() {
	records := zones.Derive(zones.Facts{
		Zone: "ferries.example",
		Mail: []zones.MailDomain{{Domain: "ferries.example", Server: "mx1.ternisland.example", OwnMX: true},
			{Domain: "crew.ferries.example", Server: "mx1.ternisland.example",
				Keys: []zones.MailKey{{Selector: "k1", Text: "v=DKIM1; k=rsa; p=MIIB"}}}},
	})
	own := []zones.Own{
		{ID: 1, Record: zones.Record{Name: "@", Type: zones.MX, TTL: 3600, Data: "10 mx.provider.test."}},
		{ID: 2, Record: zones.Record{Name: "crew", Type: zones.TXT, TTL: 3600, Data: `"a text for somebody else"`}},
		{ID: 3, Record: zones.Record{Name: "_dmarc.crew", Type: zones.TXT, TTL: 3600, Data: `"v=DMARC1; p=reject"`}},
	}
	for _, r := range zones.InForce(zones.Merge(records, own)) {
		fmt.Println(r.Name, r.Type, r.Data)
	}
	// Output:
	// @ MX 10 mx.provider.test.
	// @ TXT "v=spf1 a:mx1.ternisland.example mx ?all"
	// _dmarc.crew TXT "v=DMARC1; p=reject"
	// _imaps._tcp.crew SRV 0 1 993 mx1.ternisland.example.
	// _pop3s._tcp.crew SRV 0 1 995 mx1.ternisland.example.
	// _submissions._tcp.crew SRV 0 1 465 mx1.ternisland.example.
	// crew MX 10 mx1.ternisland.example.
	// crew TXT "a text for somebody else"
	// crew TXT "v=spf1 a:mx1.ternisland.example ~all"
	// k1._domainkey.crew TXT "v=DKIM1; k=rsa; p=MIIB"
	// mail.crew CNAME mx1.ternisland.example.
}
