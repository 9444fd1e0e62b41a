package usecase

import (
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCoalescer(t *testing.T) {
	var list Coalescer
	assert.True(t, list.Begin(1))
	assert.True(t, list.Begin(2), "another is another's")
	assert.False(t, list.Begin(1))
	assert.True(t, list.Continue(1), "somebody has come")
	assert.False(t, list.Continue(1))
	assert.True(t, list.Begin(1))
	assert.False(t, list.Begin(1))
	list.End(1)
	assert.True(t, list.Begin(1), "given back, whoever has come")
	list.End(1)

	// Whatever comes is done by somebody who begins after it has come.
	var came, done atomic.Int64
	var group sync.WaitGroup
	for range 200 {
		group.Go(func() {
			came.Add(1)
			if !list.Begin(7) {
				return
			}
			for {
				done.Store(came.Load())
				if !list.Continue(7) {
					return
				}
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 200, done.Load())
}
