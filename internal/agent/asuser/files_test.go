package asuser

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFiles(t *testing.T) {
	ctx := context.Background()
	h, outside := home(t)
	contents := bytes.Repeat([]byte("0123456789abcdef"), 100_000)
	require.NoError(t, os.WriteFile(filepath.Join(h, "dump.sql"), contents, 0o644))
	info, err := os.Stat(filepath.Join(h, "dump.sql"))
	require.NoError(t, err)

	told, err := StatFile(ctx, uid, FileWork{Home: h, Path: "dump.sql"})
	require.NoError(t, err)
	assert.EqualValues(t, len(contents), told.Size)
	assert.True(t, told.Modified.Equal(info.ModTime()))
	read := func(name string, offset int64) ([]byte, error) {
		var out bytes.Buffer
		err := ReadFile(ctx, uid, FileWork{Home: h, Path: name, Offset: offset}, func(f File) (io.Writer, error) {
			return &out, nil
		})
		return out.Bytes(), err
	}
	for _, offset := range []int64{0, 7, int64(len(contents)) - 1, int64(len(contents))} {
		got, err := read("dump.sql", offset)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(contents[offset:], got), offset)
	}
	unwanted := errors.New("not this one")
	err = ReadFile(ctx, uid, FileWork{Home: h, Path: "dump.sql"}, func(File) (io.Writer, error) {
		return nil,
			unwanted
	})
	assert.ErrorIs(t, err, unwanted)
	err = ReadFile(ctx, uid, FileWork{Home: h, Path: "dump.sql"}, func(File) (io.Writer, error) {
		return writing(func() error { return unwanted }), nil
	})
	assert.ErrorIs(t, err, unwanted, "whoever no longer takes it ends it")
	err = ReadFile(ctx, uid, FileWork{Home: h, Path: "dump.sql"}, func(File) (io.Writer, error) {
		return writing(func() error { return os.WriteFile(filepath.Join(h, "dump.sql"), nil, 0o644) }), nil
	})
	assert.ErrorContains(t, err, "dump.sql was changed while it was read")

	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(h, "link")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(h, "pipe"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(h, "roots"), []byte("secret"), 0o600))
	for name, want := range map[string]string{"nothing": "there is no file nothing in the home",
		"link": "link cannot be read", "../" + filepath.Base(outside) + "/secret": "cannot be read",
		secret: "cannot be read", "pipe": "pipe is no plain file", ".": "is no plain file",
		"roots": "the account may not read roots"} {
		got, err := read(name, 0)
		assert.ErrorContains(t, err, want, name)
		assert.Empty(t, got, name)
	}
}

// writing is a writer that does something at each write.
type writing func() error

func (w writing) Write(p []byte) (int, error) { return len(p), w() }
