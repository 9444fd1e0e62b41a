package e2e

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

func TestPlans(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	out, stderr,
		exit := command(t, "plan", "add", "skiff", "--limits",
		"disk=500M,domains=1,mailboxes=unlimited,bounce_share=20%", "--features", "mail,dns")
	require.Equal(t, 0, exit, stderr)
	assert.Contains(t, out, "500M")
	var p api.Plan
	require.NoError(t, i.Client.Get(ctx, "/plans/skiff", nil, &p))
	assert.Equal(t, plans.Of(500*plans.MiB), p.Limits[plans.Disk])
	assert.Equal(t, plans.Unlimited, p.Limits[plans.Mailboxes])
	assert.Equal(t, plans.Of(0), p.Limits[plans.Databases], "what is not mentioned is not given")
	assert.Len(t, p.Limits, len(plans.AllLimits))
	assert.True(t, p.Features["mail"])
	assert.False(t, p.Features["shell"])
	for args, says := range map[string]string{
		"skiff --limits disk=1G":                 "there is a plan",
		"x2 --limits disk=20480":                 "20480 what? write 20480M or 20G",
		"x2 --limits colour=1":                   "is not a limit",
		"x2 --limits domains=many":               "write a number or unlimited",
		"X2 --limits domains=1":                  "lower-case letters",
		"x2 --limits domains=-1":                 "limits.domains",
		"x2 --limits domains=1 --features sauna": "sauna",
	} {
		_, stderr, exit := command(t, append([]string{"plan", "add"}, strings.Fields(args)...)...)
		assert.NotEqual(t, 0, exit, args)
		assert.Contains(t, stderr, says, args)
	}
	out, _, _ = command(t, "plan", "list")
	assert.Regexp(t, `skiff +0 +500M +1 +unlimited +0 +0B`, out)
	out, _, _ = command(t, "plan", "show", "skiff", "-o", "json")
	assert.Contains(t, out, `"mailboxes": null`)
	_, stderr, exit = command(t, "plan", "show", "brig")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "brig")
}

func TestCustomers(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	for n := range 12 {
		require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: fmt.Sprintf("Guest  %02d ", n),
			Email: "a@b.example"}, nil))
	}
	var names []string
	query := url.Values{"limit": {"5"}, "search": {"GUEST"}}
	for {
		var page api.CustomerPage
		require.NoError(t, i.Client.Get(ctx, "/customers", query, &page))
		for _, c := range page.Customers {
			names = append(names, c.Name)
		}
		if page.Next == "" {
			break
		}
		query.Set("cursor", page.Next)
	}
	require.Len(t, names, 12)
	assert.Equal(t, "Guest 00", names[0], "spaces are put right")
	var none api.CustomerPage
	require.NoError(t, i.Client.Get(ctx, "/customers", url.Values{"search": {"%"}}, &none))
	assert.Empty(t, none.Customers, "a percent sign is a percent sign")
	assert.Equal(t, "/api/v1/problems/name-taken",
		problemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "gUEST 03"}, nil)).Type)
	assert.Equal(t, 422, problemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "  "}, nil)).Status)
	assert.Equal(t, 422,
		problemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "x", Email: "Bob <b@c.example>"},
			nil)).Status)
	_, stderr, exit := command(t, "customer", "add", "New Guest", "--email", "n@g.example")
	assert.Equal(t, 0, exit, stderr)
	out, _, _ := command(t, "customer", "list", "--search", "new")
	assert.Contains(t, out, "n@g.example")
}

func TestServers(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	t.Run("joining is refused where it cannot be", func(t *testing.T) {
		for field, body := range map[string]api.NewServer{
			"label":   {Label: "Skua!", Address: "10.9.9.9", Roles: []string{"web"}},
			"address": {Label: "auk", Address: "10.9.9.9:port", Roles: []string{"web"}},
			"roles":   {Label: "auk", Address: "10.9.9.9", Roles: []string{"kitchen"}},
		} {
			p := problemOf(t, i.Client.Post(ctx, "/servers", body, nil))
			assert.Equal(t, 422, p.Status)
			assert.Equal(t, field, p.Errors[0].Name)
		}
		p := problemOf(t,
			i.Client.Post(ctx, "/servers", api.NewServer{Label: "auk", Address: i.Servers["skua"].Address.String(),
				Roles: []string{"web"}}, nil))
		assert.Equal(t, "/api/v1/problems/name-taken", p.Type)
	})
	t.Run("two who change the same", func(t *testing.T) {
		var s api.Server
		require.NoError(t, i.Client.Get(ctx, "/servers/petrel", nil, &s))
		change := func(open bool) error {
			return i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/petrel",
				Body: api.ServerChange{Open: &open}, IfMatch: fmt.Sprintf(`"%d"`, s.Version)}, nil)
		}
		require.NoError(t, change(true))
		assert.Equal(t, "/api/v1/problems/changed-meanwhile", problemOf(t, change(false)).Type)
		assert.Equal(t, 422,
			problemOf(t,
				i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/petrel",
					Body: api.ServerChange{}, IfMatch: "x"}, nil)).Status)
		out, _, exit := command(t, "server", "change", "petrel", "--closed")
		assert.Equal(t, 0, exit)
		assert.Contains(t, out, "takes no new accounts")
	})
	t.Run("health and fill", func(t *testing.T) {
		out, _, _ := command(t, "server", "show", "skua")
		for _, part := range []string{"health        good", "limits: btrfs", "php-fpm", "nginx", "last sweep"} {
			assert.Contains(t, out, part)
		}
		on(t, "petrel", "pkill -KILL nginx; mv /usr/sbin/nginx /usr/sbin/nginx.away")
		labtest.Eventually(t, func() bool {
			out, _, _ := command(t, "server", "list")
			return strings.Contains(out, "nginx down")
		}, "a program that is down is seen")
		on(t, "petrel", "mv /usr/sbin/nginx.away /usr/sbin/nginx")
	})
	t.Run("a server without accounts is removed", func(t *testing.T) {
		var joining api.Joining
		require.NoError(t, i.Client.Post(ctx, "/servers", api.NewServer{Label: "auk", Address: "10.255.255.1",
			Roles: []string{"web"}}, &joining))
		_, stderr, exit := command(t, "server", "remove", "auk")
		assert.Equal(t, 2, exit, "it asks")
		assert.Contains(t, stderr, "--yes")
		_, stderr, exit = command(t, "server", "remove", "auk", "--yes")
		assert.Equal(t, 0, exit, stderr)
		o := watched(t, joining.Operation)
		assert.Equal(t, "auk was removed", o.Failure)
		a := opened(t, api.OpenAccount{Domain: "inhabited.example", Server: "skua"})
		_, stderr, exit = command(t, "server", "remove", "skua", "--yes")
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "close it to new accounts instead")
		closeAccount(t, a)
	})
	t.Run("nobody is there", func(t *testing.T) {
		for _, verb := range []string{"show", "sweep", "repair"} {
			_, stderr, exit := command(t, "server", verb, "auk")
			assert.Equal(t, 1, exit)
			assert.Contains(t, stderr, `no server "auk"`)
		}
	})
}

func TestJoinSecretWaits(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	// A server that is switched on later than it was added.
	var joining api.Joining
	address := strings.TrimSuffix(i.Servers["skua"].Address.String(), ".21") + ".31"
	require.NoError(t, i.Client.Post(ctx, "/servers", api.NewServer{Label: "razorbill", Address: address,
		Roles: []string{"web"}, Closed: true}, &joining))
	labtest.Eventually(t, func() bool {
		var o api.Operation
		require.NoError(t, i.Client.Get(ctx, fmt.Sprintf("/operations/%d", joining.Operation), nil, &o))
		return strings.Contains(o.Note, "waiting for “victualler-agent join”")
	})
	assert.Equal(t, "/api/v1/problems/server-unreachable",
		problemOf(t, i.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "early.example", Plan: "harbour",
			Customer: "Tern Ferries", Server: "razorbill"}, nil)).Type)
	assert.Equal(t, "/api/v1/problems/wrong-state",
		problemOf(t, i.Client.Post(ctx, "/servers/razorbill/sweep", nil, nil)).Type)
	s := labtest.Server(t, i.Lab, lab.ServerOptions{Name: "razorbill", Host: 31, PlainHome: true, HomeSize: 256 << 20})
	i.Servers["razorbill"] = s
	_, err := s.Exec(ctx, lab.AgentPath, "join", strings.ToUpper(joining.JoinSecret))
	assert.ErrorContains(t, err, "copy it whole")
	_, err = s.Exec(ctx, lab.AgentPath, "join", joining.JoinSecret)
	require.NoError(t, err)
	require.Equal(t, "done", watched(t, joining.Operation).State)
	_, err = s.Exec(ctx, lab.AgentPath, "join", joining.JoinSecret)
	assert.ErrorContains(t, err, "has joined already")

	// Its homes are on ext4: use is measured and not stopped.
	open := true
	patch(t, "/servers/razorbill", api.ServerChange{Open: &open}, nil)
	a := opened(t, api.OpenAccount{Domain: "metered.example", Server: "razorbill"})
	on(t, "razorbill", "dd if=/dev/zero of=/home/metered/sites/big bs=1M count=5 2>/dev/null; chown metered: "+
		"/home/metered/sites/big; sync")
	var started api.Started
	require.NoError(t, i.Client.Post(ctx, "/servers/razorbill/sweep", nil, &started))
	require.Equal(t, "done", watched(t, started.Operation).State)
	var detail api.AccountDetail
	require.NoError(t, i.Client.Get(ctx, "/accounts/metered", nil, &detail))
	assert.GreaterOrEqual(t, *detail.DiskUsed, int64(5<<20))
	assert.Empty(t, detail.Drift)
	assert.Contains(t, on(t, "razorbill", "setpriv --reuid=nobody --clear-groups ls /home/metered 2>&1 || true"),
		"Permission denied")
	out, _, _ := command(t, "server", "show", "razorbill")
	assert.Contains(t, out, "limits: metered")
	assert.Equal(t, "done", closeAccount(t, a).State)
	assert.Empty(t, traces(t, "razorbill", "metered"))
}

// Every change is in the record, with who and what, and without secrets.
func TestEvents(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	a := opened(t, api.OpenAccount{Domain: "recorded.example"})
	closeAccount(t, a)
	conn, err := pgx.Connect(ctx, i.Postgres.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, "select action || ' ' || actor || ' ' || address || ' ' || coalesce(before::text, "+
		"'') || ' ' || coalesce(after::text, '') from events where subject = $1 order by id",
		fmt.Sprintf("account %d recorded", a.ID))
	require.NoError(t, err)
	events, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Len(t, events, 2)
	assert.Contains(t, events[0], `account.open operator 127.0.0.1  {"plan": "harbour"`)
	assert.Contains(t, events[1], `account.close operator 127.0.0.1 {"state": "active"} {"state": "closing"}`)
	var secrets int
	require.NoError(t, conn.QueryRow(ctx, "select count(*) from events where before::text || after::text ~ "+
		"'join-[a-z2-7]{32}|argon2' or after::text like '%' || $1 || '%'", i.Password).Scan(&secrets))
	assert.Zero(t, secrets)
	require.NoError(t, conn.QueryRow(ctx, "select count(*) from sessions where encode(token_digest, 'escape') like "+
		"'%' || $1 || '%'", i.Client.Token).Scan(&secrets))
	assert.Zero(t, secrets, "tokens are kept as digests")
}

// PostgreSQL goes away under load and comes back: requests fail clearly, what
// was begun is finished.
func TestPostgresConnectionsLost(t *testing.T) {
	i := shared(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, i.Postgres.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var group sync.WaitGroup
	stop := make(chan struct{})
	group.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
				conn.Exec(ctx, "select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() "+
					"and usename = 'victualler'")
			}
		}
	})
	for n := range 8 {
		group.Go(func() {
			body := api.OpenAccount{Domain: fmt.Sprintf("lossy%d.example", n), Plan: "harbour",
				Customer: "Tern Ferries"}
			// As a patient order system would: the same key until it is answered.
			for end := time.Now().Add(time.Minute); time.Now().Before(end); {
				var opening api.Opening
				if i.Client.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts",
					Key: "lossy" + fmt.Sprint(n), Body: body}, &opening) == nil {
					return
				}
				time.Sleep(50 * time.Millisecond)
			}
			t.Errorf("lossy%d was never answered", n)
		})
	}
	time.Sleep(2 * time.Second)
	close(stop)
	group.Wait()
	settled(t)
	var list api.AccountPage
	require.NoError(t, i.Client.Get(ctx, "/accounts", url.Values{"search": {"lossy"}}, &list))
	assert.Len(t, list.Accounts, 8, "each exactly once")
	for _, a := range list.Accounts {
		assert.Equal(t, "active", a.State)
		status, _ := page(t, a.Server, a.Domain, "/")
		assert.Equal(t, 200, status)
		closeAccount(t, a)
	}
}
