package plans

import (
	"slices"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Terms are what an account was sold: the limits and features of its plan, or
// those on which it is held.
type Terms struct {
	Limits   Limits
	Features Features
	// Source says in words where they come from, such as "plan harbour".
	Source language.Text
}

// Exception is a limit or a feature set by hand on one account, over its terms.
// It names either a limit with its amount, or a feature and whether it is on.
type Exception struct {
	Limit  Key
	Amount Amount

	Feature Feature
	On      bool

	// Author is who set it, Reason why, At when.
	Author, Reason string
	At             time.Time
	// EndsAt is when the value of the terms returns; nil is never.
	EndsAt *time.Time
}

// InForce reports whether the exception is in force at a moment.
func (e Exception) InForce(now time.Time) bool { return e.EndsAt == nil || now.Before(*e.EndsAt) }

func (e Exception) source() language.Text {
	if e.EndsAt != nil {
		return language.New("exception by %s until %s", e.Author, e.EndsAt.UTC().Format(time.DateOnly))
	}
	return language.New("exception by %s", e.Author)
}

// Allowed is one limit of an allowance: how much, and where that comes from.
type Allowed struct {
	Amount
	// Source says where the amount comes from, such as "plan harbour".
	Source language.Text
	// RaisedBy says who can raise it, and how.
	RaisedBy refusal.Remedy
}

// Granted is one feature of an allowance.
type Granted struct {
	On     bool
	Source language.Text
}

// Allowance is what an account may use in the end.
type Allowance struct {
	Limits   map[Key]Allowed
	Features map[Feature]Granted
}

// AllowanceOf returns the allowance of an account at a moment: its terms, then
// its exceptions, then what the reseller's share leaves. Room is nil for an
// account without a reseller. In which order the exceptions are given does not matter.
func AllowanceOf(t Terms, exceptions []Exception, room *Headroom, now time.Time) Allowance {
	a := Allowance{Limits: map[Key]Allowed{}, Features: map[Feature]Granted{}}
	who := refusal.Operator
	if room != nil {
		who = refusal.Reseller
	}
	for _, info := range AllLimits {
		a.Limits[info.Key] = Allowed{Amount: t.Limits[info.Key], Source: t.Source,
			RaisedBy: refusal.Remedy{By: who, Do: language.New("choose another plan or set an exception")}}
	}
	for _, f := range AllFeatures {
		a.Features[f] = Granted{On: t.Features[f], Source: t.Source}
	}
	for _, e := range inForce(exceptions, now) {
		if e.Feature != "" {
			a.Features[e.Feature] = Granted{On: e.On, Source: e.source()}
		} else {
			a.Limits[e.Limit] = Allowed{Amount: e.Amount, Source: e.source(),
				RaisedBy: refusal.Remedy{By: who, Do: language.New("change the exception")}}
		}
	}
	if room != nil {
		room.bound(a)
	}
	return a
}

// inForce leaves one exception for each limit and feature: the one set last.
func inForce(exceptions []Exception, now time.Time) []Exception {
	type subject struct {
		limit   Key
		feature Feature
	}
	last := map[subject]Exception{}
	for _, e := range exceptions {
		s := subject{e.Limit, e.Feature}
		if before, there := last[s]; e.InForce(now) && (!there || e.later(before)) {
			last[s] = e
		}
	}
	list := make([]Exception, 0, len(last))
	for _, e := range last {
		list = append(list, e)
	}
	return list
}

// later orders exceptions for the same subject. Of two set at the same moment the
// one that gives more counts, so that there is an order at all.
func (e Exception) later(other Exception) bool {
	if !e.At.Equal(other.At) {
		return e.At.After(other.At)
	}
	return e.Amount.Above(other.Amount) || e.On && !other.On
}

// Admit refuses when more, on top of used, would pass what is allowed for key; all
// are in the limit's unit. The refusal tells value, source, use, what is left and who can raise it.
func (a Allowance) Admit(key Key, used, more int64) error {
	allowed := a.Limits[key]
	if more <= 0 || allowed.Allows(used+more) {
		return nil
	}
	info, _ := Info(key)
	left := allowed.Minus(used)
	r := refusal.New(refusal.LimitReached, "%s: %s allowed by %s, %s used, %s left, %s more asked for",
		info.Text(), allowed.Format(info.Unit), allowed.Source, Of(used).Format(info.Unit), left.Format(info.Unit),
		Of(more).Format(info.Unit)).Help(allowed.RaisedBy)
	r.Limits = []refusal.Limit{refusal.Limit{Key: string(key), Value: allowed.N, Used: used,
		Left: left.N}.From(allowed.Source)}
	return r
}

// Needs refuses when a feature is off. The refusal tells why and who can switch it on.
func (a Allowance) Needs(f Feature) error {
	granted := a.Features[f]
	if granted.On {
		return nil
	}
	return refusal.New(refusal.NotAllowed, "the feature %s is off by %s; another plan or an exception can switch it on",
		language.Plain(f.Title()), granted.Source)
}

// Amounts returns the allowance's limits without their sources.
func (a Allowance) Amounts() Limits {
	l := Limits{}
	for key, allowed := range a.Limits {
		l[key] = allowed.Amount
	}
	return l
}

// Delta is one limit or feature that two allowances differ in.
type Delta struct {
	// Limit is set for a limit, with the amounts; Feature for a
	// feature, of which More says whether it comes or goes.
	Limit         Key
	Before, After Amount
	Feature       Feature
	// More says that the account gains.
	More bool
}

// Text says the difference: "disk space 5G → 20G", "shell off".
func (d Delta) Text() language.Text {
	if d.Feature != "" {
		if d.More {
			return language.New("%s on", language.Plain(d.Feature.Title()))
		}
		return language.New("%s off", language.Plain(d.Feature.Title()))
	}
	info, _ := Info(d.Limit)
	return language.New("%s %s → %s", info.Text(), d.Before.Format(info.Unit), d.After.Format(info.Unit))
}

// Difference lists what changes from one allowance to another, in the order of
// [AllLimits] and [AllFeatures].
func Difference(before, after Allowance) []Delta {
	var list []Delta
	for _, info := range AllLimits {
		b, a := before.Limits[info.Key].Amount, after.Limits[info.Key].Amount
		if a != b {
			list = append(list, Delta{Limit: info.Key, Before: b, After: a, More: a.Above(b)})
		}
	}
	for _, f := range AllFeatures {
		if on := after.Features[f].On; on != before.Features[f].On {
			list = append(list, Delta{Feature: f, More: on})
		}
	}
	return list
}

// Excess is a limit of which more is used than is allowed.
type Excess struct {
	Limit Key
	Value Amount
	Used  int64
}

// By is how much too much is used.
func (e Excess) By() int64 { return e.Used - e.Value.N }

// Text says the excess: "disk space 7.2G of 5G, 2.2G over".
func (e Excess) Text() language.Text {
	info, _ := Info(e.Limit)
	return language.New("%s %s of %s, %s over", info.Text(), Of(e.Used).Format(info.Unit), e.Value.Format(info.Unit),
		Of(e.By()).Format(info.Unit))
}

// Over lists the limits of which more is used than the allowance gives. Being over deletes
// nothing: it only stops growth.
func (a Allowance) Over(used map[Key]int64) []Excess {
	var list []Excess
	for _, info := range AllLimits {
		if n, counted := used[info.Key]; counted && !a.Limits[info.Key].Allows(n) {
			list = append(list, Excess{info.Key, a.Limits[info.Key].Amount, n})
		}
	}
	return list
}

// CheckException refuses an exception that could not be kept.
func CheckException(e Exception, now time.Time) error {
	switch {
	case e.Feature != "":
		if !slices.Contains(AllFeatures, e.Feature) {
			return refusal.Input("feature", "there is no feature %q", e.Feature)
		}
	default:
		if _, wrong := checkLimits(Limits{e.Limit: e.Amount}); len(wrong) > 0 {
			return refusal.Input("amount", "%s: %s", e.Limit, wrong[0].Message)
		}
	}
	if e.EndsAt != nil && !e.EndsAt.After(now) {
		return refusal.Input("ends_at", "the exception would have ended already; give a later end, or none")
	}
	return nil
}
