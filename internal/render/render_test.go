package render_test

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/names"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

func TestMain(m *testing.M) { labtest.Main(m) }

var server = render.Server{Addresses: []netip.Addr{netip.MustParseAddr("10.77.0.21"), netip.MustParseAddr("2001:db8::21")}, PHP: "8.2"}

// typed draws what people might type, most of it hostile.
var typed = rapid.Custom(func(t *rapid.T) string {
	label := rapid.OneOf(rapid.StringMatching(`[a-z0-9-]{1,63}`), rapid.StringMatching(`[a-zäöüßéøñ東京λя-]{1,20}`), rapid.StringMatching(`xn--[a-z0-9-]{1,12}`),
		rapid.SampledFrom([]string{`"`, `'; return 200;`, "a\nb", "{", "}", "$host", "..", "a/../..", "\x00", "🚢", "#", "%n", "default_server", "_", "*"}), rapid.StringN(1, 8, 20))
	name := ""
	for range rapid.IntRange(1, 5).Draw(t, "labels") {
		name += label.Draw(t, "label") + "."
	}
	return name + rapid.SampledFrom([]string{"example", "test", "co.uk", ""}).Draw(t, "suffix")
})

// What the core accepts, the programs accept: all of it together, as on one server.
func TestProgramsAcceptWhatTheCoreAccepts(t *testing.T) {
	ctx := context.Background()
	s, err := labtest.Lab(t, "rend").StartServer(ctx, lab.ServerOptions{Name: "skua", Host: 21, HomeSize: 128 << 20})
	require.NoError(t, err)
	files := append(render.NGINXBase(), render.PHPFPMBase(server)...)
	var passwd strings.Builder
	taken := map[string]bool{}
	seen := map[string]bool{}
	id := int64(0)
	add := func(t *rapid.T, typed string) {
		d, _, err := names.ParseDomain(typed)
		if err != nil || seen[d.String()] {
			return
		}
		seen[d.String()] = true
		id++
		limit := rapid.Int64Range(0, 1<<40).Draw(t, "limit")
		m := manifest.Manifest{AccountID: id, SignInName: names.ProposeSignIn(d, func(n string) bool { return taken[n] }), Revision: 1, Wanted: manifest.Present,
			Home: manifest.Home{DiskLimit: &limit}, PHP: manifest.PHP{Workers: rapid.IntRange(1, 500).Draw(t, "workers")}, Suspended: rapid.IntRange(0, 4).Draw(t, "suspended") == 0,
			Sites: []manifest.Site{{Domain: d, Root: manifest.RootFor(d), Starter: true}}}
		taken[m.SignInName] = true
		if err := m.Validate(); err != nil {
			t.Fatalf("%s: %v", d, err)
		}
		fmt.Fprintf(&passwd, "%s:x:%d:33::/:/usr/sbin/nologin\n", m.SignInName, m.UID())
		files = append(append(files, render.NGINX(m, server)...), render.PHPFPM(m, server)...)
	}
	rapid.Check(t, func(t *rapid.T) {
		for _, text := range rapid.SliceOfN(typed, 20, 20).Draw(t, "typed") {
			add(t, text)
		}
	})
	require.Greater(t, id, int64(100), "too few names were accepted to mean anything")
	for i := range files {
		// The groups do not exist here; the programs only look at syntax and users.
		files[i].Content = strings.ReplaceAll(files[i].Content, "\ngroup = ", "\ngroup = www-data\n;group = ")
	}
	unpack(t, s, files)
	_, err = s.Exec(ctx, "sh", "-ec", "printf %s \"$1\" >> /etc/passwd", "sh", passwd.String())
	require.NoError(t, err)
	out, err := s.Exec(ctx, "nginx", "-t")
	assert.NoError(t, err)
	assert.NotContains(t, out, "warn", "no two sites of one name")
	_, err = s.Exec(ctx, "php-fpm8.2", "-t")
	assert.NoError(t, err)
	t.Logf("%d accounts", id)
}

func unpack(t *testing.T, s *lab.Server, files []render.File) {
	t.Helper()
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, f := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(f.Path, "/"), Mode: int64(f.Mode), Size: int64(len(f.Content))}))
		_, err := w.Write([]byte(f.Content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	cmd := s.Command(context.Background(), "tar", "-xf", "-", "-C", "/")
	cmd.Stdin = &archive
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

func example(t *testing.T) manifest.Manifest {
	t.Helper()
	d, _, err := names.ParseDomain("ternferries.example")
	require.NoError(t, err)
	return manifest.Manifest{AccountID: 17, SignInName: "ternferries", Revision: 3, Wanted: manifest.Present, PHP: manifest.PHP{Workers: 3},
		Sites: []manifest.Site{{Domain: d, Root: manifest.RootFor(d)}}}
}

// The rendered files as a whole, to be read in a review. UPDATE=1 writes them.
func TestGolden(t *testing.T) {
	m := example(t)
	var b strings.Builder
	suspended := m
	suspended.Suspended = true
	for _, f := range slices.Concat(render.NGINX(m, server), render.PHPFPM(m, server), render.NGINX(suspended, server)) {
		fmt.Fprintf(&b, "== %s %o\n%s", f.Path, f.Mode, f.Content)
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile("testdata/ternferries.txt", []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/ternferries.txt")
	require.NoError(t, err)
	assert.Equal(t, string(want), b.String())
}

func TestFingerprints(t *testing.T) {
	m := example(t)
	newer := m
	newer.Revision++
	assert.Equal(t, render.NGINXFingerprint(m, server), render.NGINXFingerprint(newer, server), "a revision alone needs no reload")
	more := m
	more.PHP.Workers = 4
	assert.NotEqual(t, render.PHPFPMFingerprint(m, server), render.PHPFPMFingerprint(more, server))
	assert.Contains(t, render.NGINX(m, server)[0].Content, `return 200 "`+render.NGINXFingerprint(m, server)+`"`)
	absent := m
	absent.Wanted = manifest.Absent
	assert.Empty(t, render.NGINX(absent, server))
	assert.Empty(t, render.PHPFPM(absent, server))
}

func TestStarterPage(t *testing.T) {
	assert.Contains(t, render.StarterPage(`<script>"x"&`), "<h1>&lt;script&gt;&#34;x&#34;&amp;</h1>")
}
