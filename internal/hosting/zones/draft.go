package zones

import (
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Draft is a zone to which own records are added one after the other.
// What each of them has to be compared with is found by name, so many
// records are added in a time in proportion to their number.
type Draft struct {
	zone string
	own  int
	// by name of the record, relative to the zone; below by each name above it
	at, below map[string][]member
	// delegated are names with NS records, aliases the whole names with CNAME records, with a dot.
	delegated, aliases map[string]member
}

// member is a record in force. A derived one gives way.
type member struct {
	Record
	derived bool
	why     language.Text
}

// NewDraft returns a draft of a zone as it is.
func NewDraft(zone string, derived []Derived, own []Own) *Draft {
	d := &Draft{zone: zone, at: map[string][]member{}, below: map[string][]member{}, delegated: map[string]member{},
		aliases: map[string]member{}}
	for _, o := range derived {
		d.put(member{o.Record, true, o.Why})
	}
	for _, o := range own {
		d.Add(o.Record)
	}
	return d
}

func (d *Draft) put(m member) {
	d.at[m.Name] = append(d.at[m.Name], m)
	for _, above := range namesAbove(m.Name) {
		d.below[above] = append(d.below[above], m)
	}
	switch {
	case m.Type == NS && m.Name != "@":
		d.delegated[m.Name] = m
	case m.Type == CNAME:
		d.aliases[Absolute(d.zone, m.Name)+"."] = m
	}
}

func (d *Draft) drop(m member) {
	is := func(o member) bool { return o.Record == m.Record && o.derived == m.derived }
	d.at[m.Name] = slices.DeleteFunc(d.at[m.Name], is)
	for _, above := range namesAbove(m.Name) {
		d.below[above] = slices.DeleteFunc(d.below[above], is)
	}
	switch m.Type {
	case CNAME:
		delete(d.aliases, Absolute(d.zone, m.Name)+".")
	case NS:
		delete(d.delegated, m.Name)
	}
}

// namesAbove lists the names above a relative one, but for the zone's own.
func namesAbove(name string) []string {
	var list []string
	for {
		_, rest, found := strings.Cut(name, ".")
		if !found {
			return list
		}
		list, name = append(list, rest), rest
	}
}

// Len is how many own records there are.
func (d *Draft) Len() int { return d.own }

// Has reports whether the zone answers with a record's data already, as an own or as a derived one.
func (d *Draft) Has(r Record) (own, derived bool) {
	for _, m := range d.at[r.Name] {
		if m.Type == r.Type && m.Data == r.Data {
			own, derived = own || !m.derived, derived || m.derived && m.TTL == r.TTL
		}
	}
	return own, derived
}

// StillDerived is the derived address of the other family that a name keeps beside an own one: who
// comes by IPv4 and who comes by IPv6 are led to different places then.
func (d *Draft) StillDerived(r Record) (Derived, bool) {
	other := map[Type]Type{A: AAAA, AAAA: A}[r.Type]
	at := slices.IndexFunc(d.at[r.Name], func(m member) bool { return m.derived && m.Type == other })
	if other == "" || at < 0 {
		return Derived{}, false
	}
	m := d.at[r.Name][at]
	return Derived{Record: m.Record, Why: m.why}, true
}

// TTLOfSet is the time to live of the own records that a record joins, or its own.
func (d *Draft) TTLOfSet(r Record) int64 {
	for _, m := range d.at[r.Name] {
		if !m.derived && m.Type == r.Type {
			return m.TTL
		}
	}
	return r.TTL
}

// Admit refuses an own record that cannot stand beside the own ones there are and the derived ones
// that it leaves in force: the same once more, an alias beside others (RFC 1034, section 3.6.2),
// another time to live within a set (RFC 2181, section 5.2), or one below a delegation.
func (d *Draft) Admit(r Record) error {
	stays := func(m member) bool { return !m.derived || !overrules(r, m.Record) }
	for _, above := range namesAbove(r.Name) {
		if m, is := d.delegated[above]; is && stays(m) && r.Type != A && r.Type != AAAA {
			return refusal.Input("name", "%s is delegated to other name servers, where names below it belong",
				Absolute(d.zone, above))
		}
	}
	if r.Type == NS {
		for _, m := range d.below[r.Name] {
			if stays(m) && m.Type != A && m.Type != AAAA {
				return refusal.Input("name", "%s has records here and lies below %s; they would be lost with the "+
					"delegation", Absolute(d.zone, m.Name), Absolute(d.zone, r.Name))
			}
		}
	}
	for _, m := range d.at[r.Name] {
		if !stays(m) {
			continue
		}
		if err := beside(d.zone, m, r); err != nil {
			return err
		}
	}
	if r.Type == MX || r.Type == NS || r.Type == SRV {
		fields := strings.Fields(r.Data)
		target := fields[len(fields)-1]
		if m, is := d.aliases[target]; is && stays(m) {
			return refusal.Input("data", "%s is another name for something; %s records lead to a name with addresses "+
				"of its own (RFC 2181, section 10.3)", target, r.Type)
		}
	}
	return nil
}

// beside refuses a record that cannot stand beside another one of its name.
func beside(zone string, other member, r Record) error {
	name := Absolute(zone, r.Name)
	switch {
	case other.Type == r.Type && other.Data == r.Data:
		return refusal.New(refusal.NameTaken, "%s has this %s record already", name, r.Type).On("data")
	case r.Type == CNAME && other.Type == CNAME:
		return refusal.Input("data", "%s is another name for %s already; a name can be that of one only", name,
			other.Data)
	case r.Type == CNAME:
		return refusal.Input("type", "%s has a %s record; a name that is another name for something can have no "+
			"other records (RFC 1034, section 3.6.2)", name, other.Type)
	case other.Type == CNAME:
		return refusal.Input("name", "%s is another name for %s, and can have no other records (RFC 1034, "+
			"section 3.6.2); remove that first", name, other.Data)
	case other.Type == r.Type && other.TTL != r.TTL && !other.derived: // a derived one follows
		return refusal.Input("ttl", "the other %s records of %s have a time to live of %d; all of a set have the "+
			"same (RFC 2181, section 5.2)", r.Type, name, other.TTL)
	case (other.Type == NS) != (r.Type == NS) && r.Name != "@":
		return refusal.Input("name", "%s is delegated to other name servers, where its records belong", name)
	}
	return nil
}

// Add adds an own record that was admitted, and returns the derived ones that give way to it.
func (d *Draft) Add(r Record) []Derived {
	d.own++
	around := d.at[r.Name]
	if r.Type == NS {
		around = slices.Concat(around, d.below[r.Name])
	}
	var gone []Derived
	for _, m := range slices.Clone(around) {
		if m.derived && overrules(r, m.Record) {
			d.drop(m)
			gone = append(gone, Derived{m.Record, m.why})
		}
	}
	d.put(member{Record: r})
	return gone
}
