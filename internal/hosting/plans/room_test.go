package plans

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRoom(t *testing.T) {
	assert.Equal(t, 100*MiB, Room(100*MiB, 0))
	assert.Equal(t, 99*MiB, Room(100*MiB, 1))
	assert.Equal(t, 70*MiB, Room(100*MiB, 30*MiB))
	assert.Equal(t, MiB, Room(100*MiB, 500*MiB), "something can be put right")
	changes, last := 0, int64(0)
	for use := int64(0); use < 10*GiB; use += MiB {
		round := Coarsely(use)
		assert.GreaterOrEqual(t, round, use)
		assert.LessOrEqual(t, round, use+use/16+MiB)
		if round != last {
			changes, last = changes+1, round
		}
	}
	assert.Less(t, changes, 180)
}
