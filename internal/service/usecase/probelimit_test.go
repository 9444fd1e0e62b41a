package usecase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
)

func TestOutward(t *testing.T) {
	var o ProbeLimiter
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	customer, neighbour := Actor{PersonID: 1, Subject: rights.Subject{Role: rights.Customer}}, Actor{PersonID: 2,
		Subject: rights.Subject{Role: rights.Reseller}}
	for range questionsInARow {
		require.NoError(t, o.Allow(customer, now))
	}
	refused := refusal.As(o.Allow(customer, now))
	require.NotNil(t, refused)
	assert.Equal(t, refusal.TooManyTries, refused.Kind)
	assert.GreaterOrEqual(t, refused.After, questionEvery)
	require.NoError(t, o.Allow(neighbour, now), "each person's are counted alone")
	require.NoError(t, o.Allow(customer, now.Add(refused.After)), "as long as was said")
	require.Error(t, o.Allow(customer, now.Add(refused.After)))
	for range 2 * questionsInARow {
		require.NoError(t, o.Allow(Actor{PersonID: 1, Subject: rights.Subject{Role: rights.Operator}}, now))
	}
	for person := range int64(2000) {
		require.NoError(t, o.Allow(Actor{PersonID: 10 + person}, now.Add(time.Duration(person)*time.Minute)))
	}
	assert.Less(t, len(o.of), 1100, "those who ask no more are forgotten")
}
