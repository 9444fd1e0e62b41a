package service

import (
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTurns(t *testing.T) {
	var list turns
	assert.True(t, list.take(1))
	assert.True(t, list.take(2), "another is another's")
	assert.False(t, list.take(1))
	assert.True(t, list.next(1), "somebody has come")
	assert.False(t, list.next(1))
	assert.True(t, list.take(1))
	assert.False(t, list.take(1))
	list.end(1)
	assert.True(t, list.take(1), "given back, whoever has come")
	list.end(1)

	// Whatever comes is done by somebody who begins after it has come.
	var came, done atomic.Int64
	var group sync.WaitGroup
	for range 200 {
		group.Go(func() {
			came.Add(1)
			if !list.take(7) {
				return
			}
			for {
				done.Store(came.Load())
				if !list.next(7) {
					return
				}
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 200, done.Load())
}
