package entitlement

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Entitlement is everything that the core needs to say what an account may use.
type Entitlement struct {
	Account    db.Account
	Terms      plans.Terms
	Exceptions []plans.Exception
	Headroom   *plans.Headroom
	Used       map[plans.Key]int64
	now        time.Time
}

// Allowance is what the account may use.
func (st Entitlement) Allowance() plans.Allowance {
	return plans.AllowanceOf(st.Terms, st.Exceptions, st.Headroom, st.now)
}

// Allotted is what the account has been given out of its reseller's
// share: what counts there, whatever the share leaves.
func (st Entitlement) Allotted() plans.Limits {
	return plans.AllowanceOf(st.Terms, st.Exceptions, nil, st.now).Amounts()
}

// Admit refuses growth for which the account's allowance or the reseller's share has no room.
//
// Refusals: LimitReached.
func (st Entitlement) Admit(key plans.Key, more int64) error {
	if st.Headroom != nil {
		if err := st.Headroom.Share.AdmitUse(key, st.Used[key]+st.Headroom.Others[key], more); err != nil {
			return err
		}
	}
	err := st.Allowance().Admit(key, st.Used[key], more)
	if r := refusal.As(err); r != nil && r.Remedy != nil && r.Remedy.Command == "" {
		if st.Account.SignInName == "" { // it is only being opened
			r.Remedy.Do = language.New("choose another plan")
		} else {
			r.Remedy.Command = fmt.Sprintf("exception add %s --limit %s=VALUE --reason TEXT", st.Account.SignInName,
				key)
		}
	}
	return err
}

// FrozenTerms is what the column of that name holds.
type FrozenTerms struct {
	Plan     string         `json:"plan"`
	Limits   plans.Limits   `json:"limits"`
	Features plans.Features `json:"features"`
}

// ReadFrozenTerms reads an account's column; nil says that its plan's present terms hold.
func ReadFrozenTerms(column []byte) (*FrozenTerms, error) {
	if column == nil {
		return nil, nil
	}
	h := &FrozenTerms{}
	return h, json.Unmarshal(column, h)
}

// Load loads the entitlement of an account. In a transaction that is to change something,
// the account and its reseller must be locked.
func Load(ctx context.Context, s *usecase.Base, q *db.Queries, account db.Account) (Entitlement, error) {
	list, err := LoadMany(ctx, s, q, []db.Account{account})
	if err != nil {
		return Entitlement{}, err
	}
	return list[0], nil
}

// LoadMany loads the entitlements of many accounts at once.
func LoadMany(ctx context.Context, s *usecase.Base, q *db.Queries, accounts []db.Account) ([]Entitlement, error) {
	list, err := LoadTerms(ctx, s, q, accounts)
	if err != nil {
		return nil, err
	}
	if ids, at := opened(accounts); len(ids) > 0 {
		usage, err := q.UsageOf(ctx, ids)
		if err != nil {
			return nil, err
		}
		for _, row := range usage {
			list[at[row.AccountID]].Used[plans.Key(row.Key)] = row.Amount
		}
	}
	// What the others use is all that the reseller's accounts use but this one's.
	all := map[int64]map[plans.Key]int64{}
	for i := range list {
		if list[i].Headroom == nil {
			continue
		}
		reseller := *accounts[i].ResellerID
		if all[reseller] == nil {
			if all[reseller], err = UsageOfReseller(ctx, q, reseller, 0); err != nil {
				return nil, err
			}
		}
		others := maps.Clone(all[reseller])
		if accounts[i].ID != 0 {
			for key, n := range list[i].Used {
				others[key] -= n
			}
		}
		list[i].Headroom = &plans.Headroom{Share: list[i].Headroom.Share, Others: others}
	}
	return list, nil
}

// opened lists the numbers of accounts, and where each stands among them. One that is only about to
// be opened has none.
func opened(accounts []db.Account) (ids []int64, at map[int64]int) {
	at = map[int64]int{}
	for i, account := range accounts {
		if account.ID != 0 {
			ids = append(ids, account.ID)
			at[account.ID] = i
		}
	}
	return ids, at
}

// LoadTerms loads what many accounts may use, and not what is used: all that servers have to know.
// Each plan and each share is read once. Nothing can be admitted by what it returns.
func LoadTerms(ctx context.Context, s *usecase.Base, q *db.Queries, accounts []db.Account) ([]Entitlement, error) {
	list := make([]Entitlement, len(accounts))
	terms := map[int64]plans.Terms{}
	shares := map[int64]*plans.Headroom{}
	for i, account := range accounts {
		st := Entitlement{Account: account, Used: map[plans.Key]int64{plans.Domains: 0, plans.Subdomains: 0,
			plans.Mirrors: 0}, now: s.Now()}
		t, known := terms[account.PlanID]
		if !known {
			row, err := q.PlanByID(ctx, account.PlanID)
			if err != nil {
				return nil, err
			}
			plan, err := LoadPlan(ctx, q, row.ID, row.Name)
			if err != nil {
				return nil, err
			}
			t = plan.Terms(row.Name)
			terms[account.PlanID] = t
		}
		h, err := ReadFrozenTerms(account.FrozenTerms)
		if err != nil {
			return nil, err
		}
		if h != nil {
			t = plans.Terms{Limits: h.Limits, Features: h.Features,
				Source: language.New("limits frozen on %s, from plan %s",
					account.FrozenAt.UTC().Format(time.DateOnly), h.Plan)}
		}
		st.Terms = t
		if account.ResellerID != nil {
			share, known := shares[*account.ResellerID]
			if !known {
				loaded, err := LoadShare(ctx, q, *account.ResellerID)
				if err != nil {
					return nil, err
				}
				share = &plans.Headroom{Share: loaded}
				shares[*account.ResellerID] = share
			}
			st.Headroom = share
		}
		list[i] = st
	}
	ids, at := opened(accounts)
	if len(ids) == 0 {
		return list, nil
	}
	exceptions, err := q.ExceptionsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, row := range exceptions {
		st := &list[at[row.AccountID]]
		st.Exceptions = append(st.Exceptions, ExceptionOf(row))
	}
	return list, nil
}

// ExceptionOf reads a row.
func ExceptionOf(row db.Exception) plans.Exception {
	e := plans.Exception{Author: row.Author, Reason: row.Reason, At: row.SetAt, EndsAt: row.EndsAt}
	if row.LimitKey != nil {
		e.Limit, e.Amount = plans.Key(*row.LimitKey), AmountOf(row.Amount)
	} else {
		e.Feature, e.On = plans.Feature(*row.Feature), *row.SwitchedOn
	}
	return e
}

// measured are the limits whose use is measured on the server, not counted in the records.
var measured = []plans.Key{plans.Disk, plans.Files, plans.Traffic}

// allowanceViews turns an entitlement into documents.
func (st Entitlement) Views(a usecase.Actor) (limits []api.Allowed, features []api.Granted) {
	allowance := st.Allowance()
	for _, info := range plans.AllLimits {
		allowed := allowance.Limits[info.Key]
		v := api.Allowed{Key: string(info.Key), Unit: string(info.Unit), Title: info.Text().In(a.Language),
			Bound:  info.Bound,
			Value:  ColumnOf(allowed.Amount),
			Source: allowed.Source.In(a.Language), RaisedBy: allowed.RaisedBy.For(string(a.Role)).In(a.Language)}
		used, known := st.Used[info.Key]
		if !info.Bound && (known || !slices.Contains(measured, info.Key)) {
			v.Used, v.Left = &used, ColumnOf(allowed.Minus(used))
		}
		limits = append(limits, v)
	}
	for _, f := range plans.AllFeatures {
		granted := allowance.Features[f]
		features = append(features, api.Granted{Feature: string(f), Title: language.Plain(f.Title()).In(a.Language),
			On:     granted.On,
			Source: granted.Source.In(a.Language)})
	}
	return limits, features
}

// AmountOf reads a limit's column, where null is unlimited.
func AmountOf(column *int64) plans.Amount {
	if column == nil {
		return plans.Unlimited
	}
	return plans.Of(*column)
}

// ColumnOf is the opposite of amount.
func ColumnOf(a plans.Amount) *int64 {
	if a.Unlimited {
		return nil
	}
	return &a.N
}

// ColumnsOf turns limits into keys and amounts for a query, in which -1 is unlimited.
func ColumnsOf(limits plans.Limits) (keys []string, amounts []int64) {
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

// SwitchedOn lists the features that are on, in the order of [plans.AllFeatures].
func SwitchedOn(features plans.Features) []string {
	on := []string{}
	for _, f := range plans.AllFeatures {
		if features[f] {
			on = append(on, string(f))
		}
	}
	return on
}

// Effect tells the actor what a change means for an account, from its entitlement before and after.
func Effect(a usecase.Actor, before, after Entitlement) api.Effect {
	was, is := before.Allowance(), after.Allowance()
	e := api.Effect{Account: before.Account.SignInName, Name: usecase.Unicode(before.Account.MainDomain),
		Gains: []string{}, Losses: []string{}, Over: []string{}}
	for _, d := range plans.Difference(was, is) {
		if d.More {
			e.Gains = append(e.Gains, d.Text().In(a.Language))
		} else {
			e.Losses = append(e.Losses, d.Text().In(a.Language))
		}
	}
	for _, x := range is.Over(after.Used) {
		e.Over = append(e.Over, x.Text().In(a.Language))
	}
	return e
}

// ChangesServer reports whether two entitlements differ in what a server has to know.
func ChangesServer(before, after Entitlement) bool {
	return before.ServerLimits() != after.ServerLimits()
}

// serverLimits is what an allowance decides on a server.
type serverLimits struct {
	Disk    plans.Amount
	Files   plans.Amount
	Workers int
	// Processes, Memory and CPU bound all that runs.
	Processes, Memory, CPU plans.Amount
	// MailboxSize, SendsPerHour and BounceShare are of mail.
	MailboxSize, SendsPerHour, BounceShare plans.Amount
	// DatabaseSize is of all databases together.
	DatabaseSize plans.Amount
	Bounds       sites.Bounds
}

// maxWorkers is how many PHP requests at once "unlimited" means on a real server.
const maxWorkers = 50

// ServerLimits leaves aside what other accounts of the reseller use at the moment: a server cannot
// be told anew each time that changes.
func (st Entitlement) ServerLimits() serverLimits {
	room := st.Headroom
	if room != nil {
		share := room.Share
		share.Measure = plans.Allotted
		room = &plans.Headroom{Share: share}
	}
	limits := plans.AllowanceOf(st.Terms, st.Exceptions, room, st.now).Amounts()
	workers := limits[plans.PHPWorkers]
	if workers.Unlimited {
		workers.N = maxWorkers
	}
	return serverLimits{Disk: limits[plans.Disk], Files: limits[plans.Files],
		Workers:   int(min(max(workers.N, 1), maxWorkers)),
		Processes: limits[plans.Processes], Memory: limits[plans.Memory], CPU: limits[plans.CPU],
		MailboxSize: limits[plans.MailboxSize], SendsPerHour: limits[plans.SendsPerHour],
		BounceShare: limits[plans.BounceShare], DatabaseSize: limits[plans.DatabaseSize],
		Bounds: sites.BoundsOf(limits)}
}

// Lock locks an account, and its reseller before it, and loads its entitlement.
//
// Refusals: NotFound.
// Locks: the account, the reseller.
func Lock(ctx context.Context, s *usecase.Base, tx store.Tx, accountID int64) (Entitlement, error) {
	row, err := tx.Account(ctx, accountID)
	if err != nil {
		return Entitlement{}, err
	}
	if row.ResellerID != nil {
		if _, err := usecase.LockResellerByID(ctx, tx, *row.ResellerID); err != nil {
			return Entitlement{}, err
		}
	}
	if row, err = usecase.LockAccount(ctx, tx, accountID); err != nil {
		return Entitlement{}, err
	}
	return Load(ctx, s, tx.Queries, row)
}

// Has reports whether the account has a feature.
func (st Entitlement) Has(feature plans.Feature) bool { return st.Allowance().Features[feature].On }

// MissingFeature refuses what needs a feature that the account does not
// have, in a sentence that says what it is.
func (st Entitlement) MissingFeature(feature plans.Feature, sentence string) *refusal.Refusal {
	by := refusal.Operator
	if st.Account.ResellerID != nil {
		by = refusal.Reseller
	}
	return refusal.New(refusal.NotAllowed, "%s", language.Plain(sentence)).
		Help(refusal.Remedy{By: by, Do: language.New("switch it on"),
			Command: fmt.Sprintf("exception add %s --feature %s=on --reason TEXT", st.Account.SignInName, feature)})
}

// CheckChangeable refuses changes to an account that is on its way out, or suspended while somebody
// who cannot lift that wants to change it.
//
// Refusals: Suspended, WrongState.
func CheckChangeable(a usecase.Actor, account db.AccountRow) error {
	switch {
	case account.State == "closing" || account.State == "closed":
		return refusal.New(refusal.WrongState, "%s is %s; nothing about it can be changed", account.SignInName,
			usecase.Word(account.State))
	case account.Suspended && a.Role == rights.Customer:
		return refusal.New(refusal.Suspended,
			"%s is suspended (%s); nothing about it can be changed until it is resumed", account.SignInName,
			account.SuspendedWhy)
	}
	return nil
}

// LockToChange locks an account, and refuses if the actor may not
// change anything about it as it is.
//
// Refusals: NotFound, Suspended, WrongState.
// Locks: the account, the reseller.
func LockToChange(ctx context.Context, s *usecase.Base, tx store.Tx, a usecase.Actor, number int64) (Entitlement,
	error) {
	st, err := Lock(ctx, s, tx, number)
	if err != nil {
		return st, err
	}
	row, err := tx.AccountRow(ctx, number)
	if err != nil {
		return st, err
	}
	return st, CheckChangeable(a, row)
}
