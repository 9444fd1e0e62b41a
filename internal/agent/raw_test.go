package agent_test

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/sites"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// rawPieces are what raw directives are drawn from: what is possible, what once was, and what an
// attacker would try.
var (
	rawNames = strings.Fields(`absolute_redirect add_header allow autoindex break charset default_type deny etag
		expires gzip gzip_types if internal limit_except limit_rate location max_ranges return satisfy set types
		valid_referers alias root try_files index error_page rewrite include proxy_pass fastcgi_pass access_log
		disable_symlinks auth_basic_user_file ssl_certificate server_name listen error_log perl`)
	rawWords = strings.Fields(`on off all any 200 301 404 /x /secret /../bakery/secret ../bakery/secret $uri $args
		$arg_f $my_x $document_root $request_filename $realpath_root $1 http://127.0.0.1:8099/secret
		unix:/run/x.sock /srv/fuzz/bakery/secret "(.*)" ~ ~* = ^~ != GET POST text/plain ics 1k 30d always X-A
		"a\nb" "\\" '"' ($arg_f) ($uri (-f $request_filename) "$my_x/../secret" $http_x @x /x/../y {} ; { } #
		none blocked ($host = x) "^/(.*)$" last permanent $is_args$args utf-8 max epoch`)
)

// drawRaw makes raw directives, most of which are nearly right.
func drawRaw(r *rand.Rand) string {
	var b strings.Builder
	depth := 0
	for range 1 + r.IntN(3) {
		name := rawNames[r.IntN(len(rawNames))]
		if r.IntN(3) > 0 { // of those that are let through
			name = rawNames[r.IntN(27)]
		}
		b.WriteString(name)
		switch name {
		case "location":
			fmt.Fprintf(&b, " %s /p%d", []string{"", "=", "^~", "~", "~*"}[r.IntN(5)], r.IntN(1000))
		case "if":
			b.WriteString(` ($arg_f ~ "^(.+)$")`)
		case "set":
			b.WriteString(" $my_x " + rawWords[r.IntN(len(rawWords))])
		case "return":
			fmt.Fprintf(&b, " %d %s", 200+r.IntN(200), rawWords[r.IntN(len(rawWords))])
		case "add_header":
			b.WriteString(" X-A " + rawWords[r.IntN(len(rawWords))])
		case "types", "break", "internal":
		default:
			for range 1 + r.IntN(2) {
				b.WriteString(" " + rawWords[r.IntN(len(rawWords))])
			}
		}
		switch {
		case name == "location" || name == "if" || name == "types" || name == "limit_except":
			b.WriteString(" {\n")
			depth++
		default:
			b.WriteString(";\n")
		}
		if depth > 0 && r.IntN(2) == 0 {
			b.WriteString("}\n")
			depth--
		}
	}
	if r.IntN(20) > 0 {
		b.WriteString(strings.Repeat("}\n", depth))
	}
	return b.String()
}

// rawCases is how many raw directives are drawn, those that are refused included.
func rawCases() int {
	if n, err := strconv.Atoi(os.Getenv("RAW_CASES")); err == nil {
		return n
	}
	return 100_000
}

// Whatever raw directives are let through, nginx takes them, and no request
// to the site gets what lies beside its document root.
func TestRawDirectivesNeverLeaveTheSite(t *testing.T) {
	ctx := context.Background()
	s := labtest.Server(t, labtest.Lab(t, "agrw"), lab.ServerOptions{HomeSize: 256 << 20})
	const secret = "neighbours-secret-4711"
	run := func(command, in string) string {
		t.Helper()
		cmd := s.Command(ctx, "sh", "-ec", command)
		cmd.Stdin = strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
		return string(out)
	}
	run(`mkdir -p /srv/fuzz/ours/x /srv/fuzz/bakery && cd /srv/fuzz && echo `+secret+` > bakery/secret &&
		echo `+secret+` > secret && echo page > ours/index.html && echo page > ours/x/page &&
		ln -s /srv/fuzz/bakery/secret ours/link && chown -hR www-data ours/link`, "")
	// Beside the sites listens what an address could lead to.
	head := `daemon on; pid /srv/fuzz/pid; error_log /srv/fuzz/errors crit; worker_processes 2;
events { worker_connections 512; }
http {
    include /etc/nginx/mime.types; access_log off; server_names_hash_max_size 65536; server_names_hash_bucket_size 128;
    server { listen 127.0.0.1:8099; return 200 ` + secret + `; }
    server { listen 8098 default_server; return 421; }
`
	r := rand.New(rand.NewPCG(12, 2026))
	accepted, drawn := 0, 0
	const together = 2500
	for drawn < rawCases() {
		var conf strings.Builder
		conf.WriteString(head)
		var list []string
		for len(list) < together && drawn < rawCases() {
			drawn++
			raw := drawRaw(r)
			if sites.CheckRaw(raw) != nil {
				continue
			}
			list = append(list, raw)
			fmt.Fprintf(&conf, "server {\nlisten 8098;\nserver_name s%d.example;\nroot /srv/fuzz/ours;\n"+
				"disable_symlinks if_not_owner from=/srv/fuzz/;\n%s\n}\n", len(list)-1, raw)
		}
		conf.WriteString("}\n")
		accepted += len(list)
		run("cat > /srv/fuzz/conf", conf.String())
		if out, err := s.Exec(ctx, "nginx", "-t", "-c", "/srv/fuzz/conf"); err != nil && !twice(out) {
			t.Fatalf("nginx refuses what was let through: %s\n%s", out, blame(conf.String(), out))
		} else if err != nil {
			continue // the same location twice: no grammar can know; the server leaves such directives out
		}
		run("nginx -c /srv/fuzz/conf", "")
		var visitors sync.WaitGroup
		for first := range 8 {
			visitors.Go(func() {
				for n := first; n < len(list); n += 8 {
					for _, path := range []string{"/", "/x/../../bakery/secret", "/link", "/p7/..%2f..%2fsecret",
						"/../secret?f=/../bakery/secret", "/x/page?f=../secret"} {
						text, err := ask(ctx, "http://"+s.Address.String()+":8098"+path, fmt.Sprintf("s%d.example", n))
						assert.NoError(t, err, list[n])
						assert.NotContains(t, text, secret, "%s gets it:\n%s", path, list[n])
					}
				}
			})
		}
		visitors.Wait()
		require.False(t, t.Failed())
		run("kill $(cat /srv/fuzz/pid); while [ -e /srv/fuzz/pid ]; do sleep 0.01; done", "")
	}
	t.Logf("%d raw directives drawn, %d let through", drawn, accepted)
	assert.Greater(t, accepted, drawn/50)
}

// ask returns all of an answer, headers and body.
func ask(ctx context.Context, address, host string) (string, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	request.Host = host
	request.Header.Set("X", "/../bakery/secret")
	answer, err := http.DefaultTransport.RoundTrip(request)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	return fmt.Sprint(answer.Header, "\n", string(body)), err
}

// twice reports whether nginx only minds that something stands there twice.
func twice(out string) bool {
	return strings.Contains(out, "duplicate") || strings.Contains(out, "is outside location") ||
		strings.Contains(out, "is duplicate")
}

// blame shows the lines around the one that nginx names.
func blame(conf, out string) string {
	_, after, _ := strings.Cut(out, "/srv/fuzz/conf:")
	number, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(after, "\n", 2)[0]))
	if err != nil {
		return ""
	}
	lines := strings.Split(conf, "\n")
	return strings.Join(lines[max(0, number-8):min(len(lines), number+3)], "\n")
}

// What nginx refuses, though the grammar cannot know it, is left out,
// and told; nothing else waits for it.
func TestRawDirectivesThatNginxRefuses(t *testing.T) {
	a := attack(t, "agrn")
	r := a.next(func(m *manifest.Manifest) {
		m.Sites[0].Switches = sites.Defaults()
		m.Sites[0].Switches.Raw = "location = /x { return 200 first; }"
	})
	assert.Empty(t, r.Warnings)
	_, body := get(t, a.Server, "ternferries.example", "/x")
	assert.Equal(t, "first", body)
	r = a.next(func(m *manifest.Manifest) {
		m.Sites[0].Switches.Raw = "location = /.well-known/victualler { return 200 mine; }"
	})
	require.Len(t, r.Warnings, 1)
	assert.Equal(t, homes.RawRefused, r.Warnings[0].Code)
	assert.Contains(t, r.Warnings[0].Message, `duplicate location "/.well-known/victualler"`)
	status, _ := get(t, a.Server, "ternferries.example", "/x")
	assert.Equal(t, "404", status)
	assert.Equal(t, []string{"site ternferries.example raw-refused"}, codes(a.sweep()["ternferries"].Warnings))
	assert.Empty(t, a.sweep()["ternferries"].Drift)
	// Directives that nginx takes, but that answer in the agent's place, are left out as well.
	r = a.next(func(m *manifest.Manifest) { m.Sites[0].Switches.Raw = "return 200 mine;" })
	require.Len(t, r.Warnings, 1)
	a.next(func(m *manifest.Manifest) { m.Suspended = true })
	status, _ = get(t, a.Server, "ternferries.example", "/")
	assert.Equal(t, "503", status)
	a.next(func(m *manifest.Manifest) { m.Suspended, m.Sites[0].Switches.Raw = false, "" })
	assert.Empty(t, a.sweep()["ternferries"].Warnings)
}
