package plans

import "victualler/internal/hosting/refusal"

// Allowed is one limit of an allowance: how much, and where that comes from.
type Allowed struct {
	Amount
	// Source says where the amount comes from, such as "plan harbour".
	Source string
	// RaisedBy says who can raise it.
	RaisedBy string
}

// Allowance is what an account may use in the end.
type Allowance map[Key]Allowed

// AllowanceOf returns the allowance of an account on a plan.
func AllowanceOf(p Plan) Allowance {
	a := Allowance{}
	for key, amount := range p.Limits {
		a[key] = Allowed{Amount: amount, Source: "plan " + p.Name, RaisedBy: "an operator, by changing the plan"}
	}
	return a
}

// Admit refuses when more, on top of used, would pass what is allowed for key; both
// are in the limit's unit. The refusal tells value, source, use and who can raise it.
func (a Allowance) Admit(key Key, used, more int64) error {
	allowed := a[key]
	if allowed.Allows(used + more) {
		return nil
	}
	info, _ := Info(key)
	r := refusal.New(refusal.LimitReached, "%s: %s allowed by %s, %s used, %s more asked for; %s can raise it",
		info.What, allowed.Format(info.Unit), allowed.Source, Of(used).Format(info.Unit), Of(more).Format(info.Unit), allowed.RaisedBy)
	r.Limit = &refusal.Limit{Key: string(key), Value: allowed.N, Used: used, Source: allowed.Source, RaisedBy: allowed.RaisedBy}
	return r
}
