package seal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSeal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "sealing.key")
	key, err := LoadKey(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	sealed := key.Seal("join secret", []byte("herring"))
	assert.NotContains(t, string(sealed), "herring")
	assert.NotEqual(t, sealed, key.Seal("join secret", []byte("herring")),
		"the same secret is sealed differently each time")
	again, err := LoadKey(path)
	require.NoError(t, err)
	secret, err := again.Open("join secret", sealed)
	require.NoError(t, err)
	assert.Equal(t, "herring", string(secret))

	_, err = key.Open("another place", sealed)
	assert.Error(t, err, "a sealed value is good for its own place only")
	sealed[len(sealed)-1] ^= 1
	_, err = key.Open("join secret", sealed)
	assert.ErrorContains(t, err, "join secret")
	other, err := LoadKey(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	_, err = other.Open("join secret", key.Seal("join secret", nil))
	assert.Error(t, err)
	_, err = other.Open("join secret", []byte("short"))
	assert.Error(t, err)

	require.NoError(t, os.WriteFile(path, []byte("cut off"), 0o600))
	_, err = LoadKey(path)
	assert.ErrorContains(t, err, "32 bytes")
}
