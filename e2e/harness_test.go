// Package e2e drives a whole installation from outside: the service on
// loopback through its API, its client and its console, with real servers in the lab.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/installation"
	"victualler/internal/lab/labtest"
)

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		fmt.Println("skipped: all of this is on the lab's real programs (make test)")
		return
	}
	labtest.Main(m)
}

// inst is one installation that most tests share; each works on names of its own.
var inst = struct {
	once sync.Once
	*installation.Installation
}{}

func shared(t *testing.T) *installation.Installation {
	t.Helper()
	inst.once.Do(func() {
		dir, err := os.MkdirTemp("", "victualler-e2e-")
		require.NoError(t, err)
		inst.Installation = start(t, "e2e", dir, lab.ServerOptions{Name: "skua", Host: 21},
			lab.ServerOptions{Name: "petrel", Host: 23, HomeSize: 256 << 20}, lab.ServerOptions{Name: "fulmar",
				Host: 22})
		labtest.Cleanups = append(labtest.Cleanups, func() {
			if err := inst.Stop(); err != nil {
				fmt.Fprintln(os.Stderr, err)
			}
			os.RemoveAll(dir)
		})
		closed := false
		patch(t, "/servers/petrel", api.ServerChange{Open: &closed}, nil)
	})
	require.NotNil(t, inst.Installation, "the installation did not start")
	// all tests come from one address: what one does is not held against the next
	sql(t, "delete from sign_in_failures")
	return inst.Installation
}

// start starts an installation with the plans that tests use.
func start(t *testing.T, name, dir string, servers ...lab.ServerOptions) *installation.Installation {
	t.Helper()
	ctx := context.Background()
	daemon, agent := labtest.Program(t, "victuallerd"), labtest.Program(t, "victualler-agent")
	programs := t.TempDir()
	if name == "e2e" {
		programs = filepath.Join(dir, "bin") // outlives the first test
		require.NoError(t, os.MkdirAll(programs, 0o755))
	}
	require.NoError(t, os.Symlink(daemon, filepath.Join(programs, "victuallerd")))
	require.NoError(t, os.Symlink(agent, filepath.Join(programs, "victualler-agent")))
	i, err := installation.Start(ctx, installation.Options{Dir: dir, Programs: programs,
		Lab: labtest.Options(t, name, ""), Servers: servers,
		Roles: map[string][]string{"petrel": {"web", "dns"}, "fulmar": {"web", "dns"}}, Say: func(s string) {
			t.Log(s)
		}, Settings: []string{"fsync=off"}})
	require.NoError(t, err)
	inst.Installation = i
	for _, p := range []api.NewPlan{
		{Name: "harbour", Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(5),
			plans.PHPWorkers: plans.Of(3)}},
		{Name: "nothing", Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB)}},
		{Name: "no-room", Limits: plans.Limits{plans.Domains: plans.Of(1)}},
	} {
		require.NoError(t, i.Client.Post(ctx, "/plans", p, nil))
	}
	require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "Tern Ferries"}, nil))
	return i
}

// problemOf returns the problem in an error, which must be one.
func problemOf(t *testing.T, err error) *api.Problem {
	t.Helper()
	require.Error(t, err)
	var p *api.Problem
	require.True(t, errors.As(err, &p), "%v", err)
	return p
}

func patch(t *testing.T, path string, body, out any) {
	t.Helper()
	require.NoError(t, inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch, Path: path,
		Body: body}, out))
}

// opened opens an account and waits until it is there.
func opened(t *testing.T, body api.OpenAccount) api.Account {
	t.Helper()
	opening, o := open(t, body)
	require.Equal(t, "done", o.State, o.Failure)
	return opening.Account
}

// open opens an account and waits for its operation to end.
func open(t *testing.T, body api.OpenAccount) (api.Opening, api.Operation) {
	t.Helper()
	if body.Plan == "" {
		body.Plan = "harbour"
	}
	if body.Customer == "" {
		body.Customer = "Tern Ferries"
	}
	var opening api.Opening
	require.NoError(t, inst.Client.Post(context.Background(), "/accounts", body, &opening))
	return opening, watched(t, opening.Operation)
}

func watched(t *testing.T, operation int64) api.Operation {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	o, err := inst.Client.Watch(ctx, operation, func(api.Operation) {})
	require.NoError(t, err)
	return o
}

func closeAccount(t *testing.T, a api.Account) api.Operation {
	t.Helper()
	var started api.Started
	require.NoError(t, inst.Client.Post(context.Background(), fmt.Sprintf("/accounts/%d/close", a.ID),
		api.CloseAccount{SignInName: a.SignInName}, &started))
	return watched(t, started.Operation)
}

// page asks a server for a page of a site, as a visitor would.
func page(t *testing.T, server, domain, path string) (status int, body string) {
	t.Helper()
	request, err := http.NewRequest(http.MethodGet, "http://"+inst.Servers[server].Address.String()+path, nil)
	require.NoError(t, err)
	request.Host = domain
	client := http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(response.Body)
	require.NoError(t, err)
	return response.StatusCode, b.String()
}

// on runs a shell command on a server.
func on(t *testing.T, server, command string) string {
	t.Helper()
	out, err := inst.Servers[server].Exec(context.Background(), "sh", "-ec", command)
	require.NoError(t, err)
	return out
}

// traces lists what a server still has of an account.
func traces(t *testing.T, server, name string) string {
	t.Helper()
	out, _ := inst.Servers[server].Exec(context.Background(), "sh", "-c", `getent passwd "$1"; getent group "$1"; ls -d "/home/$1" 2>/dev/null
		ls /run/php/account-"$1".sock 2>/dev/null; ls /etc/nginx/victualler/accounts/"$1".conf /etc/php/*/fpm/pool.d/account-"$1".conf 2>/dev/null`, "sh", name)
	return strings.TrimSpace(out)
}

// command runs the client, signed in as the operator.
func command(t *testing.T, args ...string) (stdout, stderr string, exit int) {
	t.Helper()
	return commandWith(t, operatorSession(t), "", args...)
}

// operatorSession is a file with the operator's session, as the client keeps it.
func operatorSession(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "session.json")
	text := fmt.Sprintf(`{"service":%q,"token":%q}`, inst.Client.Base, inst.Client.Token)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

func commandWith(t *testing.T, session, stdin string, args ...string) (stdout, stderr string, exit int) {
	t.Helper()
	cmd := exec.Command(labtest.Program(t, "victualler"), args...)
	cmd.Env = append(os.Environ(), "VICTUALLER_SESSION="+session)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var failed *exec.ExitError
	if err != nil && !errors.As(err, &failed) {
		require.NoError(t, err)
	}
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
}

// snapshot is what must stay the same when something is refused.
func snapshot(t *testing.T) string {
	t.Helper()
	ctx := context.Background()
	var b strings.Builder
	for _, list := range []string{"/accounts?limit=500", "/accounts?limit=500&state=closed", "/customers?limit=500",
		"/plans?limit=500", "/operations?limit=1"} {
		path, query, _ := strings.Cut(list, "?")
		values, err := url.ParseQuery(query)
		require.NoError(t, err)
		var doc map[string]any
		require.NoError(t, inst.Client.Get(ctx, path, values, &doc))
		for _, row := range asList(doc) {
			fmt.Fprintln(&b, row["id"], row["name"], row["state"], row["accounts"])
		}
	}
	return b.String()
}

func asList(doc map[string]any) []map[string]any {
	var rows []map[string]any
	for _, v := range doc {
		if list, ok := v.([]any); ok {
			for _, row := range list {
				if m, ok := row.(map[string]any); ok {
					rows = append(rows, m)
				}
			}
		}
	}
	return rows
}

func settled(t *testing.T) {
	t.Helper()
	labtest.Within(t, 2*time.Minute, func() bool {
		for _, state := range []string{"waiting", "running"} {
			var list api.OperationPage
			if inst.Client.Get(context.Background(), "/operations", url.Values{"state": {state}}, &list) != nil ||
				len(list.Operations) > 0 {
				return false
			}
		}
		return true
	}, "operations do not end")
}

// sql runs a statement on the installation's database, for what no call can do.
func sql(t *testing.T, statement string, args ...any) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, inst.Postgres.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, statement, args...)
	require.NoError(t, err)
}

// everythingIn returns all that is in a table, or in the service's log, as text.
func everythingIn(t *testing.T, where string) string {
	t.Helper()
	if where == "log" {
		text, err := os.ReadFile(inst.LogFile())
		require.NoError(t, err)
		return string(text)
	}
	return value(t, "select coalesce(string_agg(row::text, ' '), '') from "+pgx.Identifier{where}.Sanitize()+" row")
}

// value asks the installation's database for one text.
func value(t *testing.T, question string) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, inst.Postgres.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var text string
	require.NoError(t, conn.QueryRow(ctx, question).Scan(&text))
	return text
}

func decode[T any](t *testing.T, from io.Reader) T {
	t.Helper()
	var v T
	require.NoError(t, json.NewDecoder(from).Decode(&v))
	return v
}
