package plans

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func TestAdmitTellsAllFour(t *testing.T) {
	p, err := NewPlan("skiff", Limits{Domains: Of(2), Disk: Unlimited}, nil)
	require.NoError(t, err)
	a := AllowanceOf(p.Terms("skiff"), nil, nil, noon)
	assert.NoError(t, a.Admit(Domains, 1, 1))
	assert.NoError(t, a.Admit(Disk, 1<<50, 1<<50))
	assert.NoError(t, a.Admit(Domains, 7, 0), "being over blocks growth only")
	r := refusal.As(a.Admit(Domains, 2, 1))
	require.NotNil(t, r)
	assert.Equal(t, refusal.LimitReached, r.Kind)
	r = r.For("customer")
	limits, err := json.Marshal(r.Limits)
	require.NoError(t, err)
	assert.JSONEq(t, `[{"key": "domains", "value": 2, "used": 2, "left": 0, "source": "plan skiff",
		"raised_by": "an operator can choose another plan or set an exception"}]`, string(limits))
	assert.Contains(t, r.Detail, "2 allowed by plan skiff, 2 used, 0 left, 1 more asked for; an operator can choose "+
		"another "+
		"plan or set an exception")
	assert.True(t, refusal.Is(a.Needs("mail"), refusal.NotAllowed))
}

func TestExceptionsGoOverThePlanAndEnd(t *testing.T) {
	p, err := NewPlan("skiff", Limits{Disk: Of(GiB), Domains: Of(2)}, Features{"mail": true})
	require.NoError(t, err)
	end := noon.Add(time.Hour)
	list := []Exception{
		{Limit: Disk, Amount: Of(3 * GiB), Author: "mara", EndsAt: &end},
		{Feature: "mail", On: false, Author: "mara"},
		{Feature: "shell", On: true, Author: "jory"},
	}
	a := AllowanceOf(p.Terms("skiff"), list, nil, noon)
	assert.Equal(t, Of(3*GiB), a.Limits[Disk].Amount)
	assert.Equal(t, "exception by mara until 2026-03-01", a.Limits[Disk].Source.String())
	assert.Equal(t, "plan skiff", a.Limits[Domains].Source.String())
	assert.False(t, a.Features["mail"].On)
	assert.NoError(t, a.Needs("shell"))
	assert.Equal(t, Of(GiB), AllowanceOf(p.Terms("skiff"), list, nil, end).Limits[Disk].Amount,
		"at its end the plan's value returns")
}

func TestDifferenceAndOver(t *testing.T) {
	before := AllowanceOf(Terms{Limits: Limits{Disk: Of(5 * GiB), Domains: Of(5), Mailboxes: Unlimited},
		Features: Features{"shell": true}}, nil, nil, noon)
	after := AllowanceOf(Terms{Limits: Limits{Disk: Of(GiB), Domains: Unlimited, Mailboxes: Of(1)},
		Features: Features{"mail": true}}, nil, nil, noon)
	var words []string
	for _, d := range Difference(before, after) {
		words = append(words, d.Text().String())
	}
	assert.Equal(t, []string{"disk space 5G → 1G", "domains 5 → unlimited", "mailboxes unlimited → 1", "mail on",
		"shell access off"}, words)
	over := after.Over(map[Key]int64{Disk: 3 * GiB / 2, Domains: 7, Mailboxes: 1})
	require.Len(t, over, 1)
	assert.Equal(t, "disk space 1.5G of 1G, 512M over", over[0].Text().String())
}

func TestCheckException(t *testing.T) {
	past := noon.Add(-time.Second)
	assert.NoError(t, CheckException(Exception{Limit: Disk, Amount: Unlimited}, noon))
	for field, e := range map[string]Exception{
		"amount":  {Limit: BounceShare, Amount: Of(101)},
		"feature": {Feature: "sauna", On: true},
		"ends_at": {Feature: "mail", On: true, EndsAt: &past},
	} {
		r := refusal.As(CheckException(e, noon))
		require.NotNil(t, r, field)
		assert.Equal(t, field, r.Fields[0].Name)
	}
	assert.Error(t, CheckException(Exception{Limit: "colour"}, noon))
}

var anyAmount = rapid.Custom(func(t *rapid.T) Amount {
	if rapid.Bool().Draw(t, "unlimited") {
		return Unlimited
	}
	return Of(rapid.Int64Range(0, 100).Draw(t, "n"))
})

func anyLimits(t *rapid.T, label string) Limits {
	l := Limits{}
	for _, info := range AllLimits {
		l[info.Key] = anyAmount.Draw(t, label+" "+string(info.Key))
	}
	return l
}

func anyFeatures(t *rapid.T, label string) Features {
	f := Features{}
	for _, feature := range AllFeatures {
		f[feature] = rapid.Bool().Draw(t, label+" "+string(feature))
	}
	return f
}

var anyException = rapid.Custom(func(t *rapid.T) Exception {
	e := Exception{Author: rapid.SampledFrom([]string{"mara", "jory"}).Draw(t, "author"),
		At: noon.Add(-time.Duration(rapid.IntRange(0, 3).Draw(t, "hours ago")) * time.Hour)}
	if rapid.Bool().Draw(t, "limit") {
		e.Limit, e.Amount = rapid.SampledFrom(AllLimits).Draw(t, "key").Key, anyAmount.Draw(t, "amount")
	} else {
		e.Feature, e.On = rapid.SampledFrom(AllFeatures).Draw(t, "feature"), rapid.Bool().Draw(t, "on")
	}
	if rapid.Bool().Draw(t, "ends") {
		end := noon.Add(time.Duration(rapid.IntRange(-2, 2).Draw(t, "ends in")) * time.Hour)
		e.EndsAt = &end
	}
	return e
})

// amountsOf leaves the sources aside: which of two like exceptions is named does not matter.
func amountsOf(a Allowance) (Limits, Features) {
	f := Features{}
	for feature, granted := range a.Features {
		f[feature] = granted.On
	}
	return a.Amounts(), f
}

func TestPropertiesOfAllowances(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		terms := Terms{Limits: anyLimits(t, "plan"), Features: anyFeatures(t, "plan"), Source: language.New("plan p")}
		exceptions := rapid.SliceOfN(anyException, 0, 6).Draw(t, "exceptions")
		var room *Headroom
		if rapid.Bool().Draw(t, "reseller") {
			room = &Headroom{Share: Share{Reseller: "guillemot",
				Measure: rapid.SampledFrom([]Measure{Allotted, Used}).Draw(t, "measure"),
				Limits:  anyLimits(t, "share"), Features: anyFeatures(t, "share")}, Others: map[Key]int64{}}
			for _, info := range AllLimits {
				room.Others[info.Key] = rapid.Int64Range(0, 120).Draw(t, "others "+string(info.Key))
			}
		}
		limits, features := amountsOf(AllowanceOf(terms, exceptions, room, noon))

		// The order of exceptions is irrelevant.
		shuffled := rapid.Permutation(exceptions).Draw(t, "shuffled")
		l, f := amountsOf(AllowanceOf(terms, shuffled, room, noon))
		assert.Equal(t, limits, l)
		assert.Equal(t, features, f)

		for _, info := range AllLimits {
			got := limits[info.Key]
			if room != nil {
				// Never above the share, nor above what it leaves.
				if got.Above(room.Share.Limits[info.Key]) {
					t.Fatalf("%s %v is above the share", info.Key, got)
				}
				if room.Share.Measure == Used && !info.Bound &&
					got.Above(room.Share.Limits[info.Key].Minus(room.Others[info.Key])) {
					t.Fatalf("%s %v is above what the share leaves", info.Key, got)
				}
			} else {
				// Unlimited absorbs: used is always allowed, more too.
				if got.Unlimited && !got.Allows(1<<62) {
					t.Fatal("unlimited is limited")
				}
				// What no exception names is the plan's.
				if !slices.ContainsFunc(exceptions, func(e Exception) bool {
					return e.Limit == info.Key
				}) && got != terms.Limits[info.Key] {
					t.Fatalf("%s %v is not the plan's %v", info.Key, got, terms.Limits[info.Key])
				}
			}
		}

		// Adding an exception and removing it again restores what was.
		added := append(slices.Clone(exceptions), anyException.Draw(t, "added"))
		AllowanceOf(terms, added, room, noon)
		l, f = amountsOf(AllowanceOf(terms, added[:len(exceptions)], room, noon))
		assert.Equal(t, limits, l)
		assert.Equal(t, features, f)
	})
}

func TestAmountsAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := anyAmount.Draw(t, "a"), anyAmount.Draw(t, "b"), anyAmount.Draw(t, "c")
		assert.Equal(t, a.Plus(b), b.Plus(a))
		assert.Equal(t, a.Plus(b).Plus(c), a.Plus(b.Plus(c)))
		assert.Equal(t, Unlimited, a.Plus(Unlimited), "unlimited absorbs")
		n := rapid.Int64Range(0, 9).Draw(t, "n")
		sum := Of(0)
		for range n {
			sum = sum.Plus(a)
		}
		assert.Equal(t, sum, a.Times(n))
		assert.False(t, a.Above(b) && b.Above(a))
		assert.Equal(t, a == b, !a.Above(b) && !b.Above(a))
		assert.False(t, a.Above(a.Plus(b)))
	})
	assert.Equal(t, Unlimited, Of(1<<62).Times(3), "more than any machine has")
	assert.Equal(t, Unlimited, Of(1<<62).Plus(Of(1<<62)))
}

func TestShares(t *testing.T) {
	share := Share{Reseller: "guillemot", Measure: Allotted, Limits: Limits{Disk: Of(100 * GiB), Domains: Of(10),
		MailboxSize: Of(GiB), Files: Unlimited}, Features: Features{"mail": true}}
	share, err := CheckShare(share)
	require.NoError(t, err)
	plan := Limits{Disk: Of(30 * GiB), Domains: Of(2), MailboxSize: Of(GiB)}
	others := SumAllotted([]Allotment{{plan, 2}, {Limits{Disk: Of(10 * GiB), MailboxSize: Of(2 * GiB)}, 1},
		{Limits{Disk: Unlimited}, 0}})
	assert.Equal(t, Of(70*GiB), others[Disk])
	assert.Equal(t, Of(2*GiB), others[MailboxSize], "a bound is not added up")
	assert.NoError(t, share.AdmitAllotted(others, nil, plan))
	r := refusal.As(share.AdmitAllotted(SumAllotted([]Allotment{{plan, 3}}), nil, plan))
	require.NotNil(t, r)
	assert.Contains(t, r.For("reseller").Detail, "disk space: the share of guillemot is 100G, 90G allotted to other "+
		"accounts, 10G left, 30G asked for; an operator can raise the share")
	assert.Contains(t, r.For("operator").Detail, "asked for; raise the share (victualler reseller change guillemot ")
	require.Len(t, r.Limits, 1)
	assert.Equal(t, 10*GiB, r.Limits[0].Left)
	assert.NoError(t, share.AdmitAllotted(SumAllotted([]Allotment{{plan, 9}}), plan, plan),
		"an account stays possible where the share has been passed")
	assert.NoError(t, share.AdmitAllotted(SumAllotted([]Allotment{{plan, 9}}), plan, Limits{Disk: Of(GiB)}))
	assert.Error(t, share.AdmitAllotted(nil, nil, Limits{MailboxSize: Of(2 * GiB)}), "a bound holds for each account")
	assert.Error(t, share.AdmitAllotted(nil, nil, Limits{Domains: Unlimited}))
	assert.NoError(t, share.AdmitAllotted(Limits{Files: Unlimited}, nil, Limits{Files: Unlimited}))

	used := share
	used.Measure = Used
	assert.NoError(t, used.AdmitAllotted(SumAllotted([]Allotment{{plan, 30}}), nil, plan),
		"what is given out does not count")
	assert.Error(t, used.AdmitAllotted(nil, nil, Limits{Disk: Of(101 * GiB)}), "but no account can have more than all")
	assert.NoError(t, used.AdmitUse(Domains, 9, 1))
	assert.Error(t, used.AdmitUse(Domains, 10, 1))
	assert.NoError(t, share.AdmitUse(Domains, 10, 1), "measured by what is allotted")

	for _, l := range used.Lines(SumAllotted([]Allotment{{plan, 5}}), map[Key]int64{Disk: 40 * GiB}) {
		if l.Info.Key == Disk {
			assert.Equal(t, Line{Info: l.Info, Share: Of(100 * GiB), Allotted: Of(150 * GiB), Used: 40 * GiB,
				Left: Of(60 * GiB)}, l)
		}
	}
	for _, l := range share.Lines(SumAllotted([]Allotment{{plan, 5}}), map[Key]int64{Disk: 40 * GiB}) {
		if l.Info.Key == Disk {
			assert.True(t, l.Over)
			assert.Equal(t, Of(0), l.Left)
		}
	}
	err = share.CheckPlan(Plan{Limits: Limits{Disk: Of(101 * GiB), Files: Unlimited},
		Features: Features{"shell": true}})
	require.NotNil(t, refusal.As(err))
	assert.Len(t, refusal.As(err).Fields, 2)
	assert.NoError(t, share.CheckPlan(Plan{Limits: plan, Features: Features{"mail": true}}))
	_, err = CheckShare(Share{Measure: "guessed", Limits: Limits{"colour": Of(1)}})
	assert.Len(t, refusal.As(err).Fields, 2)
}
