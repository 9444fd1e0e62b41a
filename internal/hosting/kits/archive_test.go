package kits

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
)

// item is an entry of an archive, whatever it is; a plain file where nothing is said.
type item struct {
	name, text string
	kind       byte
	mode       int64
	link       string
}

func tarOf(t testing.TB, items ...item) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, i := range items {
		h := &tar.Header{Name: i.name, Typeflag: i.kind, Mode: i.mode, Linkname: i.link, Size: int64(len(i.text))}
		if h.Typeflag == 0 {
			h.Typeflag = tar.TypeReg
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := io.WriteString(w, i.text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// small is a kit in order, with more in it.
func small(more ...item) []item {
	return append([]item{{name: "kit.json", text: smallDocument}, {name: "files/index.html", text: "<p>hello"}},
		more...)
}

func TestReadArchive(t *testing.T) {
	plain := tarOf(t, small(item{name: "files/bin/", kind: tar.TypeDir}, item{name: "files/bin/go", text: "#!/bin/sh",
		mode: 0o755}, item{name: "README.md", text: "read me"})...)
	p, err := ReadArchive(plain)
	require.NoError(t, err)
	require.Len(t, p.Files, 2)
	assert.Equal(t, "bin/go", p.Files[0].Path)
	assert.True(t, p.Files[0].Executable)
	assert.EqualValues(t, 17, p.Size)

	var zipped bytes.Buffer
	g := gzip.NewWriter(&zipped)
	_, err = g.Write(plain)
	require.NoError(t, err)
	require.NoError(t, g.Close())
	inDirectory := tarOf(t, item{name: "pinboard-1.2/", kind: tar.TypeDir}, item{name: "pinboard-1.2/kit.json",
		text: smallDocument}, item{name: "./pinboard-1.2/files/bin/go", text: "#!/bin/sh", mode: 0o755},
		item{name: "pinboard-1.2/files/index.html", text: "<p>hello"})
	directory, err := Pack(fstest.MapFS{"kit.json": {Data: []byte(smallDocument)},
		"files/index.html": {Data: []byte("<p>hello")}, "files/bin/go": {Data: []byte("#!/bin/sh"), Mode: 0o700}})
	require.NoError(t, err)
	for name, archive := range map[string][]byte{"gzip": zipped.Bytes(),
		"in a directory": inDirectory, "packed by us": directory} {
		same, err := ReadArchive(archive)
		require.NoError(t, err, name)
		assert.Equal(t, p.Digest, same.Digest, name)
	}
	other, err := ReadArchive(tarOf(t, small(item{name: "files/bin/go", text: "#!/bin/sh"})...))
	require.NoError(t, err)
	assert.NotEqual(t, p.Digest, other.Digest, "it is not executable there")
}

func TestHostileArchives(t *testing.T) {
	big := func(size int64) []byte { // which says that it has as much, and is packed to next to nothing
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		w := tar.NewWriter(z)
		for _, i := range small() {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: i.name, Typeflag: tar.TypeReg,
				Size: int64(len(i.text))}))
			_, err := io.WriteString(w, i.text)
			require.NoError(t, err)
		}
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "files/zeros", Typeflag: tar.TypeReg, Size: size}))
		_, err := io.CopyN(w, zeros{}, size)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		require.NoError(t, z.Close())
		return out.Bytes()
	}
	var many []item
	for i := range MaxFiles {
		many = append(many, item{name: "files/" + strings.Repeat("x", 1+i%150) + string(rune('a'+i/150%26)) +
			string(rune('a'+i/3900))})
	}
	template := strings.Replace(smallDocument, `"check"`, `"templates": ["index.html"], "check"`, 1)
	for name, c := range map[string]struct {
		archive []byte
		says    string
	}{
		"nothing":       {nil, "no archive"},
		"rubbish":       {bytes.Repeat([]byte("rubbish\x00\xff"), 1000), "archive"},
		"broken gzip":   {[]byte("\x1f\x8b\x08\x00rubbish"), "cannot be read"},
		"cut off":       {tarOf(t, small()...)[:1100], "cannot be read"},
		"no document":   {tarOf(t, item{name: "files/a", text: "a"}), "no kit.json"},
		"deep document": {tarOf(t, item{name: "a/b/kit.json", text: smallDocument}), "no kit.json"},
		"document a link": {tarOf(t, item{name: "kit.json", kind: tar.TypeSymlink, link: "/etc/passwd"}),
			"no plain file"},
		"upwards": {tarOf(t, small(item{name: "files/../../etc/cron.d/x", text: "x"})...),
			"does not stay below"},
		"absolute":        {tarOf(t, small(item{name: "/etc/passwd", text: "x"})...), "does not stay below"},
		"upwards at once": {tarOf(t, small(item{name: "../x", text: "x"})...), "does not stay below"},
		"symbolic link":   {tarOf(t, small(item{name: "files/l", kind: tar.TypeSymlink, link: "/"})...), "is a link"},
		"hard link": {tarOf(t, small(item{name: "files/l", kind: tar.TypeLink, link: "kit.json"})...),
			"is a link"},
		"device":          {tarOf(t, small(item{name: "files/d", kind: tar.TypeBlock})...), "no plain file"},
		"pipe":            {tarOf(t, small(item{name: "files/p", kind: tar.TypeFifo})...), "no plain file"},
		"line end":        {tarOf(t, small(item{name: "files/a\nb", text: "x"})...), "characters"},
		"twice":           {tarOf(t, small(item{name: "files/index.html", text: "x"})...), "there twice"},
		"second document": {tarOf(t, small(item{name: "kit.json", text: smallDocument})...), "there twice"},
		"file below file": {tarOf(t, small(item{name: "files/index.html/x", text: "x"})...), "a file and a directory"},
		"file over directory": {tarOf(t, small(item{name: "files/a/x", text: "x"}, item{name: "files/a",
			text: "x"})...), "there twice"},
		"beside": {tarOf(t, small(item{name: "etc/x", text: "x"})...), "neither kit.json nor below files/"},
		"beside the directory": {tarOf(t, item{name: "k/kit.json", text: smallDocument}, item{name: "files/x",
			text: "x"}), "beside the kit's directory"},
		"bomb":       {big(MaxUnpacked + 1), "more than 512M"},
		"many files": {tarOf(t, small(many...)...), "files"},
		"no files":   {tarOf(t, item{name: "kit.json", text: smallDocument}), "no files below"},
		"template missing": {tarOf(t, item{name: "kit.json", text: template}, item{name: "files/x"}),
			"no file files/index.html"},
		"template not known": {tarOf(t, item{name: "kit.json", text: template}, item{name: "files/index.html",
			text: "{{php x}}"}), "names nothing"},
		"large template": {tarOf(t, item{name: "kit.json", text: template}, item{name: "files/index.html",
			text: strings.Repeat("x", maxTemplate+1)}), "is filled in"},
		"long document": {tarOf(t, item{name: "kit.json", text: smallDocument + strings.Repeat(" ", maxDocument)}),
			"up to 256 KiB"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ReadArchive(c.archive)
			r := refusal.As(err)
			require.NotNil(t, r, "%v", err)
			assert.Equal(t, refusal.InvalidInput, r.Kind)
			require.NotEmpty(t, r.Fields)
			assert.Contains(t, r.Detail+" "+r.Fields[0].Text().String(), c.says)
		})
	}
	_, err := ReadArchive(make([]byte, MaxArchive+1))
	assert.Error(t, err)
}

// zeros is as many zeros as one likes.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func TestPack(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Symlink("/etc/passwd", dir+"/kit.json"))
	_, err := Pack(os.DirFS(dir))
	assert.ErrorContains(t, err, "is a link")
	_, err = Pack(os.DirFS(dir + "/missing"))
	assert.ErrorContains(t, err, "not there")
}

func TestWriteSite(t *testing.T) {
	document := strings.Replace(smallDocument, `"check"`, `"templates": ["c.php"], "asks": [{"name": "owner",
		"title": "Owner", "kind": "line"}], "check"`, 1)
	p, err := ReadArchive(tarOf(t, item{name: "kit.json", text: document}, item{name: "files/c.php",
		text: "<?php return {{php owner}};"}, item{name: "files/run", text: "run", mode: 0o755}))
	require.NoError(t, err)
	var out bytes.Buffer
	digests, err := p.WriteSite(&out, p.Archive, Values{"owner": "Ann's"}, nil)
	require.NoError(t, err)
	assert.Equal(t, p.Files[1].Digest, digests["run"])
	assert.NotEqual(t, p.Files[0].Digest, digests["c.php"], "it is filled in")
	got := map[string]string{}
	require.NoError(t, each(out.Bytes(), func(e entry) error {
		text, err := io.ReadAll(e)
		got[e.header.Name] = string(text)
		return err
	}))
	assert.Equal(t, map[string]string{"c.php": `<?php return 'Ann\'s';`, "run": "run"}, got)
	_, err = p.WriteSite(io.Discard, p.Archive, nil, nil)
	assert.Error(t, err, "a value is missing")
}

func FuzzReadArchive(f *testing.F) {
	f.Add(tarOf(f, small()...))
	f.Fuzz(func(t *testing.T, archive []byte) {
		p, err := ReadArchive(archive)
		if err != nil {
			if refusal.As(err) == nil {
				t.Fatalf("no refusal: %v", err)
			}
			return
		}
		for _, file := range p.Files {
			if CheckPath(file.Path) != nil {
				t.Fatalf("%q", file.Path)
			}
		}
	})
}
