package databases

import (
	"testing"

	"victualler/e2e"
)

func TestMain(m *testing.M) {
	e2e.Databases = true
	e2e.Main(m)
}
