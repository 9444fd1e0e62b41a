package render_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/sites"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

func TestMain(m *testing.M) { labtest.Main(m) }

var server = render.Server{Addresses: []netip.Addr{netip.MustParseAddr("10.77.0.21"),
	netip.MustParseAddr("2001:db8::21")}, PHP: []string{"8.2"}}

// typed draws what people might type, most of it hostile.
var typed = rapid.Custom(func(t *rapid.T) string {
	label := rapid.OneOf(rapid.StringMatching(`[a-z0-9-]{1,63}`), rapid.StringMatching(`[a-zäöüßéøñ東京λя-]{1,20}`),
		rapid.StringMatching(`xn--[a-z0-9-]{1,12}`),
		rapid.SampledFrom([]string{`"`, `'; return 200;`, "a\nb", "{", "}", "$host", "..", "a/../..", "\x00", "🚢", "#",
			"%n", "default_server", "_", "*"}), rapid.StringN(1, 8, 20))
	name := ""
	for range rapid.IntRange(1, 5).Draw(t, "labels") {
		name += label.Draw(t, "label") + "."
	}
	return name + rapid.SampledFrom([]string{"example", "test", "co.uk", ""}).Draw(t, "suffix")
})

// hostile draws texts that would end a string, a directive or a block, were they let through.
var hostile = rapid.OneOf(rapid.SampledFrom([]string{`"`, `'`, ";", "}", "{", "\\", "$host", "${x}", "\n", "#", "..",
	"a b", "%0a", "()", "`id`", "\x00", "🚢", "=", "index.php", "no-store, max-age=0", "a; b \"c\" \\"}),
	rapid.StringN(0, 10, 40))

// setting draws a value for a setting that may be accepted, or not.
func setting(t *rapid.T, info sites.Info) any {
	switch info.Kind {
	case sites.Switch:
		return rapid.Bool().Draw(t, string(info.Key))
	case sites.Size, sites.Seconds, sites.Number:
		return rapid.Int64Range(info.Least, info.Most).Draw(t, string(info.Key))
	case sites.Choice:
		return rapid.SampledFrom(info.Choices).Draw(t, string(info.Key))
	case sites.Choices:
		return append([]string{"GET", "HEAD"}, rapid.SampledFrom(info.Choices[2:]).Draw(t, string(info.Key)))
	case sites.Paths:
		return rapid.SliceOfN(hostile, 1, 2).Draw(t, string(info.Key))
	case sites.Version:
		return rapid.OneOf(rapid.SampledFrom([]string{"", "8.2"}), hostile).Draw(t, string(info.Key))
	case sites.Zone:
		return rapid.SampledFrom([]string{"UTC", "Europe/Oslo", "America/Argentina/Buenos_Aires", "Etc/GMT+3"}).Draw(t,
			string(info.Key))
	case sites.Map:
		name := rapid.SampledFrom([]string{"404", "503", "X-Frame-Options", "Content-Security-Policy", "Allow",
			"Cache-Control"}).Draw(t, string(info.Key))
		return map[string]string{name: hostile.Draw(t, "value")}
	case sites.Text: // what is accepted of others, nginx itself may refuse: it is tested by nginx before use
		return rapid.SampledFrom([]string{"", "location /raw/ { return 204; }", "# only a comment",
			"add_header X-Raw \"a; }\";", "location ~ \\.bak$ { deny all; } # }"}).Draw(t, string(info.Key))
	}
	return hostile.Draw(t, string(info.Key))
}

// switches draws settings, of which the core keeps what it accepts.
func switches(t *rapid.T) sites.Switches {
	set := sites.Settings{}
	for _, info := range sites.All {
		text, err := json.Marshal(setting(t, info))
		require.NoError(t, err)
		if value, err := info.Decode(text); err == nil {
			set[info.Key] = value
		}
	}
	s, err := sites.SwitchesOf(sites.Resolve(sites.Unbounded, sites.Layer{Settings: set}))
	require.NoError(t, err)
	return s
}

func folders(t *rapid.T) []sites.Folder {
	var list []sites.Folder
	for _, path := range []string{"", "members", "members/inner", hostile.Draw(t, "folder")} {
		f := sites.Folder{Path: path, Title: "Protected", Users: []sites.FolderUser{{Name: "anna",
			Hash: "$2a$06$" + strings.Repeat("a", 53)}}}
		if f.Title = hostile.Draw(t, "title"); f.Check() != nil {
			f.Title = "Members' corner (a+b)"
		}
		if f.Check() == nil && (path != "" || rapid.Bool().Draw(t, "all")) &&
			!slices.ContainsFunc(list, func(o sites.Folder) bool {
				return o.Path == f.Path
			}) {
			list = append(list, f)
		}
	}
	return list
}

func redirect(t *rapid.T, target string) *sites.Redirection {
	r := &sites.Redirection{Target: target, Code: rapid.SampledFrom(sites.RedirectCodes).Draw(t, "code"),
		KeepPath: rapid.Bool().Draw(t, "keep path"), KeepQuery: rapid.Bool().Draw(t, "keep query")}
	if r.Check() != nil {
		r.KeepPath, r.KeepQuery = false, false
	}
	return r
}

// What the core accepts, the programs accept: all of it together, as on one server.
func TestProgramsAcceptWhatTheCoreAccepts(t *testing.T) {
	ctx := context.Background()
	s, err := labtest.Lab(t, "rend").StartServer(ctx, lab.ServerOptions{Name: "skua", Host: 21, HomeSize: 128 << 20})
	require.NoError(t, err)
	files := append(render.NGINXBase(server, told), render.PHPBase(server)...)
	certificate, key := pair(t)
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
		m := manifest.Manifest{AccountID: id, SignInName: names.ProposeSignIn(d, func(n string) bool {
			return taken[n]
		}), Revision: 1, Wanted: manifest.Present,
			Home:      manifest.Home{DiskLimit: &limit},
			PHP:       manifest.PHP{Workers: rapid.IntRange(1, 500).Draw(t, "workers")},
			Suspended: rapid.IntRange(0, 4).Draw(t, "suspended") == 0,
			Brand:     manifest.Brand{Title: hostile.Draw(t, "brand"), Footer: hostile.Draw(t, "footer")},
			Sites: []manifest.Site{{Domain: d, Root: manifest.RootFor(d), Starter: true, Switches: switches(t),
				Folders: folders(t)}}}
		mirror, _, err := names.ParseDomain("mirror." + d.String())
		if target, _, wrong := sites.ParseTarget(typed + "/" + hostile.Draw(t, "path")); wrong == nil && err == nil {
			m.Sites = append(m.Sites, manifest.Site{Domain: mirror, Redirect: redirect(t, target)})
		} else if err == nil {
			shown := m.Sites[0]
			shown.Domain, shown.MirrorOf, shown.Starter = mirror, d.String(), false
			m.Sites = append(m.Sites, shown)
		}
		if rapid.Bool().Draw(t, "mail") {
			m.Sites[0].Mail = toldOfMail(d, rapid.Bool().Draw(t, "policy"))
		}
		taken[m.SignInName] = true
		if m.Brand.Check() != nil {
			m.Brand = manifest.Brand{}
		}
		if err := m.Validate(); err != nil {
			t.Fatalf("%s: %v", d, err)
		}
		fmt.Fprintf(&passwd, "%s:x:%d:33::/:/usr/sbin/nologin\n", m.SignInName, m.UID())
		for n := range m.Sites {
			m.Sites[n].Busy = rapid.Bool().Draw(t, "busy")
		}
		chain := strings.Repeat(certificate, rapid.SampledFrom([]int{1, 12}).Draw(t, "chain"))
		files = append(append(files, render.NGINX(m)...), render.Sandbox(m, server)...)
		files = append(files, render.NGINXCertificates(m, func(manifest.Site) (string, string) {
			return chain, key
		})...)
		for _, site := range m.Sites {
			files = append(files, render.File{Path: render.CertificateFile(m, site), Mode: 0o600, Content: certificate},
				render.File{Path: render.KeyFile(m, site), Mode: 0o600, Content: key})
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		for _, text := range rapid.SliceOfN(typed, 20, 20).Draw(t, "typed") {
			add(t, text)
		}
	})
	require.Greater(t, id, int64(100), "too few names were accepted to mean anything")
	files = append(files, render.File{Path: "/etc/all.conf", Mode: 0o644,
		Content: "include=/etc/victualler/php/*/pool.conf\n"})
	unpack(t, s, files)
	_, err = s.Exec(ctx, "sh", "-ec", "mkdir -p /var/log/victualler; printf %s \"$1\" >> /etc/passwd", "sh",
		passwd.String())
	require.NoError(t, err)
	out, err := s.Exec(ctx, "nginx", "-t")
	assert.NoError(t, err)
	assert.NotContains(t, out, "warn", "no two sites of one name")
	_, err = s.Exec(ctx, "sh", "-ec", `chown -R nobody /etc/victualler/php
		PHP_INI_SCAN_DIR=$(ls -d /etc/victualler/php/* | tr '\n' :) setpriv --reuid=nobody --clear-groups php-fpm8.2 -t -y /etc/all.conf`)
	assert.NoError(t, err)
	t.Logf("%d accounts", id)
}

// pair makes a certificate, which nginx reads but does not hold against names.
func pair(t *testing.T) (certificate, key string) {
	t.Helper()
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &secret.PublicKey, secret)
	require.NoError(t, err)
	secretDER, err := x509.MarshalPKCS8PrivateKey(secret)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secretDER}))
}

func unpack(t *testing.T, s *lab.Server, files []render.File) {
	t.Helper()
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, f := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(f.Path, "/"), Mode: int64(f.Mode),
			Size: int64(len(f.Content))}))
		_, err := w.Write([]byte(f.Content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	cmd := s.Command(context.Background(), "tar", "-xf", "-", "-C", "/")
	cmd.Stdin = &archive
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// told is what a server is told beside its accounts.
var told = manifest.Server{MailboxPage: "https://console.ternisland.example/mailbox"}

// toldOfMail is what a site tells of its domain's mail.
func toldOfMail(d names.Domain, policy bool) *manifest.SiteMail {
	told := &manifest.SiteMail{Server: d, Policy: policy}
	for _, label := range mail.WebLabels {
		told.Names = append(told.Names, label+"."+d.String())
	}
	return told
}

func example(t *testing.T) manifest.Manifest {
	t.Helper()
	d, _, err := names.ParseDomain("ternferries.example")
	require.NoError(t, err)
	return manifest.Manifest{AccountID: 17, SignInName: "ternferries", Revision: 3, Wanted: manifest.Present,
		PHP:   manifest.PHP{Workers: 3},
		Sites: []manifest.Site{{Domain: d, Root: manifest.RootFor(d), Switches: sites.Defaults()}}}
}

// The rendered files as a whole, to be read in a review. UPDATE=1 writes them.
func TestGolden(t *testing.T) {
	m := example(t)
	var b strings.Builder
	suspended := m
	suspended.Suspended = true
	busy := m
	set := m.Sites[0]
	set.Switches.Preferred, set.Switches.HTTPSRedirect, set.Switches.HSTS, set.Switches.FrontScript,
		set.Switches.StaticCaching = "www", true, 31536000, "index.php", 604800
	set.Switches.Headers, set.Switches.ErrorPages, set.Switches.Raw = map[string]string{"X-Frame-Options": "DENY"},
		map[string]string{"404": "errors/missing.html"}, "location /gone/ {\n    return 410;\n}"
	set.Folders = []sites.Folder{{Path: "crew", Title: "Crew", Users: []sites.FolderUser{{Name: "anna",
		Hash: "$2a$06$" + strings.Repeat("a", 53)}}}}
	old, _, err := names.ParseDomain("oldferries.example")
	require.NoError(t, err)
	busy.Sites = []manifest.Site{set,
		{Domain: old, Redirect: &sites.Redirection{Target: "https://www.ternferries.example", Code: 301, KeepPath: true,
			KeepQuery: true}}}
	busy.Sites[0].Busy = true
	busy.Sites[0].Mail = toldOfMail(set.Domain, true)
	block := func(kind string, size int) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: make([]byte, size)}))
	}
	certificates := render.NGINXCertificates(busy, func(s manifest.Site) (chain, key string) {
		if s.Redirect != nil {
			return block("CERTIFICATE", 1500) + "a remark\"; }\n" + block("EVIL\"; }", 9) + block("CERTIFICATE", 1500),
				block("PRIVATE KEY", 10)
		}
		return block("CERTIFICATE", 100), block("PRIVATE KEY", 10)
	})
	for _, f := range slices.Concat(render.NGINX(m), render.Sandbox(m, server), render.NGINX(suspended),
		render.NGINX(busy), certificates, render.NGINXBase(server, told)) {
		fmt.Fprintf(&b, "== %s %o\n%s", f.Path, f.Mode, f.Content)
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile("testdata/ternferries.txt", []byte(b.String()), 0o644))
	}
	want, readErr := os.ReadFile("testdata/ternferries.txt")
	require.NoError(t, readErr)
	assert.Equal(t, string(want), b.String())
}

func TestFingerprints(t *testing.T) {
	m := example(t)
	newer := m
	newer.Revision++
	assert.Equal(t, render.NGINXFingerprint(m), render.NGINXFingerprint(newer), "a revision alone needs no reload")
	more := m
	more.PHP.Workers = 4
	assert.NotEqual(t, render.SandboxDigest(m, server), render.SandboxDigest(more, server))
	assert.Empty(t, render.SandboxDigest(manifest.Manifest{Wanted: manifest.Absent}, server))
	assert.Contains(t, render.NGINX(m)[0].Content, `X-Loaded "`+render.NGINXFingerprint(m)+`"`)
	absent := m
	absent.Wanted = manifest.Absent
	assert.Empty(t, render.NGINX(absent))
	assert.Empty(t, render.Sandbox(absent, server))
}

func TestStarterPage(t *testing.T) {
	m := example(t)
	m.Brand = manifest.Brand{Title: `<script>"x"&$host`, Footer: "two\nlines", Accent: "#123456"}
	page := render.StarterPage(m, m.Sites[0])
	assert.Contains(t, page, "<footer><p>&lt;script&gt;&#34;x&#34;&amp;&#36;host</p><p>two lines</p></footer>")
	assert.Contains(t, page, "solid #123456")
	assert.Contains(t, page, `<html lang="en">`)
}

// Visitors are told in the language of the site's customer.
func TestPagesInLanguages(t *testing.T) {
	m := example(t)
	m.Language = "de"
	assert.Contains(t, render.StarterPage(m, m.Sites[0]), "Diese Adresse funktioniert.")
	assert.Contains(t, render.StarterPage(m, m.Sites[0]), `<html lang="de">`)
	m.Suspended = true
	assert.Contains(t, render.NGINX(m)[0].Content, "suspended-de.conf;")
	m.Language = "xx" // of a service that is newer than this server
	assert.Contains(t, render.NGINX(m)[0].Content, "suspended-en.conf;")
	pages := map[string]string{}
	for _, f := range render.NGINXBase(server, manifest.Server{}) {
		pages[f.Path] = f.Content
	}
	assert.Contains(t, pages[render.PageDir+"/de/.victualler/404.html"],
		`<a href="/">Zur ersten Seite der Website</a>`)
	assert.Contains(t, pages[render.PageDir+"/en/.victualler/404.html"], "There is no such page here.")
	assert.Contains(t, pages[render.NGINXPartDir+"/suspended-de.conf"], "vorübergehend abgeschaltet")
}

func TestPostfix(t *testing.T) {
	name, _, err := names.ParseDomain("skua.ternisland.example")
	require.NoError(t, err)
	text := func(m *manifest.MailServer) string {
		all := ""
		for _, file := range render.PostfixBase(manifest.Server{Mail: m}) {
			all += file.Content
		}
		return all
	}
	assert.Empty(t, text(nil), "a server without mail is left alone")
	usual := text(&manifest.MailServer{Name: name})
	assert.NotContains(t, usual, "queue_lifetime")
	assert.NotContains(t, usual, "reject_rbl_client")
	assert.Contains(t, usual, "/incoming, default_action=accept }", "lists refuse without a filter, too")
	assert.Contains(t, text(&manifest.MailServer{Name: name, Days: 3}),
		"\nmaximal_queue_lifetime = 3d\nbounce_queue_lifetime = 3d\n")
	assert.Contains(t, text(&manifest.MailServer{Name: name, Blocklists: []names.Domain{name}}),
		", reject_rbl_client skua.ternisland.example")
}
