package fleet_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestJoinServer(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	for name, c := range map[string]struct {
		in    api.NewServer
		kind  refusal.Kind
		field string
	}{
		"a label with capitals": {api.NewServer{Label: "Skua", Address: "10.0.0.1", Roles: []string{"web"}},
			refusal.InvalidInput, "label"},
		"a label in use": {api.NewServer{Label: "skua", Address: "10.0.0.1", Roles: []string{"web"}},
			refusal.NameTaken, "label"},
		"an address in use": {api.NewServer{Label: "auk", Address: "127.0.1.1:1", Roles: []string{"web"}},
			refusal.NameTaken, "address"},
		"no address": {api.NewServer{Label: "auk", Address: ":7", Roles: []string{"web"}},
			refusal.InvalidInput, "address"},
		"no role": {api.NewServer{Label: "auk", Address: "10.0.0.1", Roles: []string{}},
			refusal.InvalidInput, "roles"},
		"a role there is not": {api.NewServer{Label: "auk", Address: "10.0.0.1", Roles: []string{"boat"}},
			refusal.InvalidInput, "roles"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Fleet.JoinServer(ctx, b.Operator, c.in)
			r := servicetest.Refused(t, c.kind, err)
			require.NotEmpty(t, r.Fields)
			assert.Equal(t, c.field, r.Fields[0].Name)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	t.Run("nobody uses the secret in time", func(t *testing.T) {
		joining, err := b.Fleet.JoinServer(ctx, b.Operator, api.NewServer{Label: "auk", Address: "127.0.1.9:1",
			Roles: []string{"web"}})
		require.NoError(t, err)
		assert.NotEmpty(t, joining.JoinSecret)
		job := b.Queue.Drain()[0]
		b.Agents.On(job.ID).Set(func(a *servicetest.Agent) { a.Unreachable = true })
		done, err := b.Fleet.TryJoin(ctx, job.ID, job.Operation)
		require.NoError(t, err)
		assert.False(t, done, "it is asked again")
		b.Pass(48 * time.Hour)
		done, err = b.Fleet.TryJoin(ctx, job.ID, job.Operation)
		require.NoError(t, err)
		assert.True(t, done)
		o, err := b.Rollout.Operation(ctx, b.Operator, job.Operation)
		require.NoError(t, err)
		assert.Equal(t, "failed", o.State)
		assert.Contains(t, o.Failure, "nobody used the join secret")
	})
}

func TestWhichServer(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	open := func(domain, server string) (api.Opening, error) {
		opening, err := b.Accounts.OpenAccount(ctx, b.Operator, api.OpenAccount{Domain: domain, Plan: "harbour",
			Customer: "Tern Ferries", Server: server})
		b.Work()
		return opening, err
	}
	_, err := open("a.example", "")
	servicetest.Refused(t, refusal.NoServer, err)
	b.Server("fulmar")
	b.Server("skua")
	b.Server("petrel", "dns")

	opening, err := open("a.example", "")
	require.NoError(t, err)
	assert.NotEmpty(t, opening.Placement, "it says why")
	t.Run("one that takes no new accounts is taken only by name, and refused", func(t *testing.T) {
		closed := false
		_, err := b.Fleet.ChangeServer(ctx, b.Operator, "fulmar", 0, api.ServerChange{Open: &closed})
		require.NoError(t, err)
		opening, err := open("b.example", "")
		require.NoError(t, err)
		assert.Equal(t, "skua", opening.Account.Server)
		_, err = open("c.example", "fulmar")
		servicetest.Refused(t, refusal.ServerClosed, err)
	})
	t.Run("one that does not answer", func(t *testing.T) {
		b.Agents.On(2).Set(func(a *servicetest.Agent) { a.Unreachable = true })
		_, err := open("d.example", "skua")
		servicetest.Refused(t, refusal.ServerUnreachable, err)
		_, err = open("d.example", "")
		servicetest.Refused(t, refusal.NoServer, err)
		b.Agents.On(2).Set(func(a *servicetest.Agent) { a.Unreachable = false })
	})
	t.Run("one without the role", func(t *testing.T) {
		_, err := open("e.example", "petrel")
		require.Error(t, err)
		assert.NotNil(t, refusal.As(err))
	})
}

func TestChangeServer(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	open := false
	_, err := b.Fleet.ChangeServer(ctx, b.Operator, "skua", 99, api.ServerChange{Open: &open})
	servicetest.Refused(t, refusal.Changed, err)
	_, err = b.Fleet.ChangeServer(ctx, b.Operator, "auk", 0, api.ServerChange{Open: &open})
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.Fleet.ChangeServer(ctx, b.Operator, "skua", 0, api.ServerChange{Addresses: &[]string{"not an address"}})
	servicetest.Refused(t, refusal.InvalidInput, err)
	p := b.Preview(b.Operator, func(a usecase.Actor) error {
		_, err := b.Fleet.ChangeServer(ctx, a, "skua", 0, api.ServerChange{Open: &open})
		return err
	})
	assert.NotEmpty(t, p.Summary)
	changed, err := b.Fleet.ChangeServer(ctx, b.Operator, "skua", 0, api.ServerChange{Open: &open})
	require.NoError(t, err)
	assert.False(t, changed.Open)
}

func TestRemoveServer(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	b.Customer("Tern Ferries", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "a.example", Plan: "harbour", Customer: "Tern Ferries"})
	servicetest.Refused(t, refusal.InUse, b.Fleet.RemoveServer(ctx, b.Operator, "skua"))
	b.Server("auk")
	require.NoError(t, b.Fleet.RemoveServer(ctx, b.Operator, "auk"))
	servicetest.Refused(t, refusal.NotFound, b.Fleet.RemoveServer(ctx, b.Operator, "auk"))
}

func TestPollServers(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	require.NoError(t, b.Fleet.PollServers(ctx))
	list, err := b.Fleet.Servers(ctx)
	require.NoError(t, err)
	require.Len(t, list.Servers, 1)
	assert.True(t, list.Servers[0].Reachable)
	require.NotNil(t, list.Servers[0].Health)
	b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Unreachable = true })
	require.NoError(t, b.Fleet.PollServers(ctx), "one that does not answer holds nobody up")
	server, err := b.Fleet.Server(ctx, "skua")
	require.NoError(t, err)
	assert.False(t, server.Reachable)
	assert.NotNil(t, server.Health, "what it said last is told all the same")
}
