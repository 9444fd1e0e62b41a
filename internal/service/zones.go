package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
	"victualler/internal/hosting/zones"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Where the name service of a zone is.
const (
	here      = "here"
	elsewhere = "elsewhere"
)

// zone is everything that the records hold about one zone, and what follows from the rest.
type zone struct {
	row     db.Zone
	own     []zones.Own
	derived []zones.Derived
	// servers are our name servers, whether or not they answer for this zone.
	servers []zones.Host
}

func (z zone) entries() []zones.Entry { return zones.Merge(z.derived, z.own) }

func (z zone) serverNames() []string {
	list := []string{}
	for _, h := range z.servers {
		list = append(list, h.Name)
	}
	return list
}

// loadZones reads the zones of an account.
func loadZones(ctx context.Context, q *db.Queries, st standing) ([]zone, error) {
	rows, err := q.ZonesOfAccount(ctx, st.account.ID)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	records, err := q.RecordsOfAccount(ctx, st.account.ID)
	if err != nil {
		return nil, err
	}
	domains, err := q.DomainsOfAccount(ctx, st.account.ID)
	if err != nil {
		return nil, err
	}
	server, err := q.ServerByID(ctx, st.account.ServerID)
	if err != nil {
		return nil, err
	}
	servers, err := nameServersFor(ctx, q, st.account.ResellerID)
	if err != nil {
		return nil, err
	}
	challenges, err := q.ChallengesInZones(ctx, st.account.ID)
	if err != nil {
		return nil, err
	}
	var list []zone
	for _, row := range rows {
		z := zone{row: row, servers: servers}
		for _, r := range records {
			if r.ZoneID == row.ID {
				z.own = append(z.own, zones.Own{ID: r.ID, Record: zones.Record{Name: r.Name, Type: zones.Type(r.Type), TTL: r.Ttl, Data: r.Data}})
			}
		}
		facts := zones.Facts{Zone: row.Name, NameServers: servers}
		for _, c := range challenges {
			facts.Challenges = append(facts.Challenges, zones.Challenge{Name: c.Record, Text: c.Value})
		}
		for _, d := range domains {
			if servedByWeb(d) {
				facts.Sites = append(facts.Sites, zones.Host{Name: d.Name, Addresses: publicAddresses(server)})
			}
			if d.Name == row.Name && d.TemplateID != nil {
				t, err := q.TemplateByID(ctx, *d.TemplateID)
				if err != nil {
					return nil, err
				}
				if facts.Template, err = readTemplateRecords(t.Records); err != nil {
					return nil, err
				}
			}
		}
		for _, other := range rows {
			if strings.HasSuffix(other.Name, "."+row.Name) && other.NameService == here {
				facts.Below = append(facts.Below, other.Name)
			}
		}
		z.derived = zones.Derive(facts)
		list = append(list, z)
	}
	return list, nil
}

// ZonesPart is the zones of an account whose DNS is here, on the primary name server.
func (s *Service) ZonesPart() Part {
	return Part{Name: "zones", Fill: fillZones,
		Prepare: func(ctx context.Context, server db.Server, m manifest.Manifest) error {
			if len(m.Zones) == 0 {
				return nil
			}
			return s.tellServer(ctx, server) // it must know the key of the transfers
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error { return tx.ForgetZones(ctx, accountID) },
	}
}

func fillZones(ctx context.Context, q *db.Queries, st standing, m *Manifests) error {
	list, err := loadZones(ctx, q, st)
	if err != nil {
		return err
	}
	var served []manifest.Zone
	for _, z := range list {
		if z.row.NameService == here && len(z.servers) > 0 {
			served = append(served, manifest.Zone{Name: z.row.Name, Signed: z.row.Dnssec, NameServers: z.serverNames(), Records: zones.InForce(z.entries())})
		}
	}
	if len(served) == 0 {
		return nil
	}
	primary, err := primaryNameServer(ctx, q)
	if err != nil {
		return err
	}
	m.On(primary.ID).Zones = served
	return nil
}

// whyNotHere says why the name service of an account's zones cannot be here; nil where it can.
func whyNotHere(ctx context.Context, q *db.Queries, st standing) error {
	if !st.has("dns") {
		return st.without("the name service needs", "dns")
	}
	list, err := nameServersFor(ctx, q, st.account.ResellerID)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return refusal.New(refusal.WrongState, "the name servers have no names yet: an operator sets them in the settings (name_servers)")
	}
	_, err = primaryNameServer(ctx, q)
	return err
}

// keepZones has the zones of an account be those that its domains need: one for each domain that is not below another one. A domain that is has
// its records in the zone above, unless it had a zone of its own before.
func keepZones(ctx context.Context, tx store.Tx, a Actor, st standing) error {
	rows, err := tx.ZonesOfAccount(ctx, st.account.ID)
	if err != nil {
		return err
	}
	domains, err := tx.DomainsOfAccount(ctx, st.account.ID)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if slices.ContainsFunc(domains, func(d db.Domain) bool { return d.Name == row.Name }) {
			continue
		}
		a.note("the zone " + unicode(row.Name) + " goes, with the records in it")
		if err := tx.RemoveZone(ctx, row.ID); err != nil {
			return err
		}
	}
	for _, d := range domains {
		if slices.ContainsFunc(rows, func(z db.Zone) bool { return z.Name == d.Name }) ||
			slices.ContainsFunc(domains, func(o db.Domain) bool { return strings.HasSuffix(d.Name, "."+o.Name) }) {
			continue
		}
		p := db.AddZoneParams{AccountID: st.account.ID, Name: d.Name, NameService: here}
		if err := whyNotHere(ctx, tx.Queries, st); err != nil {
			if refusal.As(err) == nil {
				return err
			}
			p.NameService = elsewhere
		}
		if _, err := tx.AddZone(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

func zoneView(z zone, signIn string) api.Zone {
	v := api.Zone{Name: z.row.Name, Unicode: unicode(z.row.Name), Account: signIn, AccountID: z.row.AccountID, NameService: z.row.NameService, DNSSEC: z.row.Dnssec, NameServers: []string{},
		Own: int64(len(z.own)), Version: z.row.Version}
	if z.row.NameService == here {
		v.NameServers = z.serverNames()
	}
	return v
}

func recordView(e zones.Entry) api.ZoneRecord {
	return api.ZoneRecord{ID: e.ID, Name: e.Name, Type: string(e.Type), TTL: e.TTL, Data: e.Data, Own: e.Own, From: e.Why, Overruled: e.Overruled}
}

// ZoneFilter narrows a list of zones; empty fields do not.
type ZoneFilter struct {
	Account, Search, NameService string
}

// ZoneList returns a page of zones in the order of their names.
func (s *Service) ZoneList(ctx context.Context, a Actor, f ZoneFilter, after string, most int) (api.ZonePage, error) {
	page := api.ZonePage{Zones: []api.Zone{}}
	p := db.ZonePageParams{After: after, NameService: f.NameService, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.scope()
	if d, _, err := names.ParseDomain(f.Search); err == nil {
		f.Search = d.String()
	}
	p.Search = escapeLike(f.Search)
	if f.Account != "" {
		number, err := findAccount(ctx, s.store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.store.Fresh().ZonePage(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = rows[most-1].Name
	}
	for _, row := range rows {
		v := zoneView(zone{row: db.Zone{Name: row.Name, AccountID: row.AccountID, NameService: row.NameService, Dnssec: row.Dnssec, Version: row.Version}}, row.SignInName)
		v.Own = row.Records
		page.Zones = append(page.Zones, v)
	}
	return page, nil
}

// findZone returns the zone of that name, or the one in which the name lies, if the actor may see it.
func findZone(ctx context.Context, q *db.Queries, a Actor, typed string) (db.FindZoneRow, error) {
	domain, _, err := names.ParseDomain(typed)
	if err != nil {
		return db.FindZoneRow{}, notFound("zone", typed)
	}
	p := db.FindZoneParams{}
	p.Reseller, p.Customer = a.scope()
	for _, p.Name = range append([]string{domain.String()}, domain.Above()...) {
		row, err := q.FindZone(ctx, p)
		if !store.None(err) {
			return row, err
		}
	}
	return db.FindZoneRow{}, notFound("zone", typed)
}

// lookAtZone reads a zone that the actor may see.
func (s *Service) lookAtZone(ctx context.Context, a Actor, name string) (zone, standing, error) {
	found, err := findZone(ctx, s.store.Queries, a, name)
	if err != nil {
		return zone{}, standing{}, err
	}
	account, err := s.store.Account(ctx, found.AccountID)
	if err != nil {
		return zone{}, standing{}, err
	}
	st, err := s.standingOf(ctx, s.store.Queries, account)
	if err != nil {
		return zone{}, st, err
	}
	z, err := zoneOf(ctx, s.store.Queries, st, found.ID)
	return z, st, err
}

func zoneOf(ctx context.Context, q *db.Queries, st standing, number int64) (zone, error) {
	list, err := loadZones(ctx, q, st)
	for _, z := range list {
		if z.row.ID == number {
			return z, nil
		}
	}
	if err == nil {
		err = notFound("zone", fmt.Sprint(number))
	}
	return zone{}, err
}

// Zone returns a zone with its records.
func (s *Service) Zone(ctx context.Context, a Actor, name string) (api.ZoneDetail, error) {
	z, st, err := s.lookAtZone(ctx, a, name)
	if err != nil {
		return api.ZoneDetail{}, err
	}
	out := api.ZoneDetail{Zone: zoneView(z, st.account.SignInName), Records: []api.ZoneRecord{}}
	for _, e := range z.entries() {
		out.Records = append(out.Records, recordView(e))
	}
	if z.row.NameService == elsewhere {
		if r := refusal.As(whyNotHere(ctx, s.store.Queries, st)); r != nil {
			out.Why = r.Detail
		}
	}
	return out, nil
}

// ZoneFile writes a zone down (RFC 1035, section 5), as it is in force.
func (s *Service) ZoneFile(ctx context.Context, a Actor, name string) (string, error) {
	z, _, err := s.lookAtZone(ctx, a, name)
	if err != nil {
		return "", err
	}
	return zones.Write(z.row.Name, zones.InForce(z.entries())), nil
}

// onZone changes a zone and starts the operation that brings it about. What fn returns is the number of the record it is about, or 0.
func (s *Service) onZone(ctx context.Context, a Actor, name, kind string, version int64, fn func(store.Tx, standing, zone) (record int64, corrections []string, err error)) (api.ZoneChanged, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.ZoneChanged, error) {
		none := api.ZoneChanged{}
		found, err := findZone(ctx, tx.Queries, a, name)
		if err != nil {
			return none, err
		}
		st, err := s.lockToChange(ctx, tx, a, found.AccountID)
		if err != nil {
			return none, err
		}
		z, err := zoneOf(ctx, tx.Queries, st, found.ID)
		if err != nil {
			return none, err
		}
		if err := unchanged("the zone "+unicode(z.row.Name), version, z.row.Version); err != nil {
			return none, err
		}
		number, corrections, err := fn(tx, st, z)
		if err != nil {
			return none, err
		}
		a.note(corrections...)
		if z, err = zoneOf(ctx, tx.Queries, st, found.ID); err != nil {
			return none, err
		}
		if z.row, err = tx.ChangeZone(ctx, db.ChangeZoneParams{ID: z.row.ID, NameService: z.row.NameService, Dnssec: z.row.Dnssec}); err != nil { // its version rises
			return none, err
		}
		out := api.ZoneChanged{Zone: zoneView(z, st.account.SignInName), Corrections: nonNil(corrections), Version: z.row.Version}
		for _, e := range z.entries() {
			if e.Own && e.ID == number {
				v := recordView(e)
				out.Record = &v
			}
		}
		out.Operation, err = s.applyAll(ctx, tx, a, kind, aboutAccount(st.account), []int64{st.account.ID})
		return out, err
	})
}

// ChangeZone changes where the name service of a zone is and whether it is signed. Version is the one the caller has seen, or 0.
func (s *Service) ChangeZone(ctx context.Context, a Actor, name string, version int64, in api.ZoneChange) (api.ZoneChanged, error) {
	// Asked before anything is locked: the world may take its time.
	parent := func(z zone) error {
		ds, err := s.resolver.Ask(ctx, z.row.Name, "DS")
		switch {
		case err != nil:
			return refusal.New(refusal.WrongState, "whether the parent of %s still has a DS record could not be asked (%s); with one, everybody who checks signatures would lose the zone. Try again", unicode(z.row.Name), err)
		case len(ds.Data) > 0:
			return refusal.New(refusal.InUse, "the parent of %s still has a DS record (%s): have the registrar remove it, wait %s until it is forgotten everywhere, and try again", unicode(z.row.Name), ds.Data[0], sites.FormatSeconds(int64(max(ds.TTL, 3600))))
		}
		return nil
	}
	z, _, err := s.lookAtZone(ctx, a, name)
	if err != nil {
		return api.ZoneChanged{}, err
	}
	if z.row.Dnssec && (in.DNSSEC != nil && !*in.DNSSEC || in.NameService == elsewhere) {
		if err := parent(z); err != nil {
			return api.ZoneChanged{}, err
		}
	}
	return s.onZone(ctx, a, name, "zone.change", version, func(tx store.Tx, st standing, z zone) (int64, []string, error) {
		before := map[string]any{"name_service": z.row.NameService, "dnssec": z.row.Dnssec}
		var notes []string
		if in.NameService != "" && in.NameService != z.row.NameService {
			if in.NameService == here {
				if err := whyNotHere(ctx, tx.Queries, st); err != nil {
					return 0, nil, err
				}
				notes = append(notes, "have the registrar delegate "+unicode(z.row.Name)+" to "+strings.Join(z.serverNames(), " and "))
			} else {
				notes = append(notes, "our name servers answer no longer; have other name servers answer first")
				z.row.Dnssec = false
			}
			z.row.NameService = in.NameService
		}
		if in.DNSSEC != nil && *in.DNSSEC != z.row.Dnssec {
			switch {
			case *in.DNSSEC && z.row.NameService == elsewhere:
				return 0, nil, refusal.New(refusal.WrongState, "the name service of %s is elsewhere; it is signed there", unicode(z.row.Name)).On("dnssec")
			case *in.DNSSEC && !st.has("dnssec"):
				return 0, nil, st.without("signing needs", "dnssec").On("dnssec")
			case *in.DNSSEC:
				notes = append(notes, "once it is signed, give the registrar the DS record: it closes the chain")
			}
			z.row.Dnssec = *in.DNSSEC
		}
		a.say("change the name service of %s", unicode(z.row.Name))
		if _, err := tx.ChangeZone(ctx, db.ChangeZoneParams{ID: z.row.ID, NameService: z.row.NameService, Dnssec: z.row.Dnssec}); err != nil {
			return 0, nil, err
		}
		return 0, notes, record(ctx, tx, a, "zone.change", aboutAccount(st.account), zoneRecord(z, before), zoneRecord(z, map[string]any{"name_service": z.row.NameService, "dnssec": z.row.Dnssec}))
	})
}

// zoneRecord is what events hold about a zone.
func zoneRecord(z zone, fields map[string]any) map[string]any {
	fields["zone"] = z.row.Name
	return fields
}
