package databases_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/databases"
)

func TestSlowLog(t *testing.T) {
	var l databases.SlowLog
	noon := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	there := func(string) bool { return true }
	l.Add("coop_shop", "coop_app", "SELECT a", noon, 2*time.Second)
	l.Add("coop_shop", "coop_app", "SELECT a", noon.Add(time.Minute), 5*time.Second)
	l.Add("coop_shop", "coop_app", "SELECT a", noon.Add(3*time.Hour), 3*time.Second)
	l.Add("coop_shop", "coop_app", "SELECT b", noon, 30*time.Second)
	l.Add("trust_shop", "trust_app", "SELECT a", noon, 2*time.Second)
	list := l.Of("coop_shop")
	require.Len(t, list, 2)
	assert.Equal(t, "SELECT b", list[0].Statement, "what takes most of the time is first")
	assert.Len(t, list[1].Hours, 2)
	assert.Equal(t, databases.SlowHour{Count: 3, Longest: 5 * time.Second, Total: 10 * time.Second,
		Last: noon.Add(3 * time.Hour)}, list[1].Tally())

	l.Forget(noon.Add(25*time.Hour), there)
	list = l.Of("coop_shop")
	require.Len(t, list, 1)
	assert.Equal(t, 1, list[0].Tally().Count, "only the last one is of the last day")
	l.Forget(noon.Add(25*time.Hour), func(database string) bool { return database != "coop_shop" })
	assert.Empty(t, l.All)
}

// What one account does, leaves what is known of others, and what matters of its own.
func TestSlowLogIsBounded(t *testing.T) {
	var l databases.SlowLog
	now := time.Now()
	l.Add("trust_shop", "trust_app", "SELECT a", now, time.Second)
	for n := range 1000 {
		l.Add(fmt.Sprintf("coop_n%d", n%10), "coop_app", fmt.Sprint("SELECT ", n), now, time.Duration(n+2)*time.Second)
	}
	assert.Len(t, l.All, 201)
	assert.Len(t, l.Of("trust_shop"), 1)
	assert.Equal(t, "SELECT 993", l.Of("coop_n3")[0].Statement)
	l = databases.SlowLog{}
	for n := range 100 {
		l.Add("coop_shop", "coop_app", fmt.Sprint("SELECT ", n), now, time.Duration(n+2)*time.Second)
	}
	assert.Len(t, l.Of("coop_shop"), 50)
}
