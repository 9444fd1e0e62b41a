package totp

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The vectors of RFC 6238, appendix B, for SHA-1, cut to six digits.
func TestVectors(t *testing.T) {
	secret := []byte("12345678901234567890")
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471",
		1234567890: "005924", 2000000000: "279037", 20000000000: "353130"} {
		assert.Equal(t, code, Code(secret, Step(time.Unix(at, 0))))
	}
}

func TestClocksMayDifferABit(t *testing.T) {
	secret := []byte("12345678901234567890")
	now := time.Unix(1_800_000_000, 0)
	for _, off := range []time.Duration{-30 * time.Second, 0, 30 * time.Second} {
		step, fits := Check(secret, " "+Code(secret, Step(now.Add(off))), now)
		assert.True(t, fits)
		assert.Equal(t, Step(now.Add(off)), step)
	}
	for _, off := range []time.Duration{-61 * time.Second, 61 * time.Second} {
		_, fits := Check(secret, Code(secret, Step(now.Add(off))), now)
		assert.False(t, fits)
	}
	_, fits := Check(secret, "", now)
	assert.False(t, fits)
}

func TestURIReadsBack(t *testing.T) {
	u, err := url.Parse(URI("Tern Island & Co", "mara", []byte("12345678901234567890")))
	require.NoError(t, err)
	assert.Equal(t, "totp", u.Host)
	assert.Equal(t, "/Tern Island & Co:mara", u.Path)
	assert.Equal(t, "Tern Island & Co", u.Query().Get("issuer"))
	assert.Equal(t, "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", u.Query().Get("secret"))
}
