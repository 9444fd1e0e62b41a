package dns

import (
	"context"
	"fmt"
	"slices"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/zones"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// ImportZone takes own records over from a zone file, or by transfer
// from another name server: all of them, or none.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NameTaken, NoServer, NotAllowed,
// NotFound, ServerUnreachable, Suspended, TooManyTries, WrongState.
// Locks: the account, the reseller.
func (s *Service) ImportZone(ctx context.Context, a usecase.Actor, name string, in api.ZoneImport) (api.ZoneChanged,
	error) {
	none := api.ZoneChanged{}
	if (in.Text == "") == (in.Server == "") {
		return none, refusal.Input("text", "give either the text of a zone file or the name server to transfer from")
	}
	if in.Server != "" {
		text, err := s.transferred(ctx, a, name, in.Server)
		if err != nil {
			return none, err
		}
		in.Text = text
	}
	added := 0
	out, err := s.changeZone(ctx, a, name, "zone.import", 0,
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []string, error) {
			added = 0
			if err := checkOwnRecordsAllowed(ctx, tx.Queries, st, z); err != nil {
				return 0, nil, err
			}
			lines, notes, err := zones.ReadFile(z.Row.Name, in.Text)
			if err != nil {
				return 0, nil, err
			}
			if in.Replace {
				var all []int64
				for _, o := range z.own {
					all = append(all, o.ID)
				}
				if len(all) > 0 {
					notes = append(notes, usecase.Counted(len(all), "own record")+" of before taken out")
				}
				if err := tx.RemoveRecords(ctx, db.RemoveRecordsParams{ZoneID: z.Row.ID, Ids: all}); err != nil {
					return 0, nil, err
				}
				z.own = nil
			}
			wrong := &refusal.Refusal{Kind: refusal.InvalidInput,
				Detail: "nothing was taken over: some lines cannot be"}
			for _, line := range lines {
				r, _, err := zones.Parse(z.Row.Name, line.Typed)
				if err == nil && slices.ContainsFunc(z.entries(), func(e zones.Entry) bool {
					return e.Record == r || e.Own && e.Name == r.Name && e.Type == r.Type && e.Data == r.Data
				}) {
					notes = append(notes, fmt.Sprintf("line %d: %s is there already", line.Number, r.Type))
					continue
				}
				if err == nil {
					r.TTL = ttlOfSet(z, r)
					err = admitRecord(a, z, r)
				}
				if err != nil {
					if len(wrong.Fields) < 50 {
						wrong.Fields = append(wrong.Fields,
							refusal.Field{Name: fmt.Sprintf("text.line_%d", line.Number),
								Message: err.Error()})
					}
					continue
				}
				row, err := tx.AddRecord(ctx, db.AddRecordParams{ZoneID: z.Row.ID, Name: r.Name, Type: string(r.Type),
					Ttl: r.TTL, Data: r.Data})
				if err != nil {
					return 0, nil, err
				}
				z.own = append(z.own, zones.Own{ID: row.ID, Record: r})
				added++
			}
			if len(wrong.Fields) > 0 {
				return 0, nil, wrong
			}
			a.Summarize("take %s over into %s", usecase.Counted(added, "record"), usecase.Unicode(z.Row.Name))
			return 0, notes, usecase.Record(ctx, tx, a, "zone.import", usecase.AboutAccount(st.Account), nil,
				zoneRecord(z, map[string]any{"added": added, "replaced": in.Replace}))
		})
	out.Added = added
	return out, err
}

// mayTransfer refuses to have the service call other servers for whoever is not staff.
func mayTransfer(a usecase.Actor) error {
	if a.Role == rights.Customer {
		return refusal.New(refusal.NotAllowed,
			"whoever hosts the zone transfers it; give the text of a zone file instead").On("server")
	}
	return nil
}
