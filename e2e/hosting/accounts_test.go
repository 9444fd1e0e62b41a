package hosting

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
)

func TestOpenAndCloseByClient(t *testing.T) {
	e2e.Shared(t)
	before := e2e.Snapshot(t)
	out, _, exit := e2e.Command(t, "account", "open", "https://WWW.Ternferries.example/timetable", "--preview",
		"--plan", "harbour", "--customer", "Tern Ferries", "--server", "skua")
	require.Equal(t, 0, exit)
	for _, part := range []string{"would open account ternferries",
		"steps: system user, home, certificates, logins, sandbox, nginx, verification",
		"+    server_name ternferries.example www.ternferries.example;", "nothing was done"} {
		assert.Contains(t, out, part)
	}
	assert.Equal(t, before, e2e.Snapshot(t), "a preview changes nothing")
	assert.Empty(t, e2e.Traces(t, "skua", "ternferries"))

	begun := time.Now()
	out, stderr, exit := e2e.Command(t, "--server", "skua")
	assert.Equal(t, 2, exit, out+stderr)
	out, stderr,
		exit = e2e.Command(t, "account", "open", "--plan", "harbour", "https://WWW.Ternferries.example/timetable",
		"--customer", "Tern Ferries", "--server", "skua")
	require.Equal(t, 0, exit, stderr)
	assert.Less(t, time.Since(begun), 20*time.Second)
	for _, part := range []string{"left out “https://”", "left out the path “/timetable”",
		"opening ternferries.example as ternferries on skua", "verification ok", "done in"} {
		assert.Contains(t, out+stderr, part)
	}
	status, body := e2e.Page(t, "skua", "ternferries.example", "/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "ternferries.example")
	e2e.On(t, "skua",
		`echo '<?php echo posix_getpwuid(posix_geteuid())["name"];' > /home/ternferries/sites/ternferries.example/who.php`)
	_, body = e2e.Page(t, "skua", "www.ternferries.example", "/who.php")
	assert.Equal(t, "ternferries", body)

	out, _, exit = e2e.Command(t, "account", "list", "--search", "TERNFERRIES", "-o", "csv")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "ternferries.example,ternferries,Tern Ferries,,harbour,skua,active")
	out, _, _ = e2e.Command(t, "account", "show", "www.ternferries.example")
	for _, part := range []string{"named by the person who opened the account", "site in sites/ternferries.example",
		"/home/ternferries", "disk space", "100M", "plan harbour"} {
		assert.Contains(t, out, part)
	}

	_, stderr, exit = e2e.Command(t, "account", "close", "ternferries")
	assert.Equal(t, 2, exit, "it asks, and there is no terminal")
	assert.Contains(t, stderr, "--yes")
	out, _, exit = e2e.Command(t, "account", "close", "ternferries", "--preview")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "deleted for good")
	out, stderr, exit = e2e.Command(t, "account", "close", "ternferries", "--yes")
	require.Equal(t, 0, exit, stderr)
	assert.Contains(t, out, "no system user; no home")
	assert.Empty(t, e2e.Traces(t, "skua", "ternferries"))
	status, _ = e2e.Page(t, "skua", "ternferries.example", "/")
	assert.Equal(t, 421, status)
	out, _, _ = e2e.Command(t, "account", "list", "--state", "closed")
	assert.Contains(t, out, "ternferries.example")

	// The names are free again.
	a := e2e.Opened(t, api.OpenAccount{Domain: "ternferries.example", Server: "skua"})
	assert.Equal(t, "ternferries", a.SignInName)
	e2e.CloseAccount(t, a)
}

func TestRefusals(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	held := e2e.Opened(t, api.OpenAccount{Domain: "held.example", Server: "skua"})
	below := e2e.Opened(t, api.OpenAccount{Domain: "deep.lagoon.example", Server: "skua"})
	before := e2e.Snapshot(t)
	body := func(change func(*api.OpenAccount)) api.OpenAccount {
		b := api.OpenAccount{Domain: "fresh.example", Plan: "harbour", Customer: "Tern Ferries"}
		change(&b)
		return b
	}
	long := strings.Repeat("a", 64)
	cases := []struct {
		name   string
		body   any
		status int
		kind   string
		field  string
		says   string
	}{
		{"no domain", body(func(b *api.OpenAccount) {
			b.Domain = " "
		}), 422, "invalid-input", "domain", "a domain is needed"},
		{"a bad character", body(func(b *api.OpenAccount) {
			b.Domain = "ferry!.example"
		}), 422, "invalid-input", "domain", "cannot be part of a domain"},
		{"one label", body(func(b *api.OpenAccount) {
			b.Domain = "ferries"
		}), 422, "invalid-input", "domain", "only one part"},
		{"an address", body(func(b *api.OpenAccount) {
			b.Domain = "10.0.0.1"
		}), 422, "invalid-input", "domain", "is an address"},
		{"a mail address", body(func(b *api.OpenAccount) {
			b.Domain = "a@b.example"
		}), 422, "invalid-input", "domain", "mail address"},
		{"a label too long", body(func(b *api.OpenAccount) {
			b.Domain = long + ".example"
		}), 422, "invalid-input", "domain", ""},
		{"a name too long", body(func(b *api.OpenAccount) {
			b.Domain = strings.Repeat("abcdefghi.", 25) + "example"
		}), 422, "invalid-input", "domain", "at most 249"},
		{"a public suffix", body(func(b *api.OpenAccount) {
			b.Domain = "co.uk"
		}), 422, "invalid-input", "domain", "suffix"},
		{"a domain that is there", body(func(b *api.OpenAccount) {
			b.Domain = "HELD.example."
		}), 409, "domain-taken", "domain", "hosted here already"},
		{"below another's", body(func(b *api.OpenAccount) {
			b.Domain = "shop.held.example"
		}), 409, "domain-taken", "domain", "below a domain of another account"},
		{"above another's", body(func(b *api.OpenAccount) {
			b.Domain = "lagoon.example"
		}), 409, "domain-taken", "domain", "a name below"},
		{"sign-in name taken", body(func(b *api.OpenAccount) {
			b.SignInName = "held"
		}), 409, "name-taken", "sign_in_name", "in use"},
		{"sign-in name reserved", body(func(b *api.OpenAccount) {
			b.SignInName = "postgres"
		}), 422, "invalid-input", "sign_in_name", "reserved"},
		{"sign-in name with capitals", body(func(b *api.OpenAccount) {
			b.SignInName = "Fresh"
		}), 422, "invalid-input", "sign_in_name", "lower-case"},
		{"unknown plan", body(func(b *api.OpenAccount) { b.Plan = "galleon" }), 404, "not-found", "plan", "galleon"},
		{"unknown customer", body(func(b *api.OpenAccount) {
			b.Customer = "Nobody"
		}), 404, "not-found", "customer", "Nobody"},
		{"customer there already", body(func(b *api.OpenAccount) {
			b.Customer, b.NewCustomer = "tern ferries", true
		}), 409, "name-taken", "customer", "already"},
		{"bad contact address", body(func(b *api.OpenAccount) {
			b.Customer, b.NewCustomer, b.CustomerEmail = "New One", true, "x"
		}), 422, "invalid-input", "customer_email", "mail address"},
		{"plan without domains", body(func(b *api.OpenAccount) {
			b.Plan = "nothing"
		}), 409, "limit-reached", "", "domains: 0 allowed by plan nothing, 0 used, 0 left, 1 more asked for; " +
			"choose another plan"},
		{"plan without disk", body(func(b *api.OpenAccount) {
			b.Plan = "no-room"
		}), 409, "limit-reached", "", "disk space"},
		{"unknown server", body(func(b *api.OpenAccount) { b.Server = "auk" }), 404, "not-found", "server", "auk"},
		{"closed server", body(func(b *api.OpenAccount) {
			b.Server = "petrel"
		}), 409, "server-closed", "server", "closed to new accounts"},
		{"wrong type", map[string]any{"domain": 7, "plan": "harbour", "customer": "Tern Ferries"}, 422, "invalid-input",
			"domain", ""},
		{"unknown field", map[string]any{"domain": "fresh.example", "plan": "harbour", "customer": "Tern Ferries",
			"colour": "red"}, 422, "invalid-input", "colour", ""},
		{"a list", []int{1}, 422, "invalid-input", "", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			p := e2e.ProblemOf(t, i.Client.Post(ctx, "/accounts", c.body, nil))
			assert.Equal(t, c.status, p.Status, p.Error())
			assert.Equal(t, "/api/v1/problems/"+c.kind, p.Type)
			assert.Contains(t, p.Error(), c.says)
			if c.field != "" && assert.NotEmpty(t, p.Errors) {
				assert.Equal(t, c.field, p.Errors[0].Name)
			}
		})
	}
	raw := func(t *testing.T, body string) *http.Response {
		request, err := http.NewRequest(http.MethodPost, i.Address()+"/api/v1/accounts", strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+i.Client.Token)
		request.Header.Set("Content-Type", "application/json")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
		return response
	}
	t.Run("malformed JSON", func(t *testing.T) { assert.Equal(t, 400, raw(t, `{"domain": `).StatusCode) })
	t.Run("huge body", func(t *testing.T) {
		assert.Equal(t, 413, raw(t, `{"domain": "`+strings.Repeat("x", 2<<20)+`"}`).StatusCode)
	})
	t.Run("server without an answer", func(t *testing.T) {
		require.NoError(t, i.Servers["fulmar"].Cut(false))
		p := e2e.ProblemOf(t, i.Client.Post(ctx, "/accounts", body(func(b *api.OpenAccount) {
			b.Server = "fulmar"
		}), nil))
		assert.NoError(t, i.Servers["fulmar"].Cut(true))
		assert.Equal(t, "/api/v1/problems/server-unreachable", p.Type)
		assert.Contains(t, p.Detail, "fulmar does not answer")
	})
	t.Run("server without room", func(t *testing.T) {
		yes, no := true, false
		e2e.Patch(t, "/servers/petrel", api.ServerChange{Open: &yes}, nil)
		defer e2e.Patch(t, "/servers/petrel", api.ServerChange{Open: &no}, nil)
		e2e.On(t, "petrel", "dd if=/dev/zero of=/home/filler bs=1M count=400 2>/dev/null || true; sync")
		defer e2e.On(t, "petrel", "rm /home/filler; sync")
		p := e2e.ProblemOf(t, i.Client.Post(ctx, "/accounts", body(func(b *api.OpenAccount) {
			b.Server = "petrel"
		}), nil))
		assert.Equal(t, "/api/v1/problems/server-full", p.Type)
	})
	assert.Equal(t, before, e2e.Snapshot(t), "nothing was changed by any of it")
	labtest.Eventually(t, func() bool {
		var s api.Server
		require.NoError(t, i.Client.Get(ctx, "/servers/fulmar", nil, &s))
		return s.Reachable
	})

	t.Run("closing needs the name", func(t *testing.T) {
		p := e2e.ProblemOf(t, i.Client.Post(ctx, "/accounts/held/close", api.CloseAccount{SignInName: "other"}, nil))
		assert.Equal(t, 422, p.Status)
	})
	e2e.CloseAccount(t, held)
	e2e.CloseAccount(t, below)
	t.Run("closing twice", func(t *testing.T) {
		p := e2e.ProblemOf(t,
			i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/close", held.ID), api.CloseAccount{SignInName: "held"}, nil))
		assert.Equal(t, "/api/v1/problems/wrong-state", p.Type)
	})
	t.Run("no such account", func(t *testing.T) {
		assert.Equal(t, 404, e2e.ProblemOf(t, i.Client.Get(ctx, "/accounts/nobody", nil, nil)).Status)
	})
}

func TestIdempotencyKey(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	call := client.Call{Method: http.MethodPost, Path: "/accounts", Key: "once-" + t.Name(),
		Body: api.OpenAccount{Domain: "once.example", Plan: "harbour", Customer: "Tern Ferries"}}
	answers := make([]api.Opening, 8)
	var group sync.WaitGroup
	for n := range answers {
		group.Go(func() { assert.NoError(t, i.Client.Do(ctx, call, &answers[n])) })
	}
	group.Wait()
	for _, a := range answers {
		assert.Equal(t, answers[0], a, "the same answer each time")
	}
	e2e.Watched(t, answers[0].Operation)
	var list api.AccountPage
	require.NoError(t, i.Client.Get(ctx, "/accounts", url.Values{"search": {"once.example"}}, &list))
	assert.Len(t, list.Accounts, 1)

	other := call
	other.Body = api.OpenAccount{Domain: "twice.example", Plan: "harbour", Customer: "Tern Ferries"}
	assert.Equal(t, "/api/v1/problems/idempotency-key-reused", e2e.ProblemOf(t, i.Client.Do(ctx, other, nil)).Type)

	// A request that was refused may be made again with the same key.
	again := client.Call{Method: http.MethodPost, Path: "/accounts", Key: "again-" + t.Name(),
		Body: api.OpenAccount{Domain: "once.example", Plan: "harbour", Customer: "Tern Ferries"}}
	assert.Equal(t, 409, e2e.ProblemOf(t, i.Client.Do(ctx, again, nil)).Status)
	e2e.CloseAccount(t, list.Accounts[0])
	var opening api.Opening
	require.NoError(t, i.Client.Do(ctx, again, &opening))
	e2e.Watched(t, opening.Operation)
	e2e.CloseAccount(t, opening.Account)
}

func TestSameDomainAtOnce(t *testing.T) {
	i := e2e.Shared(t)
	var mu sync.Mutex
	var openings []api.Opening
	var group sync.WaitGroup
	for n := range 10 {
		domain := "rush.example"
		if n%2 == 1 {
			domain = fmt.Sprintf("s%d.rush.example", n)
		}
		group.Go(func() {
			var opening api.Opening
			err := i.Client.Post(context.Background(), "/accounts", api.OpenAccount{Domain: domain, Plan: "harbour",
				Customer: "Tern Ferries"}, &opening)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				openings = append(openings, opening)
			}
		})
	}
	group.Wait()
	require.NotEmpty(t, openings)
	// Either the domain alone, or names beside each other below it; never both.
	var names []string
	for _, o := range openings {
		names = append(names, o.Account.Domain)
	}
	if len(names) > 1 {
		assert.NotContains(t, names, "rush.example")
	}
	for _, o := range openings {
		e2e.Watched(t, o.Operation)
		e2e.CloseAccount(t, o.Account)
	}
}

func TestFiftyAtOnce(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	reloads := func() int64 {
		var n int64
		for _, label := range []string{"skua", "fulmar"} {
			e2e.On(t, label, "true")
			labtest.Eventually(t, func() bool {
				var s api.Server
				require.NoError(t, i.Client.Get(ctx, "/servers/"+label, nil, &s))
				return s.SeenAt != nil && time.Since(*s.SeenAt) < 2*time.Second
			})
			var s api.Server
			require.NoError(t, i.Client.Get(ctx, "/servers/"+label, nil, &s))
			for _, p := range s.Health.Programs {
				if p.Name == "nginx" {
					n += p.Reloads
				}
			}
		}
		return n
	}
	before := reloads()
	openings := make([]api.Opening, 50)
	var group sync.WaitGroup
	for n := range openings {
		group.Go(func() {
			body := api.OpenAccount{Domain: fmt.Sprintf("berth%02d.example", n), Plan: "harbour",
				Customer: "Tern Ferries"}
			if assert.NoError(t, i.Client.Post(ctx, "/accounts", body, &openings[n])) {
				o, err := i.Client.Watch(ctx, openings[n].Operation, func(api.Operation) {})
				assert.NoError(t, err)
				assert.Equal(t, "done", o.State, o.Failure)
			}
		})
	}
	group.Wait()
	assert.Less(t, reloads()-before, int64(30), "reloads are shared")
	names := map[string]bool{}
	for n, o := range openings {
		names[o.Account.SignInName] = true
		status, _ := e2e.Page(t, o.Account.Server, fmt.Sprintf("berth%02d.example", n), "/")
		assert.Equal(t, 200, status)
	}
	assert.Len(t, names, 50)

	t.Run("pages", func(t *testing.T) {
		seen := map[string]bool{}
		query := url.Values{"limit": {"7"}, "search": {"berth"}}
		for {
			var list api.AccountPage
			require.NoError(t, i.Client.Get(ctx, "/accounts", query, &list))
			for _, a := range list.Accounts {
				assert.False(t, seen[a.Domain], "twice: %s", a.Domain)
				seen[a.Domain] = true
			}
			if list.Next == "" {
				break
			}
			query.Set("cursor", list.Next)
		}
		assert.Len(t, seen, 50)
		assert.Equal(t, 422,
			e2e.ProblemOf(t, i.Client.Get(ctx, "/accounts", url.Values{"cursor": {"rubbish"}}, nil)).Status)
	})
	for _, o := range openings {
		group.Go(func() {
			var started api.Started
			if assert.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/close", o.Account.ID),
				api.CloseAccount{SignInName: o.Account.SignInName}, &started)) {
				op, err := i.Client.Watch(ctx, started.Operation, func(api.Operation) {})
				assert.NoError(t, err)
				assert.Equal(t, "done", op.State, op.Failure)
			}
		})
	}
	group.Wait()
	for _, o := range openings {
		assert.Empty(t, e2e.Traces(t, o.Account.Server, o.Account.SignInName))
	}
}

func TestDriftAndRepair(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "drifting.example", Server: "fulmar"})
	defer e2e.CloseAccount(t, a)
	conf := "/etc/nginx/victualler/accounts/drifting.conf"
	e2e.On(t, "fulmar", "sed -i 's/index index.php/index wrong.php/' "+conf+
		"; echo '# nobody' > /etc/nginx/victualler/accounts/zzz.conf")

	out, _, exit := e2e.Command(t, "server", "sweep", "fulmar")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "drift of drifting, nginx: "+conf+" has been changed")
	assert.Contains(t, out, "-    index wrong.php index.html;\n+    index index.php index.html;")
	assert.Contains(t, out, "drift of nobody, nginx: /etc/nginx/victualler/accounts/zzz.conf should not be there")
	var detail api.AccountDetail
	require.NoError(t, i.Client.Get(ctx, "/accounts/drifting", nil, &detail))
	assert.Len(t, detail.Drift, 1)
	require.NotNil(t, detail.DiskUsed, "the sweep measures")
	assert.Positive(t, *detail.DiskUsed)

	for _, args := range [][]string{{"server", "repair", "fulmar", "--preview"},
		{"account", "repair", "drifting", "--preview"}} {
		out, stderr, exit := e2e.Command(t, args...)
		assert.Equal(t, 0, exit, stderr)
		assert.Contains(t, out, "+    index index.php index.html;")
		assert.Contains(t, out, "nothing was done")
	}
	assert.Contains(t, e2e.On(t, "fulmar", "cat "+conf), "index wrong.php")
	out, stderr, exit := e2e.Command(t, "server", "repair", "fulmar")
	assert.Equal(t, 0, exit, stderr)
	assert.Contains(t, out, "no difference")
	assert.Contains(t, e2e.On(t, "fulmar", "cat "+conf), "index index.php index.html;")
	assert.NotContains(t, e2e.On(t, "fulmar", "ls /etc/nginx/victualler/accounts"), "zzz")

	e2e.On(t, "fulmar", "rm "+conf)
	var started api.Started
	require.NoError(t, i.Client.Post(ctx, "/accounts/drifting/repair", nil, &started))
	assert.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	assert.Contains(t, e2e.On(t, "fulmar", "cat "+conf), "index index.php index.html;")
}

func TestBrokenConfiguration(t *testing.T) {
	e2e.Shared(t)
	standing := e2e.Opened(t, api.OpenAccount{Domain: "standing.example", Server: "skua"})
	defer e2e.CloseAccount(t, standing)
	e2e.On(t, "skua", "echo 'server { nonsense on; }' > /etc/nginx/conf.d/byhand.conf")
	opening, o := e2e.Open(t, api.OpenAccount{Domain: "unlucky.example", Server: "skua"})
	assert.Equal(t, "failed", o.State)
	assert.Contains(t, o.Failure, `unknown directive "nonsense" in /etc/nginx/conf.d/byhand.conf:1`,
		"nginx's own message")
	assert.Contains(t, o.Failure, "nothing of it is left")
	status, _ := e2e.Page(t, "skua", "standing.example", "/")
	assert.Equal(t, 200, status, "every other site is served")
	labtest.Eventually(t, func() bool {
		var detail api.AccountDetail
		require.NoError(t, e2e.Inst.Client.Get(context.Background(), fmt.Sprintf("/accounts/%d", opening.Account.ID),
			nil, &detail))
		return detail.State == "closed"
	})
	assert.Empty(t, e2e.Traces(t, "skua", "unlucky"))

	e2e.On(t, "skua", "rm /etc/nginx/conf.d/byhand.conf")
	e2e.CloseAccount(t, e2e.Opened(t, api.OpenAccount{Domain: "unlucky.example", Server: "skua"}))
}

func TestProgressGoesOnAfterALostConnection(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	opening, _ := e2e.Open(t, api.OpenAccount{Domain: "watched.example"})
	defer e2e.CloseAccount(t, opening.Account)
	read := func(last string) string {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet,
			fmt.Sprintf("%s/api/v1/operations/%d/progress", i.Address(), opening.Operation), nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+i.Client.Token)
		if last != "" {
			request.Header.Set("Last-Event-ID", last)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		var b strings.Builder
		_, err = fmt.Fprint(&b, response.Header.Get("Content-Type"), "\n")
		require.NoError(t, err)
		buffer := make([]byte, 64<<10)
		for {
			n, err := response.Body.Read(buffer)
			b.Write(buffer[:n])
			if err != nil {
				return b.String()
			}
		}
	}
	whole := read("")
	assert.Contains(t, whole, "text/event-stream")
	assert.Contains(t, whole, `"state":"done"`)
	assert.Contains(t, whole, "event: end")
	var o api.Operation
	require.NoError(t, i.Client.Get(ctx, fmt.Sprintf("/operations/%d", opening.Operation), nil, &o))
	assert.NotContains(t, read(fmt.Sprint(o.Version)), "event: operation", "nothing is told twice")
}
