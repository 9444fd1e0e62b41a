package httpapi

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// One person cannot hold all that the service has for those who watch.
func TestWatchersAreBounded(t *testing.T) {
	var w watchers
	for range mostWatched {
		assert.True(t, w.begin(1, mostWatched))
	}
	assert.False(t, w.begin(1, mostWatched))
	assert.True(t, w.begin(2, mostWatched), "others are not kept out")
	w.end(1)
	assert.True(t, w.begin(1, mostWatched))
	for range mostWatched {
		w.end(1)
	}
	w.end(2)
	assert.Empty(t, w.of, "nobody is remembered who does not watch")
}
