package entitlement

import (
	"context"
	"slices"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// handedOut is what a reseller has given out before a change.
type handedOut struct {
	reseller int64
	before   plans.Limits
}

// AllottedOf sums what the resellers of accounts have given out.
func AllottedOf(ctx context.Context, s *usecase.Base, tx store.Tx, accounts []db.Account) ([]handedOut, error) {
	var list []handedOut
	for _, account := range accounts {
		if account.ResellerID == nil || slices.ContainsFunc(list, func(x handedOut) bool {
			return x.reseller == *account.ResellerID
		}) {
			continue
		}
		given, err := AllottedBy(ctx, s, tx.Queries, *account.ResellerID, 0)
		if err != nil {
			return nil, err
		}
		list = append(list, handedOut{*account.ResellerID, given})
	}
	return list, nil
}

// AdmitAllottedOf refuses a change by which what a reseller has given out grows beyond the share.
//
// Refusals: LimitReached.
func AdmitAllottedOf(ctx context.Context, s *usecase.Base, tx store.Tx, sums []handedOut) error {
	for _, x := range sums {
		share, err := LoadShare(ctx, tx.Queries, x.reseller)
		if err != nil {
			return err
		}
		after, err := AllottedBy(ctx, s, tx.Queries, x.reseller, 0)
		if err != nil {
			return err
		}
		if err := share.AdmitSums(x.before, after); err != nil {
			return err
		}
	}
	return nil
}

// SaveShare writes a share's limits and features.
func SaveShare(ctx context.Context, tx store.Tx, reseller int64, share plans.Share) error {
	keys, amounts := ColumnsOf(share.Limits)
	if err := tx.SaveShareLimits(ctx, db.SaveShareLimitsParams{Reseller: reseller, Keys: keys,
		Amounts: amounts}); err != nil {
		return err
	}
	if err := tx.DeleteShareFeatures(ctx, reseller); err != nil {
		return err
	}
	return tx.AddShareFeatures(ctx, db.AddShareFeaturesParams{Reseller: reseller, Features: SwitchedOn(share.Features)})
}

// OverShare tells what a new share would be below, that the old one was
// not: sums, and plans of the reseller.
//
// Refusals: LimitReached.
func OverShare(ctx context.Context, s *usecase.Base, tx store.Tx, reseller int64, old, share plans.Share) (
	[]language.Text, error) {
	given, err := AllottedBy(ctx, s, tx.Queries, reseller, 0)
	if err != nil {
		return nil, err
	}
	used, err := UsageOfReseller(ctx, tx.Queries, reseller, 0)
	if err != nil {
		return nil, err
	}
	var over []language.Text
	was := old.Lines(given, used)
	for i, l := range share.Lines(given, used) {
		if l.Over && !(was[i].Over && l.Share == was[i].Share) {
			title, allotted, most := l.Info.Text(), l.Allotted.Format(l.Info.Unit), l.Share.Format(l.Info.Unit)
			text := language.New("%s %s allotted, %s in the share", title, allotted, most)
			if l.Info.Bound {
				text = language.New("%s %s given to an account, %s in the share", title, allotted, most)
			} else if share.Measure == plans.Used {
				text = language.New("%s %s used, %s in the share", title, plans.Of(l.Used).Format(l.Info.Unit), most)
			}
			over = append(over, text)
		}
	}
	rows, err := tx.PlansOfReseller(ctx, &reseller)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		plan, err := LoadPlan(ctx, tx.Queries, row.ID, row.Name)
		if err != nil {
			return nil, err
		}
		if old.CheckPlan(plan) == nil && share.CheckPlan(plan) != nil {
			over = append(over, language.New("plan %s gives more than the share", row.Name))
		}
	}
	return over, nil
}

// LoadShare reads a reseller's share.
func LoadShare(ctx context.Context, q *db.Queries, reseller int64) (plans.Share, error) {
	row, err := q.ResellerByID(ctx, reseller)
	if err != nil {
		return plans.Share{}, err
	}
	shares, err := LoadShares(ctx, q, []db.Reseller{row})
	return shares[reseller], err
}

// LoadShares reads the shares of many resellers at once.
func LoadShares(ctx context.Context, q *db.Queries, rows []db.Reseller) (map[int64]plans.Share, error) {
	shares := map[int64]plans.Share{}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
		shares[row.ID] = plans.Share{Reseller: row.Name, Measure: plans.Measure(row.Measure), Limits: plans.Limits{},
			Features: plans.Features{}}
		for _, f := range plans.AllFeatures {
			shares[row.ID].Features[f] = false
		}
	}
	limits, err := q.ShareLimits(ctx, ids)
	if err != nil {
		return shares, err
	}
	for _, l := range limits {
		shares[l.ResellerID].Limits[plans.Key(l.Key)] = AmountOf(l.Amount)
	}
	features, err := q.ShareFeatures(ctx, ids)
	for _, f := range features {
		shares[f.ResellerID].Features[plans.Feature(f.Feature)] = true
	}
	return shares, err
}

// UsageOfReseller sums what a reseller's accounts use, but for one.
func UsageOfReseller(ctx context.Context, q *db.Queries, reseller, without int64) (map[plans.Key]int64, error) {
	rows, err := q.UsageOfReseller(ctx, db.UsageOfResellerParams{Reseller: &reseller, Without: without})
	used := map[plans.Key]int64{}
	for _, row := range rows {
		used[plans.Key(row.Key)] = row.Amount
	}
	return used, err
}

// AllottedBy sums what a reseller has given out, but for one account.
func AllottedBy(ctx context.Context, s *usecase.Base, q *db.Queries, reseller, without int64) (plans.Limits, error) {
	var holdings []plans.Allotment
	plain, err := q.PlainHoldings(ctx, db.PlainHoldingsParams{Reseller: &reseller, Without: without})
	if err != nil {
		return nil, err
	}
	others, err := q.OtherHoldings(ctx, db.OtherHoldingsParams{Reseller: &reseller, Without: without})
	if err != nil {
		return nil, err
	}
	var planIDs, ids []int64
	for _, row := range plain {
		planIDs = append(planIDs, row.PlanID)
	}
	for _, row := range others {
		planIDs, ids = append(planIDs, row.PlanID), append(ids, row.ID)
	}
	loaded, err := LoadPlans(ctx, q, planIDs)
	if err != nil {
		return nil, err
	}
	for _, row := range plain {
		holdings = append(holdings, plans.Allotment{Limits: loaded[row.PlanID].Limits, Count: row.Accounts})
	}
	byAccount := map[int64][]plans.Exception{}
	if len(ids) > 0 {
		exceptions, err := q.ExceptionsOf(ctx, ids)
		if err != nil {
			return nil, err
		}
		for _, row := range exceptions {
			byAccount[row.AccountID] = append(byAccount[row.AccountID], ExceptionOf(row))
		}
	}
	for _, row := range others {
		terms := loaded[row.PlanID].Terms("")
		h, err := ReadFrozenTerms(row.FrozenTerms)
		if err != nil {
			return nil, err
		}
		if h != nil {
			terms.Limits = h.Limits
		}
		given := plans.AllowanceOf(terms, byAccount[row.ID], nil, s.Now()).Amounts()
		holdings = append(holdings, plans.Allotment{Limits: given, Count: 1})
	}
	return plans.SumAllotted(holdings), nil
}

// AdmitAllotted refuses to give an account of a reseller other limits
// than before, if the share does not allow it. Before is nil for an
// account that is to be opened. The reseller must be locked.
//
// Refusals: LimitReached.
func AdmitAllotted(ctx context.Context, s *usecase.Base, q *db.Queries, before *Entitlement, after Entitlement) error {
	if after.Headroom == nil {
		return nil
	}
	var had plans.Limits
	if before != nil {
		had = before.Allotted()
	}
	others, err := AllottedBy(ctx, s, q, *after.Account.ResellerID, after.Account.ID)
	if err != nil {
		return err
	}
	return after.Headroom.Share.AdmitAllotted(others, had, after.Allotted())
}
