package hosting

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

func TestPlans(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	out, stderr,
		exit := e2e.Command(t, "plan", "add", "skiff", "--limits",
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
		_, stderr, exit := e2e.Command(t, append([]string{"plan", "add"}, strings.Fields(args)...)...)
		assert.NotEqual(t, 0, exit, args)
		assert.Contains(t, stderr, says, args)
	}
	out, _, _ = e2e.Command(t, "plan", "list")
	assert.Regexp(t, `skiff\s+0\s+500M\s+1\s+unlimited\s+0\s+0B`, out)
	out, _, _ = e2e.Command(t, "plan", "show", "skiff", "-o", "json")
	assert.Contains(t, out, `"mailboxes": null`)
	_, stderr, exit = e2e.Command(t, "plan", "show", "brig")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "brig")
}

func TestCustomers(t *testing.T) {
	i := e2e.Shared(t)
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
		e2e.ProblemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "gUEST 03"}, nil)).Type)
	assert.Equal(t, 422, e2e.ProblemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "  "}, nil)).Status)
	assert.Equal(t, 422,
		e2e.ProblemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "x", Email: "Bob <b@c.example>"},
			nil)).Status)
	_, stderr, exit := e2e.Command(t, "customer", "add", "New Guest", "--email", "n@g.example")
	assert.Equal(t, 0, exit, stderr)
	out, _, _ := e2e.Command(t, "customer", "list", "--search", "new")
	assert.Contains(t, out, "n@g.example")
}

func TestServers(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	t.Run("joining is refused where it cannot be", func(t *testing.T) {
		for field, body := range map[string]api.NewServer{
			"label":   {Label: "Skua!", Address: "10.9.9.9", Roles: []string{"web"}},
			"address": {Label: "auk", Address: "10.9.9.9:port", Roles: []string{"web"}},
			"roles":   {Label: "auk", Address: "10.9.9.9", Roles: []string{"kitchen"}},
		} {
			p := e2e.ProblemOf(t, i.Client.Post(ctx, "/servers", body, nil))
			assert.Equal(t, 422, p.Status)
			assert.Equal(t, field, p.Errors[0].Name)
		}
		p := e2e.ProblemOf(t,
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
		assert.Equal(t, "/api/v1/problems/changed-meanwhile", e2e.ProblemOf(t, change(false)).Type)
		assert.Equal(t, 422,
			e2e.ProblemOf(t,
				i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/petrel",
					Body: api.ServerChange{}, IfMatch: "x"}, nil)).Status)
		out, _, exit := e2e.Command(t, "server", "change", "petrel", "--closed")
		assert.Equal(t, 0, exit)
		assert.Contains(t, out, "takes no new accounts")
	})
	t.Run("health and fill", func(t *testing.T) {
		out, _, _ := e2e.Command(t, "server", "show", "skua")
		for _, part := range []string{"health\tgood", "limits: btrfs", "sandbox", "nginx", "last sweep",
			"running (cgroup"} {
			assert.Contains(t, out, part)
		}
		for name, path := range map[string]string{"nginx": "/usr/sbin/nginx", "victualler-mail": lab.MailPath} {
			e2e.On(t, "petrel", fmt.Sprintf("mv %s %[1]s.away; pkill -KILL %s", path, name))
			health := func(says string) func() bool {
				return func() bool {
					out, _, _ := e2e.Command(t, "server", "show", "petrel")
					return strings.Contains(out, "health\t"+says+"\n")
				}
			}
			labtest.Eventually(t, health(name+" down"), "a program that is down is seen: "+name)
			e2e.On(t, "petrel", fmt.Sprintf("mv %s.away %[1]s", path))
			labtest.Eventually(t, health("good"))
		}
	})
	t.Run("a server without accounts is removed", func(t *testing.T) {
		var joining api.Joining
		require.NoError(t, i.Client.Post(ctx, "/servers", api.NewServer{Label: "auk", Address: "10.255.255.1",
			Roles: []string{"web"}}, &joining))
		_, stderr, exit := e2e.Command(t, "server", "remove", "auk")
		assert.Equal(t, 2, exit, "it asks")
		assert.Contains(t, stderr, "--yes")
		_, stderr, exit = e2e.Command(t, "server", "remove", "auk", "--yes")
		assert.Equal(t, 0, exit, stderr)
		o := e2e.Watched(t, joining.Operation)
		assert.Equal(t, "auk was removed", o.Failure)
		a := e2e.Opened(t, api.OpenAccount{Domain: "inhabited.example", Server: "skua"})
		_, stderr, exit = e2e.Command(t, "server", "remove", "skua", "--yes")
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "close it to new accounts instead")
		e2e.CloseAccount(t, a)
	})
	t.Run("nobody is there", func(t *testing.T) {
		for _, verb := range []string{"show", "sweep", "repair"} {
			_, stderr, exit := e2e.Command(t, "server", verb, "auk")
			assert.Equal(t, 1, exit)
			assert.Contains(t, stderr, `no server "auk"`)
		}
	})
}

func TestJoinSecretWaits(t *testing.T) {
	i := e2e.Shared(t)
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
		e2e.ProblemOf(t, i.Client.Post(ctx, "/accounts", api.OpenAccount{Domain: "early.example", Plan: "harbour",
			Customer: "Tern Ferries", Server: "razorbill"}, nil)).Type)
	assert.Equal(t, "/api/v1/problems/wrong-state",
		e2e.ProblemOf(t, i.Client.Post(ctx, "/servers/razorbill/sweep", nil, nil)).Type)
	s := labtest.Server(t, i.Lab, lab.ServerOptions{Name: "razorbill", Host: 31, PlainHome: true, HomeSize: 256 << 20})
	i.Servers["razorbill"] = s
	_, err := s.Exec(ctx, lab.AgentPath, "join", strings.ToUpper(joining.JoinSecret))
	assert.ErrorContains(t, err, "copy it whole")
	_, err = s.Exec(ctx, lab.AgentPath, "join", joining.JoinSecret)
	require.NoError(t, err)
	require.Equal(t, "done", e2e.Watched(t, joining.Operation).State)
	_, err = s.Exec(ctx, lab.AgentPath, "join", joining.JoinSecret)
	assert.ErrorContains(t, err, "has joined already")

	// Its homes are on ext4: use is measured and not stopped.
	open := true
	e2e.Patch(t, "/servers/razorbill", api.ServerChange{Open: &open}, nil)
	a := e2e.Opened(t, api.OpenAccount{Domain: "metered.example", Server: "razorbill"})
	e2e.On(t, "razorbill", "dd if=/dev/zero of=/home/metered/sites/big bs=1M count=5 2>/dev/null; chown metered: "+
		"/home/metered/sites/big; sync")
	var started api.Started
	require.NoError(t, i.Client.Post(ctx, "/servers/razorbill/sweep", nil, &started))
	require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	var detail api.AccountDetail
	require.NoError(t, i.Client.Get(ctx, "/accounts/metered", nil, &detail))
	assert.GreaterOrEqual(t, *detail.DiskUsed, int64(5<<20))
	assert.Empty(t, detail.Drift)
	assert.Contains(t, e2e.On(t, "razorbill", "setpriv --reuid=nobody --clear-groups ls /home/metered 2>&1 || true"),
		"Permission denied")
	out, _, _ := e2e.Command(t, "server", "show", "razorbill")
	assert.Contains(t, out, "limits: metered")
	assert.Equal(t, "done", e2e.CloseAccount(t, a).State)
	assert.Empty(t, e2e.Traces(t, "razorbill", "metered"))
}

// Every change is in the record, with who and what, and without secrets.
func TestEvents(t *testing.T) {
	i := e2e.Shared(t)
	a := e2e.Opened(t, api.OpenAccount{Domain: "recorded.example"})
	e2e.CloseAccount(t, a)
	events := e2e.EventsAbout(t, fmt.Sprintf("account %d recorded", a.ID))
	require.Len(t, events, 2)
	assert.Contains(t, events[0], `account.open operator 127.0.0.1  {"plan": "harbour"`)
	assert.Contains(t, events[1], `account.close operator 127.0.0.1 {"state": "active"} {"state": "closing"}`)
	all := e2e.EverythingIn(t, "events")
	assert.NotRegexp(t, "join-[a-z2-7]{32}|argon2", all)
	assert.NotContains(t, all, i.Password)
	assert.NotContains(t, e2e.EverythingIn(t, "sessions"), hex.EncodeToString([]byte(i.Client.Token)),
		"tokens are kept as digests")
}
