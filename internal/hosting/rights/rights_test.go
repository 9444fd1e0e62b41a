package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAllows(t *testing.T) {
	for _, p := range All {
		assert.True(t, Allows(Operator, p), p)
		assert.Equal(t, p == Public, Allows("", p), "a stranger: %s", p)
		for _, role := range []Role{Reseller, Customer} {
			assert.Equal(t, p == Public || p == Own, Allows(role, p), "%s: %s", role, p)
		}
	}
	assert.False(t, Allows("nonsense", AccountsRead))
}
