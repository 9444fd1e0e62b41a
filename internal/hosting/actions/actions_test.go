package actions

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTitle(t *testing.T) {
	assert.Equal(t, "Open account", Title("account.open"))
	assert.Equal(t, "Paint boat", Title("boat.paint"), "one that is not in the table")
	assert.Equal(t, "Take in sail", Title("sail.take_in"))
	assert.Equal(t, "Drift", Title("drift"))
	assert.Empty(t, Title(""))
}
