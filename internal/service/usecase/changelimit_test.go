package usecase

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChangeLimiter(t *testing.T) {
	limiter := newChangeLimiter(4)
	busy := Actor{PersonID: 1, CustomerID: 7}
	first, err := limiter.acquire(t.Context(), busy)
	require.NoError(t, err)
	second, err := limiter.acquire(t.Context(), Actor{PersonID: 2, CustomerID: 7})
	require.NoError(t, err)

	t.Run("others do not wait", func(t *testing.T) {
		for _, a := range []Actor{{PersonID: 1}, {PersonID: 3, ResellerID: 7}, {PersonID: 4, CustomerID: 8}} {
			done, err := limiter.acquire(t.Context(), a)
			require.NoError(t, err)
			done()
		}
	})
	t.Run("a third waits, and gives up with its context", func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		_, err := limiter.acquire(ctx, busy)
		require.ErrorIs(t, err, context.DeadlineExceeded)
	})
	t.Run("a third gets the turn of one that is done", func(t *testing.T) {
		got := make(chan struct{})
		go func() {
			done, err := limiter.acquire(t.Context(), busy)
			if assert.NoError(t, err) {
				done()
			}
			close(got)
		}()
		select {
		case <-got:
			t.Fatal("did not wait")
		case <-time.After(20 * time.Millisecond):
		}
		first()
		<-got
	})
	second()
	assert.Empty(t, limiter.slots, "nothing is kept of who is done")
}
