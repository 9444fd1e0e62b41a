package home

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/manifest"
)

// Where a file system counts in blocks, a limit that is none of them is no difference for ever.
func TestLimitsAreRoundedAsTheFileSystemCounts(t *testing.T) {
	limit := func(n int64) manifest.Manifest {
		return manifest.Manifest{AccountID: 1, Home: manifest.Home{DiskLimit: &n}}
	}
	d := &Driver{disk: projects{}, held: map[int]int64{}}
	assert.Nil(t, d.expected(manifest.Manifest{AccountID: 1}))
	for given, want := range map[int64]int64{0: 1024, 1: 1024, 1024: 1024, 1025: 2048, 50 << 20: 50 << 20} {
		assert.Equal(t, want, *d.expected(limit(given)))
	}
	d.held[limit(0).UID()] = 4096
	assert.Equal(t, int64(4096), *d.expected(limit(50 << 20)), "who has too many files keeps what they hold")
	d.disk = &subvolumes{}
	assert.Equal(t, int64(1000), *d.expected(limit(1000)))
}
