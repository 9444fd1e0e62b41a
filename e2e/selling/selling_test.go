package selling

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
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

// quota is the disk limit of a home as the server itself keeps it, in bytes.
func quota(t *testing.T, server, name string) string {
	t.Helper()
	return strings.Fields(e2e.On(t, server, "btrfs qgroup show --raw -r /home | grep ^1/$(id -u "+name+")"))[3]
}

func TestChangingAPlan(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "dinghy",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(3),
				plans.PHPWorkers: plans.Of(2)}}, nil))
	var on3 []api.Account
	for _, name := range []string{"plain", "excepted", "heldone"} {
		on3 = append(on3,
			e2e.Opened(t, api.OpenAccount{Domain: name + "-dinghy.example", Plan: "dinghy", SignInName: name,
				Server: "skua"}))
	}
	plain, excepted, held := on3[0], on3[1], on3[2]
	require.NoError(t, e2e.Put(fmt.Sprintf("/accounts/%d/exceptions", excepted.ID), map[string]any{"limit": "disk",
		"amount": 90 * plans.MiB, "reason": "the regatta's pictures"}, nil))
	require.NoError(t, e2e.Put(fmt.Sprintf("/accounts/%d/frozen-terms", held.ID), api.Freeze{Frozen: true}, nil))
	for _, domain := range []string{"second.example", "third.example"} {
		var added api.DomainChanged
		require.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/domains", plain.ID),
			api.NewDomain{Domain: domain}, &added))
		require.Equal(t, "done", e2e.Watched(t, added.Operation).State)
	}
	e2e.Settled(t)

	change := api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(80 * plans.MiB), plans.Domains: plans.Of(2)}}
	var preview api.Preview
	require.NoError(t, i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/plans/dinghy", Body: change,
		Query: url.Values{"preview": {"true"}}}, &preview))
	assert.Contains(t, preview.Summary, "2 of 3 accounts; 1 would be over a limit")
	effects := map[string]api.Effect{}
	for _, e := range preview.Effects {
		effects[e.Account] = e
	}
	assert.Equal(t, []string{"disk space 60M → 80M"}, effects["plain"].Gains)
	assert.Equal(t, []string{"domains 3 → 2"}, effects["plain"].Losses)
	assert.Equal(t, []string{"domains 3 of 2, 1 over"}, effects["plain"].Over)
	assert.Equal(t, "exceptions stay: disk", effects["excepted"].Unchanged)
	assert.Empty(t, effects["excepted"].Gains)
	assert.Equal(t, "its limits are frozen", effects["heldone"].Unchanged)
	assert.EqualValues(t, 60*plans.MiB, *e2e.Limit(t, plain.ID, plans.Disk).Value, "a preview changes nothing")

	var changed api.PlanChanged
	e2e.Patch(t, "/plans/dinghy", change, &changed)
	assert.EqualValues(t, 2, changed.Accounts)
	require.Equal(t, "done", e2e.Watched(t, changed.Operation).State)
	assert.EqualValues(t, 80*plans.MiB, *e2e.Limit(t, plain.ID, plans.Disk).Value)
	assert.Equal(t, fmt.Sprint(80*plans.MiB), quota(t, "skua", "plain"), "the server knows")
	assert.EqualValues(t, 90*plans.MiB, *e2e.Limit(t, excepted.ID, plans.Disk).Value)
	assert.Equal(t, fmt.Sprint(90*plans.MiB), quota(t, "skua", "excepted"))
	assert.EqualValues(t, 60*plans.MiB, *e2e.Limit(t, held.ID, plans.Disk).Value)
	assert.Contains(t, e2e.Limit(t, held.ID, plans.Disk).Source, "from plan dinghy")

	t.Run("being over blocks growth only", func(t *testing.T) {
		for _, domain := range []string{"second.example", "third.example"} {
			status, _ := e2e.Page(t, "skua", domain, "/")
			assert.Equal(t, 200, status, "nothing is deleted")
		}
		p := e2e.ProblemOf(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/domains", plain.ID),
			api.NewDomain{Domain: "fourth.example"}, nil))
		require.Len(t, p.Limits, 1)
		assert.Equal(t, "domains", p.Limits[0].Key)
		assert.EqualValues(t, []int64{2, 3, 0}, []int64{p.Limits[0].Value, p.Limits[0].Used, p.Limits[0].Left})
		assert.Equal(t, "plan dinghy", p.Limits[0].Source)
		assert.Contains(t, p.Detail, "choose another plan or set an exception (victualler exception add ")
		var started api.Started
		require.NoError(t, e2e.Remove(fmt.Sprintf("/accounts/%d/domains/third.example", plain.ID), &started))
		require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		status, _ := e2e.Page(t, "skua", "third.example", "/")
		assert.Equal(t, 421, status)
		assert.Contains(t,
			e2e.ProblemOf(t, e2e.Remove(fmt.Sprintf("/accounts/%d/domains/plain-dinghy.example", plain.ID),
				nil)).Detail,
			"main domain")
	})
	t.Run("those that would be over are held", func(t *testing.T) {
		one := api.PlanChange{Limits: plans.Limits{plans.Domains: plans.Of(1)}, Freeze: "over"}
		e2e.Patch(t, "/plans/dinghy", one, &changed)
		assert.EqualValues(t, 1, changed.Frozen)
		assert.EqualValues(t, 2, *e2e.Limit(t, plain.ID, plans.Domains).Value)
		assert.EqualValues(t, 1, *e2e.Limit(t, excepted.ID, plans.Domains).Value)
	})
	t.Run("what cannot be", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "plan", "remove", "dinghy", "--yes")
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "3 accounts are on plan dinghy: excepted-dinghy.example (excepted), "+
			"heldone-dinghy.example (heldone), plain-dinghy.example (plain)")
		var p api.Plan
		require.NoError(t, i.Client.Get(ctx, "/plans/dinghy", nil, &p))
		stale := client.Call{Method: http.MethodPatch, Path: "/plans/dinghy", Body: change,
			IfMatch: fmt.Sprintf(`"%d"`, p.Version-1)}
		assert.Equal(t, 412, e2e.ProblemOf(t, i.Client.Do(ctx, stale, nil)).Status)
		assert.Equal(t, 422,
			e2e.ProblemOf(t, i.Client.Get(ctx, "/compare/plans", url.Values{"plan": {"dinghy"}}, nil)).Status)
		assert.Equal(t, 404,
			e2e.ProblemOf(t, i.Client.Get(ctx, "/compare/plans", url.Values{"plan": {"dinghy", "none"}}, nil)).Status)
	})
	t.Run("copied, compared, renamed, removed by the client", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "plan", "add", "cutter", "--like", "dinghy", "--limits",
			"disk=1G,mailbox_size=2G", "--features", "mail")
		require.Equal(t, 0, exit, stderr)
		assert.Contains(t, stderr, "a mailbox of 2G does not fit into 1G of disk")
		out, _, _ := e2e.Command(t, "plan", "compare", "dinghy", "cutter", "--differing")
		assert.Regexp(t, `≠\s+disk space\s+80M\s+1G`, out)
		assert.Regexp(t, `≠\s+feature mail\s+off\s+on`, out)
		assert.NotContains(t, out, "backups kept")
		_, stderr, exit = e2e.Command(t, "plan", "change", "cutter", "--name", "ketch", "--features", "mail=off")
		require.Equal(t, 0, exit, stderr)
		_, _, exit = e2e.Command(t, "plan", "remove", "ketch", "--yes")
		assert.Equal(t, 0, exit)
	})
	t.Run("another plan for several, all or none", func(t *testing.T) {
		out, stderr, exit := e2e.Command(t, "account", "change", "plain", "excepted", "heldone", "--plan", "harbour",
			"--preview")
		require.Equal(t, 0, exit, stderr)
		assert.Contains(t, out, "would put 3 accounts on plan harbour")
		assert.Contains(t, out, "disk space 80M → 100M")
		assert.Contains(t, out, "exceptions stay: disk")
		p := e2e.ProblemOf(t,
			i.Client.Post(ctx, "/plans/harbour/accounts", api.Shift{Accounts: []string{"plain", "nobody-here"}}, nil))
		assert.Equal(t, "accounts.1", p.Errors[0].Name)
		assert.EqualValues(t, 80*plans.MiB, *e2e.Limit(t, plain.ID, plans.Disk).Value)
		out, stderr, exit = e2e.Command(t, "account", "change", "plain", "excepted", "heldone", "--plan", "harbour",
			"--drop-exceptions", "--yes")
		require.Equal(t, 0, exit, stderr)
		assert.Contains(t, out, "done in")
		for _, a := range on3 {
			assert.EqualValues(t, 100*plans.MiB, *e2e.Limit(t, a.ID, plans.Disk).Value)
			assert.Equal(t, fmt.Sprint(100*plans.MiB), quota(t, "skua", a.SignInName))
		}
	})
}

func TestExceptions(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "exceptional.example", SignInName: "exceptional", Server: "skua"})
	path := fmt.Sprintf("/accounts/%d/exceptions", a.ID)
	for field, body := range map[string]map[string]any{
		"limit":   {"reason": "r", "limit": "disk", "feature": "mail", "amount": 1, "on": true},
		"amount":  {"reason": "r", "limit": "disk"},
		"on":      {"reason": "r", "feature": "mail"},
		"feature": {"reason": "r", "feature": "sauna", "on": true},
		"reason":  {"reason": "  ", "limit": "disk", "amount": 1},
		"ends_at": {"reason": "r", "limit": "disk", "amount": 1, "ends_at": "2020-01-01T00:00:00Z"},
	} {
		p := e2e.ProblemOf(t, e2e.Put(path, body, nil))
		assert.Equal(t, 422, p.Status, field)
		assert.Equal(t, field, p.Errors[0].Name, p.Detail)
	}
	require.NoError(t, e2e.Put(path, map[string]any{"reason": "no bounds", "limit": "mailboxes", "amount": nil}, nil))
	assert.Nil(t, e2e.Limit(t, a.ID, plans.Mailboxes).Value, "null is unlimited")
	ends := time.Now().Add(3 * time.Second).UTC()
	var changed api.TermsChanged
	require.NoError(t, e2e.Put(path, map[string]any{"reason": "for the fair", "limit": "disk", "amount": 70 * plans.MiB,
		"ends_at": ends}, &changed))
	require.Equal(t, "done", e2e.Watched(t, changed.Operation).State)
	assert.Equal(t, fmt.Sprint(70*plans.MiB), quota(t, "skua", "exceptional"))
	assert.Contains(t, e2e.Limit(t, a.ID, plans.Disk).Source, "exception by operator until")
	labtest.Eventually(t, func() bool {
		return quota(t, "skua", "exceptional") == fmt.Sprint(100*plans.MiB)
	}, "the plan's value does not return")
	var events api.EventPage
	require.NoError(t, i.Client.Get(ctx, "/events", url.Values{"account": {"exceptional"}, "action": {"exception.end"}},
		&events))
	require.Len(t, events.Events, 1)
	assert.Equal(t, "victuallerd", events.Events[0].Actor)
	out, _, _ := e2e.Command(t, "exception", "list", "exceptional")
	assert.Regexp(t, `mailboxes\s+unlimited\s+for good\s+operator\s.*no bounds`, out)
	out, stderr, exit := e2e.Command(t, "exception", "remove", "exceptional", "--limit", "mailboxes")
	require.Equal(t, 0, exit, stderr)
	assert.Contains(t, out, "mailboxes unlimited → 0")
	_, _, exit = e2e.Command(t, "exception", "remove", "exceptional", "--limit", "mailboxes")
	assert.Equal(t, 1, exit)
	_, stderr, exit = e2e.Command(t, "exception", "add", "exceptional", "--limit", "disk=20480", "--reason", "r")
	assert.Equal(t, 2, exit)
	assert.Contains(t, stderr, "20480 what? write 20480M or 20G")
}

// Two hundred requests at once at a limit of fifty end at exactly
// fifty: for a plan's limit and for both kinds of share.
func TestLimitsHoldUnderLoad(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	const requests, most = 200, 50
	at := func(n int, do func(n int) error) (through int) {
		var group sync.WaitGroup
		var mu sync.Mutex
		for k := range n {
			group.Go(func() {
				err := do(k)
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					through++
					return
				}
				p := e2e.ProblemOf(t, err)
				assert.Equal(t, api.ProblemBase+"limit-reached", p.Type, p.Detail)
			})
		}
		group.Wait()
		return through
	}
	small := plans.Limits{plans.Disk: plans.Of(2 * plans.MiB), plans.Domains: plans.Of(1),
		plans.PHPWorkers: plans.Of(1)}

	t.Run("a plan's limit", func(t *testing.T) {
		require.NoError(t,
			i.Client.Post(ctx, "/plans", api.NewPlan{Name: "fifty",
				Limits: plans.Limits{plans.Disk: plans.Of(50 * plans.MiB), plans.Domains: plans.Of(most),
					plans.PHPWorkers: plans.Of(1)}}, nil))
		a := e2e.Opened(t, api.OpenAccount{Domain: "fifty.example", Plan: "fifty", SignInName: "fiftyfold",
			Server: "skua"})
		through := at(requests, func(n int) error {
			return i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/domains", a.ID),
				api.NewDomain{Domain: fmt.Sprintf("of-fifty-%d.example", n)}, nil)
		})
		assert.Equal(t, most-1, through, "the main domain is one")
		e2e.Settled(t)
		assert.EqualValues(t, most, *e2e.Limit(t, a.ID, plans.Domains).Used)
	})
	for _, measure := range []string{"allotted", "used"} {
		t.Run("a share measured by what is "+measure, func(t *testing.T) {
			name := "share-" + measure
			require.NoError(t,
				i.Client.Post(ctx, "/resellers", api.NewReseller{Name: name, Title: name, Measure: measure,
					Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(most),
						plans.PHPWorkers: plans.Of(1)}}, nil))
			require.NoError(t, i.Client.Post(ctx, "/plans", api.NewPlan{Name: "small", Reseller: name, Limits: small},
				nil))
			require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "All", Reseller: name}, nil))
			r := e2e.Person(t, api.NewPerson{Name: name + "-person", Reseller: name})
			through := at(requests, func(n int) error {
				return r.Post(ctx, "/accounts", api.OpenAccount{Domain: fmt.Sprintf("%s-%d.example", name, n),
					Plan: "small", Customer: "All", SignInName: fmt.Sprintf("%sx%d", measure[:4], n)}, nil)
			})
			assert.Equal(t, most, through)
			e2e.Settled(t)
			var share api.Share
			require.NoError(t, i.Client.Get(ctx, "/resellers/"+name+"/share", nil, &share))
			domains := share.Lines[slices.IndexFunc(share.Lines, func(l api.ShareLine) bool {
				return l.Key == "domains"
			})]
			assert.EqualValues(t, []int64{most, most, most, 0}, []int64{*domains.Share, *domains.Allotted, domains.Used,
				*domains.Left})
			assert.False(t, domains.Over)
			var all api.AccountPage
			require.NoError(t, r.Get(ctx, "/accounts", url.Values{"limit": {"500"}}, &all))
			require.Len(t, all.Accounts, most)
			// They go at once, too.
			var group sync.WaitGroup
			for _, a := range all.Accounts {
				group.Go(func() {
					assert.NoError(t,
						r.Post(ctx, fmt.Sprintf("/accounts/%d/close", a.ID), api.CloseAccount{SignInName: a.SignInName},
							nil))
				})
			}
			group.Wait()
			e2e.Settled(t)
		})
	}
}

func TestResellers(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	_, stderr, exit := e2e.Command(t, "reseller", "add", "puffin", "--title", "Puffin & Sons", "--limits",
		"disk=300M,files=unlimited,domains=6,php_workers=3,mailbox_size=1G,mailboxes=10", "--features", "mail,dns")
	require.Equal(t, 0, exit, stderr)
	require.NoError(t, i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "razorbill", Title: "Razorbill",
		Limits: plans.Limits{plans.Domains: plans.Of(1)}}, nil))
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "boat", Reseller: "razorbill",
			Limits: plans.Limits{plans.Domains: plans.Of(1)}}, nil))
	r := e2e.Person(t, api.NewPerson{Name: "puffin-person", Reseller: "puffin"})
	t.Run("own plans, never above the share", func(t *testing.T) {
		p := e2e.ProblemOf(t,
			r.Post(ctx, "/plans", api.NewPlan{Name: "harbour",
				Limits:   plans.Limits{plans.Disk: plans.Of(301 * plans.MiB), plans.Mailboxes: plans.Unlimited},
				Features: plans.Features{"shell": true}}, nil))
		assert.Equal(t, api.ProblemBase+"limit-reached", p.Type)
		var at []string
		for _, e := range p.Errors {
			at = append(at, e.Name)
		}
		assert.Equal(t, []string{"limits.disk", "limits.mailboxes", "features.shell"}, at)
		require.NoError(t,
			r.Post(ctx, "/plans", api.NewPlan{Name: "harbour",
				Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Files: plans.Of(10_000),
					plans.Domains: plans.Of(2), plans.PHPWorkers: plans.Of(2), plans.Mailboxes: plans.Of(3)},
				Features: plans.Features{"mail": true}}, nil), "the operator's harbour is another one")
		var own, house api.Plan
		require.NoError(t, r.Get(ctx, "/plans/harbour", nil, &own))
		require.NoError(t, i.Client.Get(ctx, "/plans/harbour", nil, &house))
		assert.NotEqual(t, own.Limits, house.Limits)
		assert.Empty(t, own.Reseller)
		require.NoError(t, i.Client.Get(ctx, "/plans/puffin.harbour", nil, &own))
		assert.Equal(t, "puffin", own.Reseller)
		named := func(c *client.Client, query url.Values) (names []string) {
			var list api.PlanPage
			require.NoError(t, c.Get(ctx, "/plans", query, &list))
			for _, p := range list.Plans {
				names = append(names, strings.TrimPrefix(p.Reseller+"."+p.Name, "."))
			}
			return names
		}
		for _, query := range []url.Values{nil, {"own": {"true"}}, {"own": {"true"}, "reseller": {"puffin"}},
			{"search": {"HARB"}}, {"search": {"puffin."}}} {
			assert.Equal(t, []string{"harbour"}, named(r, query), "%v", query)
		}
		assert.Empty(t, named(r, url.Values{"search": {"boat"}}), "nor do they find others' plans")
		assert.Equal(t, 404, e2e.ProblemOf(t, r.Get(ctx, "/plans", url.Values{"reseller": {"razorbill"}}, nil)).Status)
		assert.Equal(t, []string{"razorbill.boat"}, named(i.Client, url.Values{"reseller": {"razorbill"}}))
		fitting := named(i.Client, url.Values{"reseller": {"puffin"}, "own": {"true"}})
		assert.Contains(t, fitting, "puffin.harbour")
		assert.Contains(t, fitting, "harbour")
		assert.NotContains(t, fitting, "razorbill.boat")
		assert.Equal(t, []string{"harbour", "puffin.harbour"}, named(i.Client, url.Values{"search": {"harb"}}))
		assert.Empty(t, named(i.Client, url.Values{"search": {"100%"}}), "what is typed is no pattern")
		out, _, _ := e2e.Command(t, "plan", "list", "--search", "harb", "--reseller", "puffin")
		assert.Contains(t, out, "puffin.harbour")
	})
	e2e.RefusedAs(t, "not-found", r.Post(ctx, "/customers",
		api.NewCustomer{Name: "Tern Ferries", Reseller: "razorbill"}, nil))
	require.NoError(t, r.Post(ctx, "/customers", api.NewCustomer{Name: "Tern Ferries"}, nil),
		"names are each reseller's own, and so is what they add")
	account := func(domain string) (api.Account, error) {
		var opening api.Opening
		err := r.Post(ctx, "/accounts", api.OpenAccount{Domain: domain, Plan: "harbour", Customer: "Tern Ferries",
			Server: "fulmar"}, &opening)
		if err == nil {
			require.Equal(t, "done", e2e.Watched(t, opening.Operation).State)
		}
		return opening.Account, err
	}
	a, err := account("puffin-one.example")
	require.NoError(t, err)
	b, err := account("puffin-two.example")
	require.NoError(t, err)
	t.Run("opening beyond the share is refused with the sums", func(t *testing.T) {
		require.NoError(t, e2e.Inst.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/resellers/puffin",
			Body: api.ResellerChange{Limits: plans.Limits{plans.Disk: plans.Of(250 * plans.MiB)}}}, nil))
		_, err := account("puffin-three.example")
		p := e2e.ProblemOf(t, err)
		assert.Contains(t, p.Detail, "disk space: the share of puffin is 250M, 200M allotted to other accounts, 50M "+
			"left, 100M asked for; an operator can raise the share")
		require.Len(t, p.Limits, 1)
		assert.EqualValues(t, 50*plans.MiB, p.Limits[0].Left)
	})
	t.Run("raising beyond the share is refused, too", func(t *testing.T) {
		set := func(key string, amount int64) error {
			return r.Do(ctx, client.Call{Method: http.MethodPut, Path: fmt.Sprintf("/accounts/%d/exceptions", a.ID),
				Body: map[string]any{"limit": key, "amount": amount, "reason": "asked for"}}, nil)
		}
		assert.NoError(t, set("disk", 150*plans.MiB))
		assert.Equal(t, api.ProblemBase+"limit-reached", e2e.ProblemOf(t, set("disk", 151*plans.MiB)).Type)
		assert.Equal(t, api.ProblemBase+"limit-reached", e2e.ProblemOf(t, set("mailbox_size", 2*plans.GiB)).Type,
			"a bound holds for each")
		on := true
		assert.Contains(t,
			e2e.ProblemOf(t,
				r.Do(ctx, client.Call{Method: http.MethodPut, Path: fmt.Sprintf("/accounts/%d/exceptions", a.ID),
					Body: api.NewException{Feature: "shell", On: &on, Reason: "r"}}, nil)).Detail, "not in the share")
		change := client.Call{Method: http.MethodPatch, Path: "/plans/harbour",
			Body: api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Of(101 * plans.MiB)}}}
		assert.Contains(t, e2e.ProblemOf(t, r.Do(ctx, change, nil)).Detail,
			"250M allotted now, 0B left, 251M would be allotted")
		require.NoError(t,
			r.Do(ctx, client.Call{Method: http.MethodDelete,
				Path: fmt.Sprintf("/accounts/%d/exceptions/limits/disk", a.ID)}, nil))
	})
	t.Run("a share below what is given out needs a decision", func(t *testing.T) {
		lower := api.ResellerChange{Limits: plans.Limits{plans.Disk: plans.Of(80 * plans.MiB)}}
		p := e2e.ProblemOf(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/resellers/puffin", Body: lower}, nil))
		assert.Equal(t, api.ProblemBase+"needs-decision", p.Type)
		assert.Contains(t, p.Detail, "disk space 200M allotted, 80M in the share; plan harbour gives more than the "+
			"share")
		require.Len(t, p.Decide, 1)
		assert.Equal(t, "over", p.Decide[0].Field)
		var preview api.Preview
		require.NoError(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/resellers/puffin",
				Query: url.Values{"preview": {"true"}}, Body: lower}, &preview))
		assert.Contains(t, strings.Join(preview.Notes, "\n"), "over the new share: disk space 200M allotted")
		lower.Over = "keep"
		e2e.Patch(t, "/resellers/puffin", lower, nil)
		e2e.Settled(t)
		l := e2e.Limit(t, b.ID, plans.Disk)
		assert.EqualValues(t, 80*plans.MiB, *l.Value, "an allowance is never above the share")
		assert.Equal(t, "the share of puffin", l.Source)
		assert.Equal(t, fmt.Sprint(80*plans.MiB), quota(t, "fulmar", b.SignInName))
		out, _, _ := e2e.Command(t, "reseller", "show", "puffin")
		assert.Regexp(t, `disk space\s+80M\s+200M\s.*over`, out)
		e2e.Patch(t, "/resellers/puffin",
			api.ResellerChange{Limits: plans.Limits{plans.Disk: plans.Of(300 * plans.MiB)}},
			nil)
		e2e.Settled(t)
	})
	t.Run("measured by what is used", func(t *testing.T) {
		e2e.Patch(t, "/resellers/puffin", api.ResellerChange{Measure: "used",
			Limits: plans.Limits{plans.Domains: plans.Of(3)}}, nil)
		c, err := account("puffin-four.example")
		require.NoError(t, err, "six domains are given out, three used")
		p := e2e.ProblemOf(t,
			r.Post(ctx, fmt.Sprintf("/accounts/%d/domains", c.ID), api.NewDomain{Domain: "puffin-five.example"}, nil))
		assert.Contains(t, p.Detail, "domains: 3 allowed by the share of puffin, 3 used, 0 left, 1 more asked for")
		assert.EqualValues(t, 1, *e2e.Limit(t, c.ID, plans.Domains).Value, "what the share leaves")
		e2e.Patch(t, "/resellers/puffin", api.ResellerChange{Limits: plans.Limits{plans.Domains: plans.Of(6)}}, nil)
	})
	t.Run("suspended with their accounts", func(t *testing.T) {
		customer := "puffin-customer"
		require.NoError(t,
			r.Post(ctx, "/people", api.NewPerson{Name: customer, Customer: a.CustomerID, Activation: "password",
				Password: e2e.Password}, nil))
		c := e2e.SignedIn(t, customer)
		var token api.Token
		require.NoError(t, r.Post(ctx, "/tokens", api.NewToken{Name: "shop", Scopes: []string{"accounts.read"}},
			&token))
		program := &client.Client{Base: i.Address(), Token: token.Secret}
		require.NoError(t, program.Get(ctx, "/accounts", nil, nil))
		var changed api.ResellerSuspended
		require.NoError(t,
			i.Client.Post(ctx, "/resellers/puffin/suspend", api.SuspendReseller{Why: "unpaid since March",
				Accounts: "suspend"}, &changed))
		assert.EqualValues(t, 3, changed.Accounts)
		require.Equal(t, "done", e2e.Watched(t, changed.Operation).State)
		p := e2e.ProblemOf(t, r.Get(ctx, "/accounts", nil, nil))
		assert.Equal(t, api.ProblemBase+"suspended", p.Type)
		assert.Contains(t, p.Detail, "unpaid since March")
		assert.Equal(t, api.ProblemBase+"suspended", e2e.ProblemOf(t, program.Get(ctx, "/accounts", nil, nil)).Type,
			"nor do their programs get in")
		_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "puffin-person",
			Password: e2e.Password})
		assert.Contains(t, e2e.ProblemOf(t, err).Detail, "unpaid since March", "signing in says why")
		_, err = (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "puffin-person", Password: "wrong"})
		assert.NotContains(t, e2e.ProblemOf(t, err).Detail, "unpaid", "but not to everybody")
		status, body := e2e.Page(t, "fulmar", "puffin-one.example", "/")
		assert.Equal(t, 503, status)
		assert.NotContains(t, body, "unpaid", "visitors are not told why")
		var detail api.AccountDetail
		require.NoError(t, c.Get(ctx, "/accounts/puffin-one.example", nil, &detail))
		assert.Equal(t, "suspended", detail.State)
		assert.Equal(t, api.ProblemBase+"suspended",
			e2e.ProblemOf(t, c.Post(ctx, fmt.Sprintf("/accounts/%d/domains", a.ID), api.NewDomain{Domain: "no.example"},
				nil)).Type)
		assert.Contains(t,
			e2e.ProblemOf(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/resume", a.ID), nil, nil)).Detail,
			"resume the reseller")
		out, _, _ := e2e.Command(t, "account", "list", "--state", "suspended")
		assert.Contains(t, out, "puffin-one.example")
		require.NoError(t, i.Client.Post(ctx, "/resellers/puffin/resume", nil, &changed))
		require.Equal(t, "done", e2e.Watched(t, changed.Operation).State)
		status, _ = e2e.Page(t, "fulmar", "puffin-one.example", "/")
		assert.Equal(t, 200, status)
	})
	t.Run("suspended without them", func(t *testing.T) {
		out, stderr, exit := e2e.Command(t, "reseller", "suspend", "puffin", "--why", "a pause", "--accounts", "stay")
		require.Equal(t, 0, exit, stderr)
		assert.Contains(t, out, "puffin is suspended; 0 accounts with them")
		status, _ := e2e.Page(t, "fulmar", "puffin-one.example", "/")
		assert.Equal(t, 200, status)
		_, _, exit = e2e.Command(t, "reseller", "resume", "puffin")
		assert.Equal(t, 0, exit)
		assert.Contains(t, e2e.ProblemOf(t, e2e.Remove("/resellers/puffin", nil)).Detail, "1 customer with 3 accounts")
	})
	t.Run("brand", func(t *testing.T) {
		r := e2e.SignedIn(t, "puffin-person")
		bad := client.Call{Method: http.MethodPut, Path: "/resellers/puffin/brand", Body: api.Brand{Bar: "#777777",
			Accent: "#ffff00"}}
		p := e2e.ProblemOf(t, r.Do(ctx, bad, nil))
		require.Len(t, p.Errors, 2)
		assert.Contains(t, p.Errors[1].Message, "text needs 4.5")
		var b api.BrandInForce
		require.NoError(t,
			r.Do(ctx, client.Call{Method: http.MethodPut, Path: "/resellers/puffin/brand",
				Body: api.Brand{Title: "Puffin", Footer: "Puffin & Sons", Bar: "#fff0c0", Accent: "#1f5f7a"}}, &b))
		assert.Equal(t, "#1c2422", b.OnBar)
		require.NoError(t,
			r.Upload(ctx, "/resellers/puffin/brand/logo",
				[]byte(
					`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><script>steal()</script><path d="M0 0h9"/></svg>`)))
		assert.Equal(t, 422, e2e.ProblemOf(t, r.Upload(ctx, "/resellers/puffin/brand/logo", []byte("GIF89a"))).Status)
		assert.Equal(t, 404,
			e2e.ProblemOf(t,
				r.Upload(ctx, "/resellers/razorbill/brand/logo",
					[]byte(`<svg xmlns="http://www.w3.org/2000/svg"/>`))).Status)
		response, err := http.Get(i.Address() + "/api/v1/resellers/puffin/brand/logo")
		require.NoError(t, err)
		defer response.Body.Close()
		var logo bytes.Buffer
		_, err = logo.ReadFrom(response.Body)
		require.NoError(t, err)
		assert.Equal(t, "image/svg+xml", response.Header.Get("Content-Type"))
		assert.Contains(t, response.Header.Get("Content-Security-Policy"), "sandbox")
		assert.NotContains(t, logo.String(), "steal")
		var s api.Session
		require.NoError(t, e2e.SignedIn(t, "puffin-customer").Get(ctx, "/session", nil, &s))
		assert.Equal(t, "Puffin", s.Title)
		assert.Equal(t, "#fff0c0", s.Brand.Bar)
	})
	t.Run("nothing of anybody else's", func(t *testing.T) {
		r := e2e.SignedIn(t, "puffin-person")
		house := e2e.Opened(t, api.OpenAccount{Domain: "not-puffins.example"})
		for name, err := range map[string]error{
			"an account for somebody else's customer": r.Post(ctx, "/accounts", api.OpenAccount{Domain: "x.example",
				Plan: "harbour", Customer: fmt.Sprint(house.CustomerID)}, nil),
			"an account for them, named": r.Post(ctx, "/accounts", api.OpenAccount{Domain: "x.example",
				Plan: "harbour", Reseller: "razorbill", Customer: fmt.Sprint(house.CustomerID)}, nil),
			"a plan like somebody else's": r.Post(ctx, "/plans", api.NewPlan{Name: "like",
				Like: "razorbill.boat"}, nil),
			"somebody else's account on a plan": r.Post(ctx, "/plans/harbour/accounts",
				api.Shift{Accounts: []string{fmt.Sprint(house.ID)}}, nil),
			"a person for somebody else's customer": r.Post(ctx, "/people", api.NewPerson{Name: "intruder",
				Customer: house.CustomerID}, nil),
			"acting as somebody else's customer": r.Do(ctx, client.Call{Method: http.MethodPut,
				Path: "/session/acting", Body: api.ActAs{Customer: house.CustomerID}}, nil),
			"events of somebody else's account": r.Get(ctx, "/events",
				url.Values{"account": {"not-puffins.example"}}, nil),
			"operations of a server": r.Get(ctx, "/operations", url.Values{"server": {"skua"}}, nil),
		} {
			assert.Equal(t, 404, e2e.ProblemOf(t, err).Status, name)
		}
		assert.Equal(t, 422,
			e2e.ProblemOf(t, r.Post(ctx, "/people", api.NewPerson{Name: "intruder", Role: "operator"}, nil)).Status)
	})
}

func TestCustomersAndNotes(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	_, stderr, exit := e2e.Command(t, "customer", "add", "Net Loft", "--email", "net@post.example", "--contact", "Ola",
		"--language", "de")
	require.Equal(t, 0, exit, stderr)
	out, _, _ := e2e.Command(t, "customer", "show", "net loft")
	assert.Contains(t, out, "Ola")
	_, stderr, exit = e2e.Command(t, "customer", "change", "Net Loft", "--contact", "-", "--phone", "+47 1")
	require.Equal(t, 0, exit, stderr)
	out, _, _ = e2e.Command(t, "customer", "show", "Net Loft")
	assert.NotContains(t, out, "Ola")
	assert.Equal(t, 422, e2e.ProblemOf(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "4711"}, nil)).Status,
		"it would be taken for a number")
	_, stderr, exit = e2e.CommandWith(t, e2e.OperatorSession(t), "pays late, be kind\n", "notes", "change", "Net Loft")
	require.Equal(t, 0, exit, stderr)
	a := e2e.Opened(t, api.OpenAccount{Domain: "netloft.example", Customer: "Net Loft", SignInName: "netloft",
		Activation: "password", Password: e2e.Password, ReadOnly: true, MustChange: false})
	c := e2e.SignedIn(t, "netloft")
	for _, path := range []string{"/customers", fmt.Sprintf("/customers/%d", a.CustomerID), "/events", "/session",
		fmt.Sprintf("/accounts/%d", a.ID)} {
		var doc map[string]any
		require.NoError(t, c.Get(ctx, path, nil, &doc))
		assert.NotContains(t, fmt.Sprint(doc), "pays late", path)
	}
	var events api.EventPage
	require.NoError(t, c.Get(ctx, "/events", nil, &events))
	require.NotEmpty(t, events.Events)
	for _, e := range events.Events {
		assert.Equal(t, map[bool]string{true: "127.0.0.1", false: ""}[e.Actor == "netloft"], e.Address,
			"from where operators work is not the customers' business")
	}
	assert.Contains(t,
		e2e.ProblemOf(t, c.Post(ctx, fmt.Sprintf("/accounts/%d/domains", a.ID), api.NewDomain{Domain: "no.example"},
			nil)).Detail, "Sie dürfen ansehen und nichts ändern", "in the language of the customer")
	assert.Contains(t, e2e.ProblemOf(t, e2e.Remove(fmt.Sprintf("/customers/%d", a.CustomerID), nil)).Detail,
		"1 account")
	require.Equal(t, "done", e2e.CloseAccount(t, a).State)
	_, stderr, exit = e2e.Command(t, "customer", "remove", "Net Loft", "--yes")
	require.Equal(t, 0, exit, stderr)
	assert.Equal(t, 401, e2e.ProblemOf(t, c.Get(ctx, "/session", nil, nil)).Status, "their sign-ins go with them")
	assert.NotContains(t, e2e.EverythingIn(t, "customers"), "net@post.example", "and what is personal")
}

func TestHandover(t *testing.T) {
	i := e2e.Shared(t)
	sink := e2e.Mailing(t)
	names := []string{"ns1.ternisland.example", "ns2.ternisland.example"}
	e2e.Patch(t, "/settings", api.SettingsChange{NameServers: &names}, nil)
	require.NoError(t,
		i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "with-dns",
			Limits:   plans.Limits{plans.Disk: plans.Of(50 * plans.MiB), plans.Domains: plans.Of(1)},
			Features: plans.Features{"dns": true}}, nil))
	e2e.Opened(t, api.OpenAccount{Domain: "übergabe.example", Plan: "with-dns", Customer: "Übergabe", NewCustomer: true,
		CustomerEmail: "chef@post.example", Language: "de", SignInName: "ubergabe",
		Activation: "link", Server: "skua"})
	activation := e2e.Mailed(t, sink, "chef@post.example")
	assert.Contains(t, activation.Text, "Ihr Anmeldename ist ubergabe")
	out, stderr, exit := e2e.Command(t, "account", "handover", "ubergabe")
	require.Equal(t, 0, exit, stderr)
	for _, part := range []string{"Hosting für übergabe.example", i.Servers["skua"].Address.String(),
		"ns1.ternisland.example", i.Address(), "Anmeldename dort:", "ubergabe", "Speicherplatz: 50M",
		"Postfächer: 0"} {
		assert.Contains(t, out, part)
	}
	assert.NotContains(t, out, linkIn.FindStringSubmatch(activation.Text)[1])
	_, stderr, exit = e2e.Command(t, "account", "handover", "ubergabe", "--mail")
	require.Equal(t, 0, exit, stderr)
	labtest.Eventually(t, func() bool {
		return strings.Contains(sink.To("chef@post.example")[0].Text, "Das brauchen Sie zum Anfangen")
	}, "no sheet")
	assert.Equal(t, "Ihr Hosting für übergabe.example", sink.To("chef@post.example")[0].Subject)
}

func TestWhoDidWhat(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	begun := time.Now().Add(-time.Second)
	a := e2e.Opened(t, api.OpenAccount{Domain: "recorded.example", SignInName: "recorded"})
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "recorded-plan",
			Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB)}}, nil))
	e2e.Patch(t, "/plans/recorded-plan", api.PlanChange{Limits: plans.Limits{plans.Disk: plans.Unlimited}}, nil)
	secret := "a-mail-password-nobody-may-read"
	e2e.Patch(t, "/settings", api.SettingsChange{MailPassword: &secret}, nil)
	list := func(query url.Values) []api.Event {
		t.Helper()
		var page api.EventPage
		require.NoError(t, i.Client.Get(ctx, "/events", query, &page))
		return page.Events
	}
	changed := list(url.Values{"search": {"recorded-plan"}})
	require.Len(t, changed, 2)
	assert.Equal(t, "plan.change", changed[0].Action)
	assert.Equal(t, []api.Difference{{Name: "limits.disk", Title: "disk space", Before: "1G", After: "unlimited"}},
		changed[0].Fields)
	assert.Equal(t, "operator", changed[0].Actor)
	assert.Equal(t, "127.0.0.1", changed[0].Address)
	assert.NotEmpty(t, changed[0].Request)
	assert.Len(t, list(url.Values{"account": {fmt.Sprint(a.ID)}}), 1)
	assert.Empty(t, list(url.Values{"search": {"recorded-plan"}, "until": {begun.Format(time.RFC3339)}}))
	assert.Len(t, list(url.Values{"search": {"recorded-plan"}, "since": {begun.UTC().Format(time.RFC3339)}}), 2)
	assert.Empty(t, list(url.Values{"search": {"%"}, "action": {"no_such"}}))
	settings := list(url.Values{"action": {"settings"}, "limit": {"1"}})
	assert.Equal(t, []api.Difference{{Name: "mail_password", Title: "mail password", Before: "no", After: "yes"}},
		settings[0].Fields)
	assert.NotContains(t, e2e.EverythingIn(t, "events")+e2e.EverythingIn(t, "settings"), secret)

	out, stderr, exit := e2e.Command(t, "event", "export", "--search", "recorded")
	require.Equal(t, 0, exit, stderr)
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "actor", rows[0][1])
	assert.Len(t, rows, 1+len(list(url.Values{"search": {"recorded"}})))
	out, _, _ = e2e.Command(t, "event", "export", "--format", "jsonl", "--action", "plan.change", "--search",
		"recorded-plan")
	assert.Equal(t, 1, strings.Count(out, "\n"))
	out, _, _ = e2e.Command(t, "event", "list", "--search", "recorded-plan")
	assert.Contains(t, out, "disk space: 1G → unlimited")
	for _, method := range []string{http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		for _, path := range []string{"/events", "/events/1"} {
			assert.Contains(t, []int{404, 405},
				e2e.ProblemOf(t, i.Client.Do(ctx, client.Call{Method: method, Path: path}, nil)).Status,
				"no call alters or deletes events")
		}
	}
}

// Of two that cannot both be, done at the same moment, one is refused:
// what is removed has nothing of its own afterwards.
func TestRemovedMeanwhile(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	small := plans.Limits{plans.Disk: plans.Of(2 * plans.MiB), plans.Domains: plans.Of(1),
		plans.PHPWorkers: plans.Of(1)}
	open := func(path string, body any) func() error {
		return func() error { return i.Client.Post(ctx, path, body, nil) }
	}
	gone := func(path string) func() error { return func() error { return e2e.Remove(path, nil) } }
	const rounds = 20
	for n := range rounds {
		plan, reseller := fmt.Sprintf("brief-%d", n), fmt.Sprintf("brief-%d", n)
		require.NoError(t, i.Client.Post(ctx, "/plans", api.NewPlan{Name: plan, Limits: small}, nil))
		require.NoError(t,
			i.Client.Post(ctx, "/resellers", api.NewReseller{Name: reseller, Title: reseller, Limits: plans.Limits{}},
				nil))
		var kept, leaving api.Customer
		require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: fmt.Sprintf("Kept %d", n)}, &kept))
		require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: fmt.Sprintf("Leaving %d", n)},
			&leaving))
		customer := fmt.Sprint(kept.ID)
		for what, pair := range map[string][2]func() error{
			"plan": {open("/accounts", api.OpenAccount{Domain: plan + "-plan.example", Plan: plan,
				Customer: customer, SignInName: fmt.Sprintf("briefp%d", n)}), gone("/plans/" + plan)},
			"customer": {open("/accounts", api.OpenAccount{Domain: plan + "-customer.example", Plan: "harbour",
				Customer: fmt.Sprint(leaving.ID), SignInName: fmt.Sprintf("briefc%d", n)}),
				gone(fmt.Sprintf("/customers/%d", leaving.ID))},
			"reseller": {open("/customers", api.NewCustomer{Name: "Theirs", Reseller: reseller}),
				gone("/resellers/" + reseller)},
		} {
			var group sync.WaitGroup
			var errs [2]error
			for side := range pair {
				group.Go(func() { errs[side] = pair[side]() })
			}
			group.Wait()
			assert.True(t, (errs[0] == nil) != (errs[1] == nil), "round %d, %s: %v | %v", n, what, errs[0], errs[1])
			for _, err := range errs {
				if err != nil {
					p := e2e.ProblemOf(t, err)
					assert.Contains(t, []int{404, 409}, p.Status, p.Detail)
				}
			}
		}
		// Who signs in for a reseller goes with them, or never comes.
		other := fmt.Sprintf("brief-other-%d", n)
		require.NoError(t,
			i.Client.Post(ctx, "/resellers", api.NewReseller{Name: other, Title: other, Limits: plans.Limits{}}, nil))
		var group sync.WaitGroup
		group.Go(func() { i.Client.Post(ctx, "/people", api.NewPerson{Name: other + "-person", Reseller: other}, nil) })
		group.Go(func() { assert.NoError(t, e2e.Remove("/resellers/"+other, nil)) })
		group.Wait()
		assert.Equal(t, 404, e2e.ProblemOf(t, i.Client.Get(ctx, "/people/"+other+"-person", nil, nil)).Status,
			"round %d", n)
	}
	e2e.Settled(t)
	var accounts api.AccountPage
	require.NoError(t, i.Client.Get(ctx, "/accounts", url.Values{"search": {"brief-"}, "limit": {"500"}}, &accounts))
	for _, a := range accounts.Accounts {
		if a.State == "active" {
			e2e.CloseAccount(t, a)
		}
	}
}

func TestWhoLiftsASuspension(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t, i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "shearwater", Title: "Shearwater",
		Limits: plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(5),
			plans.PHPWorkers: plans.Of(2)}}, nil))
	require.NoError(t,
		i.Client.Post(ctx, "/plans", api.NewPlan{Name: "skiff", Reseller: "shearwater",
			Limits: plans.Limits{plans.Disk: plans.Of(60 * plans.MiB), plans.Domains: plans.Of(1),
				plans.PHPWorkers: plans.Of(1)}}, nil))
	require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "Lift", Reseller: "shearwater"}, nil))
	a := e2e.Opened(t, api.OpenAccount{Domain: "lifted.example", Plan: "shearwater.skiff", Reseller: "shearwater",
		Customer: "Lift", SignInName: "lifted"})
	r := e2e.Person(t, api.NewPerson{Name: "shearwater-person", Reseller: "shearwater"})
	suspend := func(by *client.Client) {
		t.Helper()
		var started api.Started
		require.NoError(t, by.Post(ctx, fmt.Sprintf("/accounts/%d/suspend", a.ID), api.Suspend{Why: "sends rubbish"},
			&started))
		require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
	}
	resume := func(by *client.Client) error {
		var started api.Started
		err := by.Post(ctx, fmt.Sprintf("/accounts/%d/resume", a.ID), nil, &started)
		if err == nil {
			require.Equal(t, "done", e2e.Watched(t, started.Operation).State)
		}
		return err
	}
	suspend(i.Client)
	p := e2e.ProblemOf(t, resume(r))
	assert.Equal(t, 403, p.Status)
	assert.Contains(t, p.Detail, "lifted was suspended by an operator (sends rubbish); an operator has to resume it")
	require.NoError(t, resume(i.Client))
	suspend(r)
	require.NoError(t, resume(r), "what they did themselves they undo")
	suspend(r)
	require.NoError(t, resume(i.Client), "an operator undoes everything")
	e2e.CloseAccount(t, a)
}
