package mailflow

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"victualler/internal/mailflow/definition"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tallyAt opens a tally whose time the test sets.
func tallyAt(t testing.TB, path string, now *time.Time) *Tally { return tallyFor(t, path, now, Hour) }

func tallyFor(t testing.TB, path string, now *time.Time, window time.Duration) *Tally {
	tally, err := OpenTally(path, window)
	require.NoError(t, err)
	t.Cleanup(func() { tally.Close() })
	tally.Now = func() time.Time { return *now }
	return tally
}

func TestTally(t *testing.T) {
	parent, path := t, filepath.Join(t.TempDir(), "sent")
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	tally := tallyAt(t, path, &now)
	anna, account := Bound{"mailbox/anna@boats.example", 5}, Bound{"account/7", 8}
	take := func(n int64, bounds ...Bound) *Over {
		over, err := tally.Take(n, bounds...)
		require.NoError(t, err)
		return over
	}
	assert.Nil(t, take(3, anna, account))
	now = now.Add(20 * time.Minute)
	assert.Nil(t, take(2, anna, account))
	over := take(1, anna, account)
	require.NotNil(t, over)
	assert.Equal(t, "mailbox/anna@boats.example", over.Subject)
	assert.EqualValues(t, 5, over.Used)
	assert.Equal(t, 40*time.Minute, over.Wait, "when the first three no longer count")
	assert.Nil(t, take(3, account))
	require.NotNil(t, take(1, account))
	assert.Zero(t, take(9, account).Wait, "never, as it is more than the bound")
	assert.EqualValues(t, 5, tally.Used()["mailbox/anna@boats.example"], "what was refused was not counted")

	t.Run("another process goes on with what was counted", func(t *testing.T) {
		_, err := OpenTally(path, Hour)
		assert.ErrorContains(t, err, "in use")
		require.NoError(t, tally.Close())
		file, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = file.WriteString("17959") // cut off while it was written: nobody was told
		require.NoError(t, err)
		file.Close()
		tally = tallyAt(parent, path, &now)
		require.NotNil(t, take(1, anna))
		assert.EqualValues(t, 8, tally.Used()["account/7"])
	})
	t.Run("an hour later, all may be sent again", func(t *testing.T) {
		now = now.Add(40 * time.Minute)
		assert.Nil(t, take(3, anna))
		require.NotNil(t, take(1, anna))
		now = now.Add(time.Hour)
		assert.Empty(t, tally.Used())
	})
	t.Run("the file is written anew without what no longer counts", func(t *testing.T) {
		tally.lines = 100_000
		assert.Nil(t, take(2, anna))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Less(t, len(text), 100)
		assert.Nil(t, take(2, anna))
		require.NoError(t, tally.Close())
		tally = tallyAt(parent, path, &now)
		assert.EqualValues(t, 4, tally.Used()["mailbox/anna@boats.example"])
	})
}

// As many as the bound says are taken, whoever asks at the same time.
func TestTallyAtOnce(t *testing.T) {
	now := time.Now()
	tally := tallyAt(t, filepath.Join(t.TempDir(), "sent"), &now)
	var taken atomic.Int64
	var group sync.WaitGroup
	for range 20 {
		group.Go(func() {
			for range 50 {
				if over, err := tally.Take(1, Bound{"mailbox/a", 200}, Bound{"account/1", 333}); err == nil &&
					over == nil {
					taken.Add(1)
				}
				if over, err := tally.Take(1, Bound{"mailbox/b", 200}, Bound{"account/1", 333}); err == nil &&
					over == nil {
					taken.Add(1)
				}
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 333, taken.Load())
}

// Who has sent something is forgotten once it no longer counts.
func TestTallyForgets(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	path := filepath.Join(t.TempDir(), "sent")
	tally := tallyAt(t, path, &now)
	take := func(subject string) {
		t.Helper()
		over, err := tally.Take(1, Bound{subject, definition.Unlimited})
		require.NoError(t, err)
		require.Nil(t, over)
	}
	take("anna@boats.example")
	now = now.Add(Hour + time.Minute)
	take("bo@quay.example")
	now = now.Add(Hour - time.Minute)
	take("cy@quay.example")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "anna")
	assert.Contains(t, string(text), "bo@quay.example")
	assert.EqualValues(t, map[string]int64{"bo@quay.example": 1, "cy@quay.example": 1}, tally.Used())
}
