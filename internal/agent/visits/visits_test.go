package visits

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBusySites(t *testing.T) {
	file := filepath.Join(t.TempDir(), "visits.json")
	c := Open(file, 2000)
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	round := func(after time.Duration) []string {
		t.Helper()
		now = now.Add(after)
		changed, err := c.Round(now)
		require.NoError(t, err)
		return changed
	}
	c.Count("ferries", "ternferries.example", 1500)
	c.Count("ferries", "quiet.example", 10)
	assert.Empty(t, round(0))
	c.Count("ferries", "ternferries.example", 400)
	assert.Empty(t, round(10*time.Minute))
	c.Count("ferries", "ternferries.example", 200)
	assert.Equal(t, []string{"ferries"}, round(10*time.Minute), "the requests of several rounds count together")
	assert.True(t, c.Busy("ferries", "ternferries.example"))
	assert.False(t, c.Busy("ferries", "quiet.example"))
	assert.False(t, c.Busy("other", "ternferries.example"), "the domain has been another account's")

	c = Open(file, 2000)
	assert.True(t, c.Busy("ferries", "ternferries.example"), "an agent that starts again remembers")
	assert.Empty(t, round(24*time.Hour), "half of that does not make it busy, and keeps it so")
	assert.True(t, c.Busy("ferries", "ternferries.example"))
	assert.Equal(t, []string{"ferries"}, round(2*24*time.Hour))
	assert.False(t, c.Busy("ferries", "ternferries.example"))
	assert.Empty(t, round(30*24*time.Hour))
	assert.Empty(t, c.kept.Scores, "what is long ago is forgotten")
	assert.Empty(t, round(-time.Hour), "a clock that is put back does no harm")
}

func TestOnlyTheBusiestAreBusy(t *testing.T) {
	c := Open(filepath.Join(t.TempDir(), "visits.json"), 1)
	for n := range MostBusy + 10 {
		c.Count(fmt.Sprintf("a%d", n), "site.example", n+1)
	}
	changed, err := c.Round(time.Now())
	require.NoError(t, err)
	assert.Len(t, changed, MostBusy)
	assert.False(t, c.Busy("a9", "site.example"))
	assert.True(t, c.Busy("a10", "site.example"))
	assert.Len(t, c.kept.Busy, MostBusy)
}

func TestWhatCannotBeReadIsCountedAnew(t *testing.T) {
	c := Open(filepath.Join(t.TempDir(), "none", "visits.json"), 1)
	c.Count("a", "site.example", 5)
	_, err := c.Round(time.Now())
	assert.Error(t, err, "it cannot be written")
	assert.True(t, c.Busy("a", "site.example"), "and counts all the same")
}
