package certificates_test

import (
	"fmt"
	"time"

	"victualler/internal/hosting/certificates"
)

// Orders stay within what an authority allows, and the time at which the next one fits is known.
func ExampleNext() {
	noon := time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	bounds := []certificates.Bound{{Per: certificates.PerNames, Most: 1, Hours: 24}}
	before := []certificates.Placed{{Names: []string{"ferries.example"}, At: noon.Add(-time.Hour)}}

	at, bound := certificates.Next(bounds, before, []string{"ferries.example"}, noon)
	fmt.Println(at.Sub(noon), bound.Per)
	_, bound = certificates.Next(bounds, before, []string{"bakery.example"}, noon)
	fmt.Println(bound)
	// Output:
	// 23h0m0s names
	// <nil>
}
