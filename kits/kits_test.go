package kits_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	core "victualler/internal/hosting/kits"
	"victualler/kits"
)

func TestShippedKits(t *testing.T) {
	for _, name := range kits.Names {
		dir, err := kits.Directory(name)
		require.NoError(t, err)
		archive, err := core.Pack(dir)
		require.NoError(t, err, name)
		p, err := core.ReadArchive(archive)
		require.NoError(t, err, name)
		assert.Equal(t, name, p.Name)
	}
}
