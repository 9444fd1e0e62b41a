package selling

import (
	"context"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// resellerRecord is a reseller as events hold it.
type resellerRecord struct {
	Title    string         `json:"title"`
	Email    string         `json:"email,omitempty"`
	Measure  string         `json:"measure"`
	Limits   plans.Limits   `json:"limits"`
	Features plans.Features `json:"features"`
}

func recordOfReseller(row db.Reseller, share plans.Share) resellerRecord {
	r := resellerRecord{Title: row.Title, Measure: row.Measure, Limits: share.Limits, Features: share.Features}
	if row.Email != nil {
		r.Email = *row.Email
	}
	return r
}

// AddReseller adds a reseller with their share.
//
// Refusals: InvalidInput, NameTaken.
func (s *Service) AddReseller(ctx context.Context, a usecase.Actor, in api.NewReseller) (api.Reseller, error) {
	if err := plans.CheckName("reseller", in.Name); err != nil {
		return api.Reseller{}, err
	}
	if in.Measure == "" {
		in.Measure = string(plans.Allotted)
	}
	share, err := plans.CheckShare(plans.Share{Reseller: in.Name, Measure: plans.Measure(in.Measure), Limits: in.Limits,
		Features: in.Features})
	if err != nil {
		return api.Reseller{}, err
	}
	p := db.AddResellerParams{Name: in.Name, Title: usecase.OneLine(in.Title), Measure: in.Measure}
	if p.Title == "" {
		return api.Reseller{}, refusal.Input("title", "a reseller needs a title, as people read it")
	}
	if p.Email, err = usecase.MailAddress("email", in.Email); err != nil {
		return api.Reseller{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Reseller, error) {
		row, err := tx.AddReseller(ctx, p)
		if store.ViolatedConstraint(err) == "resellers_name" {
			return api.Reseller{}, refusal.New(refusal.NameTaken, "there is a reseller %q already; choose another name",
				in.Name).On("name")
		}
		if err != nil {
			return api.Reseller{}, err
		}
		if err := entitlement.SaveShare(ctx, tx, row.ID, share); err != nil {
			return api.Reseller{}, err
		}
		a.Summarize("add reseller %s", row.Name)
		if err := usecase.Record(ctx, tx, a, "reseller.add", usecase.AboutReseller(row), nil,
			recordOfReseller(row, share)); err != nil {
			return api.Reseller{}, err
		}
		return s.resellerIn(ctx, tx.Queries, a, row.Name)
	})
}

// Reseller returns one reseller.
//
// Refusals: NotFound.
func (s *Service) Reseller(ctx context.Context, a usecase.Actor, name string) (api.Reseller, error) {
	if _, err := usecase.FindReseller(ctx, s.Store.Queries, a, name); err != nil {
		return api.Reseller{}, err
	}
	return s.resellerIn(ctx, s.Store.Queries, a, name)
}

func (s *Service) resellerIn(ctx context.Context, q *db.Queries, a usecase.Actor, name string) (api.Reseller, error) {
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: name})
	if err != nil {
		return api.Reseller{}, err
	}
	rows, err := q.Resellers(ctx, db.ResellersParams{Scope: row.ID, Most: 1})
	if err != nil || len(rows) == 0 {
		return api.Reseller{}, err
	}
	share, err := entitlement.LoadShare(ctx, q, row.ID)
	return resellerView(rows[0], share), err
}

func resellerView(row db.ResellersRow, share plans.Share) api.Reseller {
	r := row.Reseller
	v := api.Reseller{Name: r.Name, Title: r.Title, Measure: r.Measure, Limits: share.Limits, Features: share.Features,
		Accounts: row.Accounts, Customers: row.Customers, Plans: row.Plans, With: r.SuspendedAccounts,
		NameServers: usecase.NonNil(r.NameServers), Version: r.Version}
	if r.Email != nil {
		v.Email = *r.Email
	}
	if r.SuspendedAt != nil {
		v.Suspension = &api.Suspension{Why: *r.SuspendedWhy, By: *r.SuspendedBy, Since: *r.SuspendedAt}
	}
	return v
}

// Resellers returns a page of resellers in the order of their names.
//
// Refusals: InvalidInput.
func (s *Service) Resellers(ctx context.Context, a usecase.Actor, search, next string, most int) (api.ResellerPage,
	error) {
	page := api.ResellerPage{Resellers: []api.Reseller{}}
	p := db.ResellersParams{Scope: a.ResellerID, Search: usecase.EscapeLike(strings.TrimSpace(search)),
		Most: int32(most + 1)}
	if err := usecase.ReadCursor(next, &p.After); err != nil {
		return page, err
	}
	rows, err := s.Store.Resellers(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].Reseller.Name)
	}
	var listed []db.Reseller
	for _, row := range rows {
		listed = append(listed, row.Reseller)
	}
	shares, err := entitlement.LoadShares(ctx, s.Store.Queries, listed)
	for _, row := range rows {
		page.Resellers = append(page.Resellers, resellerView(row, shares[row.Reseller.ID]))
	}
	return page, err
}

// Share returns a reseller's share with both sums and what remains, all of one moment.
//
// Refusals: NotFound.
func (s *Service) Share(ctx context.Context, a usecase.Actor, name string) (api.Share, error) {
	row, err := usecase.FindReseller(ctx, s.Store.Queries, a, name)
	if err != nil {
		return api.Share{}, err
	}
	out := api.Share{Reseller: row.Name, Title: row.Title, Measure: row.Measure, Lines: []api.ShareLine{}}
	err = s.Store.Snapshot(ctx, func(q *db.Queries) error {
		shares, err := entitlement.LoadShares(ctx, q, []db.Reseller{row})
		if err != nil {
			return err
		}
		share := shares[row.ID]
		given, err := entitlement.AllottedBy(ctx, s.Base, q, row.ID, 0)
		if err != nil {
			return err
		}
		used, err := entitlement.UsageOfReseller(ctx, q, row.ID, 0)
		if err != nil {
			return err
		}
		for _, l := range share.Lines(given, used) {
			out.Lines = append(out.Lines, api.ShareLine{Key: string(l.Info.Key), Unit: string(l.Info.Unit),
				Title: l.Info.Text().In(a.Language), Bound: l.Info.Bound,
				Share: entitlement.ColumnOf(l.Share), Allotted: entitlement.ColumnOf(l.Allotted), Used: l.Used,
				Left: entitlement.ColumnOf(l.Left), Over: l.Over})
		}
		out.Features = entitlement.SwitchedOn(share.Features)
		out.Accounts, err = q.CountAccountsOfReseller(ctx, &row.ID)
		return err
	})
	return out, err
}

// ChangeReseller changes a reseller and their share. A share below what is given out needs a
// decision. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NeedsDecision, NotFound,
// ServerUnreachable.
// Locks: accounts, the reseller.
func (s *Service) ChangeReseller(ctx context.Context, a usecase.Actor, name string, version int64,
	in api.ResellerChange) (api.Reseller, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Reseller, error) {
		none := api.Reseller{}
		row, err := usecase.LockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("reseller "+name, version, row.Version); err != nil {
			return none, err
		}
		old, err := entitlement.LoadShare(ctx, tx.Queries, row.ID)
		if err != nil {
			return none, err
		}
		share := old
		if in.Measure != "" {
			share.Measure = plans.Measure(in.Measure)
		}
		as, err := plans.Plan{Name: "share", Limits: old.Limits, Features: old.Features}.With("", in.Limits,
			in.Features)
		if err != nil {
			return none, err
		}
		share.Limits, share.Features = as.Limits, as.Features
		p := db.ChangeResellerParams{ID: row.ID, Title: row.Title, Email: row.Email, Measure: string(share.Measure)}
		if title := usecase.OneLine(in.Title); title != "" {
			p.Title = title
		}
		if in.Email != nil {
			if p.Email, err = usecase.MailAddress("email", *in.Email); err != nil {
				return none, err
			}
		}
		over, err := entitlement.OverShare(ctx, s.Base, tx, row.ID, old, share)
		if err != nil {
			return none, err
		}
		if len(over) > 0 && in.Over != "keep" && a.Preview == nil {
			return none, refusal.New(refusal.NeedsDecision, "more is given out than the new share has: %s. Decide to "+
				"keep what is given out (over: keep; client: --keep-over), or leave the share larger",
				language.Join(over, "; ")).Choose(refusal.Decision("over", "keep", "what is given out stays; no "+
				"account "+
				"can use more than the share itself, and nothing more can be given out until it fits again"))
		}
		a.Summarize("change reseller %s", name)
		for _, text := range over {
			a.Note("over the new share: %s", text)
		}
		accounts, err := tx.AccountsOfReseller(ctx, &row.ID)
		if err != nil {
			return none, err
		}
		var ids []int64
		for _, account := range accounts {
			ids = append(ids, account.ID)
		}
		locked, err := usecase.LockAccountRows(ctx, tx, ids)
		if err != nil {
			return none, err
		}
		before, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, locked)
		if err != nil {
			return none, err
		}
		after, err := tx.ChangeReseller(ctx, p)
		if err != nil {
			return none, err
		}
		if err := entitlement.SaveShare(ctx, tx, row.ID, share); err != nil {
			return none, err
		}
		entitlements, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, locked)
		if err != nil {
			return none, err
		}
		var changed []int64
		for i := range entitlements {
			e := entitlement.Effect(a, before[i], entitlements[i])
			if a.Preview != nil && len(a.Preview.Effects) < usecase.MaxEffects && len(e.Gains)+len(e.Losses) > 0 {
				a.Preview.Effects = append(a.Preview.Effects, e)
			}
			if entitlement.ChangesServer(before[i], entitlements[i]) {
				changed = append(changed, locked[i].ID)
			}
		}
		if _, err := s.rollout.ApplyAccounts(ctx, tx, a, "reseller.change", usecase.AboutReseller(after),
			changed); err != nil {
			return none, err
		}
		if err := usecase.Record(ctx, tx, a, "reseller.change", usecase.AboutReseller(after),
			recordOfReseller(row, old), recordOfReseller(after, share)); err != nil {
			return none, err
		}
		return s.resellerIn(ctx, tx.Queries, a, name)
	})
}

// RemoveReseller removes a reseller without customers.
//
// Refusals: InUse, NotFound.
// Locks: the reseller.
func (s *Service) RemoveReseller(ctx context.Context, a usecase.Actor, name string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		row, err := usecase.LockReseller(ctx, tx, a, name)
		if err != nil {
			return err
		}
		v, err := s.resellerIn(ctx, tx.Queries, a, name)
		if err != nil {
			return err
		}
		if v.Customers > 0 || v.Accounts > 0 {
			return refusal.New(refusal.InUse, "%s has %s with %s; remove them first", name,
				usecase.Counted(int(v.Customers), "customer"), usecase.Counted(int(v.Accounts), "account"))
		}
		share, err := entitlement.LoadShare(ctx, tx.Queries, row.ID)
		if err != nil {
			return err
		}
		rows, err := tx.PlansOfReseller(ctx, &row.ID)
		if err != nil {
			return err
		}
		for _, plan := range rows {
			if err := tx.RemovePlan(ctx, plan.ID); err != nil {
				return err
			}
		}
		a.Summarize("remove reseller %s with %s, and whoever signs in for them", name,
			usecase.Counted(len(rows), "plan"))
		if err := tx.RemoveTemplatesOf(ctx, &row.ID); err != nil {
			return err
		}
		if err := tx.RemoveReseller(ctx, row.ID); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "reseller.remove", usecase.AboutReseller(row), recordOfReseller(row, share),
			nil)
	})
}
