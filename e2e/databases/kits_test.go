package databases

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"regexp"
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

// offeredTo opens an account on a plan of its own that offers kits.
func offeredTo(t *testing.T, signIn, server string, kits ...string) api.Account {
	t.Helper()
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "kits-of-" + signIn,
		Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(1),
			plans.PHPWorkers: plans.Of(3), plans.Databases: plans.Of(2), plans.Processes: plans.Of(60),
			plans.Memory: plans.Of(256 * plans.MiB)},
		Features: plans.Features{"databases": true, "kits": true}}, nil))
	for _, kit := range kits {
		var k api.Kit
		require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/kits/"+kit, nil, &k))
		ran(t, "kit", "offer", kit, "--plans", strings.Join(append(k.Plans, "kits-of-"+signIn), ","))
	}
	return e2e.Opened(t, api.OpenAccount{Domain: signIn + ".example", SignInName: signIn, Plan: "kits-of-" + signIn,
		Customer: "Tern Ferries", Server: server})
}

// kitDirectory is a kit of one page, or a shipped one, with a version and with more in its
// document.
func kitDirectory(t *testing.T, from, name, version string, change func(document string) string) string {
	t.Helper()
	dir := t.TempDir()
	if from != "" {
		require.NoError(t, os.CopyFS(dir, os.DirFS("../../kits/"+from)))
	} else {
		require.NoError(t, os.MkdirAll(dir+"/files", 0o755))
		require.NoError(t, os.WriteFile(dir+"/files/index.php", []byte("<?php echo 'page of "+name+" "+version+"';"),
			0o644))
		require.NoError(t, os.WriteFile(dir+"/kit.json", []byte(`{"layout": 1, "name": "`+name+`", "version": "1.0.0",
			"title": "Test", "about": "For tests.", "needs": {"php": "8.1"}, "check": {"path": "/", "contains": "page"}}`),
			0o644))
	}
	document, err := os.ReadFile(dir + "/kit.json")
	require.NoError(t, err)
	text := strings.Replace(string(document), `"1.0.0"`, `"`+version+`"`, 1)
	if change != nil {
		text = change(text)
	}
	require.NoError(t, os.WriteFile(dir+"/kit.json", []byte(text), 0o644))
	return dir
}

// withSteps puts steps into a document that has none.
func withSteps(steps string) func(string) string {
	return func(document string) string {
		return strings.Replace(document, `"check"`, `"steps": [`+steps+`], "check"`, 1)
	}
}

// traces are what is in the directory of the account's sites.
func traces(t *testing.T, a api.Account) string {
	t.Helper()
	return e2e.On(t, a.Server, "cd /home/"+a.SignInName+"/sites && find . -mindepth 1 | sort")
}

var hidden = regexp.MustCompile(`name="form" value="([^"]*)"`)

// posted posts a form of a page with the hidden field that it has, and returns the cookies.
func posted(t *testing.T, a api.Account, cookie string, fields url.Values) (status int, cookies string) {
	t.Helper()
	address := "https://" + a.Domain + "/"
	page := e2e.Visit(t, a.Server, address, func(r *http.Request) { r.Header.Set("Cookie", cookie) })
	if found := hidden.FindStringSubmatch(page.Body); found != nil {
		fields.Set("form", found[1])
	}
	seen := e2e.Visit(t, a.Server, address, func(r *http.Request) {
		r.Method = http.MethodPost
		text := fields.Encode()
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(text)), int64(len(text))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Cookie", cookie)
	})
	value, _, _ := strings.Cut(seen.Header.Get("Set-Cookie"), ";")
	return seen.Status, value
}

func home(t *testing.T, a api.Account) string {
	t.Helper()
	return e2e.Visit(t, a.Server, "https://"+a.Domain+"/").Body
}

// The shipped applications on both engines, the database on another server than the site and on the
// same one: installed, used, updated, an update that comes to nothing, removed.
func TestShippedKits(t *testing.T) {
	e2e.Shared(t)
	for _, name := range []string{"placeholder", "static", "guestbook", "notes"} {
		assert.Contains(t, ran(t, "kit", "check", "../../kits/"+name), "in order")
		ran(t, "kit", "register", "../../kits/"+name)
	}
	book := offeredTo(t, "bookkeeper", "fulmar", "guestbook")
	page := offeredTo(t, "notekeeper", "skua", "notes", "static")
	before := traces(t, book)

	ran(t, "kit", "install", book.Domain, "guestbook", `title=Ann's "quay" <b>book</b>`, "keeper=a phrase")
	ran(t, "kit", "install", page.Domain, "notes", "phrase=twelve and more")
	assert.Contains(t, home(t, book), "<h1>Ann&#039;s &quot;quay&quot; &lt;b&gt;book&lt;/b&gt;</h1>")
	status, _ := posted(t, book, "", url.Values{"name": {"Møwe <i>"}, "text": {"'; DROP TABLE entries; --"}})
	assert.Equal(t, http.StatusSeeOther, status)
	assert.Contains(t, home(t, book), "&#039;; DROP TABLE entries; --")
	assert.Contains(t, home(t, book), "Møwe &lt;i&gt;")
	status, cookie := posted(t, page, "", url.Values{"do": {"sign in"}, "phrase": {"twelve and more"}})
	require.Equal(t, http.StatusSeeOther, status)
	status, _ = posted(t, page, cookie, url.Values{"title": {"High water"}, "body": {"at noon"}})
	assert.Equal(t, http.StatusSeeOther, status)
	assert.Contains(t, home(t, page), "High water")
	status, _ = posted(t, page, "", url.Values{"title": {"Somebody else"}})
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	// Updates that come to nothing: what they have done to the database is undone as well.
	drop := `["php", "-r", "require 'database.php'; database(require 'settings.php')->exec('DROP TABLE %s');"]`
	for _, one := range []struct {
		account            api.Account
		kit, table, record string
	}{{book, "guestbook", "entries", "DROP TABLE entries; --"}, {page, "notes", "notes", "High water"}} {
		ran(t, "kit", "register", kitDirectory(t, one.kit, one.kit, "1.1.0", func(document string) string {
			at := strings.Index(document, `"update"`)
			return document[:at] + `"update": {"steps": [{"title": "spoil it", "run": ` + fmt.Sprintf(drop, one.table) + `}]}}`
		}))
		_, errOut, exit := e2e.Command(t, "kit", "update", one.account.Domain, "--yes")
		assert.NotZero(t, exit)
		assert.Contains(t, errOut, "status 500")
		require.Eventually(t, func() bool { return strings.Contains(home(t, one.account), one.record) }, time.Minute,
			time.Second, "the database is as it was")
		assert.Contains(t, ran(t, "kit", "sites", one.account.SignInName), "1.0.0")
		ran(t, "kit", "withdraw", one.kit, "1.1.0")
	}
	ran(t, "kit", "update", book.Domain, "--new-password", "--yes")
	assert.Contains(t, home(t, book), "DROP TABLE entries; --")
	ran(t, "kit", "update", page.Domain, "title=Tide notes", "--yes")
	labtest.Eventually(t, func() bool { return strings.Contains(home(t, page), "<title>Tide notes</title>") },
		"PHP has read it anew")
	var sweep api.Started
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/servers/skua/sweep", nil, &sweep))
	e2e.Watched(t, sweep.Operation)
	assert.Empty(t, listed(t, page).Databases[0].Growth)

	for _, a := range []api.Account{book, page} {
		ran(t, "kit", "remove", a.Domain, "--yes")
		assert.Empty(t, listed(t, a).Databases)
		assert.Empty(t, listed(t, a).Users)
		assert.Contains(t, ran(t, "kit", "sites", a.SignInName), "no site of this account has a kit")
		assert.Equal(t, strings.ReplaceAll(before, book.SignInName, a.SignInName), traces(t, a))
	}
}

// What the steps of a kit can do is what the account can do, within its bounds, and no longer than
// they run; what is in the way in the home is nobody else's.
func TestHostileKits(t *testing.T) {
	e2e.Shared(t)
	names := []string{"spy", "daemon", "slow", "loud", "greedy", "forks"}
	for name, step := range map[string]string{
		"spy": `"sh", "-c", "ls /home | grep -vx spyer && exit 9; cat /etc/shadow && exit 9; ` +
			`cat /home/neighbour/sites/neighbour.example/index.html && exit 9; touch /usr/x && exit 9; id; echo seen"`,
		"daemon": `"sh", "-c", "setsid sh -c 'sleep 1717' >/dev/null 2>&1 & sleep 0.2"`,
		"slow":   `"sleep", "1718"`,
		"loud":   `"sh", "-c", "yes all of this is written; exit 1"`,
		"greedy": `"sh", "-c", "head -c 300M /dev/zero > big"`,
		"forks":  `"sh", "-c", "f() { f | f & }; f; sleep 1; exit 4"`,
	} {
		ran(t, "kit", "register", kitDirectory(t, "", name, "1.0.0", withSteps(`{"title": "do it", "seconds": 3, "run": [`+
			step+`]}`)))
	}
	spied := e2e.Opened(t, api.OpenAccount{Domain: "neighbour.example", SignInName: "neighbour", Server: "skua"})
	a := offeredTo(t, "spyer", "skua", names...)
	before := traces(t, a)
	for _, name := range names {
		start := time.Now()
		_, errOut, exit := e2e.Command(t, "kit", "install", a.Domain, name)
		took := time.Since(start)
		assert.Less(t, took, time.Minute, name)
		switch name {
		case "spy", "daemon":
			assert.Zero(t, exit, errOut)
			ran(t, "kit", "remove", a.Domain, "--yes")
		case "slow":
			assert.Contains(t, errOut, "ended after 3 seconds")
		case "loud":
			assert.Contains(t, errOut, "all of this is written")
			assert.Less(t, len(errOut), 10_000, "only the end of it is kept")
		default:
			assert.NotZero(t, exit, name)
			assert.Contains(t, errOut, "“do it” failed", name)
		}
		assert.Equal(t, before, traces(t, a), name)
		labtest.Eventually(t, func() bool {
			return e2e.On(t, "skua", "pgrep -c -f 'sleep 171[78]' || true") == "0\n"
		}, name+" leaves nothing that runs")
	}

	// Links where a kit puts its files, and a link instead of the site.
	e2e.On(t, "skua", `cd /home/spyer/sites; for n in $(seq 60); do ln -s /home/neighbour/sites/neighbour.example .kit-$n.new
		ln -s /home/neighbour/sites .kit-$n.before; done; chown -h spyer: .kit-*`)
	there := traces(t, spied)
	_, _, exit := e2e.Command(t, "kit", "install", a.Domain, "daemon")
	assert.Zero(t, exit, "what is in the way is the account's own, and goes")
	assert.Contains(t, home(t, a), "page of daemon")
	ran(t, "kit", "remove", a.Domain, "--yes")
	e2e.On(t, "skua", `cd /home/spyer/sites; rm -rf spyer.example; ln -s /home/neighbour/sites/neighbour.example `+
		`spyer.example; chown -h spyer: spyer.example`)
	e2e.Command(t, "kit", "install", a.Domain, "daemon", "--replace")
	e2e.Command(t, "kit", "remove", a.Domain, "--yes")
	assert.Equal(t, there, traces(t, spied))
	assert.Contains(t, home(t, spied), "neighbour.example", "the neighbour's page is as it was")
	assert.Equal(t, "done", e2e.CloseAccount(t, a).State)
	assert.Equal(t, "done", e2e.CloseAccount(t, spied).State)
}

// Agent and service are killed at random moments while kits are installed, updated and removed: at
// the end each site has the kit or not, wholly, and nothing is left beside it.
func TestKitsKilled(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	for _, version := range []string{"1.0.0", "1.1.0"} {
		ran(t, "kit", "register", kitDirectory(t, "", "sturdy", version, func(document string) string {
			document = strings.Replace(document, `"php": "8.1"`, `"php": "8.1", "database": "mariadb"`, 1)
			return withSteps(`{"title": "wait", "run": ["sleep", "0.3"]}`)(document)
		}))
	}
	a := offeredTo(t, "sturdy", "skua", "sturdy")
	path := at(a) + "/domains/" + a.Domain + "/kit"
	state := func() (s api.AccountKits) {
		labtest.Within(t, 2*time.Minute, func() bool {
			return i.Client.Get(ctx, at(a)+"/kits", nil, &s) == nil && (len(s.Sites) == 0 ||
				s.Sites[0].State == "installed")
		}, "work with the kit does not end")
		return s
	}
	ask := func(s api.AccountKits) error {
		switch {
		case len(s.Sites) == 0:
			return i.Client.Post(ctx, path, api.NewSiteKit{Kit: "sturdy", Version: "1.0.0", Replace: true}, nil)
		case s.Sites[0].Newer != "":
			return i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: path,
				Body: api.SiteKitUpdate{KeepOthers: true}}, nil)
		}
		return e2e.Remove(path+"?delete=true", nil)
	}
	outcomes := map[string]int{}
	for round := range 12 {
		s := state()
		err := ask(s)
		for until := time.Now().Add(30 * time.Second); err != nil && time.Now().Before(until); err = ask(s) {
			time.Sleep(200 * time.Millisecond) // the agent is being started again
		}
		require.NoError(t, err)
		time.Sleep(time.Duration(rand.IntN(2500)) * time.Millisecond)
		if round%2 == 0 {
			_, err := i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-f", "victualler-agent run")
			require.NoError(t, err)
		} else {
			i.KillService()
			require.NoError(t, i.StartService(ctx))
		}
		s = state()
		labtest.Eventually(t, func() bool { return !strings.Contains(traces(t, a), ".kit-") },
			"nothing is left beside it")
		var has string
		if len(s.Sites) > 0 {
			has = s.Sites[0].Version
			labtest.Eventually(t, func() bool { return strings.Contains(home(t, a), "page of sturdy "+has) }, has)
		}
		labtest.Eventually(t, func() bool { return len(listed(t, a).Databases) == len(s.Sites) },
			"one database, or none")
		outcomes[has]++
	}
	t.Logf("outcomes: %v", outcomes)
	assert.Equal(t, "done", e2e.CloseAccount(t, a).State)
}
