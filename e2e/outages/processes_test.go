package outages

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
)

// orders has shops open accounts, as patient order systems do: with the same key until it is
// answered, each try at the next of some processes of the service. It ends when all are answered.
func orders(t *testing.T, mark string, count int, clients ...*client.Client) (open func() []api.Account,
	answered *atomic.Int64) {
	t.Helper()
	var group sync.WaitGroup
	answered = &atomic.Int64{}
	next := make(chan int)
	go func() {
		defer close(next)
		for n := range count {
			next <- n
		}
	}()
	for range 8 {
		group.Go(func() {
			for n := range next {
				body := api.OpenAccount{Domain: fmt.Sprintf("%s%02d.example", mark, n), Plan: "harbour",
					Customer: "Tern Ferries"}
				call := client.Call{Method: http.MethodPost, Path: "/accounts", Key: fmt.Sprint(mark, n), Body: body}
				for try, end := n, time.Now().Add(2*time.Minute); ; try++ {
					soon, cancel := context.WithTimeout(t.Context(), 10*time.Second)
					err := clients[try%len(clients)].Do(soon, call, nil)
					cancel()
					if err == nil {
						answered.Add(1)
						break
					}
					if !assert.True(t, time.Now().Before(end), "%s was never answered: %v", body.Domain, err) {
						break
					}
					time.Sleep(50 * time.Millisecond)
				}
			}
		})
	}
	return func() []api.Account {
		group.Wait()
		live := clients[len(clients)-1]
		query := url.Values{"search": {mark}, "limit": {"500"}}
		var list api.AccountPage
		labtest.Within(t, 2*time.Minute, func() bool {
			if live.Get(t.Context(), "/accounts", query, &list) != nil {
				return false
			}
			for _, a := range list.Accounts {
				if a.State != "active" {
					return false
				}
			}
			return true
		}, "what was begun does not come to an end")
		assert.Len(t, list.Accounts, count, "each exactly once")
		return list.Accounts
	}, answered
}

// closeAll closes accounts, and each must have been served.
func closeAll(t *testing.T, accounts []api.Account) {
	t.Helper()
	for _, a := range accounts {
		status, _ := e2e.Page(t, a.Server, a.Domain, "/")
		assert.Equal(t, 200, status, a.Domain)
	}
	var group sync.WaitGroup
	for _, a := range accounts {
		group.Go(func() { e2e.CloseAccount(t, a) })
	}
	group.Wait()
}

// Two processes of the service share its work. When one is killed under load, everything goes on at
// the other: what was begun, sessions, progress, throttles and what comes round by itself.
func TestTwoProcesses(t *testing.T) {
	i := e2e.Shared(t)
	ctx := t.Context()
	begun := time.Now()
	other, err := i.StartAnother(ctx)
	require.NoError(t, err)
	defer other.Kill()
	second := &client.Client{Base: other.Address, Token: i.Client.Token}
	var session api.Session
	require.NoError(t, second.Get(ctx, "/session", nil, &session), "a session counts everywhere")
	assert.Equal(t, i.Operator, session.Name)

	// Passwords that are guessed at both processes are counted together.
	guess := func(c *client.Client) *api.Problem {
		_, err := c.SignIn(ctx, api.SignIn{Name: "guessed-at-both", Password: "wrong password"})
		return e2e.ProblemOf(t, err)
	}
	tries := 0
	for ; tries < 100; tries++ {
		base := []string{i.Address(), other.Address}[tries%2]
		if guess(&client.Client{Base: base}).Status == http.StatusTooManyRequests {
			break
		}
	}
	require.Less(t, tries, 100, "guessing is never slowed down")
	for _, base := range []string{i.Address(), other.Address} {
		assert.Equal(t, http.StatusTooManyRequests, guess(&client.Client{Base: base}).Status, base)
	}
	e2e.ForgetSignInFailures(t)

	// Progress that one process makes is told by the other.
	var opening api.Opening
	require.NoError(t, i.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "watched-there.example",
		Plan: "harbour", Customer: "Tern Ferries"}, &opening))
	versions := 0
	o, err := second.Watch(ctx, opening.Operation, func(api.Operation) { versions++ })
	require.NoError(t, err)
	assert.Equal(t, "done", o.State)
	assert.Positive(t, versions)
	e2e.CloseAccount(t, opening.Account)

	accounts, answered := orders(t, "twoof", 60, i.Client, second)
	labtest.Eventually(t, func() bool { return answered.Load() >= 20 })
	i.KillService()
	killed := time.Now()
	opened := accounts()
	assert.Len(t, e2e.Workers(t, "apply", begun), 2, "both have worked")
	labtest.Eventually(t, func() bool { return len(e2e.Workers(t, "poll", killed)) > 0 },
		"what comes round by itself goes on")
	require.NoError(t, i.StartService(ctx))
	closeAll(t, opened)
}

// PostgreSQL is restarted under load: requests fail clearly meanwhile, and everything goes on.
func TestPostgresRestarts(t *testing.T) {
	i := e2e.Shared(t)
	ctx := t.Context()
	accounts, answered := orders(t, "again", 30, i.Client)
	labtest.Eventually(t, func() bool { return answered.Load() >= 8 })
	i.Postgres.Stop()
	var problem *api.Problem
	labtest.Eventually(t, func() bool {
		err := i.Client.Get(ctx, "/customers", nil, nil)
		if err == nil {
			return false
		}
		problem = e2e.ProblemOf(t, err)
		return true
	})
	assert.Equal(t, http.StatusServiceUnavailable, problem.Status)
	assert.Contains(t, problem.Detail, "database")
	require.NoError(t, i.Postgres.Start(ctx))
	closeAll(t, accounts())
}

// Connections to PostgreSQL break again and again under load.
func TestPostgresConnectionsLost(t *testing.T) {
	i := e2e.Shared(t)
	accounts, _ := orders(t, "lossy", 8, i.Client)
	for end := time.Now().Add(2 * time.Second); time.Now().Before(end); {
		e2e.BreakConnections(t)
		time.Sleep(100 * time.Millisecond)
	}
	closeAll(t, accounts())
}

// The demo starts again what dies, as systemd would: the service, PostgreSQL, a server, an agent.
func TestWhatDiesIsStartedAgain(t *testing.T) {
	i := e2e.Shared(t)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); i.Supervise(ctx) }()
	defer func() { stop(); <-ended }()
	before := i.ServicePID()
	works := func() bool {
		var started api.Started
		if i.Client.Post(ctx, "/servers/fulmar/sweep", nil, &started) != nil {
			return false
		}
		o, err := i.Client.Watch(ctx, started.Operation, func(api.Operation) {})
		return err == nil && o.State == "done"
	}
	require.True(t, works())
	for what, kill := range map[string]func(){
		"the service": i.KillService,
		"PostgreSQL":  i.Postgres.Kill,
		"a server":    i.Servers["fulmar"].Kill,
		"an agent": func() {
			_, err := i.Servers["fulmar"].Exec(ctx, "pkill", "-KILL", "-f", "victualler-agent run")
			require.NoError(t, err)
		},
	} {
		kill()
		labtest.Eventually(t, works, what)
	}
	assert.NotEqual(t, before, i.ServicePID())
}

// The machine with PostgreSQL is lost under load, and its standby takes over: nothing that was
// acknowledged is lost, and everything goes on without anybody's help. It is the last of these
// tests, as no standby is left then.
func TestPostgresFailsOver(t *testing.T) {
	i := e2e.Shared(t)
	accounts, answered := orders(t, "fails", 40, i.Client)
	labtest.Eventually(t, func() bool { return answered.Load() >= 12 })
	acknowledged := answered.Load()
	i.Postgres.Kill()
	require.NoError(t, i.Standby.Promote())
	opened := accounts()
	assert.Greater(t, answered.Load(), acknowledged)
	var session api.Session
	require.NoError(t, i.Client.Get(t.Context(), "/session", nil, &session))
	closeAll(t, opened)
	e2e.Settled(t)
}
