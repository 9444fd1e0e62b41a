package staging

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/render"
)

func TestRun(t *testing.T) {
	ctx := context.Background()
	scratch, dir := t.TempDir(), t.TempDir()
	a, b, c := filepath.Join(dir, "a.conf"), filepath.Join(dir, "b.conf"), filepath.Join(dir, "c.conf")
	require.NoError(t, os.WriteFile(a, []byte("a old\n"), 0o644))
	require.NoError(t, os.WriteFile(b, []byte("b old\n"), 0o644))
	elsewhere := filepath.Join(t.TempDir(), "not", "there", "yet", "d.conf")
	out, err := Run(ctx, scratch, []Change{
		{a, &render.File{Path: a, Mode: 0o644, Content: "a new\n"}},
		{b, nil},
		{c, &render.File{Path: c, Mode: 0o644, Content: "c new\n"}},
		{elsewhere, &render.File{Path: elsewhere, Mode: 0o644, Content: "d new\n"}},
	}, "sh", "-c", "cat "+dir+"/*.conf "+elsewhere+"; echo more >> "+a)
	assert.Error(t, err, "nothing staged or live can be written")
	assert.Contains(t, out, "a new\nc new\nd new\n", "the program sees it as it would be, at the real paths")
	text, err := os.ReadFile(a)
	require.NoError(t, err)
	assert.Equal(t, "a old\n", string(text), "what is in use is untouched")
	assert.FileExists(t, b)
	assert.NoFileExists(t, c)
	left, err := os.ReadDir(scratch)
	require.NoError(t, err)
	assert.Empty(t, left)

	out, err = Run(ctx, scratch, nil, "sh", "-c", "echo complaint >&2; exit 3")
	assert.ErrorContains(t, err, "exit status 3")
	assert.Equal(t, "complaint\n", out)
	_, err = Run(ctx, scratch, nil, "no-such-program-at-all")
	assert.Error(t, err)
}
