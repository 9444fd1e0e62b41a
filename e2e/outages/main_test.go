package outages

import (
	"testing"

	"victualler/e2e"
)

func TestMain(m *testing.M) {
	e2e.Standby = true
	e2e.Main(m)
}
