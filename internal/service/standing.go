package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// standing is everything that the core needs to say what an account may use.
type standing struct {
	account    db.Account
	terms      plans.Terms
	exceptions []plans.Exception
	room       *plans.Room
	used       map[plans.Key]int64
	now        time.Time
}

// allowance is what the account may use.
func (st standing) allowance() plans.Allowance {
	return plans.AllowanceOf(st.terms, st.exceptions, st.room, st.now)
}

// given is what the account has been given out of its reseller's share: what counts there, whatever the share leaves.
func (st standing) given() plans.Limits {
	return plans.AllowanceOf(st.terms, st.exceptions, nil, st.now).Amounts()
}

// admit refuses growth for which the account's allowance or the reseller's share has no room.
func (st standing) admit(key plans.Key, more int64) error {
	if st.room != nil {
		if err := st.room.Share.AdmitUse(key, st.used[key]+st.room.Others[key], more); err != nil {
			return err
		}
	}
	return st.allowance().Admit(key, st.used[key], more)
}

// held is what the column of that name holds.
type held struct {
	Plan     string         `json:"plan"`
	Limits   plans.Limits   `json:"limits"`
	Features plans.Features `json:"features"`
}

func readHeld(column []byte) (*held, error) {
	if column == nil {
		return nil, nil
	}
	h := &held{}
	return h, json.Unmarshal(column, h)
}

// standingOf loads the standing of an account. In a transaction that is to change something,
// the account and its reseller must be locked.
func (s *Service) standingOf(ctx context.Context, q *db.Queries, account db.Account) (standing, error) {
	list, err := s.standingsOf(ctx, q, []db.Account{account})
	if err != nil {
		return standing{}, err
	}
	return list[0], nil
}

// standingsOf loads the standing of many accounts at once.
func (s *Service) standingsOf(ctx context.Context, q *db.Queries, accounts []db.Account) ([]standing, error) {
	list := make([]standing, len(accounts))
	ids := make([]int64, len(accounts))
	at := map[int64]int{}
	terms := map[int64]plans.Terms{}
	rooms := map[int64]*plans.Room{}
	for i, account := range accounts {
		ids[i], at[account.ID] = account.ID, i
		st := standing{account: account, used: map[plans.Key]int64{plans.Domains: 0, plans.Subdomains: 0, plans.Mirrors: 0}, now: s.now()}
		t, known := terms[account.PlanID]
		if !known {
			row, err := q.PlanByID(ctx, account.PlanID)
			if err != nil {
				return nil, err
			}
			plan, err := loadPlan(ctx, q, row.ID, row.Name)
			if err != nil {
				return nil, err
			}
			t = plan.Terms(planRef("", row.Reseller, row.Name))
			terms[account.PlanID] = t
		}
		h, err := readHeld(account.Held)
		if err != nil {
			return nil, err
		}
		if h != nil {
			t = plans.Terms{Limits: h.Limits, Features: h.Features, Source: "hold of " + account.HeldAt.UTC().Format(time.DateOnly) + " on plan " + h.Plan}
		}
		st.terms = t
		if account.ResellerID != nil {
			room, known := rooms[*account.ResellerID]
			if !known {
				share, err := loadShare(ctx, q, *account.ResellerID)
				if err != nil {
					return nil, err
				}
				used, err := usageOfReseller(ctx, q, *account.ResellerID, 0)
				if err != nil {
					return nil, err
				}
				room = &plans.Room{Share: share, Others: used}
				rooms[*account.ResellerID] = room
			}
			st.room = room
		}
		list[i] = st
	}
	exceptions, err := q.ExceptionsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, row := range exceptions {
		st := &list[at[row.AccountID]]
		st.exceptions = append(st.exceptions, exceptionOf(row))
	}
	usage, err := q.UsageOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, row := range usage {
		list[at[row.AccountID]].used[plans.Key(row.Key)] = row.Amount
	}
	// What the others use is all that the reseller's accounts use but this one's.
	for i := range list {
		if all := list[i].room; all != nil {
			own := &plans.Room{Share: all.Share, Others: map[plans.Key]int64{}}
			for key, n := range all.Others {
				own.Others[key] = n
			}
			if accounts[i].ID != 0 {
				for key, n := range list[i].used {
					own.Others[key] -= n
				}
			}
			list[i].room = own
		}
	}
	return list, nil
}

func exceptionOf(row db.Exception) plans.Exception {
	e := plans.Exception{Author: row.Author, Reason: row.Reason, At: row.SetAt, EndsAt: row.EndsAt}
	if row.LimitKey != nil {
		e.Limit, e.Amount = plans.Key(*row.LimitKey), amount(row.Amount)
	} else {
		e.Feature, e.On = plans.Feature(*row.Feature), *row.SwitchedOn
	}
	return e
}

// measured are the limits whose use is measured on the server, not counted in the records.
var measured = []plans.Key{plans.Disk, plans.Files, plans.Traffic}

// allowanceViews turns a standing into documents.
func (st standing) views() (limits []api.Allowed, features []api.Granted) {
	allowance := st.allowance()
	for _, info := range plans.AllLimits {
		allowed := allowance.Limits[info.Key]
		v := api.Allowed{Key: string(info.Key), Unit: string(info.Unit), What: info.What, Bound: info.Bound, Value: column(allowed.Amount),
			Source: allowed.Source, RaisedBy: allowed.RaisedBy}
		used, known := st.used[info.Key]
		if !info.Bound && (known || !slices.Contains(measured, info.Key)) {
			v.Used, v.Left = &used, column(allowed.Minus(used))
		}
		limits = append(limits, v)
	}
	for _, f := range plans.AllFeatures {
		granted := allowance.Features[f]
		features = append(features, api.Granted{Feature: string(f), On: granted.On, Source: granted.Source})
	}
	return limits, features
}

// amount reads a limit's column, where null is unlimited.
func amount(column *int64) plans.Amount {
	if column == nil {
		return plans.Unlimited
	}
	return plans.Of(*column)
}

// column is the opposite of amount.
func column(a plans.Amount) *int64 {
	if a.Unlimited {
		return nil
	}
	return &a.N
}

// columns turns limits into keys and amounts for a query, in which -1 is unlimited.
func columns(limits plans.Limits) (keys []string, amounts []int64) {
	for key, a := range limits {
		keys = append(keys, string(key))
		if a.Unlimited {
			amounts = append(amounts, -1)
		} else {
			amounts = append(amounts, a.N)
		}
	}
	return keys, amounts
}

func switchedOn(features plans.Features) []string {
	on := []string{}
	for _, f := range plans.AllFeatures {
		if features[f] {
			on = append(on, string(f))
		}
	}
	return on
}

// effect tells what a change means for an account, from its standing before and after.
func effect(before, after standing) api.Effect {
	was, is := before.allowance(), after.allowance()
	e := api.Effect{Account: before.account.SignInName, Name: unicode(before.account.MainDomain), Gains: []string{}, Losses: []string{}, Over: []string{}}
	for _, d := range plans.Difference(was, is) {
		if d.More {
			e.Gains = append(e.Gains, d.String())
		} else {
			e.Losses = append(e.Losses, d.String())
		}
	}
	for _, x := range is.Over(after.used) {
		e.Over = append(e.Over, x.String())
	}
	return e
}

// onServer reports whether two standings differ in what a server has to know.
func onServer(before, after standing) bool { return before.parts() != after.parts() }

// parts is what an allowance decides on a server.
type parts struct {
	disk    plans.Amount
	workers int
	bounds  sites.Bounds
}

// mostWorkers is how many PHP requests at once "unlimited" means on a real server.
const mostWorkers = 50

// parts leaves aside what other accounts of the reseller use at the moment: a server cannot be told anew each time that changes.
func (st standing) parts() parts {
	room := st.room
	if room != nil {
		share := room.Share
		share.Measure = plans.Allotted
		room = &plans.Room{Share: share}
	}
	limits := plans.AllowanceOf(st.terms, st.exceptions, room, st.now).Amounts()
	workers := limits[plans.PHPWorkers]
	if workers.Unlimited {
		workers.N = mostWorkers
	}
	return parts{disk: limits[plans.Disk], workers: int(min(max(workers.N, 1), mostWorkers)), bounds: sites.BoundsOf(limits)}
}

// lockStanding locks an account, and its reseller before it, and loads its standing.
func (s *Service) lockStanding(ctx context.Context, tx store.Tx, accountID int64) (standing, error) {
	row, err := tx.Account(ctx, accountID)
	if err != nil {
		return standing{}, err
	}
	if row.ResellerID != nil {
		if _, err := lockResellerByID(ctx, tx, *row.ResellerID); err != nil {
			return standing{}, err
		}
	}
	if row, err = tx.LockAccount(ctx, accountID); err != nil {
		return standing{}, err
	}
	return s.standingOf(ctx, tx.Queries, row)
}

// planRef is how a plan is called: RESELLER.PLAN where it is a reseller's, PLAN for the reseller themselves.
func planRef(viewer, reseller, plan string) string {
	if reseller == "" || reseller == viewer {
		return plan
	}
	return fmt.Sprintf("%s.%s", reseller, plan)
}

// has reports whether the account has a feature.
func (st standing) has(feature plans.Feature) bool { return st.allowance().Features[feature].On }

// without refuses what needs a feature that the account does not have; what says what it is, such as “signing needs”.
func (st standing) without(what string, feature plans.Feature) *refusal.Refusal {
	return refusal.New(refusal.NotAllowed, "%s the feature %s, which this account does not have; %s can switch it on", what, feature, raiser(st))
}

func raiser(st standing) string {
	if st.account.ResellerID != nil {
		return "the reseller"
	}
	return "the operator"
}
