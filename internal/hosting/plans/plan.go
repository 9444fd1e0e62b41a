package plans

import (
	"regexp"

	"victualler/internal/hosting/refusal"
)

// Plan is a named set of limits and features.
type Plan struct {
	// Name is how people and order systems call it: lower-case letters, digits
	// and hyphens, 2 to 40 characters, so that it cannot be spelt two ways.
	Name string
	// Limits has an amount for every limit, Features a switch for every feature.
	Limits   Limits
	Features Features
}

var planName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// NewPlan checks a plan and completes it: limits not mentioned are zero,
// features not mentioned are off.
func NewPlan(name string, limits Limits, features Features) (Plan, error) {
	var wrong []refusal.Field
	if !planName.MatchString(name) || len(name) < 2 || len(name) > 40 {
		wrong = append(wrong, refusal.Field{Name: "name", Message: "a plan's name has 2 to 40 lower-case letters, digits and single hyphens, and starts with a letter"})
	}
	limits, wrongLimits := checkLimits(limits)
	features, wrongFeatures := checkFeatures(features)
	wrong = append(append(wrong, wrongLimits...), wrongFeatures...)
	if len(wrong) > 0 {
		return Plan{}, &refusal.Refusal{Kind: refusal.InvalidInput, Detail: "the plan cannot be kept as it is", Fields: wrong}
	}
	return Plan{Name: name, Limits: limits, Features: features}, nil
}
