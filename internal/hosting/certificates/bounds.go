package certificates

import (
	"slices"
	"strings"
	"time"

	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
)

// Bound is how much an authority lets be ordered. It is kept before the authority has to say so, so
// that a renewal is not refused because of what was ordered without need.
type Bound struct {
	// Per says what is counted together.
	Per BoundPer `json:"per"`
	// Most is the number of orders within Hours.
	Most  int `json:"most"`
	Hours int `json:"hours"`
}

// BoundPer is what orders are counted for.
type BoundPer string

// The kinds of bounds.
const (
	PerAccount BoundPer = "account" // all orders of our account with the authority
	PerDomain  BoundPer = "domain"  // orders for names below the same registered domain
	PerNames   BoundPer = "names"   // orders for the very same names
)

// Check tells what is wrong with a bound.
func (b Bound) Check() error {
	switch {
	case !slices.Contains([]BoundPer{PerAccount, PerDomain, PerNames}, b.Per):
		return refusal.Input("bounds", "%q is nothing that orders are counted for: say account, domain or names",
			string(b.Per))
	case b.Most < 1 || b.Most > 1_000_000:
		return refusal.Input("bounds", "a bound is a number of orders from 1 to 1,000,000")
	case b.Hours < 1 || b.Hours > 31*24:
		return refusal.Input("bounds", "a bound is for 1 to %d hours", 31*24)
	}
	return nil
}

// Placed is an order that was given to an authority.
type Placed struct {
	Names []string
	At    time.Time
}

// registered is the part of a name that somebody registers; the name
// itself where that is not known.
func registered(name string) string {
	base := strings.TrimPrefix(name, "*.")
	if d, _, err := names.ParseDomain(base); err == nil {
		return d.Registrable()
	}
	return base
}

// Next is when an order for some names is within all bounds, given those of the time before; a
// moment that is not after now is at once. Which bound it is that keeps it is told, too.
func Next(bounds []Bound, before []Placed, ordered []string, now time.Time) (time.Time, *Bound) {
	at := now
	var by *Bound
	for _, b := range bounds {
		since := now.Add(-time.Duration(b.Hours) * time.Hour)
		var counted []time.Time
		for _, p := range before {
			if p.At.After(since) && b.counts(p.Names, ordered) {
				counted = append(counted, p.At)
			}
		}
		if len(counted) < b.Most {
			continue
		}
		slices.SortFunc(counted, func(a, b time.Time) int { return b.Compare(a) })
		if free := counted[b.Most-1].Add(time.Duration(b.Hours) * time.Hour); free.After(at) {
			// the last one that has to leave the window
			at, by = free, &b
		}
	}
	return at, by
}

func (b Bound) counts(placed, ordered []string) bool {
	switch b.Per {
	case PerNames:
		return len(placed) == len(ordered) && !slices.ContainsFunc(ordered, func(n string) bool {
			return !slices.Contains(placed, n)
		})
	case PerDomain:
		return slices.ContainsFunc(placed, func(p string) bool {
			return slices.ContainsFunc(ordered, func(n string) bool { return registered(p) == registered(n) })
		})
	}
	return true
}
