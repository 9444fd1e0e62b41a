package attacks

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

const server = "skua"

// customer is an account whose owner runs what they like.
type customer struct {
	t *testing.T
	api.Account
}

// opened opens an account with a site that runs commands.
func opened(t *testing.T, domain string) *customer {
	t.Helper()
	c := &customer{t, e2e.Opened(t, api.OpenAccount{Domain: domain, Server: server})}
	c.file("run.php",
		`<?php ignore_user_abort(true); header("Content-Type: text/plain"); passthru($_GET["c"] . " 2>&1");`)
	// As much work as a small application has with a page.
	c.file("page.php", `<?php for ($n = 0; $n < 40000; $n++) $x = md5("$n"); echo "bread ", $x;`)
	return c
}

// file puts a file into the site.
func (c *customer) file(name, content string) {
	c.t.Helper()
	path := "/home/" + c.SignInName + "/sites/" + c.Domain + "/" + name
	cmd := e2e.Inst.Servers[server].Command(context.Background(), "sh", "-ec",
		`rm -f "$(dirname "$1")/index.html"; cat > "$1"; chown "$2": "$1"; touch -d '1 minute ago' "$1"`, "sh", path,
		c.SignInName)
	cmd.Stdin = strings.NewReader(content)
	out, err := cmd.CombinedOutput()
	require.NoError(c.t, err, string(out))
}

// run runs a command as the site's PHP does and returns what it prints, however that ends.
func (c *customer) run(command string) string {
	c.t.Helper()
	out, _ := e2e.Inst.Servers[server].Exec(context.Background(), "curl", "-s", "-G", "-m", "30", "-H",
		"Host: "+c.Domain, "--data-urlencode", "c="+command, "http://127.0.0.1/run.php")
	return strings.TrimSpace(out)
}

// behind runs a command that goes on by itself.
func (c *customer) behind(command string) {
	c.t.Helper()
	c.run("setsid sh -c '" + strings.ReplaceAll(command, "'", `'\''`) + "' >/dev/null 2>&1 </dev/null &")
}

// processes is what runs as the account's user, seen by root.
func (c *customer) processes() string {
	out, _ := e2e.Inst.Servers[server].Exec(context.Background(), "pgrep", "-a", "-u", c.SignInName)
	return out
}

// holders is how many of the sandboxes' own processes hold the socket of the customer's PHP.
func (c *customer) holders() int {
	out, err := e2e.Inst.Servers[server].Exec(context.Background(), "sh", "-c", `
		i=$(awk -v end="/$(id -u "$1").sock" 'index($0, end) { print $7; exit }' /proc/net/unix)
		for p in $(pgrep -f '^[a-z/]*victualler-sandbox (run|keep|supervise)'); do
			ls -l "/proc/$p/fd" 2>/dev/null | grep -q "socket:\[$i\]" && echo "$p"
		done; true`, "sh", c.SignInName)
	require.NoError(c.t, err)
	return len(strings.Fields(out))
}

// do asks for a change of the account and waits until it is in force, at most for a while.
func (c *customer) do(method, path string, body any) {
	c.t.Helper()
	var started api.Started
	began := time.Now()
	require.NoError(c.t, e2e.Inst.Client.Do(context.Background(), client.Call{Method: method,
		Path: fmt.Sprintf("/accounts/%d/%s", c.ID, path), Body: body}, &started))
	if started.Operation == 0 { // it was so already
		return
	}
	o := e2e.Watched(c.t, started.Operation)
	require.Equal(c.t, "done", o.State, "%s: %s", path, o.Failure)
	require.Less(c.t, time.Since(began), 30*time.Second, path)
}

// limit sets a limit by hand.
func (c *customer) limit(key plans.Key, n int64) {
	c.t.Helper()
	c.do(http.MethodPut, "exceptions", api.NewException{Limit: string(key),
		Amount: api.GivenAmount{Amount: plans.Of(n), Given: true}, Reason: "attack"})
}

// visitors ask a site's page again and again, as fast as it answers, but for a short pause.
type visitors struct {
	stop  chan struct{}
	group sync.WaitGroup

	mu     sync.Mutex
	took   []time.Duration
	failed []string
}

// visit has visitors come to a site until they are told to stop.
func visit(c *customer) *visitors {
	v := &visitors{stop: make(chan struct{})}
	address := e2e.Inst.Servers[server].Address.String()
	for range 2 {
		v.group.Go(func() {
			one := http.Client{Timeout: 20 * time.Second}
			for {
				select {
				case <-v.stop:
					return
				case <-time.After(5 * time.Millisecond):
				}
				request, _ := http.NewRequest(http.MethodGet, "http://"+address+"/page.php", nil)
				request.Host = c.Domain
				began := time.Now()
				response, err := one.Do(request)
				took, what := time.Since(began), ""
				if err != nil {
					what = err.Error()
				} else {
					if response.StatusCode != 200 {
						what = response.Status
					}
					response.Body.Close()
				}
				v.mu.Lock()
				v.took = append(v.took, took)
				if what != "" {
					v.failed = append(v.failed, what)
				}
				v.mu.Unlock()
			}
		})
	}
	return v
}

// end ends the visits and returns how long the slowest but 1 % took, and what failed.
func (v *visitors) end() (p99 time.Duration, n int, failed []string) {
	close(v.stop)
	v.group.Wait()
	slices.Sort(v.took)
	if len(v.took) == 0 {
		return 0, 0, []string{"nobody came"}
	}
	return v.took[len(v.took)*99/100], len(v.took), v.failed
}
