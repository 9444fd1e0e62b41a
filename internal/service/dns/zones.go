package dns

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
	"victualler/internal/hosting/zones"
	"victualler/internal/manifest"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// ServedByWeb reports whether a web server answers for a domain: not
// while nothing shows whose it is, if that is asked for.
func ServedByWeb(d db.Domain) bool { return d.ServedAs != string(sites.DNSOnly) && !d.Waiting }

// OwnAlias is where a record that a person added leads a name; empty if there is none.
func (z Zone) OwnAlias(name string) string {
	for _, o := range z.own {
		if o.Type == zones.CNAME && zones.Absolute(z.Row.Name, o.Name) == name {
			return strings.TrimSuffix(o.Data, ".")
		}
	}
	return ""
}

// Where a zone's DNS is hosted.
const (
	HostedHere      = "here"
	HostedElsewhere = "elsewhere"
)

// Zone is everything that the records hold about one zone, and what follows from the rest.
type Zone struct {
	Row     db.Zone
	own     []zones.Own
	derived []zones.Derived
	// servers are our name servers, whether or not they answer for this zone.
	servers []zones.Host
}

func (z Zone) entries() []zones.Entry { return zones.Merge(z.derived, z.own) }

func (z Zone) draft() *zones.Draft { return zones.NewDraft(z.Row.Name, z.derived, z.own) }

func (z Zone) serverNames() []string {
	list := []string{}
	for _, h := range z.servers {
		list = append(list, h.Name)
	}
	return list
}

// LoadZones reads the zones of an account.
//
// Refusals: InvalidInput, NameTaken.
func LoadZones(ctx context.Context, q *db.Queries, st entitlement.Entitlement) ([]Zone, error) {
	rows, err := q.ZonesOfAccount(ctx, st.Account.ID)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	records, err := q.RecordsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	domains, err := q.DomainsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	server, err := q.ServerByID(ctx, st.Account.ServerID)
	if err != nil {
		return nil, err
	}
	servers, err := nameServersFor(ctx, q, st.Account.ResellerID)
	if err != nil {
		return nil, err
	}
	challenges, err := q.ChallengesInZones(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	mailed, err := mailDomains(ctx, q, st.Account)
	if err != nil {
		return nil, err
	}
	var list []Zone
	for _, row := range rows {
		z := Zone{Row: row, servers: servers}
		for _, r := range records {
			if r.ZoneID == row.ID {
				z.own = append(z.own, zones.Own{ID: r.ID, Record: zones.Record{Name: r.Name, Type: zones.Type(r.Type),
					TTL: r.Ttl, Data: r.Data}})
			}
		}
		facts := zones.Facts{Zone: row.Name, NameServers: servers}
		for _, m := range mailed {
			if name, inside := zones.Within(row.Name, m.Domain); inside {
				m.OwnMX = slices.ContainsFunc(z.own, func(o zones.Own) bool {
					return o.Type == zones.MX &&
						o.Name == name
				})
				facts.Mail = append(facts.Mail, m)
			}
		}
		for _, c := range challenges {
			facts.Challenges = append(facts.Challenges, zones.Challenge{Name: c.Record, Text: c.Value})
		}
		for _, d := range domains {
			if ServedByWeb(d) {
				facts.Sites = append(facts.Sites, zones.Host{Name: d.Name, Addresses: PublicAddresses(server)})
			}
			if d.Name == row.Name && d.TemplateID != nil {
				t, err := q.TemplateByID(ctx, *d.TemplateID)
				if err != nil {
					return nil, err
				}
				if facts.Template, err = ReadTemplateRecords(t.Records); err != nil {
					return nil, err
				}
			}
		}
		for _, other := range rows {
			if strings.HasSuffix(other.Name, "."+row.Name) && other.Hosted == HostedHere {
				facts.Below = append(facts.Below, other.Name)
			}
		}
		z.derived = zones.Derive(facts)
		list = append(list, z)
	}
	return list, nil
}

// mailDomains are the domains of an account that get mail, with what their mail needs in DNS.
func mailDomains(ctx context.Context, q *db.Queries, account db.Account) ([]zones.MailDomain, error) {
	if account.MailServerID == nil {
		return nil, nil
	}
	rows, err := q.MailDomains(ctx, account.ID)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	keys, err := q.SigningKeysOfAccount(ctx, account.ID)
	if err != nil {
		return nil, err
	}
	inForce, err := q.CertificatesInForce(ctx, account.ID)
	if err != nil {
		return nil, err
	}
	// All of them are on the account's one mail server.
	_, err = HostCertificate(ctx, q, rows[0].HostName)
	if err != nil && !store.None(err) {
		return nil, err
	}
	trusted := err == nil
	var list []zones.MailDomain
	for _, row := range rows {
		m := zones.MailDomain{Domain: row.Name, Server: row.HostName}
		if trusted && slices.ContainsFunc(inForce, func(c db.CertificatesInForceRow) bool {
			return certificates.Covers(c.Certificate.Names, mail.PolicyLabel+"."+row.Name)
		}) {
			m.Policy = PolicyNumber(row.HostName)
		}
		for _, k := range keys {
			if k.DomainID == row.ID {
				m.Keys = append(m.Keys, zones.MailKey{Selector: k.Selector, Text: k.Record})
			}
		}
		list = append(list, m)
	}
	return list, nil
}

// HostCertificate is the certificate of an authority's that is in use here for a server's name:
// [store.None] says that there is none.
func HostCertificate(ctx context.Context, q *db.Queries, host string) (db.Certificate, error) {
	_, parent, _ := strings.Cut(host, ".")
	return q.CertificateForHost(ctx, db.CertificateForHostParams{Host: host, Parent: parent})
}

// PolicyNumber names the policy for mail that a server takes (RFC 8461, section 3.1): it changes
// with what the policy says.
func PolicyNumber(host string) string {
	sum := sha256.Sum256([]byte(host))
	return hex.EncodeToString(sum[:8])
}

// MailElsewhere says what keeps the mail of a domain from the server that takes it here; empty for
// nothing that is known here.
//
// Refusals: InvalidInput, NameTaken.
func MailElsewhere(ctx context.Context, q *db.Queries, st entitlement.Entitlement,
	domain string) (language.Text, error) {
	list, err := LoadZones(ctx, q, st)
	if err != nil {
		return language.Text{}, err
	}
	var zone *Zone
	for i, z := range list {
		if (domain == z.Row.Name || strings.HasSuffix(domain, "."+z.Row.Name)) &&
			(zone == nil || len(z.Row.Name) > len(zone.Row.Name)) {
			zone = &list[i]
		}
	}
	if zone == nil {
		return language.Text{}, nil
	}
	if zone.Row.Hosted != HostedHere {
		return language.New("its DNS is hosted elsewhere: enter the records for mail there that “zone show %s” lists",
			zone.Row.Name), nil
	}
	name, _ := zones.Within(zone.Row.Name, domain)
	if slices.ContainsFunc(zone.own, func(o zones.Own) bool { return o.Type == zones.MX && o.Name == name }) {
		return language.New("mail for %s goes where the zone's own MX record says", usecase.Unicode(domain)), nil
	}
	return language.Text{}, nil
}

// ZonesPart is the zones of an account whose DNS is here, on the primary name server.
func (s *Service) ZonesPart() rollout.Part {
	return rollout.Part{Name: "zones", Fill: fillZones, Describe: s.describeServer,
		Prepare: func(ctx context.Context, server db.Server, m manifest.Manifest) error {
			if len(m.Zones) == 0 {
				return nil
			}
			return s.rollout.SyncServer(ctx, server) // it must know the key of the transfers
		},
		Closed: func(ctx context.Context, tx store.Tx, accountID int64) error { return tx.DeleteZones(ctx, accountID) },
	}
}

func fillZones(ctx context.Context, q *db.Queries, st entitlement.Entitlement, m *rollout.Manifests) error {
	list, err := LoadZones(ctx, q, st)
	if err != nil {
		return err
	}
	var served []manifest.Zone
	for _, z := range list {
		if z.Row.Hosted == HostedHere && len(z.servers) > 0 {
			served = append(served, manifest.Zone{Name: z.Row.Name, Signed: z.Row.Dnssec, NameServers: z.serverNames(),
				Records: zones.InForce(z.entries())})
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

// checkCanHost says why an account's zones cannot be hosted here; nil where it can.
func checkCanHost(ctx context.Context, q *db.Queries, st entitlement.Entitlement) error {
	if !st.Has("dns") {
		return st.MissingFeature("dns", "hosting DNS needs the feature dns, which this account does not have")
	}
	list, err := nameServersFor(ctx, q, st.Account.ResellerID)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return refusal.New(refusal.WrongState,
			"the name servers have no names yet").Help(refusal.Remedy{By: refusal.Operator,
			Do:      language.New("set them"),
			Command: "settings change --name-servers NAMES"})
	}
	_, err = primaryNameServer(ctx, q)
	return err
}

// SyncZones has the zones of an account be those that its domains need:
// one for each domain that is not below another one. A domain that is has
// its records in the zone above, unless it had a zone of its own before.
//
// Refusals: InvalidInput, NoServer, NotAllowed, WrongState.
func SyncZones(ctx context.Context, tx store.Tx, a usecase.Actor, st entitlement.Entitlement) error {
	rows, err := tx.ZonesOfAccount(ctx, st.Account.ID)
	if err != nil {
		return err
	}
	domains, err := tx.DomainsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return err
	}
	domains = slices.DeleteFunc(domains, func(d db.Domain) bool { return d.Waiting })
	for _, row := range rows {
		if slices.ContainsFunc(domains, func(d db.Domain) bool { return d.Name == row.Name }) {
			continue
		}
		a.Note("the zone %s goes, with the records in it", usecase.Unicode(row.Name))
		if err := tx.RemoveZone(ctx, row.ID); err != nil {
			return err
		}
	}
	for _, d := range domains {
		if slices.ContainsFunc(rows, func(z db.Zone) bool { return z.Name == d.Name }) ||
			slices.ContainsFunc(domains, func(o db.Domain) bool { return strings.HasSuffix(d.Name, "."+o.Name) }) {
			continue
		}
		p := db.AddZoneParams{AccountID: st.Account.ID, Name: d.Name, Hosted: HostedHere}
		if err := checkCanHost(ctx, tx.Queries, st); err != nil {
			if refusal.As(err) == nil {
				return err
			}
			p.Hosted = HostedElsewhere
		}
		if _, err := tx.AddZone(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

func zoneView(z Zone, signIn string) api.Zone {
	v := api.Zone{Name: z.Row.Name, Unicode: usecase.Unicode(z.Row.Name), Account: signIn, AccountID: z.Row.AccountID,
		Hosted: z.Row.Hosted, DNSSEC: z.Row.Dnssec, NameServers: []string{},
		Own: int64(len(z.own)), Version: z.Row.Version}
	if z.Row.Hosted == HostedHere {
		v.NameServers = z.serverNames()
	}
	return v
}

func recordView(a usecase.Actor, e zones.Entry) api.ZoneRecord {
	return api.ZoneRecord{ID: e.ID, Name: e.Name, Type: string(e.Type), TTL: e.TTL, Data: e.Data, Own: e.Own,
		From: e.Why.In(a.Language), Overruled: e.Overruled}
}

// ZoneFilter narrows a list of zones; empty fields do not.
type ZoneFilter struct {
	Account, Search, Hosted string
}

// ZoneList returns a page of zones in the order of their names.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) ZoneList(ctx context.Context, a usecase.Actor, f ZoneFilter, after string, most int) (api.ZonePage,
	error) {
	page := api.ZonePage{Zones: []api.Zone{}}
	p := db.ZonePageParams{After: after, Hosted: f.Hosted, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if d, _, err := names.ParseDomain(f.Search); err == nil {
		f.Search = d.String()
	}
	p.Search = usecase.EscapeLike(f.Search)
	if f.Account != "" {
		number, err := usecase.FindAccount(ctx, s.Store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.Store.Fresh().ZonePage(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = rows[most-1].Name
	}
	for _, row := range rows {
		v := zoneView(Zone{Row: db.Zone{Name: row.Name, AccountID: row.AccountID, Hosted: row.Hosted,
			Dnssec: row.Dnssec, Version: row.Version}}, row.SignInName)
		v.Own = row.Records
		page.Zones = append(page.Zones, v)
	}
	return page, nil
}

// findZone returns the zone of that name, or the one in which the name
// lies, if the actor may see it.
func findZone(ctx context.Context, q *db.Queries, a usecase.Actor, typed string) (db.FindZoneRow, error) {
	domain, _, err := names.ParseDomain(typed)
	if err != nil {
		return db.FindZoneRow{}, usecase.NotFound("zone", typed)
	}
	p := db.FindZoneParams{}
	p.Reseller, p.Customer = a.Scope()
	for _, p.Name = range append([]string{domain.String()}, domain.Above()...) {
		row, err := q.FindZone(ctx, p)
		if !store.None(err) {
			return row, err
		}
	}
	return db.FindZoneRow{}, usecase.NotFound("zone", typed)
}

// loadZone reads a zone that the actor may see.
func (s *Service) loadZone(ctx context.Context, a usecase.Actor, name string) (Zone, entitlement.Entitlement, error) {
	found, err := findZone(ctx, s.Store.Queries, a, name)
	if err != nil {
		return Zone{}, entitlement.Entitlement{}, err
	}
	account, err := s.Store.Account(ctx, found.AccountID)
	if err != nil {
		return Zone{}, entitlement.Entitlement{}, err
	}
	st, err := entitlement.Load(ctx, s.Base, s.Store.Queries, account)
	if err != nil {
		return Zone{}, st, err
	}
	z, err := zoneByID(ctx, s.Store.Queries, st, found.ID)
	return z, st, err
}

func zoneByID(ctx context.Context, q *db.Queries, st entitlement.Entitlement, number int64) (Zone, error) {
	list, err := LoadZones(ctx, q, st)
	for _, z := range list {
		if z.Row.ID == number {
			return z, nil
		}
	}
	if err == nil {
		err = usecase.NotFound("zone", fmt.Sprint(number))
	}
	return Zone{}, err
}

// Zone returns a zone with its records.
//
// Refusals: InvalidInput, NameTaken, NoServer, NotAllowed, NotFound, WrongState.
func (s *Service) Zone(ctx context.Context, a usecase.Actor, name string) (api.ZoneDetail, error) {
	z, st, err := s.loadZone(ctx, a, name)
	if err != nil {
		return api.ZoneDetail{}, err
	}
	out := api.ZoneDetail{Zone: zoneView(z, st.Account.SignInName), Records: []api.ZoneRecord{}}
	for _, e := range z.entries() {
		out.Records = append(out.Records, recordView(a, e))
	}
	if z.Row.Hosted == HostedElsewhere {
		if r := refusal.As(checkCanHost(ctx, s.Store.Queries, st)); r != nil {
			out.Why = r.For(string(a.Role)).In(a.Language).Detail
		}
	}
	return out, nil
}

// ZoneFile writes a zone down (RFC 1035, section 5), as it is in force.
//
// Refusals: InvalidInput, NameTaken, NotFound.
func (s *Service) ZoneFile(ctx context.Context, a usecase.Actor, name string) (string, error) {
	z, _, err := s.loadZone(ctx, a, name)
	if err != nil {
		return "", err
	}
	return zones.Write(z.Row.Name, zones.InForce(z.entries())), nil
}

// changeZone changes a zone and starts the operation that brings it about. What fn returns is the
// number of the record it is about, or 0.
func (s *Service) changeZone(ctx context.Context, a usecase.Actor, name, kind string, version int64,
	fn func(store.Tx, entitlement.Entitlement, Zone) (record int64, corrections []language.Text,
		err error)) (api.ZoneChanged,
	error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.ZoneChanged, error) {
		none := api.ZoneChanged{}
		found, err := findZone(ctx, tx.Queries, a, name)
		if err != nil {
			return none, err
		}
		st, err := entitlement.LockToChange(ctx, s.Base, tx, a, found.AccountID)
		if err != nil {
			return none, err
		}
		z, err := zoneByID(ctx, tx.Queries, st, found.ID)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("the zone "+usecase.Unicode(z.Row.Name), version, z.Row.Version); err != nil {
			return none, err
		}
		number, corrections, err := fn(tx, st, z)
		if err != nil {
			return none, err
		}
		a.NoteAll(corrections)
		if z, err = zoneByID(ctx, tx.Queries, st, found.ID); err != nil {
			return none, err
		}
		if z.Row, err = tx.ChangeZone(ctx, db.ChangeZoneParams{ID: z.Row.ID, Hosted: z.Row.Hosted,
			Dnssec: z.Row.Dnssec}); err != nil {
			// its version rises
			return none, err
		}
		out := api.ZoneChanged{Zone: zoneView(z, st.Account.SignInName), Corrections: a.SayAll(corrections),
			Version: z.Row.Version}
		for _, e := range z.entries() {
			if e.Own && e.ID == number {
				v := recordView(a, e)
				out.Record = &v
			}
		}
		out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, kind, usecase.AboutAccount(st.Account),
			[]int64{st.Account.ID})
		return out, err
	})
}

// ChangeZone changes where a zone's DNS is hosted and whether it is signed. Version is the
// one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InUse, InvalidInput, NameTaken, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeZone(ctx context.Context, a usecase.Actor, name string, version int64,
	in api.ZoneChange) (api.ZoneChanged, error) {
	// Asked before anything is locked: public DNS may take its time.
	parent := func(z Zone) error {
		ds, err := s.Resolver.Ask(ctx, z.Row.Name, "DS")
		switch {
		case err != nil:
			return refusal.New(refusal.WrongState, "whether the parent of %s still has a DS record could not be "+
				"asked (%s); with one, everybody who checks signatures would lose the zone. Try again",
				usecase.Unicode(z.Row.Name), err)
		case len(ds.Data) > 0:
			return refusal.New(refusal.InUse, "the parent of %s still has a DS record (%s): have the registrar "+
				"remove it, wait %s until it is forgotten everywhere, and try again", usecase.Unicode(z.Row.Name),
				ds.Data[0], sites.FormatSeconds(int64(max(ds.TTL, 3600))))
		}
		return nil
	}
	z, _, err := s.loadZone(ctx, a, name)
	if err != nil {
		return api.ZoneChanged{}, err
	}
	if z.Row.Dnssec && (in.DNSSEC != nil && !*in.DNSSEC || in.Hosted == HostedElsewhere) {
		if err := parent(z); err != nil {
			return api.ZoneChanged{}, err
		}
	}
	return s.changeZone(ctx, a, name, "zone.change", version,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
			before := map[string]any{"hosted": z.Row.Hosted, "dnssec": z.Row.Dnssec}
			var notes []language.Text
			if in.Hosted != "" && in.Hosted != z.Row.Hosted {
				if in.Hosted == HostedHere {
					if err := checkCanHost(ctx, tx.Queries, st); err != nil {
						return 0, nil, err
					}
					notes = append(notes,
						language.New("have the registrar delegate %s to %s", usecase.Unicode(z.Row.Name),
							strings.Join(z.serverNames(), ", ")))
				} else {
					notes = append(notes, language.New("our name servers no longer answer for it; have other name "+
						"servers answer first"))
					z.Row.Dnssec = false
				}
				z.Row.Hosted = in.Hosted
			}
			if in.DNSSEC != nil && *in.DNSSEC != z.Row.Dnssec {
				switch {
				case *in.DNSSEC && z.Row.Hosted == HostedElsewhere:
					return 0, nil,
						refusal.New(refusal.WrongState, "the DNS of %s is hosted elsewhere; it is signed there",
							usecase.Unicode(z.Row.Name)).On("dnssec")
				case *in.DNSSEC && !st.Has("dnssec"):
					return 0, nil, st.MissingFeature("dnssec", "signing needs the feature dnssec, which this account "+
						"does not have").On("dnssec")
				case *in.DNSSEC:
					notes = append(notes, language.New("once it is signed, give the registrar the DS record: it "+
						"closes the chain"))
				}
				z.Row.Dnssec = *in.DNSSEC
			}
			a.Summarize("change where the DNS of %s is hosted", usecase.Unicode(z.Row.Name))
			if _, err := tx.ChangeZone(ctx, db.ChangeZoneParams{ID: z.Row.ID, Hosted: z.Row.Hosted,
				Dnssec: z.Row.Dnssec}); err != nil {
				return 0, nil, err
			}
			return 0, notes, usecase.Record(ctx, tx, a, "zone.change", usecase.AboutAccount(st.Account),
				zoneRecord(z, before), zoneRecord(z, map[string]any{"hosted": z.Row.Hosted, "dnssec": z.Row.Dnssec}))
		})
}

// zoneRecord is what events hold about a zone.
func zoneRecord(z Zone, fields map[string]any) map[string]any {
	fields["zone"] = z.Row.Name
	return fields
}
