package rollout

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHub(t *testing.T) {
	h := newHub()
	first, stopFirst := h.watch(7)
	second, stopSecond := h.watch(7)
	other, stopOther := h.watch(8)
	defer stopOther()
	woken := func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		case <-time.After(10 * time.Millisecond):
			return false
		}
	}
	h.notify("7")
	h.notify("7") // nobody has looked yet: one waking is enough
	assert.True(t, woken(first))
	assert.False(t, woken(first))
	assert.True(t, woken(second))
	assert.False(t, woken(other))
	h.notify("rubbish")
	h.wakeAll()
	assert.True(t, woken(first) && woken(second) && woken(other), "a lost connection wakes all")
	h.stepDone([]int64{6, 7}, "databases")
	assert.True(t, woken(first) && woken(second))
	assert.True(t, h.isDone(7, "databases"))
	assert.False(t, h.isDone(7, "verify"))
	assert.False(t, h.isDone(6, "databases"), "nobody watches it, and nothing is kept")
	stopFirst()
	stopSecond()
	h.notify("7")
	assert.False(t, h.isDone(7, "databases"))
	assert.False(t, woken(first))
	assert.Len(t, h.watchers, 1, "nothing is kept for those who left")
}
