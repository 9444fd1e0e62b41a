package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

func TestCursor(t *testing.T) {
	domain, id := "", int64(0)
	require.NoError(t, ReadCursor(cursor("møwe.example", int64(7)), &domain, &id))
	assert.Equal(t, "møwe.example", domain)
	assert.EqualValues(t, 7, id)
	require.NoError(t, ReadCursor("", &domain, &id), "the first page has none")
	assert.Equal(t, "møwe.example", domain)
	for _, rubbish := range []string{"x", "!!!", "e30", "bnVsbA", cursor(7, "swapped")} {
		err := ReadCursor(rubbish, new(string), new(int64))
		if rubbish != "bnVsbA" { // null is no part at all
			assert.True(t, refusal.Is(err, refusal.InvalidInput), rubbish)
		}
	}
}

func TestEscapeLike(t *testing.T) {
	assert.Equal(t, `50\% of a\_b\\c`, escapeLike(`50% of a_b\c`))
}

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
	h.heard("7")
	h.heard("7") // nobody has looked yet: one waking is enough
	assert.True(t, woken(first))
	assert.False(t, woken(first))
	assert.True(t, woken(second))
	assert.False(t, woken(other))
	h.heard("rubbish")
	h.wakeAll()
	assert.True(t, woken(first) && woken(second) && woken(other), "a lost connection wakes all")
	stopFirst()
	stopSecond()
	h.heard("7")
	assert.False(t, woken(first))
	assert.Len(t, h.watchers, 1, "nothing is kept for those who left")
}

func TestAgentAddress(t *testing.T) {
	for typed, want := range map[string]string{"10.0.0.1": "10.0.0.1:7677", "skua.example": "skua.example:7677", "10.0.0.1:9": "10.0.0.1:9", "[2001:db8::1]:9": "[2001:db8::1]:9",
		"2001:db8::1": "[2001:db8::1]:7677"} {
		got, err := agentAddress(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, want, got)
	}
	for _, typed := range []string{":9", "skua:0", "skua:99999", "skua:http"} {
		_, err := agentAddress(typed)
		assert.True(t, refusal.Is(err, refusal.InvalidInput), typed)
	}
}

func TestRequestDigest(t *testing.T) {
	a := RequestDigest("POST", "/x", []byte("body"))
	assert.Equal(t, a, RequestDigest("POST", "/x", []byte("body")))
	for _, other := range [][]byte{RequestDigest("PUT", "/x", []byte("body")), RequestDigest("POST", "/y", []byte("body")), RequestDigest("POST", "/x", []byte("body "))} {
		assert.NotEqual(t, a, other)
	}
}

func TestNeighbourhood(t *testing.T) {
	assert.Equal(t, "192.0.2.7", neighbourhood("192.0.2.7"))
	assert.Equal(t, "2001:db8:1:2::/64", neighbourhood("2001:db8:1:2:a:b:c:d"), "a subscriber has all of them")
	assert.Equal(t, neighbourhood("2001:db8:1:2::1"), neighbourhood("2001:db8:1:2::2"))
	assert.NotEqual(t, neighbourhood("2001:db8:1:2::1"), neighbourhood("2001:db8:1:3::1"))
	assert.Equal(t, "fe80::/64", neighbourhood("fe80::1%eth0"))
	assert.Equal(t, "this machine", neighbourhood("this machine"))
}
