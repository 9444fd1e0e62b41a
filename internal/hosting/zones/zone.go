package zones

import (
	"fmt"
	"slices"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Admit refuses a record that cannot stand beside those that a zone has already: the same once
// more, an alias beside others (RFC 1034, section 3.6.2), another time to live within a set (RFC
// 2181, section 5.2), or one below a delegation.
func Admit(zone string, present []Record, r Record) error {
	for _, other := range present {
		if other.Name != r.Name {
			if err := shadowed(zone, other, r); err != nil {
				return err
			}
			continue
		}
		switch {
		case other.Type == r.Type && other.Data == r.Data:
			return refusal.New(refusal.NameTaken, "%s has this %s record already", Absolute(zone, r.Name),
				r.Type).On("data")
		case r.Type == CNAME && other.Type == CNAME:
			return refusal.Input("data", "%s is another name for %s already; a name can be that of one only",
				Absolute(zone, r.Name), other.Data)
		case r.Type == CNAME:
			return refusal.Input("type", "%s has a %s record; a name that is another name for something can have no "+
				"other records (RFC 1034, section 3.6.2)", Absolute(zone, r.Name), other.Type)
		case other.Type == CNAME:
			return refusal.Input("name", "%s is another name for %s, and can have no other records (RFC 1034, "+
				"section 3.6.2); remove that first", Absolute(zone, r.Name), other.Data)
		case other.Type == r.Type && other.TTL != r.TTL:
			return refusal.Input("ttl", "the other %s records of %s have a time to live of %d; all of a set have the "+
				"same (RFC 2181, section 5.2)", r.Type, Absolute(zone, r.Name), other.TTL)
		case (other.Type == NS) != (r.Type == NS) && r.Name != "@":
			return refusal.Input("name", "%s is delegated to other name servers, where its records belong",
				Absolute(zone, r.Name))
		}
	}
	if r.Type == MX || r.Type == NS || r.Type == SRV {
		if alias, is := aliased(zone, present, r); is {
			return refusal.Input("data", "%s is another name for something; %s records lead to a name with addresses "+
				"of its own (RFC 2181, section 10.3)", alias, r.Type)
		}
	}
	return nil
}

// shadowed refuses records below a name that is delegated: nobody would ask for them here.
// Addresses of name servers may be there.
func shadowed(zone string, other, r Record) error {
	switch {
	case other.Type == NS && other.Name != "@" && strings.HasSuffix(r.Name, "."+other.Name) && r.Type != A &&
		r.Type != AAAA:
		return refusal.Input("name", "%s is delegated to other name servers, where names below it belong",
			Absolute(zone, other.Name))
	case r.Type == NS && strings.HasSuffix(other.Name, "."+r.Name) && other.Type != A && other.Type != AAAA:
		return refusal.Input("name", "%s has records here and lies below %s; they would be lost with the delegation",
			Absolute(zone, other.Name), Absolute(zone, r.Name))
	}
	return nil
}

// aliased tells whether what a record leads to is an alias in the same zone.
func aliased(zone string, present []Record, r Record) (string, bool) {
	fields := strings.Fields(r.Data)
	target := fields[len(fields)-1]
	for _, other := range present {
		if other.Type == CNAME && Absolute(zone, other.Name)+"." == target {
			return target, true
		}
	}
	return "", false
}

// Absolute returns the complete name of a record, given relative to its
// zone, without a dot at its end.
func Absolute(zone, name string) string {
	if name == "@" {
		return zone
	}
	return name + "." + zone
}

// Sort puts records into the order in which people read them: the zone
// itself first, then by name, type and data.
func Sort(list []Record) { slices.SortFunc(list, compare) }

func compare(a, b Record) int {
	order := func(t Type) int {
		return slices.IndexFunc(Types, func(x TypeInfo) bool { return x.Type == t })
	}
	switch {
	case a.Name == b.Name && a.Type == b.Type:
		return strings.Compare(a.Data, b.Data)
	case a.Name == b.Name:
		return order(a.Type) - order(b.Type)
	case a.Name == "@":
		return -1
	case b.Name == "@":
		return 1
	}
	return strings.Compare(a.Name, b.Name)
}

// Check refuses a zone that must not reach a name server: records that
// are not in their final form, or cannot stand together.
func Check(zone string, list []Record) error {
	var seen []Record
	for _, r := range list {
		again, _, err := Parse(zone, Typed{Name: r.Name, Type: string(r.Type), Data: r.Data, TTL: r.TTL})
		if err == nil && again != r {
			err = fmt.Errorf("it would be read as %s", again)
		}
		if err == nil {
			err = Admit(zone, seen, r)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", r, err)
		}
		seen = append(seen, r)
	}
	return nil
}

// Write writes records as a zone file (RFC 1035, section 5), with the zone as its origin. SOA and
// the zone's own NS records are the name server's to make and are not in it.
func Write(zone string, list []Record) string {
	sorted := slices.Clone(list)
	Sort(sorted)
	var b strings.Builder
	fmt.Fprintf(&b, "$ORIGIN %s.\n$TTL %d\n", zone, UsualTTL)
	for _, r := range sorted {
		fmt.Fprintf(&b, "%s\t%d\tIN\t%s\t%s\n", r.Name, r.TTL, r.Type, r.Data)
	}
	return b.String()
}
