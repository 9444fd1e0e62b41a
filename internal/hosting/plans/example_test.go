package plans_test

import (
	"fmt"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
)

// An account's allowance is its plan, then its exceptions, then what the reseller's share leaves.
func ExampleAllowanceOf() {
	now := time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	harbour := plans.Terms{Source: language.New("plan harbour"), Limits: plans.Limits{plans.Domains: plans.Of(5)}}
	regatta := plans.Exception{Limit: plans.Domains, Amount: plans.Of(8), Author: "maren",
		Reason: "the regatta", At: now}

	a := plans.AllowanceOf(harbour, []plans.Exception{regatta}, nil, now)
	fmt.Println(a.Limits[plans.Domains].N, a.Admit(plans.Domains, 7, 1))
	fmt.Println(a.Admit(plans.Domains, 8, 1) != nil)
	// Output:
	// 8 <nil>
	// true
}

// People write sizes with a unit; a number without one is asked about.
func ExampleParseSize() {
	n, err := plans.ParseSize("20G")
	fmt.Println(n, err)
	_, err = plans.ParseSize("20480")
	fmt.Println(err)
	// Output:
	// 21474836480 <nil>
	// 20480 what? write 20480M or 20G
}
