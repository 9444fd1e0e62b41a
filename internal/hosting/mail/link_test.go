package mail

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinkKey(t *testing.T) {
	one := LinkKey([]byte("the installation's"), 1)
	assert.Equal(t, one, LinkKey([]byte("the installation's"), 1))
	assert.NotEqual(t, one, LinkKey([]byte("the installation's"), 2))
	assert.NotEqual(t, one, LinkKey([]byte("another's"), 1))
}
