package entitlement_test

import (
	"fmt"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/entitlement"
	"victualler/internal/store/db"
)

// What an account may use is its plan, what was set by hand, and what its reseller's share leaves,
// loaded together with what it uses: here the share is the first to have no room.
func ExampleEntitlement_Admit() {
	account := entitlement.Entitlement{Account: db.Account{SignInName: "ferries"},
		Terms: plans.Terms{Source: language.New("plan harbour"), Limits: plans.Limits{plans.Domains: plans.Of(5)}},
		Used:  map[plans.Key]int64{plans.Domains: 2},
		Headroom: &plans.Headroom{Share: plans.Share{Reseller: "gannet", Measure: plans.Used,
			Limits: plans.Limits{plans.Domains: plans.Of(10)}}, Others: map[plans.Key]int64{plans.Domains: 7}}}
	fmt.Println(account.Admit(plans.Domains, 1))
	fmt.Println(refusal.As(account.Admit(plans.Domains, 2)).Kind)
	// Output:
	// <nil>
	// limit-reached
}
