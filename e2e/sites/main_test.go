package sites

import (
	"testing"

	"victualler/e2e"
)

func TestMain(m *testing.M) { e2e.Main(m) }
