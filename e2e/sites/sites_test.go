package sites

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
)

func TestWaysToServe(t *testing.T) {
	e2e.Shared(t)
	require.NoError(t,
		unlessTaken(e2e.Inst.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "sites",
			Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(4),
				plans.Subdomains: plans.Of(1), plans.Mirrors: plans.Of(1), plans.PHPWorkers: plans.Of(2)}}, nil)))
	a := e2e.Opened(t, api.OpenAccount{Domain: "served.example", Plan: "sites", SignInName: "served", Server: "skua"})
	other := e2e.Opened(t, api.OpenAccount{Domain: "otherserved.example", Plan: "sites", SignInName: "otherserved",
		Server: "skua"})
	e2e.Write(t, a, "sites/served.example/index.html", "the ferry's own page")

	t.Run("mirror", func(t *testing.T) {
		d := e2e.Added(t, a.ID, api.NewDomain{Domain: "Served.Test", Serving: api.Serving{ServedAs: "mirror",
			MirrorOf: "served.example"}})
		assert.Equal(t, "mirrors", d.CountsAs)
		for _, address := range []string{"http://served.test/", "http://www.served.test/", "https://served.test/"} {
			assert.Contains(t, e2e.Visit(t, "skua", address).Body, "the ferry's own page", address)
		}
		p := e2e.RefusedAs(t, "limit-reached",
			e2e.Inst.Client.Post(context.Background(), e2e.Domains(a.ID), api.NewDomain{Domain: "served2.test",
				Serving: api.Serving{ServedAs: "mirror", MirrorOf: "served.example"}}, nil))
		assert.Equal(t, "mirrors", p.Limits[0].Key)
		e2e.RefusedAs(t, "in-use",
			e2e.Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: e2e.Domains(a.ID) + "/served.example",
				Body: api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}}}, nil))
		for _, of := range []string{"served.test", "otherserved.example", "nowhere.example", ""} {
			e2e.RefusedAs(t, "invalid-input",
				e2e.Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
					Path: e2e.Domains(a.ID) + "/served.example",
					Body: api.DomainChange{Serving: api.Serving{ServedAs: "mirror", MirrorOf: of}}}, nil))
		}
	})
	t.Run("redirect", func(t *testing.T) {
		e2e.Added(t, a.ID, api.NewDomain{Domain: "served-old.example", Serving: api.Serving{ServedAs: "redirect",
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
				e2e.ChangeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: c.change})
			}
			for _, base := range []string{"http://served-old.example", "https://www.served-old.example"} {
				s := e2e.Visit(t, "skua", base+c.asked)
				assert.Equal(t, c.code, s.Status)
				assert.Equal(t, c.leadsTo, s.Header.Get("Location"), base+c.asked)
			}
		}
		for _, target := range []string{"served-old.example/x", "ftp://x.example", "https://x y/",
			"https://a@b.example/"} {
			e2e.RefusedAs(t, "invalid-input",
				e2e.Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
					Path: e2e.Domains(a.ID) + "/served-old.example",
					Body: api.DomainChange{Serving: api.Serving{Target: target}}}, nil))
		}
		assert.Equal(t, 404, e2e.Visit(t, "skua", "http://served-old.example/.well-known/acme-challenge/none").Status,
			"an authority's question is never redirected")
	})
	t.Run("dns-only, and back", func(t *testing.T) {
		e2e.ChangeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}})
		s := e2e.Visit(t, "skua", "http://served-old.example/")
		assert.Equal(t, 421, s.Status)
		assert.NotContains(t, s.Body, "served.example", "no word of whose it is")
		e2e.ChangeDomain(t, a.ID, "served-old.example", api.DomainChange{Serving: api.Serving{ServedAs: "site"}})
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http://served-old.example/").Status)
	})
	t.Run("subdomains", func(t *testing.T) {
		assert.Equal(t, "subdomains", e2e.Added(t, a.ID, api.NewDomain{Domain: "shop.served.example"}).CountsAs)
		p := e2e.RefusedAs(t, "domain-taken",
			e2e.Inst.Client.Post(context.Background(), e2e.Domains(other.ID),
				api.NewDomain{Domain: "crew.served.example"},
				nil))
		assert.NotContains(t, p.Detail, "otherserved")
		assert.NotContains(t, p.Detail, "account served", "not whose it is")
		e2e.RefusedAs(t, "limit-reached",
			e2e.Inst.Client.Post(context.Background(), e2e.Domains(a.ID), api.NewDomain{Domain: "crew.served.example"},
				nil))
	})
	t.Run("document root", func(t *testing.T) {
		e2e.Write(t, a, "sites/served.example/public/index.html", "from the new root")
		e2e.ChangeDomain(t, a.ID, "served.example",
			api.DomainChange{Serving: api.Serving{Root: "sites/served.example/public"}})
		assert.Contains(t, e2e.Visit(t, "skua", "http://served.example/").Body, "from the new root")
		assert.Contains(t, e2e.On(t, "skua", "cat /home/served/sites/served.example/index.html"), "own page",
			"files stay")
		for _, root := range []string{"sites/../../otherserved", "tmp", "/etc", "sites/shop.served.example", "sites"} {
			err := e2e.Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: e2e.Domains(a.ID) + "/served.example", Body: api.DomainChange{Serving: api.Serving{Root: root}}},
				nil)
			require.Error(t, err, root)
			assert.Equal(t, "root", e2e.ProblemOf(t, err).Errors[0].Name)
		}
		e2e.RefusedAs(t, "invalid-input",
			e2e.Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch,
				Path: e2e.Domains(a.ID) + "/served.example",
				Body: api.DomainChange{Serving: api.Serving{Root: "sites/served.example/public/inner"},
					MoveFiles: true}}, nil))
		e2e.ChangeDomain(t, a.ID, "served.example", api.DomainChange{Serving: api.Serving{Root: "sites/moved/here"},
			MoveFiles: true})
		assert.Contains(t, e2e.Visit(t, "skua", "http://served.example/").Body, "from the new root", "moved along")
		assert.Equal(t, "gone\n", e2e.On(t, "skua", "test -e /home/served/sites/served.example/public || echo gone"))
		assert.Contains(t, e2e.Visit(t, "skua", "http://served.test/").Body, "from the new root",
			"the mirror goes with it")
		e2e.On(t, "skua", "rm -rf /home/served/sites/moved/here && mkdir -p /home/served/sites/served.example/public")
		require.Equal(t, "done", repair(t, a).State)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http://served.example/").Status,
			"a move is done once: a repair makes a new page instead")
	})
	t.Run("never somebody's site", func(t *testing.T) {
		s := e2e.Visit(t, "skua", "http://"+e2e.Inst.Servers["skua"].Address.String()+"/")
		assert.Equal(t, 404, s.Status, "the bare address")
		assert.Contains(t, s.Body, "many sites")
		assert.Equal(t, 421, e2e.Visit(t, "skua", "http://nobodys.example/").Status)
		_, err := e2e.TryVisit("skua", "https://nobodys.example/")
		assert.ErrorContains(t, err, "unrecognized name", "a TLS handshake under an unknown name is refused")
		_, err = tls.Dial("tcp", e2e.Inst.Servers["skua"].Address.String()+":443",
			&tls.Config{InsecureSkipVerify: true})
		assert.Error(t, err, "and so is one without a name")
		assert.Equal(t, 421, e2e.Visit(t, "skua", "https://served.example/", func(r *http.Request) {
			r.Host = "nobodys.example"
		}).Status, "a known name for the handshake does not help")
	})
	t.Run("removal takes the certificate, too", func(t *testing.T) {
		var started api.Started
		require.NoError(t, e2e.Remove(e2e.Domains(a.ID)+"/served.test", &started))
		require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		assert.NotContains(t, e2e.On(t, "skua", "ls /etc/nginx/victualler/tls/served"), "served.test")
		_, err := e2e.TryVisit("skua", "https://served.test/")
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
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), fmt.Sprintf("/accounts/%d/repair", a.ID), nil,
		&started))
	return e2e.Watched(t, started.Operation)
}

func TestSettingsOfSites(t *testing.T) {
	e2e.Shared(t)
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "switches.example", SignInName: "switches", Server: "skua"})
	e2e.Added(t, a.ID, api.NewDomain{Domain: "switches2.example"})
	set := func(settings map[string]any, more ...func(*api.DomainChange)) {
		t.Helper()
		change := api.DomainChange{Settings: settings}
		for _, m := range more {
			m(&change)
		}
		e2e.ChangeDomain(t, a.ID, "switches.example", change)
	}
	script := `<?php echo json_encode(array_map('ini_get', ['memory_limit', 'max_execution_time', 'upload_max_filesize', 'display_errors', 'date.timezone'])), '|', $_SERVER['REQUEST_URI'] ?? '', '|', @ini_set('memory_limit', '4G') === false ? 'kept' : 'changed';`
	e2e.Write(t, a, "sites/switches.example/index.php", script)
	e2e.Write(t, a, "sites/switches2.example/index.php", script)
	e2e.Write(t, a, "sites/switches.example/style.css", strings.Repeat("body { color: navy }\n", 100))
	e2e.Write(t, a, "sites/switches.example/.secret", "dot")
	e2e.Write(t, a, "sites/switches.example/.git/x.php", "<?php echo 'ran';")
	e2e.Write(t, a, "sites/switches.example/errors/missing.html", "not on this island")
	e2e.Write(t, a, "sites/switches.example/crew/list.html", "the crew")
	e2e.Write(t, a, "sites/switches.example/crew/list.php", "<?php echo 'the crew by PHP';")
	const at = "://switches.example"

	t.Run("as it is at first", func(t *testing.T) {
		s := e2e.Visit(t, "skua", "http"+at+"/style.css", func(r *http.Request) {
			r.Header.Set("Accept-Encoding", "gzip")
		})
		assert.Equal(t, "gzip", s.Header.Get("Content-Encoding"))
		assert.Empty(t, s.Header.Get("Expires"))
		assert.Equal(t, 404, e2e.Visit(t, "skua", "http"+at+"/.secret").Status)
		assert.Equal(t, 404, e2e.Visit(t, "skua", "http"+at+"/.git/x.php").Status,
			"no script in a hidden directory runs")
		for method, want := range map[string]int{"TRACE": 405, "TRACK": 405, "PUT": 200, "PATCH": 200, "DELETE": 200,
			"PROPFIND": 200} {
			s := e2e.Visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) { r.Method = method })
			assert.Equal(t, want, s.Status, method)
		}
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/").Body, `["134217728","30","67108864"`)
	})
	t.Run("names", func(t *testing.T) {
		set(map[string]any{"preferred": "bare", "https_redirect": true, "hsts": 3600})
		for from, to := range map[string]string{"http://switches.example/a?b": "https://switches.example/a?b",
			"http://www.switches.example/a?b":  "https://switches.example/a?b",
			"https://www.switches.example/a?b": "https://switches.example/a?b"} {
			s := e2e.Visit(t, "skua", from)
			assert.Equal(t, 301, s.Status)
			assert.Equal(t, to, s.Header.Get("Location"), from)
			assert.Equal(t, strings.HasPrefix(from, "https"), s.Header.Get("Strict-Transport-Security") != "",
				"over TLS alone: %s", from)
		}
		s := e2e.Visit(t, "skua", "https"+at+"/")
		assert.Equal(t, 200, s.Status)
		assert.Equal(t, "max-age=3600", s.Header.Get("Strict-Transport-Security"))
		e2e.On(t, "skua", "mkdir -p /var/lib/victualler-challenges/.well-known/acme-challenge && echo -n answer > "+
			"/var/lib/victualler-challenges/.well-known/acme-challenge/token1")
		s = e2e.Visit(t, "skua", "http://www.switches.example/.well-known/acme-challenge/token1")
		assert.Equal(t, 200, s.Status, "an authority's question is never redirected")
		assert.Equal(t, "answer", s.Body)
		p := e2e.RefusedAs(t, "needs-decision",
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"hsts": 86400 * 365}}}, nil))
		assert.Equal(t, "hsts_accepted", p.Decide[0].Field)
		set(map[string]any{"hsts": 86400 * 365, "hsts_subdomains": true}, func(c *api.DomainChange) {
			c.HSTSAccepted = true
		})
		assert.Equal(t, "max-age=31536000; includeSubDomains",
			e2e.Visit(t, "skua", "https"+at+"/").Header.Get("Strict-Transport-Security"))
		set(map[string]any{"hsts": 86400 * 400}) // longer than long is no first time
		set(map[string]any{"preferred": "www"})
		assert.Equal(t, "https://www.switches.example/", e2e.Visit(t, "skua", "https"+at+"/").Header.Get("Location"))
		set(map[string]any{"preferred": nil, "https_redirect": nil, "hsts": nil, "hsts_subdomains": nil})
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http://www.switches.example/").Status)
	})
	t.Run("pages", func(t *testing.T) {
		set(map[string]any{"front_script": "index.php", "static_caching": 604800,
			"error_pages": map[string]string{"404": "errors/missing.html", "403": "errors/missing.html"},
			"headers":     map[string]string{"X-Frame-Options": "DENY", "X-Odd": `a "b" \ ; }`}, "compression": false})
		s := e2e.Visit(t, "skua", "http"+at+"/no/such/page?x=1")
		assert.Equal(t, 200, s.Status)
		assert.Contains(t, s.Body, "|/no/such/page?x=1|", "pretty addresses")
		assert.Equal(t, "DENY", s.Header.Get("X-Frame-Options"))
		assert.Equal(t, `a "b" \ ; }`, s.Header.Get("X-Odd"))
		s = e2e.Visit(t, "skua", "http"+at+"/style.css", func(r *http.Request) {
			r.Header.Set("Accept-Encoding", "gzip")
		})
		assert.Equal(t, "max-age=604800", s.Header.Get("Cache-Control"))
		assert.Empty(t, s.Header.Get("Content-Encoding"))
		s = e2e.Visit(t, "skua", "http"+at+"/gone.php")
		assert.Equal(t, 404, s.Status)
		assert.Equal(t, "not on this island", s.Body)
		set(map[string]any{"front_script": nil, "index_files": []string{"errors/missing.html"}})
		assert.Equal(t, "not on this island", e2e.Visit(t, "skua", "http"+at+"/").Body)
		set(map[string]any{"index_files": nil, "dot_files": true, "methods": []string{"GET", "HEAD", "DELETE"}})
		assert.Equal(t, "dot", e2e.Visit(t, "skua", "http"+at+"/.secret").Body)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) {
			r.Method = "DELETE"
		}).Status)
		assert.Equal(t, 405, e2e.Visit(t, "skua", "http"+at+"/index.php", func(r *http.Request) {
			r.Method = "POST"
		}).Status)
		set(map[string]any{"dot_files": nil, "methods": nil})
	})
	t.Run("PHP, each site by itself", func(t *testing.T) {
		set(map[string]any{"php_memory": 64 << 20, "php_time": 20, "php_timezone": "Europe/Oslo", "php_errors": true,
			"largest_upload": 2 << 20})
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/").Body, `["67108864","20","2097152","1","Europe\/Oslo"]`)
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/").Body, "|kept", "a script cannot give itself more")
		assert.Contains(t, e2e.Visit(t, "skua", "http://switches2.example/").Body, `["134217728","30","67108864"`,
			"the other site of the pool has its own")
		upload := func(size int) int {
			return e2e.Visit(t, "skua", "http"+at+"/", func(r *http.Request) {
				r.Method, r.Body, r.ContentLength = "POST", io.NopCloser(strings.NewReader(strings.Repeat("x", size))),
					int64(size)
			}).Status
		}
		assert.Equal(t, 200, upload(2<<20))
		assert.Equal(t, 413, upload(4<<20))
		p := e2e.RefusedAs(t, "invalid-input",
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"php_memory": 1 << 30, "php_time": 10}}}, nil))
		assert.Equal(t, "settings.php_memory", p.Errors[0].Name)
		p = e2e.RefusedAs(t, "invalid-input",
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"php_version": "7.4"}}}, nil))
		assert.Contains(t, p.Detail, "PHP 7.4 is not installed on skua; there are 8.2")
		set(map[string]any{"php_version": "8.2"}) // a pool of its own, which stays when a newer one comes
		set(map[string]any{"php_version": nil})
		require.NoError(t, e2e.Put(fmt.Sprintf("/accounts/%d/exceptions", a.ID), map[string]any{"limit": "php_memory",
			"amount": 1 << 30, "reason": "the timetable's search"}, nil))
		set(map[string]any{"php_memory": 1 << 30})
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/").Body, "1073741824")
		var dropped api.TermsChanged
		require.NoError(t, e2e.Remove(fmt.Sprintf("/accounts/%d/exceptions/limits/php_memory", a.ID), &dropped))
		require.Equal(t, "done", e2e.Watched(t, dropped.Operation).State)
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/").Body, "134217728",
			"when the exception goes, the server has the plan's bound again")
		var d api.DomainDetail
		require.NoError(t, e2e.Inst.Client.Get(ctx, e2e.Domains(a.ID)+"/switches.example", nil, &d))
		for _, s := range d.Settings {
			if s.Key == "php_memory" {
				assert.Contains(t, s.Bounded, "set to 1G; the limit php_memory allows 128M")
			}
		}
		set(map[string]any{"php": false})
		s := e2e.Visit(t, "skua", "http"+at+"/index.php")
		assert.Equal(t, 404, s.Status)
		assert.NotContains(t, s.Body, "<?php", "never the source")
		set(map[string]any{"php": nil, "php_memory": nil, "php_time": nil, "php_timezone": nil, "php_errors": nil,
			"largest_upload": nil})
	})
	t.Run("protected folders", func(t *testing.T) {
		var done api.FolderChanged
		require.NoError(t, e2e.Inst.Client.Post(ctx, e2e.Domains(a.ID)+"/switches.example/folders",
			api.NewFolder{Path: "/crew/", Title: "Crew", Users: []api.NewFolderUser{{Name: "anna",
				Password: "eight or more"}}}, &done))
		require.Equal(t, "done", e2e.Watched(t, done.Operation).State)
		as := func(name, password string) func(*http.Request) {
			return func(r *http.Request) { r.SetBasicAuth(name, password) }
		}
		for _, path := range []string{"/crew/list.html", "/crew/list.php", "/crew/", "/crew", "//crew/list.html",
			"/x/../crew/list.php", "/%63rew/list.html"} {
			s := e2e.Visit(t, "skua", "http"+at+path)
			assert.Equal(t, 401, s.Status, path)
			assert.Contains(t, s.Header.Get("WWW-Authenticate"), `realm="Crew"`)
			assert.Equal(t, 401, e2e.Visit(t, "skua", "http"+at+path, as("anna", "wrong password")).Status)
		}
		assert.Equal(t, "the crew", e2e.Visit(t, "skua", "http"+at+"/crew/list.html", as("anna", "eight or more")).Body)
		assert.Equal(t, "the crew by PHP",
			e2e.Visit(t, "skua", "http"+at+"/crew/list.php", as("anna", "eight or more")).Body)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http"+at+"/").Status)
		file := strings.TrimSpace(e2e.On(t, "skua", "ls /etc/nginx/victualler/accounts/switches.*.users"))
		assert.Equal(t, "640 root www-data\n", e2e.On(t, "skua", "stat -c '%a %U %G' "+file),
			"the hashes are for the web server alone")
		person := fmt.Sprintf("%s/switches.example/folders/%d/users/bo", e2e.Domains(a.ID), done.Folder.ID)
		require.NoError(t, e2e.Put(person, api.FolderPassword{Password: "another word"}, &done))
		require.Equal(t, "done", e2e.Watched(t, done.Operation).State)
		assert.Equal(t, []string{"anna", "bo"}, done.Folder.Users)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http"+at+"/crew/list.html", as("bo", "another word")).Status)
		var started api.Started
		require.NoError(t, e2e.Remove(person, &started))
		require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		assert.Equal(t, 401, e2e.Visit(t, "skua", "http"+at+"/crew/list.html", as("bo", "another word")).Status)
		e2e.RefusedAs(t, "not-found", e2e.Remove(person, nil))
		for _, wrong := range []api.NewFolder{{Path: "../x"}, {Path: "a b"}, {Path: "x", Title: "a\"b"},
			{Path: "x", Users: []api.NewFolderUser{{Name: "a:b", Password: "long enough"}}}} {
			e2e.RefusedAs(t, "invalid-input", e2e.Inst.Client.Post(ctx, e2e.Domains(a.ID)+"/switches.example/folders",
				wrong, nil))
		}
		require.NoError(t, e2e.Remove(fmt.Sprintf("%s/switches.example/folders/%d", e2e.Domains(a.ID), done.Folder.ID),
			&started))
		require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http"+at+"/crew/list.html").Status)
		_, err := e2e.Inst.Servers["skua"].Exec(ctx, "test", "-e", file)
		assert.Error(t, err, "its file of hashes is gone")
		assert.NotContains(t, e2e.EverythingIn(t, "events"), "eight or more")
	})
	t.Run("raw directives", func(t *testing.T) {
		set(map[string]any{"raw": "location = /raw {\n    return 200 \"by hand\";\n}"})
		assert.Equal(t, "by hand", e2e.Visit(t, "skua", "http"+at+"/raw").Body)
		p := e2e.RefusedAs(t, "invalid-input",
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"raw": "root /home/otherserved;"}}}, nil))
		assert.Contains(t, p.Errors[0].Message,
			"root cannot be used here; there is the document root of a domain for it")
		set(map[string]any{"raw": "location = /.well-known/victualler { return 200 mine; }"})
		var d api.DomainDetail
		require.NoError(t, e2e.Inst.Client.Get(ctx, e2e.Domains(a.ID)+"/switches.example", nil, &d))
		require.Len(t, d.Warnings, 1, "what only nginx knows to be wrong is left out, and told")
		assert.Contains(t, d.Warnings[0].What, "duplicate location")
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http://switches2.example/").Status)
		set(map[string]any{"raw": nil})
		d = api.DomainDetail{}
		require.NoError(t, e2e.Inst.Client.Get(ctx, e2e.Domains(a.ID)+"/switches.example", nil, &d))
		assert.Empty(t, d.Warnings)
	})
	t.Run("redirects, listings and who may visit", func(t *testing.T) {
		e2e.Write(t, a, "sites/switches.example/plain/list.txt", "a")
		set(map[string]any{"redirects": map[string]string{"/old": "/crew/", "/shop": "https://shop.example/all"},
			"directory_listing": true})
		visit := e2e.Visit(t, "skua", "http"+at+"/shop?x=1")
		assert.Equal(t, 301, visit.Status)
		assert.Equal(t, "https://shop.example/all?x=1", visit.Header.Get("Location"))
		assert.Equal(t, 301, e2e.Visit(t, "skua", "http"+at+"/old").Status)
		assert.Contains(t, e2e.Visit(t, "skua", "http"+at+"/plain/").Body, "list.txt")
		set(map[string]any{"visitors_from": []string{"192.0.2.0/24"}})
		assert.Equal(t, 403, e2e.Visit(t, "skua", "http"+at+"/plain/list.txt").Status)
		set(map[string]any{"redirects": nil, "directory_listing": nil, "visitors_from": nil})
		assert.Equal(t, 403, e2e.Visit(t, "skua", "http"+at+"/plain/").Status)
		assert.Equal(t, 200, e2e.Visit(t, "skua", "http"+at+"/plain/list.txt").Status)
	})
	t.Run("what is wrong is told field by field", func(t *testing.T) {
		p := e2e.RefusedAs(t, "invalid-input",
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Body: api.DomainChange{Settings: map[string]any{"hsts": -1, "methods": []string{"GET"},
					"nonsense": true, "compression": "on"}}}, nil))
		assert.Len(t, p.Errors, 4)
		err := e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) +
			"/switches.example", IfMatch: `"1"`, Body: api.DomainChange{Settings: map[string]any{"hsts": 60}}}, nil)
		e2e.RefusedAs(t, "changed-meanwhile", err)
	})
	t.Run("a preview shows the very lines", func(t *testing.T) {
		var p api.Preview
		require.NoError(t,
			e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: e2e.Domains(a.ID) + "/switches.example",
				Query: url.Values{"preview": {"true"}},
				Body:  api.DomainChange{Settings: map[string]any{"compression": nil}}}, &p))
		require.Len(t, p.Changes, 1)
		assert.Contains(t, p.Changes[0].Diff, "-    gzip off;")
	})
}

func TestTemplates(t *testing.T) {
	e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t, e2e.Inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "shopfront", About: "shops",
		Settings: map[string]any{"headers": map[string]string{"X-Shop": "yes"}, "static_caching": 60}}, nil))
	require.NoError(t,
		e2e.Inst.Client.Post(ctx, "/plans", api.NewPlan{Name: "shops", Template: "shopfront",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(3),
				plans.PHPWorkers: plans.Of(1)}}, nil))
	a := e2e.Opened(t, api.OpenAccount{Domain: "front.example", Plan: "shops", SignInName: "front", Server: "skua"})
	b := e2e.Opened(t, api.OpenAccount{Domain: "back.example", Plan: "shops", SignInName: "backof", Server: "fulmar"})
	assert.Equal(t, "yes", e2e.Visit(t, "skua", "http://front.example/").Header.Get("X-Shop"),
		"the main domain follows the plan's template")
	e2e.Added(t, a.ID, api.NewDomain{Domain: "front2.example"})
	assert.Equal(t, "yes", e2e.Visit(t, "skua", "http://front2.example/").Header.Get("X-Shop"))
	e2e.ChangeDomain(t, b.ID, "back.example", api.DomainChange{Settings: map[string]any{"static_caching": 120}})

	var p api.Preview
	change := api.TemplateChange{Settings: map[string]any{"static_caching": 3600, "compression": false}}
	require.NoError(t, e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/templates/shopfront",
		Query: url.Values{"preview": {"true"}}, Body: change}, &p))
	assert.Contains(t, p.Summary, "3 sites")
	require.Len(t, p.Effects, 3)
	assert.Equal(t, []string{"compression: on → off"}, p.Effects[0].Changes, "back.example has a caching of its own")
	assert.Len(t, p.Effects[1].Changes, 2)
	var done api.TemplateChanged
	e2e.Patch(t, "/templates/shopfront", change, &done)
	assert.EqualValues(t, 3, done.Sites)
	require.Equal(t, "done", e2e.Watched(t, done.Operation).State)
	e2e.Write(t, a, "sites/front.example/x.css", "a")
	e2e.Write(t, b, "sites/back.example/x.css", "a")
	assert.Equal(t, "max-age=3600", e2e.Visit(t, "skua", "http://front.example/x.css").Header.Get("Cache-Control"))
	assert.Equal(t, "max-age=120", e2e.Visit(t, "fulmar", "http://back.example/x.css").Header.Get("Cache-Control"))
	e2e.RefusedAs(t, "in-use", e2e.Remove("/templates/shopfront", nil))
	e2e.RefusedAs(t, "invalid-input",
		e2e.Inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "bad-one",
			Settings: map[string]any{"raw": "root /home/front/sites;"}}, nil))
	e2e.RefusedAs(t, "name-taken", e2e.Inst.Client.Post(ctx, "/templates", api.NewTemplate{Name: "shopfront"}, nil))
	none := ""
	for account, names := range map[int64][]string{a.ID: {"front.example", "front2.example"}, b.ID: {"back.example"}} {
		for _, name := range names {
			e2e.ChangeDomain(t, account, name, api.DomainChange{Template: &none})
		}
	}
	assert.Empty(t, e2e.Visit(t, "skua", "http://front.example/").Header.Get("X-Shop"))
	require.NoError(t,
		e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/plans/shops",
			Body: api.PlanChange{Template: &none}}, nil))
	require.NoError(t, e2e.Remove("/templates/shopfront", nil))
}

func TestTraceByClient(t *testing.T) {
	e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "traced.example", SignInName: "traced", Server: "skua"})
	e2e.ChangeDomain(t, a.ID, "traced.example", api.DomainChange{Settings: map[string]any{"preferred": "www"}})
	out, _, exit := e2e.Command(t, "domain", "trace", "traced.example")
	assert.Equal(t, 1, exit, "public DNS does not know it")
	assert.Contains(t, out, "the preferred form is www, visitors are sent there")
	assert.Contains(t, out, "301 http://www.traced.example/")
	assert.Contains(t, out, "the site is ready on skua")
	out, _, exit = e2e.Command(t, "domain", "trace", "nowhere-at-all.example")
	assert.Equal(t, 1, exit)
	assert.Contains(t, out, "would answer 421 and refuse TLS")
	_, errOut, exit := e2e.Command(t, "domain", "trace", "..")
	assert.Equal(t, 2, exit, errOut)
}

func TestAccessLog(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "logged.example", SignInName: "logged", Server: "skua"})
	e2e.Visit(t, "skua", "http://logged.example/first?x=1", func(r *http.Request) {
		r.Header.Set("User-Agent", "quote \" and \\ here")
	})
	var page api.LogPage
	labtest.Eventually(t, func() bool {
		require.NoError(t, i.Client.Get(context.Background(), e2e.Domains(a.ID)+"/logged.example/log", nil, &page))
		return len(page.Lines) > 0
	})
	assert.Contains(t, page.Lines[0], `"GET /first?x=1 HTTP/1.1" 404`)
	assert.NotContains(t, strings.Join(page.Lines, "\n"), ".well-known/victualler",
		"the agent's own questions are not in it")
	began := time.Now()
	go func() {
		time.Sleep(300 * time.Millisecond)
		_, _ = e2e.TryVisit("skua", "https://www.logged.example/second")
	}()
	next := page.Next
	require.NoError(t, i.Client.Get(context.Background(), e2e.Domains(a.ID)+"/logged.example/log",
		url.Values{"after": {next}, "wait": {"15"}}, &page))
	require.NotEmpty(t, page.Lines)
	assert.Contains(t, page.Lines[0], `"GET /second HTTP/2.0" 404`)
	assert.Less(t, time.Since(began), 14*time.Second, "it comes while one waits")

	file := "/home/logged/logs/logged.example.log"
	assert.Equal(t, "640 root logged\n", e2e.On(t, "skua", "stat -c '%a %U %G' "+file))
	as := func(command string) error {
		_, err := e2e.Inst.Servers["skua"].Exec(context.Background(), "setpriv", "--reuid=logged", "--regid=logged",
			"--clear-groups", "sh", "-ec", command)
		return err
	}
	assert.NoError(t, as("cat "+file))
	for _, attempt := range []string{"rm " + file, "ln -s /etc/passwd /home/logged/logs/x",
		"mv /home/logged/logs /home/logged/logs2", "echo x >> " + file} {
		assert.Error(t, as(attempt), attempt)
	}
	// Switched off, nothing more is written.
	e2e.ChangeDomain(t, a.ID, "logged.example", api.DomainChange{Settings: map[string]any{"access_log": false}})
	e2e.Visit(t, "skua", "http://logged.example/third")
	require.NoError(t, i.Client.Get(context.Background(), e2e.Domains(a.ID)+"/logged.example/log",
		url.Values{"after": {page.Next}, "wait": {"1"}}, &page))
	assert.Empty(t, page.Lines)
	out, _, exit := e2e.Command(t, "site", "log", "logged.example", "--lines", "1")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "/second")
	e2e.RefusedAs(t, "not-found", i.Client.Get(context.Background(), e2e.Domains(a.ID)+"/other.example/log", nil, nil))
}

func TestBrandOfServersPages(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t, i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "pagebrand", Title: "Page Brand",
		Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(4),
			plans.PHPWorkers: plans.Of(2)}}, nil))
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "page", Reseller: "pagebrand",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(2),
				plans.PHPWorkers: plans.Of(1)}}, nil))
	a := e2e.Opened(t, api.OpenAccount{Domain: "branded-pages.example", Plan: "pagebrand.page", Reseller: "pagebrand",
		Customer: "Branded Pages", NewCustomer: true, SignInName: "brandedpages", Server: "skua"})
	s := e2e.Visit(t, "skua", "http://branded-pages.example/missing")
	assert.Equal(t, 404, s.Status)
	assert.Contains(t, s.Body, "There is no such page here.")
	assert.Contains(t, s.Body, "<h1>branded-pages.example</h1>")
	var kept api.BrandInForce
	require.NoError(t,
		e2e.Put("/resellers/pagebrand/brand", api.Brand{Title: `Gull & "Sons" $host`, Footer: "Upper Village",
			Accent: "#1f5f7a"}, &kept))
	require.NotZero(t, kept.Operation)
	require.Equal(t, "done", e2e.Watched(t, kept.Operation).State)
	s = e2e.Visit(t, "skua", "http://branded-pages.example/missing")
	assert.Contains(t, s.Body, "<p>Gull &amp; &#34;Sons&#34; &#36;host</p><p>Upper Village</p>")
	assert.Contains(t, s.Body, "#1f5f7a")
	assert.NotContains(t, s.Body, "http", "nothing from anywhere else")
	require.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/suspend", a.ID), api.Suspend{Why: "unpaid"}, nil))
	e2e.Settled(t)
	for _, address := range []string{"http://branded-pages.example/", "https://www.branded-pages.example/x.php"} {
		s = e2e.Visit(t, "skua", address)
		assert.Equal(t, 503, s.Status)
		assert.Contains(t, s.Body, "switched off for the time being")
		assert.Contains(t, s.Body, "Upper Village")
		assert.NotContains(t, s.Body, "unpaid")
	}
	assert.Equal(t, 404, e2e.Visit(t, "skua", "http://branded-pages.example/.well-known/acme-challenge/none").Status,
		"an authority's question is answered all the same")
}
