// Package budgets is what pages may cost at most: their size, and the time until they are there. It
// runs alone, as attacks do.
package budgets

import (
	"testing"

	"victualler/e2e"
)

func TestMain(m *testing.M) { e2e.Main(m) }
