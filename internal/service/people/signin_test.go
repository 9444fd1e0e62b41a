package people

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNeighbourhood(t *testing.T) {
	assert.Equal(t, "192.0.2.7", networkOf("192.0.2.7"))
	assert.Equal(t, "2001:db8:1:2::/64", networkOf("2001:db8:1:2:a:b:c:d"), "a subscriber has all of them")
	assert.Equal(t, networkOf("2001:db8:1:2::1"), networkOf("2001:db8:1:2::2"))
	assert.NotEqual(t, networkOf("2001:db8:1:2::1"), networkOf("2001:db8:1:3::1"))
	assert.Equal(t, "fe80::/64", networkOf("fe80::1%eth0"))
	assert.Equal(t, "this machine", networkOf("this machine"))
}
