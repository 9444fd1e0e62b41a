package dns

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/zones"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

func recordWords(r zones.Record) map[string]any {
	return map[string]any{"name": r.Name, "type": r.Type, "ttl": r.TTL, "data": r.Data}
}

// checkOwnRecordsAllowed refuses own records where nobody would answer with them.
func checkOwnRecordsAllowed(ctx context.Context, q *db.Queries, st entitlement.Entitlement, z Zone) error {
	if z.Row.Hosted == HostedElsewhere {
		return refusal.New(refusal.WrongState,
			"the DNS of %s is hosted elsewhere: enter records there", usecase.Unicode(z.Row.Name)).
			Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("or have it here first"),
				Command: "zone change " + usecase.Unicode(z.Row.Name) + " --hosted here"})
	}
	if !st.Has("dns") {
		return checkCanHost(ctx, q, st)
	}
	return nil
}

// AddRecord adds an own record to a zone.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed,
// NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddRecord(ctx context.Context, a usecase.Actor, name string, in api.NewRecord) (api.ZoneChanged,
	error) {
	return s.changeZone(ctx, a, name, "record.add", 0,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
			if err := checkOwnRecordsAllowed(ctx, tx.Queries, st, z); err != nil {
				return 0, nil, err
			}
			r, corrections, err := zones.Parse(z.Row.Name, zones.Typed{Name: in.Name, Type: in.Type, Data: in.Data,
				TTL: in.TTL})
			if err != nil {
				return 0, nil, err
			}
			draft := z.draft()
			if in.TTL == 0 {
				r.TTL = draft.TTLOfSet(r)
			}
			if err := admitRecord(a, draft, r); err != nil {
				return 0, nil, err
			}
			noteSplitAddresses(a, z, draft, r)
			a.Summarize("add a record to %s", usecase.Unicode(z.Row.Name))
			row, err := tx.AddRecord(ctx, db.AddRecordParams{ZoneID: z.Row.ID, Name: r.Name, Type: string(r.Type),
				Ttl: r.TTL, Data: r.Data})
			if err != nil {
				return 0, nil, err
			}
			return row.ID, corrections, usecase.Record(ctx, tx, a, "record.add", usecase.AboutAccount(st.Account), nil,
				zoneRecord(z, recordWords(r)))
		})
}

// admitRecord refuses an own record that cannot be in a zone, adds it to the draft, and notes which
// derived ones it replaces.
func admitRecord(a usecase.Actor, d *zones.Draft, r zones.Record) error {
	if d.Len() >= zones.MostRecords {
		return refusal.New(refusal.LimitReached, "a zone can have %d records of its own at most", zones.MostRecords)
	}
	if err := d.Admit(r); err != nil {
		return err
	}
	for _, gone := range d.Add(r) {
		a.Note("%s %s %s, which follows from %s, is no longer answered with", gone.Name, gone.Type,
			gone.Data, gone.Why)
	}
	return nil
}

// noteSplitAddresses says which names have an own address now, and keep a derived one for those who
// come by the other version of IP.
func noteSplitAddresses(a usecase.Actor, z Zone, d *zones.Draft, records ...zones.Record) {
	said := map[string]bool{}
	for _, r := range records {
		kept, is := d.StillDerived(r)
		if !is || said[r.Name] {
			continue
		}
		said[r.Name] = true
		own, other := "IPv4", "IPv6"
		if r.Type == zones.AAAA {
			own, other = other, own
		}
		a.Note("%s has an own address for %s alone: whoever comes by %s is still led to %s, by the %s "+
			"record "+
			"that follows from %s; add an own %s record as well", zones.Absolute(z.Row.Name, r.Name), own, other,
			kept.Data,
			kept.Type, kept.Why, kept.Type)
	}
}

func findRecord(z Zone, number int64) (zones.Own, error) {
	at := slices.IndexFunc(z.own, func(o zones.Own) bool { return o.ID == number })
	if at < 0 {
		return zones.Own{}, usecase.NotFound("record", fmt.Sprint(number))
	}
	return z.own[at], nil
}

// ChangeRecord changes an own record. Version is that of the zone, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed,
// NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeRecord(ctx context.Context, a usecase.Actor, name string, number, version int64,
	in api.RecordChange) (api.ZoneChanged, error) {
	return s.changeZone(ctx, a, name, "record.change", version,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
			was, err := findRecord(z, number)
			if err != nil {
				return 0, nil, err
			}
			if err := checkOwnRecordsAllowed(ctx, tx.Queries, st, z); err != nil {
				return 0, nil, err
			}
			typed := zones.Typed{Name: was.Name, Type: string(was.Type), Data: was.Data, TTL: was.TTL}
			for _, given := range []struct {
				value *string
				to    *string
			}{{in.Name, &typed.Name}, {in.Type, &typed.Type}, {in.Data, &typed.Data}} {
				if given.value != nil {
					*given.to = *given.value
				}
			}
			if in.TTL != nil {
				typed.TTL = *in.TTL
			}
			r, corrections, err := zones.Parse(z.Row.Name, typed)
			if err != nil {
				return 0, nil, err
			}
			if r == was.Record {
				return 0, nil, refusal.Input("data", "the record says that already")
			}
			without := z
			without.own = slices.DeleteFunc(slices.Clone(z.own), func(o zones.Own) bool { return o.ID == number })
			var also []int64
			if r.TTL != was.TTL && r.Name == was.Name && r.Type == was.Type {
				// All of a set have the same time to live: they follow.
				for i, o := range without.own {
					if o.Name == r.Name && o.Type == r.Type {
						without.own[i].TTL = r.TTL
						also = append(also, o.ID)
					}
				}
			}
			if err := admitRecord(a, without.draft(), r); err != nil {
				return 0, nil, err
			}
			for _, o := range without.own {
				if slices.Contains(also, o.ID) {
					if err := tx.ChangeRecord(ctx, db.ChangeRecordParams{ID: o.ID, Name: o.Name, Type: string(o.Type),
						Ttl: o.TTL, Data: o.Data}); err != nil {
						return 0, nil, err
					}
				}
			}
			if len(also) > 0 {
				corrections = append(corrections, language.New("the other %s records of %s got the same time to live",
					r.Type, r.Name))
			}
			a.Summarize("change a record of %s", usecase.Unicode(z.Row.Name))
			if err := tx.ChangeRecord(ctx, db.ChangeRecordParams{ID: number, Name: r.Name, Type: string(r.Type),
				Ttl:  r.TTL,
				Data: r.Data}); err != nil {
				return 0, nil, err
			}
			return number, corrections, usecase.Record(ctx, tx, a, "record.change", usecase.AboutAccount(st.Account),
				zoneRecord(z, recordWords(was.Record)), zoneRecord(z, recordWords(r)))
		})
}

// RemoveRecord takes an own record out of a zone.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NameTaken, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveRecord(ctx context.Context, a usecase.Actor, name string, number int64) (api.Started, error) {
	done, err := s.changeZone(ctx, a, name, "record.remove", 0,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
			was, err := findRecord(z, number)
			if err != nil {
				return 0, nil, err
			}
			a.Summarize("remove a record from %s", usecase.Unicode(z.Row.Name))
			if err := tx.RemoveRecords(ctx, db.RemoveRecordsParams{ZoneID: z.Row.ID,
				Ids: []int64{number}}); err != nil {
				return 0, nil, err
			}
			return 0, nil, usecase.Record(ctx, tx, a, "record.remove", usecase.AboutAccount(st.Account),
				zoneRecord(z, recordWords(was.Record)), nil)
		})
	return api.Started{Operation: done.Operation}, err
}

// ResetZone removes own records that replace derived ones.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NameTaken, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) ResetZone(ctx context.Context, a usecase.Actor, name string, in api.ZoneReset) (api.ZoneChanged,
	error) {
	return s.changeZone(ctx, a, name, "zone.reset", 0,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
			var gone []int64
			var words []string
			for _, o := range z.own {
				if in.Name != "" && o.Name != in.Name {
					continue
				}
				rest := slices.DeleteFunc(slices.Clone(z.own), func(other zones.Own) bool {
					return other.Name == o.Name && other.Type == o.Type
				})
				if len(overridden(z.derived, z.own)) > len(overridden(z.derived, rest)) {
					gone = append(gone, o.ID)
					words = append(words, o.Record.String())
				}
			}
			if len(gone) == 0 {
				return 0, nil, refusal.New(refusal.WrongState, "no record of %s replaces a derived one",
					usecase.Unicode(z.Row.Name))
			}
			a.Summarize("reset %s: %s go", usecase.Unicode(z.Row.Name), usecase.Counted(len(gone), "record"))
			a.NoteAll(language.Plains(words))
			if err := tx.RemoveRecords(ctx, db.RemoveRecordsParams{ZoneID: z.Row.ID, Ids: gone}); err != nil {
				return 0, nil, err
			}
			return 0, nil, usecase.Record(ctx, tx, a, "zone.reset", usecase.AboutAccount(st.Account),
				zoneRecord(z, map[string]any{"records": words}), nil)
		})
}

func overridden(derived []zones.Derived, own []zones.Own) []zones.Entry {
	return slices.DeleteFunc(zones.Merge(derived, own), func(e zones.Entry) bool { return !e.Overruled })
}

// ReadTemplateRecords reads the records of a template from its column.
func ReadTemplateRecords(column []byte) ([]zones.Typed, error) {
	var list []zones.Typed
	return list, json.Unmarshal(column, &list)
}

// TemplateRecords reads the records of a template as people type them, and refuses what could be
// in no zone.
//
// Refusals: InvalidInput, NameTaken.
func TemplateRecords(in []api.NewRecord) ([]zones.Typed, error) {
	const anyZone = "zone.example"
	list := []zones.Typed{}
	seen := zones.NewDraft(anyZone, nil, nil)
	for i, r := range in {
		typed := zones.Typed{Name: r.Name, Type: r.Type, Data: r.Data, TTL: r.TTL}
		parsed, _, err := zones.Parse(anyZone, typed)
		if err == nil {
			err = seen.Admit(parsed)
		}
		if one := refusal.As(err); one != nil {
			return nil, refusal.Input(fmt.Sprintf("records.%d", i), "%s %s %s: %s", r.Name, r.Type, r.Data, one.Detail)
		}
		if err != nil {
			return nil, err
		}
		seen.Add(parsed)
		list = append(list, typed)
	}
	return list, nil
}
