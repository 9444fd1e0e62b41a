package zones

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
)

// Facts is what the derived records of a zone follow from.
type Facts struct {
	// Zone is the zone's name in A-labels.
	Zone string
	// Sites are the domains that lead to a server of ours; each has
	// another name, with www. before it.
	Sites []Host
	// Mail are the domains whose mail is with us.
	Mail []MailDomain
	// NameServers are those that answer for the zone. The addresses of
	// one whose name lies within the zone belong into it.
	NameServers []Host
	// Below are zones of their own below this one, which the same name servers answer for.
	Below []string
	// Challenges are what authorities look for just now to prove names (RFC 8555, section 8.4).
	Challenges []Challenge
	// Template is what the zone's template adds to every zone.
	Template []Typed
}

// Host is a name with addresses.
type Host struct {
	// Name is complete, without a dot at its end.
	Name      string
	Addresses []netip.Addr
}

// MailDomain is a domain with its mail; names are complete, without a dot at their ends.
type MailDomain struct {
	Domain string
	// Server takes its mail and sends it.
	Server string
	// Keys are what its messages are signed with.
	Keys []MailKey
	// OwnMX says that records of its own name who takes its mail: others, as a rule, who send it as
	// well.
	OwnMX bool
	// Policy names the policy that says that its mail travels with TLS alone (RFC 8461); empty is
	// none.
	Policy string
}

// MailKey is what publishes a key that mail is signed with (RFC 6376, section 3.6).
type MailKey struct{ Selector, Text string }

// Challenge is a text that an authority looks for under a name, which is complete.
type Challenge struct{ Name, Text string }

// challengeTTL keeps resolvers from remembering what is there for moments.
const challengeTTL = 60

// Derived is a record that follows from what is configured.
type Derived struct {
	Record
	// Why says from what it follows.
	Why language.Text
}

// Derive makes the records that follow from what is configured, without SOA and the zone's own NS
// records, which name servers need only where the zone is served; see [Authority]. A template's
// record gives way to what the sites need.
func Derive(f Facts) []Derived {
	var list []Derived
	add := func(name string, t Type, data string, why language.Text) {
		r := Record{Name: name, Type: t, TTL: UsualTTL, Data: data}
		if !slices.ContainsFunc(list, func(d Derived) bool { return d.Record == r }) {
			list = append(list, Derived{r, why})
		}
	}
	addresses := func(host string, list []netip.Addr, why language.Text) {
		name, inside := Within(f.Zone, host)
		if !inside || slices.ContainsFunc(f.Below, func(b string) bool { _, in := Within(b, host); return in }) {
			return
		}
		for _, a := range list {
			if a.Is4() {
				add(name, A, a.String(), why)
			} else {
				add(name, AAAA, a.String(), why)
			}
		}
	}
	for _, h := range f.Sites {
		addresses(h.Name, h.Addresses, language.New("the site %s", h.Name))
		addresses("www."+h.Name, h.Addresses, language.New("the site %s", h.Name))
	}
	for _, m := range f.Mail {
		for _, r := range mailRecords(m) {
			if r.Type == CNAME && slices.ContainsFunc(f.Sites, func(h Host) bool { return h.Name == r.Name }) {
				continue // a site of that name
			}
			name, inside := Within(f.Zone, r.Name)
			if inside && !slices.ContainsFunc(f.Below, func(b string) bool { _, in := Within(b, r.Name); return in }) {
				add(name, r.Type, r.Data, language.New("the mail of %s", m.Domain))
			}
		}
		if at := slices.IndexFunc(f.Sites, func(h Host) bool { return h.Name == m.Domain }); at >= 0 && !m.OwnMX {
			for _, label := range mail.WebLabels {
				if name := label + "." + m.Domain; !slices.ContainsFunc(f.Sites,
					func(h Host) bool { return h.Name == name }) {
					addresses(name, f.Sites[at].Addresses, language.New("the mail of %s", m.Domain))
				}
			}
		}
	}
	for _, h := range f.NameServers {
		addresses(h.Name, h.Addresses, language.New("the name server %s", h.Name))
	}
	for _, below := range f.Below {
		if name, inside := Within(f.Zone, below); inside && name != "@" {
			for _, h := range f.NameServers {
				add(name, NS, h.Name+".", language.New("the zone %s", below))
			}
		}
	}
	for _, c := range f.Challenges {
		if name, inside := Within(f.Zone, c.Name); inside && !slices.ContainsFunc(f.Below, func(b string) bool {
			_, in := Within(b, c.Name)
			return in
		}) {
			list = append(list, Derived{Record{Name: name, Type: TXT, TTL: challengeTTL, Data: strconv.Quote(c.Text)},
				language.New("the order of a certificate")})
		}
	}
	needed := slices.Clone(list)
	draft := NewDraft(f.Zone, nil, nil)
	for _, d := range needed {
		draft.Add(d.Record)
	}
	for _, typed := range f.Template {
		r, _, err := Parse(f.Zone, typed)
		if err != nil {
			continue // its template was checked with another zone's name; what cannot be here is not
		}
		if slices.ContainsFunc(needed, func(d Derived) bool { return overrules(d.Record, r) }) {
			continue
		}
		if draft.Admit(r) == nil {
			draft.Add(r)
			list = append(list, Derived{r, language.New("the template")})
		}
	}
	return list
}

// mailRecords are the records of a domain's mail, with complete names: where it is taken (RFC 5321,
// section 5.1), who may send it (RFC 7208), what it is signed with (RFC 6376), what is to be done
// with what is neither (RFC 7489), and where mail programs find it (RFC 6186, RFC 8314).
//
// Mail that others send for the domain, such as newsletters, is doubted, and not refused: that they
// may send it is for somebody to say who knows of it, by records of their own.
func mailRecords(m MailDomain) []Record {
	host := m.Server + "."
	others := "~all"
	if m.OwnMX {
		others = "mx ?all"
	}
	list := []Record{{Name: m.Domain, Type: MX, Data: "10 " + host},
		{Name: m.Domain, Type: TXT, Data: quote("v=spf1 a:" + m.Server + " " + others)}}
	for _, k := range m.Keys {
		list = append(list, Record{Name: k.Selector + "._domainkey." + m.Domain, Type: TXT, Data: quoteLong(k.Text)})
	}
	if m.OwnMX {
		return list
	}
	if m.Policy != "" {
		list = append(list, Record{Name: "_mta-sts." + m.Domain, Type: TXT, Data: quote("v=STSv1; id=" + m.Policy)},
			Record{Name: "_smtp._tls." + m.Domain, Type: TXT,
				Data: quote("v=TLSRPTv1; rua=mailto:postmaster@" + m.Domain)})
	}
	list = append(list, Record{Name: mail.ServerLabel + "." + m.Domain, Type: CNAME, Data: host},
		Record{Name: "_dmarc." + m.Domain, Type: TXT, Data: quote("v=DMARC1; p=none")})
	for _, service := range []struct {
		name string
		port int
	}{{"_imaps", 993}, {"_pop3s", 995}, {"_submissions", 465}} {
		list = append(list, Record{Name: service.name + "._tcp." + m.Domain, Type: SRV,
			Data: "0 1 " + strconv.Itoa(service.port) + " " + host})
	}
	return list
}

// Within returns a complete name relative to a zone, if it lies in it.
func Within(zone, name string) (string, bool) {
	if name == zone {
		return "@", true
	}
	return strings.CutSuffix(name, "."+zone)
}

// Entry is one record of a zone with where it comes from.
type Entry struct {
	Record
	// Own says that a person added it; ID is then its number.
	Own bool
	ID  int64
	// Why says from what a derived one follows.
	Why language.Text
	// Overruled says that own records replace a derived one.
	Overruled bool
}

// Own is a record that a person added.
type Own struct {
	Record
	ID int64
}

// Merge puts derived and own records side by side, in the order in
// which people read them. Own ones win.
func Merge(derived []Derived, own []Own) []Entry {
	var list []Entry
	for _, o := range own {
		list = append(list, Entry{Record: o.Record, Own: true, ID: o.ID})
	}
	for _, d := range derived {
		e := Entry{Record: d.Record, Why: d.Why, Overruled: slices.ContainsFunc(own, func(o Own) bool {
			return overrules(o.Record, d.Record)
		})}
		if beside := slices.IndexFunc(own, func(o Own) bool {
			return o.Name == d.Name && o.Type == d.Type
		}); beside >= 0 && !e.Overruled {
			e.TTL = own[beside].TTL // records of one set have one TTL (RFC 2181, section 5.2)
		}
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(a, b Entry) int { return compare(a.Record, b.Record) })
	return list
}

// overrules reports whether an own record leaves no place for a derived one: of the same set, an
// alias for the same name, or a delegation above it.
func overrules(own, derived Record) bool {
	if own.Type == NS && own.Name != "@" && strings.HasSuffix(derived.Name, "."+own.Name) {
		return true
	}
	if own.Name != derived.Name {
		return false
	}
	if own.Type == TXT && derived.Type == TXT && (derived.TTL == challengeTTL || version(own) != version(derived)) {
		// Whoever looks for one finds it among all that are there.
		return false
	}
	return own.Type == derived.Type || own.Type == CNAME || derived.Type == CNAME || own.Type == NS ||
		derived.Type == NS
}

// version is how a text says what it is for, such as v=spf1; empty where it does not.
func version(r Record) string {
	text := strings.ToLower(strings.Trim(r.Data, `"`))
	if !strings.HasPrefix(text, "v=") {
		return ""
	}
	if end := strings.IndexAny(text, "; \""); end > 0 {
		text = text[:end]
	}
	return text
}

// InForce returns what of the entries is served.
func InForce(list []Entry) []Record {
	var served []Record
	for _, e := range list {
		if !e.Overruled {
			served = append(served, e.Record)
		}
	}
	return served
}

// Timers of the SOA record, in seconds (RFC 1035, section 3.3.13; RFC
// 2308, section 5, for the last): followers are told of changes, so they
// ask seldom, and go on answering for two weeks without the primary.
const (
	refreshEvery = 3600
	retryEvery   = 600
	expireAfter  = 14 * 24 * 3600
	negativeTTL  = 300
)

// Authority returns what a zone needs to be served besides its records:
// the data of its SOA record, with the serial given, and its NS records.
// Whoever is in charge is reached as hostmaster (RFC 2142, section 7).
func Authority(zone string, nameServers []string, serial uint32) (soa Record, ns []Record) {
	numbers := ""
	for _, n := range []uint32{serial, refreshEvery, retryEvery, expireAfter, negativeTTL} {
		numbers += " " + strconv.FormatUint(uint64(n), 10)
	}
	soa = Record{Name: "@", Type: "SOA", TTL: UsualTTL, Data: nameServers[0] + ". hostmaster." + zone + "." + numbers}
	for _, n := range nameServers {
		ns = append(ns, Record{Name: "@", Type: NS, TTL: UsualTTL, Data: n + "."})
	}
	return soa, ns
}
