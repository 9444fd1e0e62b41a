package manifest

import (
	"errors"
	"fmt"

	"victualler/internal/hosting/names"
	"victualler/internal/hosting/zones"
)

// Zone is one zone that the account's DNS answers for.
type Zone struct {
	// Name is in A-labels, without a dot at its end.
	Name string `json:"name"`
	// Signed asks for DNSSEC (RFC 4033): the name server makes keys and signs.
	Signed bool `json:"signed,omitempty"`
	// NameServers are the names under which the zone's servers are known, at least one.
	NameServers []string `json:"name_servers"`
	// Records are all but SOA, the zone's own NS records, and what signing adds.
	Records []zones.Record `json:"records"`
}

func checkZones(list []Zone) error {
	var errs []error
	seen := map[string]bool{}
	for _, z := range list {
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("zone %q: "+format, append([]any{z.Name}, args...)...))
		}
		if d, _, err := names.ParseDomain(z.Name); err != nil || d.String() != z.Name {
			wrong("is no domain in its final form")
			continue
		}
		if seen[z.Name] {
			wrong("is listed twice")
		}
		seen[z.Name] = true
		if len(z.NameServers) == 0 {
			wrong("has no name servers")
		}
		for _, n := range z.NameServers {
			if d, _, err := names.ParseDomain(n); err != nil || d.String() != n {
				wrong("%q is no name server's name", n)
			}
		}
		if err := zones.Check(z.Name, z.Records); err != nil {
			wrong("%w", err)
		}
	}
	return errors.Join(errs...)
}
