package zones

import (
	"fmt"
	"slices"
	"strings"
	"victualler/internal/hosting/language"
)

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
	seen := NewDraft(zone, nil, nil)
	for _, r := range list {
		again, _, err := Parse(zone, Typed{Name: r.Name, Type: string(r.Type), Data: r.Data, TTL: r.TTL})
		if err == nil && again != r {
			err = language.Errorf("it would be read as %s", again)
		}
		if err == nil {
			err = seen.Admit(r)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", r, err)
		}
		seen.Add(r)
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
