package usecase_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestAllowProbe(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	customer, neighbour := b.Customer("Tern Ferries", ""), b.Customer("Auk Boats", "")
	for range 30 {
		require.NoError(t, b.Base.AllowProbe(ctx, customer))
	}
	refused := servicetest.Refused(t, refusal.TooManyTries, b.Base.AllowProbe(ctx, customer))
	assert.InDelta(t, 10, refused.After.Seconds(), 2)
	assert.NoError(t, b.Base.AllowProbe(ctx, neighbour), "each person's are counted alone")
	b.Pass(refused.After)
	assert.NoError(t, b.Base.AllowProbe(ctx, customer), "as long as was said")
	servicetest.Refused(t, refusal.TooManyTries, b.Base.AllowProbe(ctx, customer))
	b.Pass(time.Hour)
	for range 30 {
		require.NoError(t, b.Base.AllowProbe(ctx, customer), "after a pause, as many as before")
	}
	servicetest.Refused(t, refusal.TooManyTries, b.Base.AllowProbe(ctx, customer))
	for range 60 {
		require.NoError(t, b.Base.AllowProbe(ctx, b.Operator))
	}
	for range 30 {
		require.NoError(t, b.Base.AllowProbe(ctx, usecase.Actor{Mailbox: "anna@boats.example"}))
	}
	servicetest.Refused(t, refusal.TooManyTries,
		b.Base.AllowProbe(ctx, usecase.Actor{Mailbox: "anna@boats.example"}))
	assert.NoError(t, b.Base.AllowProbe(ctx, usecase.Actor{Mailbox: "bo@boats.example"}))
}

func TestAllowProbeAtOnce(t *testing.T) {
	b := servicetest.New(t)
	customer := b.Customer("Tern Ferries", "")
	var allowed atomic.Int64
	var group sync.WaitGroup
	for range 100 {
		group.Go(func() {
			if b.Base.AllowProbe(context.Background(), customer) == nil {
				allowed.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 30, allowed.Load())
}
