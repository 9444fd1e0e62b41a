package dns_test

import "victualler/internal/hosting/zones"

func recordOf(name, kind string, ttl int64, data string) zones.Record {
	return zones.Record{Name: name, Type: zones.Type(kind), TTL: ttl, Data: data}
}
