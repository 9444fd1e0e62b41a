package service

import (
	"context"

	"victualler/internal/hosting/plans"
	"victualler/internal/store/db"
)

// loadShare reads a reseller's share.
func loadShare(ctx context.Context, q *db.Queries, reseller int64) (plans.Share, error) {
	row, err := q.ResellerByID(ctx, reseller)
	if err != nil {
		return plans.Share{}, err
	}
	shares, err := loadShares(ctx, q, []db.Reseller{row})
	return shares[reseller], err
}

// loadShares reads the shares of many resellers at once.
func loadShares(ctx context.Context, q *db.Queries, rows []db.Reseller) (map[int64]plans.Share, error) {
	shares := map[int64]plans.Share{}
	var ids []int64
	for _, row := range rows {
		ids = append(ids, row.ID)
		shares[row.ID] = plans.Share{Reseller: row.Name, Measure: plans.Measure(row.Measure), Limits: plans.Limits{}, Features: plans.Features{}}
		for _, f := range plans.AllFeatures {
			shares[row.ID].Features[f] = false
		}
	}
	limits, err := q.ShareLimits(ctx, ids)
	if err != nil {
		return shares, err
	}
	for _, l := range limits {
		shares[l.ResellerID].Limits[plans.Key(l.Key)] = amount(l.Amount)
	}
	features, err := q.ShareFeatures(ctx, ids)
	for _, f := range features {
		shares[f.ResellerID].Features[plans.Feature(f.Feature)] = true
	}
	return shares, err
}

// usageOfReseller sums what a reseller's accounts use, but for one.
func usageOfReseller(ctx context.Context, q *db.Queries, reseller, without int64) (map[plans.Key]int64, error) {
	rows, err := q.UsageOfReseller(ctx, db.UsageOfResellerParams{Reseller: &reseller, Without: without})
	used := map[plans.Key]int64{}
	for _, row := range rows {
		used[plans.Key(row.Key)] = row.Amount
	}
	return used, err
}

// givenBy sums what a reseller has given out, but for one account.
func (s *Service) givenBy(ctx context.Context, q *db.Queries, reseller, without int64) (plans.Limits, error) {
	var holdings []plans.Holding
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
	loaded, err := loadPlans(ctx, q, planIDs)
	if err != nil {
		return nil, err
	}
	for _, row := range plain {
		holdings = append(holdings, plans.Holding{Limits: loaded[row.PlanID].Limits, Count: row.Accounts})
	}
	byAccount := map[int64][]plans.Exception{}
	if len(ids) > 0 {
		exceptions, err := q.ExceptionsOf(ctx, ids)
		if err != nil {
			return nil, err
		}
		for _, row := range exceptions {
			byAccount[row.AccountID] = append(byAccount[row.AccountID], exceptionOf(row))
		}
	}
	for _, row := range others {
		terms := loaded[row.PlanID].Terms("")
		h, err := readHeld(row.Held)
		if err != nil {
			return nil, err
		}
		if h != nil {
			terms.Limits = h.Limits
		}
		given := plans.AllowanceOf(terms, byAccount[row.ID], nil, s.now()).Amounts()
		holdings = append(holdings, plans.Holding{Limits: given, Count: 1})
	}
	return plans.Given(holdings), nil
}

// admitGiven refuses to give an account of a reseller other limits than before, if the share does
// not allow it. Before is nil for an account that is to be opened. The reseller must be locked.
func (s *Service) admitGiven(ctx context.Context, q *db.Queries, before *standing, after standing) error {
	if after.room == nil {
		return nil
	}
	var had plans.Limits
	if before != nil {
		had = before.given()
	}
	others, err := s.givenBy(ctx, q, *after.account.ResellerID, after.account.ID)
	if err != nil {
		return err
	}
	return after.room.Share.AdmitGiven(others, had, after.given())
}
