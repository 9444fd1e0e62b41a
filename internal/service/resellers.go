package service

import (
	"context"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// findReseller finds a reseller whom the actor may see.
func (s *Service) findReseller(ctx context.Context, q *db.Queries, a Actor, name string) (db.Reseller, error) {
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: name, Scope: a.ResellerID})
	if store.None(err) {
		return row, notFound("reseller", name)
	}
	return row, err
}

func (s *Service) lockReseller(ctx context.Context, tx store.Tx, a Actor, name string) (db.Reseller, error) {
	row, err := s.findReseller(ctx, tx.Queries, a, name)
	if err != nil {
		return row, err
	}
	return lockResellerByID(ctx, tx, row.ID)
}

func lockResellerByID(ctx context.Context, tx store.Tx, reseller int64) (db.Reseller, error) {
	row, err := tx.LockReseller(ctx, reseller)
	if store.None(err) {
		err = refusal.New(refusal.NotFound, "the reseller was removed meanwhile").On("reseller")
	}
	return row, err
}

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

func aboutReseller(row db.Reseller) subject { return about("reseller %s", row.Name).of(&row.ID) }

// keepShare writes a share's limits and features.
func keepShare(ctx context.Context, tx store.Tx, reseller int64, share plans.Share) error {
	keys, amounts := columns(share.Limits)
	if err := tx.KeepShareLimits(ctx, db.KeepShareLimitsParams{Reseller: reseller, Keys: keys, Amounts: amounts}); err != nil {
		return err
	}
	if err := tx.ForgetShareFeatures(ctx, reseller); err != nil {
		return err
	}
	return tx.AddShareFeatures(ctx, db.AddShareFeaturesParams{Reseller: reseller, Features: switchedOn(share.Features)})
}

// AddReseller adds a reseller with their share.
func (s *Service) AddReseller(ctx context.Context, a Actor, in api.NewReseller) (api.Reseller, error) {
	if err := plans.CheckName("reseller", in.Name); err != nil {
		return api.Reseller{}, err
	}
	if in.Measure == "" {
		in.Measure = string(plans.Allotted)
	}
	share, err := plans.CheckShare(plans.Share{Reseller: in.Name, Measure: plans.Measure(in.Measure), Limits: in.Limits, Features: in.Features})
	if err != nil {
		return api.Reseller{}, err
	}
	p := db.AddResellerParams{Name: in.Name, Title: oneLine(in.Title), Measure: in.Measure}
	if p.Title == "" {
		return api.Reseller{}, refusal.Input("title", "a reseller needs a title, as people read it")
	}
	if p.Email, err = mailAddress("email", in.Email); err != nil {
		return api.Reseller{}, err
	}
	return change(ctx, s, a, func(tx store.Tx) (api.Reseller, error) {
		row, err := tx.AddReseller(ctx, p)
		if store.Violated(err) == "resellers_name" {
			return api.Reseller{}, refusal.New(refusal.NameTaken, "there is a reseller %q already; choose another name", in.Name).On("name")
		}
		if err != nil {
			return api.Reseller{}, err
		}
		if err := keepShare(ctx, tx, row.ID, share); err != nil {
			return api.Reseller{}, err
		}
		a.say("add reseller %s", row.Name)
		if err := record(ctx, tx, a, "reseller.add", aboutReseller(row), nil, recordOfReseller(row, share)); err != nil {
			return api.Reseller{}, err
		}
		return s.resellerIn(ctx, tx.Queries, a, row.Name)
	})
}

// Reseller returns one reseller.
func (s *Service) Reseller(ctx context.Context, a Actor, name string) (api.Reseller, error) {
	if _, err := s.findReseller(ctx, s.store.Queries, a, name); err != nil {
		return api.Reseller{}, err
	}
	return s.resellerIn(ctx, s.store.Queries, a, name)
}

func (s *Service) resellerIn(ctx context.Context, q *db.Queries, a Actor, name string) (api.Reseller, error) {
	row, err := q.FindReseller(ctx, db.FindResellerParams{Name: name})
	if err != nil {
		return api.Reseller{}, err
	}
	rows, err := q.Resellers(ctx, db.ResellersParams{Scope: row.ID, Most: 1})
	if err != nil || len(rows) == 0 {
		return api.Reseller{}, err
	}
	share, err := loadShare(ctx, q, row.ID)
	return resellerView(rows[0], share), err
}

func resellerView(row db.ResellersRow, share plans.Share) api.Reseller {
	r := row.Reseller
	v := api.Reseller{Name: r.Name, Title: r.Title, Measure: r.Measure, Limits: share.Limits, Features: share.Features,
		Accounts: row.Accounts, Customers: row.Customers, Plans: row.Plans, With: r.SuspendedAccounts, NameServers: nonNil(r.NameServers), Version: r.Version}
	if r.Email != nil {
		v.Email = *r.Email
	}
	if r.SuspendedAt != nil {
		v.Suspension = &api.Suspension{Why: *r.SuspendedWhy, By: *r.SuspendedBy, Since: *r.SuspendedAt}
	}
	return v
}

// Resellers returns a page of resellers in the order of their names.
func (s *Service) Resellers(ctx context.Context, a Actor, search, next string, most int) (api.ResellerPage, error) {
	page := api.ResellerPage{Resellers: []api.Reseller{}}
	p := db.ResellersParams{Scope: a.ResellerID, Search: escapeLike(strings.TrimSpace(search)), Most: int32(most + 1)}
	if err := ReadCursor(next, &p.After); err != nil {
		return page, err
	}
	rows, err := s.store.Resellers(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = cursor(rows[most-1].Reseller.Name)
	}
	var listed []db.Reseller
	for _, row := range rows {
		listed = append(listed, row.Reseller)
	}
	shares, err := loadShares(ctx, s.store.Queries, listed)
	for _, row := range rows {
		page.Resellers = append(page.Resellers, resellerView(row, shares[row.Reseller.ID]))
	}
	return page, err
}

// Share returns a reseller's share with both sums and what remains, all of one moment.
func (s *Service) Share(ctx context.Context, a Actor, name string) (api.Share, error) {
	row, err := s.findReseller(ctx, s.store.Queries, a, name)
	if err != nil {
		return api.Share{}, err
	}
	out := api.Share{Reseller: row.Name, Title: row.Title, Measure: row.Measure, Lines: []api.ShareLine{}}
	err = s.store.Snapshot(ctx, func(q *db.Queries) error {
		shares, err := loadShares(ctx, q, []db.Reseller{row})
		if err != nil {
			return err
		}
		share := shares[row.ID]
		given, err := s.givenBy(ctx, q, row.ID, 0)
		if err != nil {
			return err
		}
		used, err := usageOfReseller(ctx, q, row.ID, 0)
		if err != nil {
			return err
		}
		for _, l := range share.Lines(given, used) {
			out.Lines = append(out.Lines, api.ShareLine{Key: string(l.Info.Key), Unit: string(l.Info.Unit), What: l.Info.What, Bound: l.Info.Bound,
				Share: column(l.Share), Allotted: column(l.Allotted), Used: l.Used, Left: column(l.Left), Over: l.Over})
		}
		out.Features = switchedOn(share.Features)
		out.Accounts, err = q.CountAccountsOfReseller(ctx, &row.ID)
		return err
	})
	return out, err
}

// ChangeReseller changes a reseller and their share. A share below what is given out needs a decision. Version is
// the one the caller has seen, or 0.
func (s *Service) ChangeReseller(ctx context.Context, a Actor, name string, version int64, in api.ResellerChange) (api.Reseller, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.Reseller, error) {
		none := api.Reseller{}
		row, err := s.lockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		if err := unchanged("reseller "+name, version, row.Version); err != nil {
			return none, err
		}
		old, err := loadShare(ctx, tx.Queries, row.ID)
		if err != nil {
			return none, err
		}
		share := old
		if in.Measure != "" {
			share.Measure = plans.Measure(in.Measure)
		}
		as, err := plans.Plan{Name: "share", Limits: old.Limits, Features: old.Features}.With("", in.Limits, in.Features)
		if err != nil {
			return none, err
		}
		share.Limits, share.Features = as.Limits, as.Features
		p := db.ChangeResellerParams{ID: row.ID, Title: row.Title, Email: row.Email, Measure: string(share.Measure)}
		if title := oneLine(in.Title); title != "" {
			p.Title = title
		}
		if in.Email != nil {
			if p.Email, err = mailAddress("email", *in.Email); err != nil {
				return none, err
			}
		}
		over, err := s.overShare(ctx, tx, row.ID, old, share)
		if err != nil {
			return none, err
		}
		if len(over) > 0 && in.Over != "keep" && a.Preview == nil {
			r := refusal.New(refusal.NeedsDecision, "more is given out than the new share has: %s. Decide to keep what is given out (over: keep; client: --keep-over), or leave the share larger", strings.Join(over, "; "))
			r.Decide = []refusal.Choice{{Field: "over", Value: "keep", Means: "what is given out stays; no account can use more than the share itself, and nothing more can be given out until it fits again"}}
			return none, r
		}
		a.say("change reseller %s", name)
		for _, text := range over {
			a.note("over the new share: " + text)
		}
		accounts, err := tx.AccountsOfReseller(ctx, &row.ID)
		if err != nil {
			return none, err
		}
		var ids []int64
		for _, account := range accounts {
			ids = append(ids, account.ID)
		}
		locked, err := tx.LockAccounts(ctx, ids)
		if err != nil {
			return none, err
		}
		before, err := s.standingsOf(ctx, tx.Queries, locked)
		if err != nil {
			return none, err
		}
		after, err := tx.ChangeReseller(ctx, p)
		if err != nil {
			return none, err
		}
		if err := keepShare(ctx, tx, row.ID, share); err != nil {
			return none, err
		}
		standings, err := s.standingsOf(ctx, tx.Queries, locked)
		if err != nil {
			return none, err
		}
		var changed []int64
		for i := range standings {
			e := effect(before[i], standings[i])
			if a.Preview != nil && len(a.Preview.effects) < mostEffects && len(e.Gains)+len(e.Losses) > 0 {
				a.Preview.effects = append(a.Preview.effects, e)
			}
			if onServer(before[i], standings[i]) {
				changed = append(changed, locked[i].ID)
			}
		}
		if _, err := s.applyAll(ctx, tx, a, "reseller.change", aboutReseller(after), changed); err != nil {
			return none, err
		}
		if err := record(ctx, tx, a, "reseller.change", aboutReseller(after), recordOfReseller(row, old), recordOfReseller(after, share)); err != nil {
			return none, err
		}
		return s.resellerIn(ctx, tx.Queries, a, name)
	})
}

// overShare tells what a new share would be below, that the old one was not: sums, and plans of the reseller.
func (s *Service) overShare(ctx context.Context, tx store.Tx, reseller int64, old, share plans.Share) ([]string, error) {
	given, err := s.givenBy(ctx, tx.Queries, reseller, 0)
	if err != nil {
		return nil, err
	}
	used, err := usageOfReseller(ctx, tx.Queries, reseller, 0)
	if err != nil {
		return nil, err
	}
	var over []string
	was := old.Lines(given, used)
	for i, l := range share.Lines(given, used) {
		if l.Over && !(was[i].Over && l.Share == was[i].Share) {
			taken, how := l.Allotted, "allotted"
			if l.Info.Bound {
				how = "given to an account"
			} else if share.Measure == plans.Used {
				taken, how = plans.Of(l.Used), "used"
			}
			over = append(over, l.Info.What+" "+taken.Format(l.Info.Unit)+" "+how+", "+l.Share.Format(l.Info.Unit)+" in the share")
		}
	}
	rows, err := tx.PlansOfReseller(ctx, &reseller)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		plan, err := loadPlan(ctx, tx.Queries, row.ID, row.Name)
		if err != nil {
			return nil, err
		}
		if old.CheckPlan(plan) == nil && share.CheckPlan(plan) != nil {
			over = append(over, "plan "+row.Name+" gives more than the share")
		}
	}
	return over, nil
}

// RemoveReseller removes a reseller without customers.
func (s *Service) RemoveReseller(ctx context.Context, a Actor, name string) error {
	return do(ctx, s, a, func(tx store.Tx) error {
		row, err := s.lockReseller(ctx, tx, a, name)
		if err != nil {
			return err
		}
		v, err := s.resellerIn(ctx, tx.Queries, a, name)
		if err != nil {
			return err
		}
		if v.Customers > 0 || v.Accounts > 0 {
			return refusal.New(refusal.InUse, "%s has %s with %s; remove them first", name, counted(int(v.Customers), "customer"), counted(int(v.Accounts), "account"))
		}
		share, err := loadShare(ctx, tx.Queries, row.ID)
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
		a.say("remove reseller %s with %s, and whoever signs in for them", name, counted(len(rows), "plan"))
		if err := tx.RemoveTemplatesOf(ctx, &row.ID); err != nil {
			return err
		}
		if err := tx.RemoveReseller(ctx, row.ID); err != nil {
			return err
		}
		return record(ctx, tx, a, "reseller.remove", aboutReseller(row), recordOfReseller(row, share), nil)
	})
}

// SuspendReseller keeps a reseller from signing in; their accounts stay as they are, or are suspended with them.
func (s *Service) SuspendReseller(ctx context.Context, a Actor, name string, in api.SuspendReseller) (api.ResellerSuspended, error) {
	why := strings.TrimSpace(in.Why)
	if why == "" {
		return api.ResellerSuspended{}, refusal.Input("why", "say why; they are told when they try to sign in")
	}
	return s.switchReseller(ctx, a, name, "reseller.suspend", func(row db.Reseller) (db.SuspendResellerParams, error) {
		if row.SuspendedAt != nil {
			return db.SuspendResellerParams{}, refusal.New(refusal.WrongState, "%s is suspended already", name)
		}
		if in.Accounts == "suspend" {
			a.say("suspend reseller %s, and all their accounts: visitors see a notice", name)
		} else {
			a.say("suspend reseller %s; their accounts stay as they are", name)
		}
		return db.SuspendResellerParams{ID: row.ID, By: &a.Name, Why: &why, WithAccounts: in.Accounts == "suspend"}, nil
	})
}

// ResumeReseller lets a reseller, and accounts that were suspended with them, go on.
func (s *Service) ResumeReseller(ctx context.Context, a Actor, name string) (api.ResellerSuspended, error) {
	return s.switchReseller(ctx, a, name, "reseller.resume", func(row db.Reseller) (db.SuspendResellerParams, error) {
		if row.SuspendedAt == nil {
			return db.SuspendResellerParams{}, refusal.New(refusal.WrongState, "%s is not suspended", name)
		}
		a.say("resume reseller %s", name)
		return db.SuspendResellerParams{ID: row.ID}, nil
	})
}

func (s *Service) switchReseller(ctx context.Context, a Actor, name, kind string, fn func(db.Reseller) (db.SuspendResellerParams, error)) (api.ResellerSuspended, error) {
	return change(ctx, s, a, func(tx store.Tx) (api.ResellerSuspended, error) {
		none := api.ResellerSuspended{}
		row, err := s.lockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		p, err := fn(row)
		if err != nil {
			return none, err
		}
		after, err := tx.SuspendReseller(ctx, p)
		if err != nil {
			return none, err
		}
		if err := record(ctx, tx, a, kind, aboutReseller(row), suspensionRecord(row), suspensionRecord(after)); err != nil {
			return none, err
		}
		out := api.ResellerSuspended{}
		if row.SuspendedAccounts || after.SuspendedAccounts {
			accounts, err := tx.AccountsOfReseller(ctx, &row.ID)
			if err != nil {
				return none, err
			}
			var ids []int64
			for _, account := range accounts {
				ids = append(ids, account.ID)
			}
			if _, err := tx.LockAccounts(ctx, ids); err != nil {
				return none, err
			}
			out.Accounts = int64(len(ids))
			if out.Operation, err = s.applyAll(ctx, tx, a, kind, aboutReseller(row), ids); err != nil {
				return none, err
			}
		}
		out.Reseller, err = s.resellerIn(ctx, tx.Queries, a, name)
		return out, err
	})
}

func suspensionRecord(row db.Reseller) any {
	if row.SuspendedAt == nil {
		return nil
	}
	return map[string]any{"why": *row.SuspendedWhy, "with_accounts": row.SuspendedAccounts}
}

// A suspended account's sites show a notice.
// SuspensionPart is whether the account is switched off, by itself or with its reseller. Parts that
// leave something out then come after it.
func (s *Service) SuspensionPart() Part {
	return Part{Name: "suspension", Fill: func(ctx context.Context, q *db.Queries, st standing, m *Manifests) error {
		home := m.Home()
		home.Suspended = st.account.SuspendedAt != nil
		if st.account.ResellerID == nil || home.Suspended {
			return nil
		}
		row, err := q.ResellerByID(ctx, *st.account.ResellerID)
		home.Suspended = row.SuspendedAccounts
		return err
	}}
}
