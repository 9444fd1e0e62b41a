package knot

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
	"github.com/pmezard/go-difflib/difflib"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/zones"
	"victualler/internal/manifest"
)

// Zones keeps the records of zones in the running Knot, in transactions of
// its own: a zone changes as a whole or not at all. There are no zone files.
// Knot signs what is set, counts the serial, and tells the secondaries.
type Zones struct {
	mu sync.Mutex // Knot holds one conversation at a time
}

// Name implements agent.Content.
func (*Zones) Name() string { return "zones" }

// Concerns implements agent.Content.
func (*Zones) Concerns(m manifest.Manifest) bool { return len(m.Zones) > 0 }

// Check implements agent.Content.
func (z *Zones) Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	if len(m.Zones) == 0 {
		return nil, nil
	}
	var drifts []agentlink.Drift
	err := z.talk(ctx, func(c *control) error {
		for _, zone := range m.Zones {
			found, err := read(c, zone.Name)
			if err != nil {
				return err
			}
			wanted, err := wantedRecords(zone, 0)
			if err != nil {
				return err
			}
			unset, set := differences(found, wanted, zone.Signed)
			if len(unset)+len(set) == 0 {
				continue
			}
			what := language.New("holds other records than it should")
			if len(found) == 0 {
				what = language.New("has no records")
			}
			drifts = append(drifts, agentlink.Drift{Part: z.Name(), Subject: zone.Name, Detail: what.Encode(),
				Diff: diff(found, wanted, zone.Signed)})
		}
		return nil
	})
	return drifts, err
}

// Ensure implements agent.Content.
func (z *Zones) Ensure(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	changed, records := 0, 0
	if len(m.Zones) == 0 {
		return language.New("removed"), nil
	}
	err := z.talk(ctx, func(c *control) error {
		for _, zone := range m.Zones {
			n, err := ensure(c, zone)
			if err != nil {
				return err
			}
			changed += n
			records += len(zone.Records)
		}
		return nil
	})
	if err != nil {
		return language.Text{}, err
	}
	if changed == 0 {
		return language.New("as they should be"), nil
	}
	return language.New("%d set or taken away; %d records in %s", changed, records, zonesOf(m)), nil
}

// Forget implements agent.Content: what Knot keeps of a zone that it no
// longer has, keys among it, goes.
func (z *Zones) Forget(ctx context.Context, m, last manifest.Manifest) error {
	gone := without(last.Zones, m.Zones)
	if len(gone) == 0 {
		return nil
	}
	return z.talk(ctx, func(c *control) error {
		for _, name := range gone {
			// F: without asking; o: though it is in no configuration.
			if _, err := c.ask(unit{itemCommand: "zone-purge", itemFlags: "F", itemZone: name,
				itemFilters: "o"}); err != nil && !errors.Is(err, errNoZone) {
				return err
			}
		}
		return nil
	})
}

func (z *Zones) talk(ctx context.Context, fn func(*control) error) error {
	z.mu.Lock()
	defer z.mu.Unlock()
	c, err := dialControl(ctx)
	if err != nil {
		return err
	}
	defer c.close()
	return fn(c)
}

// found is one record in the form in which records are compared.
type found struct {
	owner, kind, data string
	ttl               uint32
	// wire is the record's name, type and data in wire form; equal records have equal ones.
	wire string
}

// made are types that signing adds (RFC 4034, RFC 5155, RFC 7344).
var made = []string{"RRSIG", "NSEC", "NSEC3", "NSEC3PARAM", "DNSKEY", "CDS", "CDNSKEY"}

// read returns all records of a zone as Knot has them; none of one that has no records yet.
func read(c *control, zone string) ([]found, error) {
	units, err := c.ask(unit{itemCommand: "zone-read", itemZone: zone})
	if err != nil {
		if errors.Is(err, errNoZone) || strings.Contains(err.Error(), "empty zone") {
			return nil, nil
		}
		return nil, err
	}
	var list []found
	for _, u := range units {
		ttl, err := strconv.ParseUint(u[itemTTL], 10, 32)
		if err != nil {
			return nil, fmt.Errorf("Knot tells a time to live of %q for %s", u[itemTTL], u[itemOwner])
		}
		f, err := foundOf(u[itemOwner], u[itemType], u[itemData], uint32(ttl))
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, nil
}

// foundOf puts a record into the form in which records are compared.
// The serial of an SOA record is Knot's own.
func foundOf(owner, kind, data string, ttl uint32) (found, error) {
	f := found{owner: strings.ToLower(owner), kind: kind, data: data, ttl: ttl}
	if slices.Contains(made, kind) {
		return f, nil
	}
	rr, err := dns.NewRR(fmt.Sprintf("%s 0 IN %s %s", owner, kind, data))
	if err != nil || rr == nil {
		return f, fmt.Errorf("%s %s %s cannot be read: %w", owner, kind, data, err)
	}
	if soa, is := rr.(*dns.SOA); is {
		soa.Serial = 0
	}
	buffer := make([]byte, 1<<16)
	n, err := dns.PackRR(rr, buffer, 0, nil, false)
	if err != nil {
		return f, fmt.Errorf("%s %s %s cannot be packed: %w", owner, kind, data, err)
	}
	f.wire = strings.ToLower(string(buffer[:n]))
	if kind == "TXT" || kind == "CAA" {
		f.wire = string(buffer[:n])
	}
	return f, nil
}

// wantedRecords returns all records that a zone is to have, but for what signing adds.
func wantedRecords(z manifest.Zone, serial uint32) ([]found, error) {
	soa, ns := zones.Authority(z.Name, z.NameServers, serial)
	var list []found
	for _, r := range slices.Concat([]zones.Record{soa}, ns, z.Records) {
		owner := z.Name + "."
		if r.Name != "@" {
			owner = r.Name + "." + owner
		}
		f, err := foundOf(owner, string(r.Type), r.Data, uint32(r.TTL))
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, nil
}

// differences lists what is to be taken away and what is to be set.
// Signatures of a zone that is to have none count as wrong.
func differences(have, want []found, signed bool) (unset, set []found) {
	key := func(f found) string { return fmt.Sprint(f.ttl, " ", f.wire) }
	there, wanted := map[string]bool{}, map[string]bool{}
	for _, f := range have {
		there[key(f)] = true
	}
	for _, f := range want {
		wanted[key(f)] = true
	}
	for _, f := range have {
		if slices.Contains(made, f.kind) {
			if !signed {
				unset = append(unset, f)
			}
			continue
		}
		if !wanted[key(f)] {
			unset = append(unset, f)
		}
	}
	for _, f := range want {
		if !there[key(f)] {
			set = append(set, f)
		}
	}
	return unset, set
}

// ensure sets a zone's records in one transaction, and returns how many differed.
func ensure(c *control, zone manifest.Zone) (int, error) {
	have, err := read(c, zone.Name)
	if err != nil {
		return 0, err
	}
	want, err := wantedRecords(zone, uint32(time.Now().Unix()))
	if err != nil {
		return 0, err
	}
	unset, set := differences(have, want, zone.Signed)
	if len(unset)+len(set) == 0 {
		return 0, nil
	}
	if _, err := c.ask(unit{itemCommand: "zone-begin", itemZone: zone.Name}); err != nil {
		if errors.Is(err, errNoZone) {
			return 0, fmt.Errorf("Knot has no zone %s: this server has not been told that it is the primary name "+
				"server", zone.Name)
		}
		return 0, err
	}
	for _, step := range transaction(have, want, unset, set) {
		step[itemZone] = zone.Name
		if _, err := c.ask(step); err != nil {
			c.ask(unit{itemCommand: "zone-abort", itemZone: zone.Name})
			return 0, err
		}
	}
	if _, err := c.ask(unit{itemCommand: "zone-commit", itemZone: zone.Name}); err != nil {
		c.ask(unit{itemCommand: "zone-abort", itemZone: zone.Name})
		return 0, err
	}
	return len(unset) + len(set), nil
}

// transaction lists the commands that lead from what is there to what is wanted. A set whose time
// to live changes goes as a whole, as all of a set have the same.
func transaction(have, want, unset, set []found) []unit {
	var steps []unit
	renewed := map[string]bool{}
	for _, f := range unset {
		if slices.ContainsFunc(want, func(w found) bool {
			return w.owner == f.owner && w.kind == f.kind && w.ttl != f.ttl
		}) {
			renewed[f.owner+" "+f.kind] = true
		}
	}
	gone := map[string]bool{}
	for _, f := range unset {
		key := f.owner + " " + f.kind
		step := unit{itemCommand: "zone-unset", itemOwner: f.owner, itemType: f.kind, itemData: f.data}
		if renewed[key] || slices.Contains(made, f.kind) {
			if gone[key] {
				continue
			}
			gone[key] = true
			step[itemData] = ""
		}
		if f.kind == "SOA" {
			continue // the new one takes its place
		}
		steps = append(steps, step)
	}
	for _, f := range want {
		if slices.Contains(set, f) || renewed[f.owner+" "+f.kind] {
			steps = append(steps, unit{itemCommand: "zone-set", itemOwner: f.owner,
				itemTTL: strconv.FormatUint(uint64(f.ttl), 10), itemType: f.kind, itemData: f.data})
		}
	}
	return steps
}

// diff shows how a zone differs, as a unified diff of records, without
// serials and what signing adds.
func diff(have, want []found, signed bool) string {
	text := func(list []found) []string {
		var lines []string
		for _, f := range list {
			data := f.data
			if f.kind == "SOA" {
				if fields := strings.Fields(data); len(fields) == 7 {
					fields[2] = "SERIAL"
					data = strings.Join(fields, " ")
				}
			}
			if signed && slices.Contains(made, f.kind) {
				continue
			}
			lines = append(lines, fmt.Sprintf("%s %d %s %s\n", f.owner, f.ttl, f.kind, data))
		}
		slices.Sort(lines)
		return lines
	}
	out, _ := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: text(have), B: text(want), FromFile: "found",
		ToFile: "wanted", Context: 1})
	return out
}
