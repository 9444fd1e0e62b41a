package outages

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

// TestKills kills the agent or the service at random moments while accounts
// are opened and closed; afterwards wanted state, server and records agree.
func TestKills(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	const kills = 30
	stop := make(chan struct{})
	var opened, closed atomic.Int64
	var group sync.WaitGroup
	for worker := range 4 {
		group.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				// Errors are expected: the service is down now and then.
				var opening api.Opening
				body := api.OpenAccount{Domain: fmt.Sprintf("kill%dx%d.example", worker, n), Plan: "harbour",
					Customer: "Tern Ferries", Server: "skua"}
				if i.Client.Post(ctx, "/accounts", body, &opening) != nil {
					time.Sleep(50 * time.Millisecond)
					continue
				}
				opened.Add(1)
				if n%2 == 0 {
					soon, cancel := context.WithTimeout(ctx, time.Second) // what was cut off is taken up later
					i.Client.Watch(soon, opening.Operation, func(api.Operation) {})
					cancel()
				} else {
					time.Sleep(time.Duration(rand.IntN(200)) * time.Millisecond)
				}
				if n%3 != 0 && i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/close", opening.Account.ID),
					api.CloseAccount{SignInName: opening.Account.SignInName}, nil) == nil {
					closed.Add(1)
				}
			}
		})
	}
	for n := range kills {
		time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
		switch n % 4 {
		case 0:
			i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-f", "victualler-agent run")
		case 2:
			i.Servers["skua"].Exec(ctx, "pkill", "-KILL", "-f", "victualler-sandbox (run|supervise)")
		default:
			i.KillService()
			require.NoError(t, i.StartService(ctx))
		}
	}
	close(stop)
	group.Wait()
	t.Logf("%d opened, %d closed during %d kills", opened.Load(), closed.Load(), kills)
	require.Greater(t, opened.Load(), int64(10))

	e2e.Settled(t)
	labtest.Eventually(t, func() bool {
		for _, state := range []string{"opening", "closing"} {
			var list api.AccountPage
			if err := i.Client.Get(ctx, "/accounts", url.Values{"state": {state}, "search": {"kill"}},
				&list); err != nil || len(list.Accounts) > 0 {
				return false
			}
		}
		return true
	}, "accounts stay between states")

	var started api.Started
	require.NoError(t, i.Client.Post(ctx, "/servers/skua/sweep", nil, &started))
	require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	var drift api.DriftList
	require.NoError(t, i.Client.Get(ctx, "/servers/skua/drift", nil, &drift))
	assert.Empty(t, drift.Drifts, "the server is what it should be")

	wanted := map[string]bool{}
	query := url.Values{"limit": {"500"}, "server": {"skua"}, "search": {"kill"}}
	var list api.AccountPage
	require.NoError(t, i.Client.Get(ctx, "/accounts", query, &list))
	require.Empty(t, list.Next)
	for _, a := range list.Accounts {
		assert.Equal(t, "active", a.State)
		assert.True(t, a.Applied)
		wanted[a.SignInName] = true
		status, _ := e2e.Page(t, "skua", a.Domain, "/")
		assert.Equal(t, 200, status, a.Domain)
	}
	there := map[string]bool{}
	for _, name := range strings.Fields(e2e.On(t, "skua",
		"getent passwd | grep -o '^kill[^:]*' || true; ls /home | grep "+
			"^kill || true; ls /etc/nginx/victualler/accounts | grep ^kill | sed s/.conf// || true; ls "+
			"/etc/victualler/sandboxes /etc/victualler/php | grep -o '^kill[^.]*' || true")) {
		there[name] = true
	}
	assert.Equal(t, wanted, there, "the server has what the records have, and nothing else")
	assert.Empty(t, strings.TrimSpace(e2e.On(t, "skua", "ls /var/lib/victualler-agent/journal")))
	for _, a := range list.Accounts {
		group.Go(func() {
			i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/close", a.ID), api.CloseAccount{SignInName: a.SignInName}, nil)
		})
	}
	group.Wait()
	e2e.Settled(t)
}

// A server cut off in the middle of the work: the operation waits, and goes on.
func TestCutOffMeanwhile(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "islet.example", Server: "fulmar"})
	require.NoError(t, i.Servers["fulmar"].Cut(false))
	var started api.Started
	require.NoError(t,
		i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/close", a.ID), api.CloseAccount{SignInName: a.SignInName},
			&started))
	labtest.Eventually(t, func() bool {
		var o api.Operation
		require.NoError(t, i.Client.Get(ctx, fmt.Sprintf("/operations/%d", started.Operation), nil, &o))
		return strings.Contains(o.Note, "fulmar does not answer")
	}, "the operation says what it waits for")
	require.NoError(t, i.Servers["fulmar"].Cut(true))
	assert.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	assert.Empty(t, e2e.Traces(t, "fulmar", "islet"))
}

// A server that stays silent for too long: the operation fails with the
// reason, an account that was being opened is given up, and what the server
// has made of it meanwhile goes when it answers again.
func TestGivingUp(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	for try := range 8 {
		var opening api.Opening
		body := api.OpenAccount{Domain: fmt.Sprintf("silent%d.example", try), Plan: "harbour", Customer: "Tern Ferries",
			Server: "fulmar"}
		require.NoError(t, i.Client.Post(ctx, "/accounts", body, &opening))
		require.NoError(t, i.Servers["fulmar"].Cut(false))
		time.Sleep(300 * time.Millisecond)
		e2e.Begun(t, opening.Operation, 11*time.Minute)
		o := e2e.Watched(t, opening.Operation)
		require.NoError(t, i.Servers["fulmar"].Cut(true))
		if o.State == "done" { // it was quicker than the cut
			e2e.CloseAccount(t, opening.Account)
			continue
		}
		assert.Contains(t, o.Failure, "fulmar did not answer for 10m0s")
		assert.Contains(t, o.Failure, "the account was not opened")
		labtest.Eventually(t, func() bool {
			var detail api.AccountDetail
			require.NoError(t, i.Client.Get(ctx, fmt.Sprintf("/accounts/%d", opening.Account.ID), nil, &detail))
			return detail.State == "closed"
		})
		assert.Empty(t, e2e.Traces(t, "fulmar", opening.Account.SignInName))
		return
	}
	t.Fatal("the server always answered before it was cut off")
}

// A server that loses power and comes back serves what it served.
func TestServerLosesPower(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "blackout.example", Server: "fulmar"})
	i.Servers["fulmar"].Kill()
	require.NoError(t, i.Servers["fulmar"].Start(context.Background()))
	labtest.Eventually(t, func() bool {
		out, err := i.Servers["fulmar"].Exec(context.Background(), "curl", "-s", "-H", "Host: blackout.example",
			"http://127.0.0.1/")
		return err == nil && strings.Contains(out, "blackout.example")
	})
	labtest.Eventually(t, func() bool {
		var s api.Server
		require.NoError(t, i.Client.Get(context.Background(), "/servers/fulmar", nil, &s))
		return s.Reachable
	})
	assert.Equal(t, "done", e2e.CloseAccount(t, a).State)
}
