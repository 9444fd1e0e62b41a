package usecase

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

func TestCursor(t *testing.T) {
	domain, id := "", int64(0)
	require.NoError(t, ReadCursor(Cursor("møwe.example", int64(7)), &domain, &id))
	assert.Equal(t, "møwe.example", domain)
	assert.EqualValues(t, 7, id)
	require.NoError(t, ReadCursor("", &domain, &id), "the first page has none")
	assert.Equal(t, "møwe.example", domain)
	for _, rubbish := range []string{"x", "!!!", "e30", "bnVsbA", Cursor(7, "swapped")} {
		err := ReadCursor(rubbish, new(string), new(int64))
		if rubbish != "bnVsbA" { // null is no part at all
			assert.True(t, refusal.Is(err, refusal.InvalidInput), rubbish)
		}
	}
}

func TestEscapeLike(t *testing.T) {
	assert.Equal(t, `50\% of a\_b\\c`, EscapeLike(`50% of a_b\c`))
}
