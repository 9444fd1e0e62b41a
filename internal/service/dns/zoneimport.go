package dns

import (
	"context"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
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
		func(tx store.Tx, st entitlement.Entitlement, z Zone) (int64, []language.Text, error) {
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
					notes = append(notes, language.New("%s removed first", usecase.Counted(len(all), "own record")))
				}
				if err := tx.RemoveRecords(ctx, db.RemoveRecordsParams{ZoneID: z.Row.ID, Ids: all}); err != nil {
					return 0, nil, err
				}
				z.own = nil
			}
			wrong := refusal.New(refusal.InvalidInput, "nothing was taken over: some lines cannot be")
			refuse := func(line zones.Line, err error) {
				if len(wrong.Fields) < 50 {
					wrong.Fields = append(wrong.Fields, refusal.Wrong(fmt.Sprintf("text.line_%d", line.Number), "%s",
						err))
				}
			}
			draft := z.draft()
			records := make([]zones.Record, len(lines))
			own := map[set]bool{} // sets that are not derived ones as they are, and have to be own as a whole
			for n, line := range lines {
				var err error
				if records[n], _, err = zones.Parse(z.Row.Name, line.Typed); err != nil {
					refuse(line, err)
					continue
				}
				_, derived := draft.Has(records[n])
				own[set{records[n].Name, records[n].Type}] = own[set{records[n].Name, records[n].Type}] || !derived
			}
			for n, line := range lines {
				r := records[n]
				if r == (zones.Record{}) {
					continue
				}
				isOwn, derived := draft.Has(r)
				if isOwn || derived && !own[set{r.Name, r.Type}] {
					notes = append(notes, language.New("line %d: %s is there already", line.Number, r.Type))
					continue
				}
				r.TTL = draft.TTLOfSet(r)
				if err := admitRecord(a, draft, r); err != nil {
					refuse(line, err)
					continue
				}
				if _, err := tx.AddRecord(ctx, db.AddRecordParams{ZoneID: z.Row.ID, Name: r.Name, Type: string(r.Type),
					Ttl: r.TTL, Data: r.Data}); err != nil {
					return 0, nil, err
				}
				added++
			}
			if len(wrong.Fields) > 0 {
				return 0, nil, wrong
			}
			noteSplitAddresses(a, z, draft, records...)
			a.Summarize("take %s over into %s", usecase.Counted(added, "record"), usecase.Unicode(z.Row.Name))
			return 0, notes, usecase.Record(ctx, tx, a, "zone.import", usecase.AboutAccount(st.Account), nil,
				zoneRecord(z, map[string]any{"added": added, "replaced": in.Replace}))
		})
	out.Added = added
	return out, err
}

// set is what records of one name and type are together.
type set struct {
	name string
	kind zones.Type
}

// mayTransfer refuses to have the service call other servers for whoever is not staff.
func mayTransfer(a usecase.Actor) error {
	if a.Role == rights.Customer {
		return refusal.New(refusal.NotAllowed,
			"whoever hosts the zone transfers it; give the text of a zone file instead").On("server")
	}
	return nil
}
