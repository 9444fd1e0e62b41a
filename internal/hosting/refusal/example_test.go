package refusal_test

import (
	"fmt"

	"victualler/internal/hosting/refusal"
)

// A refusal keeps its kind and its fields under whatever wraps it.
func ExampleAs() {
	err := fmt.Errorf("import line 3: %w", refusal.Input("domain", "write a domain like ferries.example"))
	r := refusal.As(err)
	fmt.Println(r.Kind, r.Fields[0].Name)
	fmt.Println(refusal.As(fmt.Errorf("connection lost")) == nil)
	// Output:
	// invalid-input domain
	// true
}
