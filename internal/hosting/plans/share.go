package plans

import (
	"slices"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Measure says which sum a reseller's share is held against.
type Measure string

// The measures.
const (
	// Allotted sums the limits that the reseller's accounts have been given.
	Allotted Measure = "allotted"
	// Used sums what the accounts use.
	Used Measure = "used"
)

// Share is what a reseller may hand out, or use, in all.
type Share struct {
	// Reseller is its owner's name.
	Reseller string
	Measure  Measure
	// Limits are the sums; of a limit that is a bound, the most for each account. Features are
	// those the reseller can switch on.
	Limits   Limits
	Features Features
}

// Allotment is a number of accounts that have been given the same limits.
type Allotment struct {
	Limits Limits
	Count  int64
}

// SumAllotted sums the limits that accounts have been given. Of a limit
// that is a bound it returns the highest.
func SumAllotted(holdings []Allotment) Limits {
	sum := Limits{}
	for _, info := range AllLimits {
		for _, h := range holdings {
			if h.Count == 0 {
				continue
			}
			if amount := h.Limits[info.Key]; info.Bound {
				if amount.Above(sum[info.Key]) {
					sum[info.Key] = amount
				}
			} else {
				sum[info.Key] = sum[info.Key].Plus(amount.Times(h.Count))
			}
		}
	}
	return sum
}

func (s Share) raisedBy() refusal.Remedy {
	return refusal.Remedy{By: refusal.Operator, Do: language.New("raise the share"),
		Command: "reseller change " + s.Reseller + " --limits KEY=VALUE"}
}

func (s Share) source() language.Text { return language.New("the share of %s", s.Reseller) }

// AdmitAllotted refuses to give an account other limits than it has, if the share does not allow
// it. Others is what all other accounts have been given ([SumAllotted]); before is what this one
// has now, the zero value for one to be opened. Giving no more than before is always possible, also
// where the share has been passed.
func (s Share) AdmitAllotted(others, before, after Limits) error {
	var full []refusal.Limit
	var words []language.Text
	for _, info := range AllLimits {
		share, amount := s.Limits[info.Key], after[info.Key]
		if !amount.Above(before[info.Key]) {
			continue
		}
		given := Of(0)
		if s.Measure == Allotted && !info.Bound {
			given = others[info.Key]
		}
		if !given.Plus(amount).Above(share) {
			continue
		}
		left := Of(0)
		if !given.Unlimited {
			left = share.Minus(given.N)
		}
		text := language.New("%s: %s is %s, %s allotted to other accounts, %s left, %s asked for", info.Text(),
			s.source(),
			share.Format(info.Unit), given.Format(info.Unit), left.Format(info.Unit), amount.Format(info.Unit))
		if s.Measure == Used || info.Bound {
			text = language.New("%s: %s is %s, and no account can have more; %s asked for", info.Text(), s.source(),
				share.Format(info.Unit), amount.Format(info.Unit))
		}
		words = append(words, text)
		full = append(full, refusal.Limit{Key: string(info.Key), Value: share.N, Used: given.N,
			Left: left.N}.From(s.source()))
	}
	if len(full) == 0 {
		return nil
	}
	r := refusal.New(refusal.LimitReached, "%s", language.Join(words, "; ")).Help(s.raisedBy())
	r.Limits = full
	return r
}

// AdmitUse refuses growth by more when the share is measured by what is used and leaves no
// room for it. Used is the sum over all accounts of the reseller.
func (s Share) AdmitUse(key Key, used, more int64) error {
	info, _ := Info(key)
	if s.Measure != Used || info.Bound || more <= 0 {
		return nil
	}
	a := Allowance{Limits: map[Key]Allowed{key: {Amount: s.Limits[key], Source: s.source(), RaisedBy: s.raisedBy()}}}
	return a.Admit(key, used, more)
}

// CheckPlan refuses a plan that gives more than the share.
func (s Share) CheckPlan(p Plan) error {
	var wrong []refusal.Field
	for _, info := range AllLimits {
		if p.Limits[info.Key].Above(s.Limits[info.Key]) {
			wrong = append(wrong, refusal.Wrong("limits."+string(info.Key), "%s is more than %s, %s",
				p.Limits[info.Key].Format(info.Unit), s.source(), s.Limits[info.Key].Format(info.Unit)))
		}
	}
	for _, f := range AllFeatures {
		if p.Features[f] && !s.Features[f] {
			wrong = append(wrong, refusal.Wrong("features."+string(f), "is not in %s", s.source()))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	r := refusal.New(refusal.LimitReached, "a plan cannot give more than %s", s.source()).Help(s.raisedBy())
	r.Fields = wrong
	return r
}

// Headroom is what a share leaves for one account.
type Headroom struct {
	Share Share
	// Others is what the reseller's other accounts use; it counts for a
	// share measured by what is used.
	Others map[Key]int64
}

// bound lowers an allowance to what the share leaves.
func (r Headroom) bound(a Allowance) {
	for _, info := range AllLimits {
		most := r.Share.Limits[info.Key]
		if r.Share.Measure == Used && !info.Bound {
			most = most.Minus(r.Others[info.Key])
		}
		if allowed := a.Limits[info.Key]; allowed.Above(most) {
			a.Limits[info.Key] = Allowed{Amount: most, Source: r.Share.source(), RaisedBy: r.Share.raisedBy()}
		}
	}
	for f, granted := range a.Features {
		if granted.On && !r.Share.Features[f] {
			a.Features[f] = Granted{On: false, Source: r.Share.source()}
		}
	}
}

// Line is one limit of a share with both sums.
type Line struct {
	Info LimitInfo
	// Share is how much there is, Allotted what has been given out (of
	// a bound: the most an account has), Used what is in use.
	Share, Allotted Amount
	Used            int64
	// Left is what remains by the share's measure.
	Left Amount
	// Over says that the share has been passed by its measure.
	Over bool
}

// Lines returns every limit of the share with both sums, in the order of [AllLimits].
func (s Share) Lines(given Limits, used map[Key]int64) []Line {
	lines := make([]Line, 0, len(AllLimits))
	for _, info := range AllLimits {
		l := Line{Info: info, Share: s.Limits[info.Key], Allotted: given[info.Key], Used: used[info.Key]}
		taken := l.Allotted
		if s.Measure == Used && !info.Bound {
			taken = Of(l.Used)
		}
		l.Over = taken.Above(l.Share)
		switch {
		case info.Bound:
			l.Left = l.Share
		case l.Share.Unlimited:
			l.Left = Unlimited
		case taken.Unlimited:
			l.Left = Of(0)
		default:
			l.Left = l.Share.Minus(taken.N)
		}
		lines = append(lines, l)
	}
	return lines
}

// CheckShare completes a share's limits and features and refuses impossible ones.
func CheckShare(s Share) (Share, error) {
	limits, wrongLimits := checkLimits(s.Limits)
	features, wrongFeatures := checkFeatures(s.Features)
	wrong := slices.Concat(wrongLimits, wrongFeatures)
	if s.Measure != Allotted && s.Measure != Used {
		wrong = append(wrong, refusal.Wrong("measure", "is allotted or used"))
	}
	if len(wrong) > 0 {
		return s, refusal.New(refusal.InvalidInput, "the share cannot be kept as it is").At(wrong)
	}
	s.Limits, s.Features = limits, features
	return s, nil
}

// AdmitSums refuses a change by which what is given out in all grows beyond the share, such as the
// change of a plan that many accounts are on. What was given out beyond it before may stay.
func (s Share) AdmitSums(before, after Limits) error {
	if s.Measure != Allotted {
		return nil
	}
	var full []refusal.Limit
	var words []language.Text
	for _, info := range AllLimits {
		share, was, is := s.Limits[info.Key], before[info.Key], after[info.Key]
		if info.Bound || !is.Above(was) || !is.Above(share) {
			continue
		}
		left := Of(0)
		if !was.Unlimited {
			left = share.Minus(was.N)
		}
		words = append(words, language.New("%s: %s is %s, %s allotted now, %s left, %s would be allotted", info.Text(),
			s.source(), share.Format(info.Unit), was.Format(info.Unit), left.Format(info.Unit), is.Format(info.Unit)))
		full = append(full, refusal.Limit{Key: string(info.Key), Value: share.N, Used: was.N,
			Left: left.N}.From(s.source()))
	}
	if len(full) == 0 {
		return nil
	}
	r := refusal.New(refusal.LimitReached, "%s", language.Join(words, "; ")).Help(s.raisedBy())
	r.Limits = full
	return r
}
