// Package attacks is a customer with code execution who wants more than is theirs, beside a
// neighbour whose visitors are to notice nothing.
package attacks

import (
	"testing"

	"victualler/e2e"
)

func TestMain(m *testing.M) { e2e.Main(m) }
