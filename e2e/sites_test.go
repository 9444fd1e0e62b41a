package e2e

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
)

// seen is what a visitor gets.
type seen struct {
	status int
	header http.Header
	body   string
}

// visit asks a server for an address as a visitor would, and follows
// nothing. Change may change the request before it is sent.
func visit(t *testing.T, server, address string, change ...func(*http.Request)) seen {
	t.Helper()
	s, err := tryVisit(server, address, change...)
	require.NoError(t, err, address)
	return s
}

func tryVisit(server, address string, change ...func(*http.Request)) (seen, error) {
	request, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		return seen{}, err
	}
	for _, c := range change {
		c(request)
	}
	to := inst.Servers[server].Address.String()
	transport := &http.Transport{DisableKeepAlives: true, DisableCompression: true, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, at string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(at)
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(to, port))
		}}
	visitor := http.Client{Timeout: 10 * time.Second, Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
	response, err := visitor.Do(request)
	if err != nil {
		return seen{}, err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return seen{response.StatusCode, response.Header, string(body)}, err
}

func domains(account int64) string { return fmt.Sprintf("/accounts/%d/domains", account) }

// added adds a domain and waits until it is served.
func added(t *testing.T, account int64, body api.NewDomain) api.Domain {
	t.Helper()
	var done api.DomainChanged
	require.NoError(t, inst.Client.Post(context.Background(), domains(account), body, &done))
	o := watched(t, done.Operation)
	require.Equal(t, "done", o.State, o.Failure)
	return done.Domain
}

// changeDomain changes a domain and waits until it is served so.
func changeDomain(t *testing.T, account int64, name string, body api.DomainChange) {
	t.Helper()
	var done api.DomainChanged
	patch(t, domains(account)+"/"+name, body, &done)
	o := watched(t, done.Operation)
	require.Equal(t, "done", o.State, o.Failure)
}

// write puts a file into a site as the account's own user.
func write(t *testing.T, account api.Account, path, content string) {
	t.Helper()
	cmd := inst.Servers[account.Server].Command(context.Background(), "setpriv", "--reuid="+account.SignInName,
		"--regid="+account.SignInName, "--clear-groups",
		"sh", "-ec", `mkdir -p "$(dirname "$1")"; cat > "$1"`, "sh", "/home/"+account.SignInName+"/"+path)
	cmd.Stdin = strings.NewReader(content)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// refusedAs asks for a change and returns the refusal, of which the kind is looked at.
func refusedAs(t *testing.T, kind string, err error) *api.Problem {
	t.Helper()
	require.Error(t, err)
	p := problemOf(t, err)
	require.Equal(t, api.ProblemBase+kind, p.Type, "%s", p.Detail)
	return p
}

func TestWaysToServe(t *testing.T) {
	shared(t)
	require.NoError(t,
		unlessTaken(inst.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "sites",
			Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(4),
				plans.Subdomains: plans.Of(1), plans.Mirrors: plans.Of(1), plans.PHPWorkers: plans.Of(2)}}, nil)))
	a := opened(t, api.OpenAccount{Domain: "served.example", Plan: "sites", SignInName: "served", Server: "skua"})
	other := opened(t, api.OpenAccount{Domain: "otherserved.example", Plan: "sites", SignInName: "otherserved",
		Server: "skua"})
	write(t, a, "sites/served.example/index.html", "the ferry's own page")

	t.Run("mirror", func(t *testing.T) {
		d := added(t, a.ID, api.NewDomain{Domain: "Served.Test", Serving: api.Serving{ServedAs: "mirror",
			MirrorOf: "served.example"}})
		assert.Equal(t, "mirrors", d.CountsAs)
		for _, address := range []string{"http://served.test/", "http://www.served.test/", "https://served.test/"} {
			assert.Contains(t, visit(t, "skua", address).body, "the ferry's own page", address)
		}
		p := refusedAs(t, "limit-reached",
			inst.Client.Post(context.Background(), domains(a.ID), api.NewDomain{Domain: "served2.test",
				Serving: api.Serving{ServedAs: "mirror", MirrorOf: "served.example"}}, nil))
		assert.Equal(t, "mirrors", p.Limits[0].Key)
		refusedAs(t, "in-use",
			inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: domains(a.ID) + "/served.example",
				Body: api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}}}, nil))
		for _, of := range []string{"served.test", "otherserved.example", "nowhere.example", ""} {
			refusedAs(t, "invalid-input",
				inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
					Path: domains(a.ID) + "/served.example",
					Body: api.DomainChange{Serving: api.Serving{ServedAs: "mirror", MirrorOf: of}}}, nil))
		}
	})
	t.Run("redirect", func(t *testing.T) {
		added(t, a.ID, api.NewDomain{Domain: "served-old.example", Serving: api.Serving{ServedAs: "redirect",
			Target: "served.example/new"}})
		for _, c := range []struct {
			change  api.Serving
			asked   string
			code    int
			leadsTo string
		}{
			{api.Serving{}, "/a%20b//c?d=e&f", 301, "https://served.example/new/a%20b//c?d=e&f"},
			{api.Serving{Code: 308}, "/", 308, "https://served.example/new/"},
			{api.Serving{Code: 302, KeepPath: new(bool)}, "/a?b=c", 302, "https://served.example/new?b=c"},
			{api.Serving{Code: 307, KeepQuery: new(bool)}, "/a?b=c", 307, "https://served.example/new"},
			{api.Serving{Target: "https://served.example/x?y=1"}, "/a?b=c", 307, "https://served.example/x?y=1"},
		} {
			if c.change != (api.Serving{}) {
				changeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: c.change})
			}
			for _, base := range []string{"http://served-old.example", "https://www.served-old.example"} {
				s := visit(t, "skua", base+c.asked)
				assert.Equal(t, c.code, s.status)
				assert.Equal(t, c.leadsTo, s.header.Get("Location"), base+c.asked)
			}
		}
		for _, target := range []string{"served-old.example/x", "ftp://x.example", "https://x y/",
			"https://a@b.example/"} {
			refusedAs(t, "invalid-input",
				inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
					Path: domains(a.ID) + "/served-old.example",
					Body: api.DomainChange{Serving: api.Serving{Target: target}}}, nil))
		}
		assert.Equal(t, 404, visit(t, "skua", "http://served-old.example/.well-known/acme-challenge/none").status,
			"an authority's question is never redirected")
	})
	t.Run("dns-only, and back", func(t *testing.T) {
		changeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}})
		s := visit(t, "skua", "http://served-old.example/")
		assert.Equal(t, 421, s.status)
		assert.NotContains(t, s.body, "served.example", "no word of whose it is")
		changeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: api.Serving{ServedAs: "site"}})
		assert.Equal(t, 200, visit(t, "skua", "http://served-old.example/").status)
	})
	t.Run("subdomains", func(t *testing.T) {
		assert.Equal(t, "subdomains", added(t, a.ID, api.NewDomain{Domain: "shop.served.example"}).CountsAs)
		p := refusedAs(t, "domain-taken",
			inst.Client.Post(context.Background(), domains(other.ID), api.NewDomain{Domain: "crew.served.example"},
				nil))
		assert.NotContains(t, p.Detail, "otherserved")
		assert.NotContains(t, p.Detail, "account served", "not whose it is")
		refusedAs(t, "limit-reached",
			inst.Client.Post(context.Background(), domains(a.ID), api.NewDomain{Domain: "crew.served.example"}, nil))
	})
	t.Run("document root", func(t *testing.T) {
		write(t, a, "sites/served.example/public/index.html", "from the new root")
		changeDomain(t, a.ID, "served.example",
			api.DomainChange{Serving: api.Serving{Root: "sites/served.example/public"}})
		assert.Contains(t, visit(t, "skua", "http://served.example/").body, "from the new root")
		assert.Contains(t, on(t, "skua", "cat /home/served/sites/served.example/index.html"), "own page", "files stay")
		for _, root := range []string{"sites/../../otherserved", "tmp", "/etc", "sites/shop.served.example", "sites"} {
			err := inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: domains(a.ID) + "/served.example", Body: api.DomainChange{Serving: api.Serving{Root: root}}}, nil)
			require.Error(t, err, root)
			assert.Equal(t, "root", problemOf(t, err).Errors[0].Name)
		}
		refusedAs(t, "invalid-input",
			inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: domains(a.ID) + "/served.example",
				Body: api.DomainChange{Serving: api.Serving{Root: "sites/served.example/public/inner"},
					MoveFiles: true}}, nil))
		changeDomain(t, a.ID, "served.example", api.DomainChange{Serving: api.Serving{Root: "sites/moved/here"},
			MoveFiles: true})
		assert.Contains(t, visit(t, "skua", "http://served.example/").body, "from the new root", "moved along")
		assert.Equal(t, "gone\n", on(t, "skua", "test -e /home/served/sites/served.example/public || echo gone"))
		assert.Contains(t, visit(t, "skua", "http://served.test/").body, "from the new root", "the mirror goes with it")
		on(t, "skua", "rm -rf /home/served/sites/moved/here && mkdir -p /home/served/sites/served.example/public")
		require.Equal(t, "done", repair(t, a).State)
		assert.Equal(t, 200, visit(t, "skua", "http://served.example/").status,
			"a move is done once: a repair makes a new page instead")
	})
	t.Run("never somebody's site", func(t *testing.T) {
		s := visit(t, "skua", "http://"+inst.Servers["skua"].Address.String()+"/")
		assert.Equal(t, 404, s.status, "the bare address")
		assert.Contains(t, s.body, "many sites")
		assert.Equal(t, 421, visit(t, "skua", "http://nobodys.example/").status)
		_, err := tryVisit("skua", "https://nobodys.example/")
		assert.ErrorContains(t, err, "unrecognized name", "a TLS handshake under an unknown name is refused")
		_, err = tls.Dial("tcp", inst.Servers["skua"].Address.String()+":443", &tls.Config{InsecureSkipVerify: true})
		assert.Error(t, err, "and so is one without a name")
		assert.Equal(t, 421, visit(t, "skua", "https://served.example/", func(r *http.Request) {
			r.Host = "nobodys.example"
		}).status, "a known name for the handshake does not help")
	})
	t.Run("removal takes the certificate, too", func(t *testing.T) {
		var started api.Started
		require.NoError(t, remove(domains(a.ID)+"/served.test", &started))
		require.Equal(t, "done", watched(t, started.Operation).State)
		assert.NotContains(t, on(t, "skua", "ls /etc/nginx/victualler/tls/served"), "served.test")
		_, err := tryVisit("skua", "https://served.test/")
		assert.Error(t, err)
	})
}

func unlessTaken(err error) error {
	if err != nil && strings.Contains(err.Error(), "already") {
		return nil
	}
	return err
}

func repair(t *testing.T, a api.Account) api.Operation {
	t.Helper()
	var started api.Started
	require.NoError(t, inst.Client.Post(context.Background(), fmt.Sprintf("/accounts/%d/repair", a.ID), nil, &started))
	return watched(t, started.Operation)
}

func TestSettingsOfSites(t *testing.T) {
	shared(t)
	ctx := context.Background()
	a := opened(t, api.OpenAccount{Domain: "switches.example", SignInName: "switches", Server: "skua"})
	added(t, a.ID, api.NewDomain{Domain: "switches2.example"})
	set := func(settings map[string]any, more ...func(*api.DomainChange)) {
		t.Helper()
		change := api.DomainChange{Settings: settings}
		for _, m := range more {
			m(&change)
		}
		changeDomain(t, a.ID, "switches.example", change)
	}
	script := `<?php echo json_encode(array_map('ini_get', ['memory_limit', 'max_execution_time', 'upload_max_filesize', 'display_errors', 'date.timezone'])), '|', $_SERVER['REQUEST_URI'] ?? '', '|', @ini_set('memory_limit', '4G') === false ? 'kept' : 'changed';`
	write(t, a, "sites/switches.example/index.php", script)
	write(t, a, "sites/switches2.example/index.php", script)
	write(t, a, "sites/switches.example/style.css", strings.Repeat("body { color: navy }\n", 100))
	write(t, a, "sites/switches.example/.secret", "dot")
	write(t, a, "sites/switches.example/.git/x.php", "<?php echo 'ran';")
	write(t, a, "sites/switches.example/errors/missing.html", "not on this island")
	write(t, a, "sites/switches.example/crew/list.html", "the crew")
	write(t, a, "sites/switches.example/crew/list.php", "<?php echo 'the crew by PHP';")
	const at = "://switches.example"

	t.Run("as it is at first", func(t *testing.T) {
		s := visit(t, "skua", "http"+at+"/style.css", func(r *http.Request) { r.Header.Set("Accept-Encoding", "gzip") })
		assert.Equal(t, "gzip", s.header.Get("Content-Encoding"))
		assert.Empty(t, s.header.Get("Expires"))
		assert.Equal(t, 404, visit(t, "skua", "http"+at+"/.secret").status)
		assert.Equal(t, 404, visit(t, "skua", "http"+at+"/.git/x.php").status, "no script in a hidden directory runs")
		for method, want := range map[string]int{"TRACE": 405, "DELETE": 405, "PROPFIND": 405, "BREW": 405} {
			s := visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) { r.Method = method })
			assert.Equal(t, want, s.status, method)
		}
		assert.Equal(t, "GET, HEAD, POST, OPTIONS", visit(t, "skua", "http"+at+"/", func(r *http.Request) {
			r.Method = "DELETE"
		}).header.Get("Allow"))
		assert.Contains(t, visit(t, "skua", "http"+at+"/").body, `["134217728","30","67108864"`)
	})
	t.Run("names", func(t *testing.T) {
		set(map[string]any{"preferred": "bare", "https_redirect": true, "hsts": 3600})
		for from, to := range map[string]string{"http://switches.example/a?b": "https://switches.example/a?b",
			"http://www.switches.example/a?b":  "https://switches.example/a?b",
			"https://www.switches.example/a?b": "https://switches.example/a?b"} {
			s := visit(t, "skua", from)
			assert.Equal(t, 301, s.status)
			assert.Equal(t, to, s.header.Get("Location"), from)
			assert.Equal(t, strings.HasPrefix(from, "https"), s.header.Get("Strict-Transport-Security") != "",
				"over TLS alone: %s", from)
		}
		s := visit(t, "skua", "https"+at+"/")
		assert.Equal(t, 200, s.status)
		assert.Equal(t, "max-age=3600", s.header.Get("Strict-Transport-Security"))
		on(t, "skua", "mkdir -p /var/lib/victualler-challenges/.well-known/acme-challenge && echo -n answer > "+
			"/var/lib/victualler-challenges/.well-known/acme-challenge/token1")
		s = visit(t, "skua", "http://www.switches.example/.well-known/acme-challenge/token1")
		assert.Equal(t, 200, s.status, "an authority's question is never redirected")
		assert.Equal(t, "answer", s.body)
		p := refusedAs(t, "needs-decision",
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"hsts": 86400 * 365}}}, nil))
		assert.Equal(t, "hsts_accepted", p.Decide[0].Field)
		set(map[string]any{"hsts": 86400 * 365, "hsts_subdomains": true}, func(c *api.DomainChange) {
			c.HSTSAccepted = true
		})
		assert.Equal(t, "max-age=31536000; includeSubDomains",
			visit(t, "skua", "https"+at+"/").header.Get("Strict-Transport-Security"))
		set(map[string]any{"hsts": 86400 * 400}) // longer than long is no first time
		set(map[string]any{"preferred": "www"})
		assert.Equal(t, "https://www.switches.example/", visit(t, "skua", "https"+at+"/").header.Get("Location"))
		set(map[string]any{"preferred": nil, "https_redirect": nil, "hsts": nil, "hsts_subdomains": nil})
		assert.Equal(t, 200, visit(t, "skua", "http://www.switches.example/").status)
	})
	t.Run("pages", func(t *testing.T) {
		set(map[string]any{"front_script": "index.php", "static_caching": 604800,
			"error_pages": map[string]string{"404": "errors/missing.html", "403": "errors/missing.html"},
			"headers":     map[string]string{"X-Frame-Options": "DENY", "X-Odd": `a "b" \ ; }`}, "compression": false})
		s := visit(t, "skua", "http"+at+"/no/such/page?x=1")
		assert.Equal(t, 200, s.status)
		assert.Contains(t, s.body, "|/no/such/page?x=1|", "pretty addresses")
		assert.Equal(t, "DENY", s.header.Get("X-Frame-Options"))
		assert.Equal(t, `a "b" \ ; }`, s.header.Get("X-Odd"))
		s = visit(t, "skua", "http"+at+"/style.css", func(r *http.Request) { r.Header.Set("Accept-Encoding", "gzip") })
		assert.Equal(t, "max-age=604800", s.header.Get("Cache-Control"))
		assert.Empty(t, s.header.Get("Content-Encoding"))
		s = visit(t, "skua", "http"+at+"/gone.php")
		assert.Equal(t, 404, s.status)
		assert.Equal(t, "not on this island", s.body)
		set(map[string]any{"front_script": nil, "index_files": []string{"errors/missing.html"}})
		assert.Equal(t, "not on this island", visit(t, "skua", "http"+at+"/").body)
		set(map[string]any{"index_files": nil, "dot_files": true, "methods": []string{"GET", "HEAD", "DELETE"}})
		assert.Equal(t, "dot", visit(t, "skua", "http"+at+"/.secret").body)
		assert.Equal(t, 200, visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) {
			r.Method = "DELETE"
		}).status)
		assert.Equal(t, 405, visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) {
			r.Method = "POST"
		}).status)
		set(map[string]any{"dot_files": nil, "methods": nil})
	})
	t.Run("PHP, each site by itself", func(t *testing.T) {
		set(map[string]any{"php_memory": 64 << 20, "php_time": 20, "php_timezone": "Europe/Oslo", "php_errors": true,
			"largest_upload": 2 << 20})
		assert.Contains(t, visit(t, "skua", "http"+at+"/").body, `["67108864","20","2097152","1","Europe\/Oslo"]`)
		assert.Contains(t, visit(t, "skua", "http"+at+"/").body, "|kept", "a script cannot give itself more")
		assert.Contains(t, visit(t, "skua", "http://switches2.example/").body, `["134217728","30","67108864"`,
			"the other site of the pool has its own")
		upload := func(size int) int {
			return visit(t, "skua", "http"+at+"/", func(r *http.Request) {
				r.Method, r.Body, r.ContentLength = "POST", io.NopCloser(strings.NewReader(strings.Repeat("x", size))),
					int64(size)
			}).status
		}
		assert.Equal(t, 200, upload(2<<20))
		assert.Equal(t, 413, upload(4<<20))
		p := refusedAs(t, "invalid-input",
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"php_memory": 1 << 30, "php_time": 10}}}, nil))
		assert.Equal(t, "settings.php_memory", p.Errors[0].Name)
		p = refusedAs(t, "invalid-input",
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"php_version": "7.4"}}}, nil))
		assert.Contains(t, p.Detail, "PHP 7.4 is not installed on skua; there are 8.2")
		set(map[string]any{"php_version": "8.2"}) // a pool of its own, which stays when a newer one comes
		set(map[string]any{"php_version": nil})
		require.NoError(t, put(fmt.Sprintf("/accounts/%d/exceptions", a.ID), map[string]any{"limit": "php_memory",
			"amount": 1 << 30, "reason": "the timetable's search"}, nil))
		set(map[string]any{"php_memory": 1 << 30})
		assert.Contains(t, visit(t, "skua", "http"+at+"/").body, "1073741824")
		var dropped api.TermsChanged
		require.NoError(t, remove(fmt.Sprintf("/accounts/%d/exceptions/limits/php_memory", a.ID), &dropped))
		require.Equal(t, "done", watched(t, dropped.Operation).State)
		assert.Contains(t, visit(t, "skua", "http"+at+"/").body, "134217728",
			"when the exception goes, the server has the plan's bound again")
		var d api.DomainDetail
		require.NoError(t, inst.Client.Get(ctx, domains(a.ID)+"/switches.example", nil, &d))
		for _, s := range d.Settings {
			if s.Key == "php_memory" {
				assert.Contains(t, s.Bounded, "set to 1G; the limit php_memory allows 128M")
			}
		}
		set(map[string]any{"php": false})
		s := visit(t, "skua", "http"+at+"/index.php")
		assert.Equal(t, 404, s.status)
		assert.NotContains(t, s.body, "<?php", "never the source")
		set(map[string]any{"php": nil, "php_memory": nil, "php_time": nil, "php_timezone": nil, "php_errors": nil,
			"largest_upload": nil})
	})
	t.Run("protected folders", func(t *testing.T) {
		var done api.FolderChanged
		require.NoError(t, inst.Client.Post(ctx, domains(a.ID)+"/switches.example/folders",
			api.NewFolder{Path: "/crew/", Title: "Crew", Users: []api.NewFolderUser{{Name: "anna",
				Password: "eight or more"}}}, &done))
		require.Equal(t, "done", watched(t, done.Operation).State)
		as := func(name, password string) func(*http.Request) {
			return func(r *http.Request) { r.SetBasicAuth(name, password) }
		}
		for _, path := range []string{"/crew/list.html", "/crew/list.php", "/crew/", "/crew", "//crew/list.html",
			"/x/../crew/list.php", "/%63rew/list.html"} {
			s := visit(t, "skua", "http"+at+path)
			assert.Equal(t, 401, s.status, path)
			assert.Contains(t, s.header.Get("WWW-Authenticate"), `realm="Crew"`)
			assert.Equal(t, 401, visit(t, "skua", "http"+at+path, as("anna", "wrong password")).status)
		}
		assert.Equal(t, "the crew", visit(t, "skua", "http"+at+"/crew/list.html", as("anna", "eight or more")).body)
		assert.Equal(t, "the crew by PHP",
			visit(t, "skua", "http"+at+"/crew/list.php", as("anna", "eight or more")).body)
		assert.Equal(t, 200, visit(t, "skua", "http"+at+"/").status)
		file := strings.TrimSpace(on(t, "skua", "ls /etc/nginx/victualler/accounts/switches.*.users"))
		assert.Equal(t, "640 root www-data\n", on(t, "skua", "stat -c '%a %U %G' "+file),
			"the hashes are for the web server alone")
		person := fmt.Sprintf("%s/switches.example/folders/%d/users/bo", domains(a.ID), done.Folder.ID)
		require.NoError(t, put(person, api.FolderPassword{Password: "another word"}, &done))
		require.Equal(t, "done", watched(t, done.Operation).State)
		assert.Equal(t, []string{"anna", "bo"}, done.Folder.Users)
		assert.Equal(t, 200, visit(t, "skua", "http"+at+"/crew/list.html", as("bo", "another word")).status)
		var started api.Started
		require.NoError(t, remove(person, &started))
		require.Equal(t, "done", watched(t, started.Operation).State)
		assert.Equal(t, 401, visit(t, "skua", "http"+at+"/crew/list.html", as("bo", "another word")).status)
		refusedAs(t, "not-found", remove(person, nil))
		for _, wrong := range []api.NewFolder{{Path: "../x"}, {Path: "a b"}, {Path: "x", Title: "a\"b"},
			{Path: "x", Users: []api.NewFolderUser{{Name: "a:b", Password: "long enough"}}}} {
			refusedAs(t, "invalid-input", inst.Client.Post(ctx, domains(a.ID)+"/switches.example/folders", wrong, nil))
		}
		require.NoError(t, remove(fmt.Sprintf("%s/switches.example/folders/%d", domains(a.ID), done.Folder.ID),
			&started))
		require.Equal(t, "done", watched(t, started.Operation).State)
		assert.Equal(t, 200, visit(t, "skua", "http"+at+"/crew/list.html").status)
		_, err := inst.Servers["skua"].Exec(ctx, "test", "-e", file)
		assert.Error(t, err, "its file of hashes is gone")
		assert.NotContains(t, everythingIn(t, "events"), "eight or more")
	})
	t.Run("raw directives", func(t *testing.T) {
		set(map[string]any{"raw": "location = /raw {\n    return 200 \"by hand\";\n}"})
		assert.Equal(t, "by hand", visit(t, "skua", "http"+at+"/raw").body)
		p := refusedAs(t, "invalid-input",
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"raw": "root /home/otherserved;"}}}, nil))
		assert.Contains(t, p.Errors[0].Message, "below /home/switches")
		var broken api.DomainChanged
		patch(t, domains(a.ID)+"/switches.example", api.DomainChange{Settings: map[string]any{"raw": "expires soon;"}},
			&broken)
		o := watched(t, broken.Operation)
		assert.Equal(t, "failed", o.State, "what only nginx knows to be wrong, it is asked about before use")
		assert.Contains(t, o.Failure, "expires")
		assert.Equal(t, "by hand", visit(t, "skua", "http"+at+"/raw").body, "what was in force stays")
		assert.Equal(t, 200, visit(t, "skua", "http://switches2.example/").status)
		set(map[string]any{"raw": nil})
	})
	t.Run("what is wrong is told field by field", func(t *testing.T) {
		p := refusedAs(t, "invalid-input",
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"hsts": -1, "methods": []string{"GET"},
					"nonsense":    true,
					"compression": "on"}}}, nil))
		assert.Len(t, p.Errors, 4)
		err := inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
			IfMatch: `"1"`, Body: api.DomainChange{Settings: map[string]any{"hsts": 60}}}, nil)
		refusedAs(t, "changed-meanwhile", err)
	})
	t.Run("a preview shows the very lines", func(t *testing.T) {
		var p api.Preview
		require.NoError(t,
			inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: domains(a.ID) + "/switches.example",
				Query: url.Values{"preview": {"true"}},
				Body:  api.DomainChange{Settings: map[string]any{"compression": nil}}}, &p))
		require.Len(t, p.Changes, 1)
		assert.Contains(t, p.Changes[0].Diff, "-    gzip off;")
	})
}

func TestTemplates(t *testing.T) {
	shared(t)
	ctx := context.Background()
	require.NoError(t, inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "shopfront", About: "shops",
		Settings: map[string]any{"headers": map[string]string{"X-Shop": "yes"}, "static_caching": 60}}, nil))
	require.NoError(t,
		inst.Client.Post(ctx, "/plans", api.NewPlan{Name: "shops", Template: "shopfront",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(3),
				plans.PHPWorkers: plans.Of(1)}}, nil))
	a := opened(t, api.OpenAccount{Domain: "front.example", Plan: "shops", SignInName: "front", Server: "skua"})
	b := opened(t, api.OpenAccount{Domain: "back.example", Plan: "shops", SignInName: "backof", Server: "fulmar"})
	assert.Equal(t, "yes", visit(t, "skua", "http://front.example/").header.Get("X-Shop"),
		"the main domain follows the plan's template")
	added(t, a.ID, api.NewDomain{Domain: "front2.example"})
	assert.Equal(t, "yes", visit(t, "skua", "http://front2.example/").header.Get("X-Shop"))
	changeDomain(t, b.ID, "back.example", api.DomainChange{Settings: map[string]any{"static_caching": 120}})

	var p api.Preview
	change := api.TemplateChange{Settings: map[string]any{"static_caching": 3600, "compression": false}}
	require.NoError(t, inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/templates/shopfront",
		Query: url.Values{"preview": {"true"}}, Body: change}, &p))
	assert.Contains(t, p.Summary, "3 sites")
	require.Len(t, p.Effects, 3)
	assert.Equal(t, []string{"compression: on → off"}, p.Effects[0].Changes, "back.example has a caching of its own")
	assert.Len(t, p.Effects[1].Changes, 2)
	var done api.TemplateChanged
	patch(t, "/templates/shopfront", change, &done)
	assert.EqualValues(t, 3, done.Sites)
	require.Equal(t, "done", watched(t, done.Operation).State)
	write(t, a, "sites/front.example/x.css", "a")
	write(t, b, "sites/back.example/x.css", "a")
	assert.Equal(t, "max-age=3600", visit(t, "skua", "http://front.example/x.css").header.Get("Cache-Control"))
	assert.Equal(t, "max-age=120", visit(t, "fulmar", "http://back.example/x.css").header.Get("Cache-Control"))
	refusedAs(t, "in-use", remove("/templates/shopfront", nil))
	refusedAs(t, "invalid-input",
		inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "bad-one",
			Settings: map[string]any{"raw": "root /home/front/sites;"}}, nil))
	refusedAs(t, "name-taken", inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "shopfront"}, nil))
	none := ""
	for account, names := range map[int64][]string{a.ID: {"front.example", "front2.example"}, b.ID: {"back.example"}} {
		for _, name := range names {
			changeDomain(t, account, name, api.DomainChange{Template: &none})
		}
	}
	assert.Empty(t, visit(t, "skua", "http://front.example/").header.Get("X-Shop"))
	require.NoError(t,
		inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/plans/shops",
			Body: api.PlanChange{Template: &none}}, nil))
	require.NoError(t, remove("/templates/shopfront", nil))
}

func TestTraceByClient(t *testing.T) {
	shared(t)
	a := opened(t, api.OpenAccount{Domain: "traced.example", SignInName: "traced", Server: "skua"})
	changeDomain(t, a.ID, "traced.example", api.DomainChange{Settings: map[string]any{"preferred": "www"}})
	out, _, exit := command(t, "domain", "trace", "traced.example")
	assert.Equal(t, 1, exit, "public DNS does not know it")
	assert.Contains(t, out, "the preferred form is www, visitors are sent there")
	assert.Contains(t, out, "301 http://www.traced.example/")
	assert.Contains(t, out, "the site is ready on skua")
	out, _, exit = command(t, "domain", "trace", "nowhere-at-all.example")
	assert.Equal(t, 1, exit)
	assert.Contains(t, out, "would answer 421 and refuse TLS")
	_, errOut, exit := command(t, "domain", "trace", "..")
	assert.Equal(t, 2, exit, errOut)
}

func TestAccessLog(t *testing.T) {
	i := shared(t)
	a := opened(t, api.OpenAccount{Domain: "logged.example", SignInName: "logged", Server: "skua"})
	visit(t, "skua", "http://logged.example/first?x=1", func(r *http.Request) {
		r.Header.Set("User-Agent", "quote \" and \\ here")
	})
	var page api.LogPage
	labtest.Eventually(t, func() bool {
		require.NoError(t, i.Client.Get(context.Background(), domains(a.ID)+"/logged.example/log", nil, &page))
		return len(page.Lines) > 0
	})
	assert.Contains(t, page.Lines[0], `"GET /first?x=1 HTTP/1.1" 404`)
	assert.NotContains(t, strings.Join(page.Lines, "\n"), ".well-known/victualler",
		"the agent's own questions are not in it")
	began := time.Now()
	go func() {
		time.Sleep(300 * time.Millisecond)
		_, _ = tryVisit("skua", "https://www.logged.example/second")
	}()
	next := page.Next
	require.NoError(t, i.Client.Get(context.Background(), domains(a.ID)+"/logged.example/log",
		url.Values{"after": {next}, "wait": {"15"}}, &page))
	require.NotEmpty(t, page.Lines)
	assert.Contains(t, page.Lines[0], `"GET /second HTTP/2.0" 404`)
	assert.Less(t, time.Since(began), 14*time.Second, "it comes while one waits")

	file := "/home/logged/logs/logged.example.log"
	assert.Equal(t, "640 root logged\n", on(t, "skua", "stat -c '%a %U %G' "+file))
	as := func(command string) error {
		_, err := inst.Servers["skua"].Exec(context.Background(), "setpriv", "--reuid=logged", "--regid=logged",
			"--clear-groups", "sh", "-ec", command)
		return err
	}
	assert.NoError(t, as("cat "+file))
	for _, attempt := range []string{"rm " + file, "ln -s /etc/passwd /home/logged/logs/x",
		"mv /home/logged/logs /home/logged/logs2", "echo x >> " + file} {
		assert.Error(t, as(attempt), attempt)
	}
	// Switched off, nothing more is written.
	changeDomain(t, a.ID, "logged.example", api.DomainChange{Settings: map[string]any{"access_log": false}})
	visit(t, "skua", "http://logged.example/third")
	require.NoError(t, i.Client.Get(context.Background(), domains(a.ID)+"/logged.example/log",
		url.Values{"after": {page.Next}, "wait": {"1"}}, &page))
	assert.Empty(t, page.Lines)
	out, _, exit := command(t, "site", "log", "logged", "logged.example", "--lines", "1")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "/second")
	refusedAs(t, "not-found", i.Client.Get(context.Background(), domains(a.ID)+"/other.example/log", nil, nil))
}

func TestBrandOfServersPages(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	require.NoError(t, i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "pagebrand", Title: "Page Brand",
		Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(4),
			plans.PHPWorkers: plans.Of(2)}}, nil))
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "page", Reseller: "pagebrand",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(2),
				plans.PHPWorkers: plans.Of(1)}}, nil))
	a := opened(t, api.OpenAccount{Domain: "branded-pages.example", Plan: "pagebrand.page", Reseller: "pagebrand",
		Customer: "Branded Pages", NewCustomer: true, SignInName: "brandedpages", Server: "skua"})
	s := visit(t, "skua", "http://branded-pages.example/missing")
	assert.Equal(t, 404, s.status)
	assert.Contains(t, s.body, "There is no such page here.")
	assert.Contains(t, s.body, "<h1>branded-pages.example</h1>")
	var kept api.BrandInForce
	require.NoError(t,
		put("/resellers/pagebrand/brand", api.Brand{Title: `Gull & "Sons" $host`, Footer: "Upper Village",
			Accent: "#1f5f7a"}, &kept))
	require.NotZero(t, kept.Operation)
	require.Equal(t, "done", watched(t, kept.Operation).State)
	s = visit(t, "skua", "http://branded-pages.example/missing")
	assert.Contains(t, s.body, "<p>Gull &amp; &#34;Sons&#34; &#36;host</p><p>Upper Village</p>")
	assert.Contains(t, s.body, "#1f5f7a")
	assert.NotContains(t, s.body, "http", "nothing from anywhere else")
	require.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/suspend", a.ID), api.Suspend{Why: "unpaid"}, nil))
	settled(t)
	for _, address := range []string{"http://branded-pages.example/", "https://www.branded-pages.example/x.php"} {
		s = visit(t, "skua", address)
		assert.Equal(t, 503, s.status)
		assert.Contains(t, s.body, "switched off for the time being")
		assert.Contains(t, s.body, "Upper Village")
		assert.NotContains(t, s.body, "unpaid")
	}
	assert.Equal(t, 404, visit(t, "skua", "http://branded-pages.example/.well-known/acme-challenge/none").status,
		"an authority's question is answered all the same")
}
