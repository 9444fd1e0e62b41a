package asuser

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed is an archive of files by their names; one that ends with ! is executable.
func packed(t *testing.T, files ...string) io.Reader {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, f := range files {
		name, is := strings.CutSuffix(f, "!")
		mode := int64(0o644)
		if is {
			mode = 0o755
		}
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: mode,
			Size: int64(len(name))}))
		_, err := io.WriteString(w, name)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return &out
}

// tree lists the files below a directory of the home, with what is in them.
func tree(t *testing.T, dir string) (out []string) {
	t.Helper()
	_ = filepath.Walk(dir, func(name string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			text, _ := os.ReadFile(name)
			out = append(out, name[len(dir)+1:]+"="+string(text))
		}
		return nil
	})
	return out
}

func TestTrees(t *testing.T) {
	ctx := context.Background()
	h, _ := home(t)
	site := filepath.Join(h, "sites/a.example")
	do := func(what string, archive io.Reader) (Tree, error) {
		return WorkOnTree(ctx, uid, TreeWork{Home: h, Do: what, Tree: "sites/a.example", New: "sites/.new",
			Before: "sites/.before", Paths: []string{"index.html"}}, archive)
	}
	works := func(what string, archive io.Reader) Tree {
		t.Helper()
		told, err := do(what, archive)
		require.NoError(t, err, what)
		return told
	}
	unpackNew := func(files ...string) Tree {
		t.Helper()
		return works(Unpack, packed(t, files...))
	}
	assert.False(t, works(Look, nil).Others, "a site that is not there has nothing in it")
	assert.False(t, unpackNew("left.txt").Others)
	unpackNew("index.html", "bin/run!")
	assert.Equal(t, []string{"bin/run=bin/run", "index.html=index.html"}, tree(t, filepath.Join(h, "sites/.new")),
		"what a former try has left is gone")
	var s syscall.Stat_t
	require.NoError(t, syscall.Stat(filepath.Join(h, "sites/.new/bin/run"), &s))
	assert.EqualValues(t, uid, s.Uid)
	assert.EqualValues(t, 0o755, s.Mode&0o777)

	require.NoError(t, os.Mkdir(site, 0o755))
	require.NoError(t, os.WriteFile(site+"/old.txt", []byte("old"), 0o644))
	require.NoError(t, os.Chown(site, uid, uid))
	for range 2 { // as after a kill
		works(Place, nil)
		assert.Equal(t, []string{"bin/run=bin/run", "index.html=index.html"}, tree(t, site))
		assert.Equal(t, []string{"old.txt=old"}, tree(t, filepath.Join(h, "sites/.before")))
	}
	told := works(Look, nil)
	sum := sha256.Sum256([]byte("index.html"))
	assert.Equal(t, map[string]string{"index.html": hex.EncodeToString(sum[:])}, told.Digests)
	assert.Equal(t, "bin/run", told.Example)
	for range 2 {
		works(Restore, nil)
		assert.Equal(t, []string{"old.txt=old"}, tree(t, site))
	}
	_, err := do(Place, nil)
	assert.ErrorContains(t, err, "not there any more")

	// Killed between the two moves, and an apply has made the directory anew.
	unpackNew("index.html")
	require.NoError(t, os.Rename(site, filepath.Join(h, "sites/.before")))
	require.NoError(t, os.Mkdir(site, 0o755))
	require.NoError(t, os.Chown(site, uid, uid))
	works(Place, nil)
	assert.Equal(t, []string{"index.html=index.html"}, tree(t, site))
	works(Discard, nil)
	assert.NoDirExists(t, filepath.Join(h, "sites/.before"))

	// An update: a copy first, then files over it.
	require.NoError(t, os.Symlink("index.html", site+"/link"))
	require.NoError(t, syscall.Mkfifo(site+"/pipe", 0o644))
	works(Copy, nil)
	assert.Equal(t, []string{"index.html=index.html", "link=index.html"}, tree(t, filepath.Join(h, "sites/.before")))
	works(Patch, packed(t, "more/new.txt"))
	assert.NoFileExists(t, site+"/index.html", "it was among the paths to be deleted")
	assert.FileExists(t, site+"/more/new.txt")
	works(Restore, nil)
	assert.FileExists(t, site+"/index.html")
	assert.NoDirExists(t, site+"/more")

	// What the owner has shut is deleted all the same.
	require.NoError(t, os.MkdirAll(filepath.Join(h, "sites/.new/shut/deep"), 0o755))
	for _, dir := range []string{"shut/deep", "shut", ""} {
		require.NoError(t, os.Chown(filepath.Join(h, "sites/.new", dir), uid, uid))
	}
	require.NoError(t, os.Chmod(filepath.Join(h, "sites/.new/shut"), 0))
	works(Discard, nil)
	assert.NoDirExists(t, filepath.Join(h, "sites/.new"))
}

func TestHostileTrees(t *testing.T) {
	ctx := context.Background()
	h, other := home(t)
	require.NoError(t, os.WriteFile(other+"/secret", []byte("secret"), 0o644))
	link := func(name, to string) {
		t.Helper()
		require.NoError(t, os.Symlink(to, filepath.Join(h, name)))
		require.NoError(t, os.Lchown(filepath.Join(h, name), uid, uid))
	}
	link("sites/a.example", other)
	_, err := WorkOnTree(ctx, uid, TreeWork{Home: h, Do: Unpack, Tree: "sites/none", New: "sites/a.example/x"},
		packed(t, "stolen"))
	assert.Error(t, err)
	for _, what := range []string{Patch, Copy, Look} {
		_, err := WorkOnTree(ctx, uid, TreeWork{Home: h, Do: what, Tree: "sites/a.example/x", Before: "sites/.before",
			Paths: []string{"secret"}}, packed(t, "stolen"))
		assert.True(t, err != nil || what == Look, what)
	}
	told, err := WorkOnTree(ctx, uid, TreeWork{Home: h, Do: Look, Tree: "sites/a.example", Paths: []string{"secret"}},
		nil)
	assert.True(t, err != nil || len(told.Digests) == 0, "%v", told)
	assert.Equal(t, []string{"secret=secret"}, tree(t, other))

	// Names of an archive lead nowhere else, whatever the directory holds by then.
	_, err = WorkOnTree(ctx, uid, TreeWork{Home: h, Do: Unpack, Tree: "sites/none", New: "sites/b"}, packed(t, "in/a"))
	require.NoError(t, err)
	link("sites/b/up", other)
	for _, name := range []string{"../../../other/x", "up/x", "/etc/x"} {
		_, err = WorkOnTree(ctx, uid, TreeWork{Home: h, Do: Patch, Tree: "sites/b"}, packed(t, name))
		assert.Error(t, err, name)
	}
	assert.Equal(t, []string{"secret=secret"}, tree(t, other))

	half, _ := io.ReadAll(packed(t, "a", "b"))
	_, err = WorkOnTree(ctx, uid, TreeWork{Home: h, Do: Unpack, Tree: "sites/none", New: "sites/c"},
		bytes.NewReader(half[:1300]))
	assert.ErrorContains(t, err, "whole")
	_, err = WorkOnTree(ctx, uid, TreeWork{Home: h, Do: "dance", Tree: "sites/c"}, nil)
	assert.Error(t, err)
}
