package wholefile_test

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/wholefile"
)

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "site.conf")
	require.NoError(t, wholefile.Write(path, []byte("one"), 0o640, ""))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())

	// What a killed writer has left goes with the next, and is no way to another file.
	elsewhere := filepath.Join(dir, "elsewhere")
	require.NoError(t, os.WriteFile(elsewhere, []byte("theirs"), 0o600))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(dir, ".site.conf.new")))
	require.NoError(t, wholefile.Write(path, []byte("two"), 0o600, ""))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "two", string(text))
	text, err = os.ReadFile(elsewhere)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(text))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2)

	// Readers see all of one or all of the other.
	long, longer := strings.Repeat("a", 100_000), strings.Repeat("b", 200_000)
	var group sync.WaitGroup
	done := make(chan struct{})
	group.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			text, err := os.ReadFile(path)
			if assert.NoError(t, err) && string(text) != "two" && string(text) != long {
				assert.Equal(t, longer, string(text))
			}
		}
	})
	for range 20 {
		require.NoError(t, wholefile.Write(path, []byte(long), 0o600, ""))
		require.NoError(t, wholefile.Write(path, []byte(longer), 0o600, ""))
	}
	close(done)
	group.Wait()

	assert.Error(t, wholefile.Write(filepath.Join(dir, "nowhere", "x"), nil, 0o600, ""))
	assert.Error(t, wholefile.Write(path, nil, 0o600, "no-such-group"))
	text, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, longer, string(text), "what failed has changed nothing")
}
