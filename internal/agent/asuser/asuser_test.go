package asuser

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const uid = 1_000_017

// home makes a home as the agent lays it out, and something of somebody else's beside it.
func home(t *testing.T) (home, other string) {
	t.Helper()
	require.Zero(t, os.Geteuid(), "as root only")
	dir, err := os.MkdirTemp("/tmp", "asuser-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	home, other = filepath.Join(dir, "home"), filepath.Join(dir, "other")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "sites"), 0o755))
	require.NoError(t, os.Chown(filepath.Join(home, "sites"), uid, uid))
	require.NoError(t, os.Mkdir(other, 0o777))
	require.NoError(t, os.Chmod(other, 0o777)) // even where the user could write, nothing leaves the home
	return home, other
}

func TestWork(t *testing.T) {
	ctx := context.Background()
	h, _ := home(t)
	w := Work{Home: h, Directories: []string{"sites/ferries.example"},
		NewFiles: []NewFile{{"sites/ferries.example/index.html", "hello"}}}
	require.NoError(t, Do(ctx, uid, w))
	path := filepath.Join(h, "sites/ferries.example/index.html")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "hello", string(text))
	var s syscall.Stat_t
	require.NoError(t, syscall.Stat(path, &s))
	assert.EqualValues(t, uid, s.Uid)
	assert.EqualValues(t, 0o644, s.Mode&0o777)

	// A customer's content is never touched, not even by the same name.
	require.NoError(t, os.WriteFile(path, []byte("mine"), 0o644))
	require.NoError(t, Do(ctx, uid, w))
	text, _ = os.ReadFile(path)
	assert.Equal(t, "mine", string(text))
	require.NoError(t, os.Rename(path, filepath.Join(h, "sites/ferries.example/start.php")))
	require.NoError(t, Do(ctx, uid, w))
	assert.NoFileExists(t, path, "the directory is not empty")
}

// What is in the way of one thing is told, and keeps nothing else from being done.
func TestWhatCannotBeDone(t *testing.T) {
	h, _ := home(t)
	require.NoError(t, os.WriteFile(h+"/sites/first", nil, 0o666))
	require.NoError(t, os.Symlink("loop", h+"/sites/loop"))
	err := Do(context.Background(), uid, Work{Home: h,
		Moves:       []Move{{"sites/first", "sites/elsewhere"}},
		Directories: []string{"sites/first", "sites/loop/in", "sites/second"},
		NewFiles:    []NewFile{{"sites/second/index.html", "hello"}}})
	var left Incomplete
	require.ErrorAs(t, err, &left)
	assert.Len(t, left, 3, left.Error())
	text, err := os.ReadFile(h + "/sites/second/index.html")
	require.NoError(t, err)
	assert.Equal(t, "hello", string(text))

	var b bounded
	for range 100 {
		_, err := b.Write(make([]byte, 1000))
		require.NoError(t, err)
	}
	assert.Equal(t, 64<<10, b.Len())
}

func TestNothingLeavesTheHome(t *testing.T) {
	ctx := context.Background()
	for name, arrange := range map[string]func(t *testing.T, h, other string){
		"document root is a link": func(t *testing.T, h, other string) {
			require.NoError(t, os.Symlink(other, h+"/sites/x"))
		},
		"document root is a link upward": func(t *testing.T, h, other string) {
			require.NoError(t, os.Symlink("../../other", h+"/sites/x"))
		},
		"sites is a link": func(t *testing.T, h, other string) {
			require.NoError(t, os.Remove(h+"/sites"))
			require.NoError(t, os.Symlink(other, h+"/sites"))
		},
		"document root is a file": func(t *testing.T, h, other string) {
			require.NoError(t, os.WriteFile(h+"/sites/x", nil, 0o666))
		},
		"document root is a pipe": func(t *testing.T, h, other string) {
			require.NoError(t, syscall.Mkfifo(h+"/sites/x", 0o666))
		},
		"file is a link": func(t *testing.T, h, other string) {
			require.NoError(t, os.Mkdir(h+"/sites/x", 0o777))
			require.NoError(t, os.Symlink(other+"/index.html", h+"/sites/x/index.html"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			h, other := home(t)
			arrange(t, h, other)
			Do(ctx, uid, Work{Home: h, Directories: []string{"sites/x"}, NewFiles: []NewFile{{"sites/x/index.html",
				"planted"}}})
			entries, err := os.ReadDir(other)
			require.NoError(t, err)
			assert.Empty(t, entries)
		})
	}
	h, _ := home(t)
	assert.Error(t, Do(ctx, uid, Work{Home: h, Directories: []string{"../other/x"}}))
	assert.Error(t, Do(ctx, uid, Work{Home: h, Directories: []string{"/etc/x"}}))
	assert.ErrorContains(t, Do(ctx, 0, Work{Home: h}), "never done as root")
	assert.ErrorContains(t, work(strings.NewReader("{}"), io.Discard), "never done as root")
	assert.Error(t, Do(ctx, uid+1, Work{Home: h, Directories: []string{"sites/y"}}), "another user may not")
}
