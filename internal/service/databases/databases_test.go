package databases_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	service "victualler/internal/service/databases"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const password = "tidal-barnacle-2741"

// engines makes the agent of a server say which engines it runs.
func engines(t *testing.T, b *servicetest.Bench, server int64, programs ...string) {
	t.Helper()
	b.Agents.On(server).Set(func(a *servicetest.Agent) {
		for _, name := range programs {
			a.Health.Programs = append(a.Health.Programs, agentlink.ProgramStatus{Name: name, Running: true})
		}
	})
	require.NoError(t, b.Fleet.PollServers(t.Context()))
}

func TestDatabases(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "database")
	b.Server("fulmar", "web")
	b.Server("petrel", "database")
	b.Plan("harbour", plans.Limits{plans.Databases: plans.Of(3), plans.DatabaseSize: plans.Of(100 * plans.MiB)},
		"databases")
	b.Plan("bare", nil)
	owner := b.Customer("Tern Ferries", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "gangway.example", Plan: "harbour",
		Customer: "Tern Ferries", Server: "skua"})
	b.Account(b.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Tern Ferries",
		Server: "fulmar"})
	const at = "gangway.example"

	_, err := b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "shop"})
	servicetest.Refused(t, refusal.NoServer, err)
	engines(t, b, 1, "mariadb")
	engines(t, b, 3, "postgresql")

	for name, c := range map[string]struct {
		in   api.NewDatabase
		kind refusal.Kind
	}{
		"a name with a quote":     {api.NewDatabase{Name: "it's"}, refusal.InvalidInput},
		"an engine that is none":  {api.NewDatabase{Name: "shop", Engine: "sqlite"}, refusal.InvalidInput},
		"a collation that is not": {api.NewDatabase{Name: "shop", Collation: "utf8mb4_martian"}, refusal.InvalidInput},
		"a weak password": {api.NewDatabase{Name: "shop", User: "app", Password: "secret"},
			refusal.WeakPassword},
		"a password beyond ASCII": {api.NewDatabase{Name: "shop", User: "app", Password: "möwe-barnacle-2741"},
			refusal.InvalidInput},
		"a server by a customer": {api.NewDatabase{Name: "shop", Server: "skua"}, refusal.NotAllowed},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Databases.AddDatabase(ctx, owner, at, c.in)
			servicetest.Refused(t, c.kind, err)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	_, err = b.Databases.AddDatabase(ctx, owner, "bare.example", api.NewDatabase{Name: "shop"})
	servicetest.Refused(t, refusal.NotAllowed, err)

	added, err := b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "Shop", User: "app",
		Password: password})
	require.NoError(t, err)
	assert.Equal(t, "gangway_shop", added.Database.Name)
	assert.Equal(t, "skua", added.Database.Server)
	assert.Equal(t, []api.DatabaseAccess{{User: "gangway_app", Level: "all"}}, added.Database.Users)
	_, err = b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "shop"})
	servicetest.Refused(t, refusal.NameTaken, err)
	notes, err := b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "notes", Engine: "postgresql",
		User: "pen", Password: password})
	require.NoError(t, err)
	assert.Equal(t, "petrel", notes.Database.Server, "the only one with that engine")
	_, err = b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "third", User: "pen"})
	servicetest.Refused(t, refusal.WrongState, err)
	_, err = b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "third", User: "app"})
	require.NoError(t, err, "a user that is there keeps its password")
	_, err = b.Databases.AddDatabase(ctx, owner, at, api.NewDatabase{Name: "fourth"})
	servicetest.Refused(t, refusal.LimitReached, err)
	b.Work()

	t.Run("what servers hold", func(t *testing.T) {
		m, _ := b.Agents.On(1).InForce(account.ID)
		require.NotNil(t, m.Databases)
		assert.Len(t, m.Databases.Databases, 2)
		assert.EqualValues(t, 100*plans.MiB, *m.Databases.SizeLimit)
		require.Len(t, m.Databases.Users, 1)
		app := m.Databases.Users[0]
		assert.True(t, databases.IsVerifier(databases.MariaDB, string(app.Verifier)))
		assert.Empty(t, app.Hosts, "its sites are on the same server")
		m, _ = b.Agents.On(3).InForce(account.ID)
		require.NotNil(t, m.Databases)
		assert.True(t, m.Elsewhere)
		require.Len(t, m.Databases.Users, 1)
		assert.True(t, databases.IsVerifier(databases.PostgreSQL, string(m.Databases.Users[0].Verifier)))
		assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("192.0.2.21/32"), netip.MustParsePrefix("127.0.1.1/32")},
			m.Databases.Users[0].Hosts, "its sites are on another server, whose agent is reached at the second")
	})
	t.Run("users", func(t *testing.T) {
		_, err := b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "app", Password: password})
		servicetest.Refused(t, refusal.NameTaken, err)
		_, err = b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "eye", Hosts: []string{"%"}})
		servicetest.Refused(t, refusal.InvalidInput, err)
		_, err = b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "eye",
			Levels: []api.DatabaseLevel{{Database: "shop", Level: "read"}, {Database: "notes", Level: "read"}}})
		servicetest.Refused(t, refusal.WrongState, err)
		_, err = b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "eye",
			Levels: []api.DatabaseLevel{{Database: "nothing", Level: "read"}}})
		servicetest.Refused(t, refusal.NotFound, err)
		eye, err := b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "eye", Password: password,
			Hosts:  []string{"192.0.2.9/24"},
			Levels: []api.DatabaseLevel{{Database: "notes", Level: "read"}}})
		require.NoError(t, err)
		assert.Equal(t, "postgresql", eye.User.Engine, "that of its databases")
		assert.Equal(t, []string{"192.0.2.0/24"}, eye.User.Hosts)
		_, err = b.Databases.ChangeDatabaseUser(ctx, owner, at, "eye", 99, api.DatabaseUserChange{})
		servicetest.Refused(t, refusal.Changed, err)
		_, err = b.Databases.ChangeDatabaseUser(ctx, owner, at, "eye", 0, api.DatabaseUserChange{})
		servicetest.Refused(t, refusal.InvalidInput, err)
		none := ""
		changed, err := b.Databases.ChangeDatabaseUser(ctx, owner, at, "eye", eye.Version, api.DatabaseUserChange{
			Password: &none, Hosts: &[]string{}, Remove: []string{"gangway_notes"}})
		require.NoError(t, err)
		assert.Equal(t, api.DatabaseUser{Name: "gangway_eye", Engine: "postgresql", Hosts: []string{},
			Levels: []api.DatabaseLevel{}, AddedAt: changed.User.AddedAt, Version: 2}, changed.User)
		_, err = b.Databases.RemoveDatabaseUser(ctx, owner, at, "eye")
		require.NoError(t, err)
		_, err = b.Databases.RemoveDatabaseUser(ctx, owner, at, "eye")
		servicetest.Refused(t, refusal.NotFound, err)
		b.Work()
	})
	t.Run("sizes", func(t *testing.T) {
		b.Agents.On(1).Sizes = map[int64][]agentlink.DatabaseSize{account.ID: {
			{Engine: databases.MariaDB, Name: "gangway_shop", Size: 120 << 20, Growth: databases.Stopped},
			{Engine: databases.MariaDB, Name: "gangway_third", Size: 5 << 20, Growth: databases.Stopped},
			{Engine: databases.PostgreSQL, Name: "gangway_notes", Size: 77, Growth: databases.Closed}}}
		require.NoError(t, b.Rollout.Sweep(ctx, 1, 0, false))
		list, err := b.Databases.Databases(ctx, owner, at)
		require.NoError(t, err)
		assert.EqualValues(t, 125<<20, list.Used)
		assert.EqualValues(t, 100<<20, *list.Limit)
		assert.Nil(t, list.Databases[0].Size, "a server tells the sizes of its own databases alone")
		assert.Equal(t, "stopped", list.Databases[1].Growth)
		assert.Empty(t, list.Engines[0].Placement, "it speaks of other servers")
		told, err := b.Base.Store.DatabasesUsed(ctx, account.ID)
		require.NoError(t, err)
		assert.EqualValues(t, 100, told.Told, "the customer is told")
		detail, err := b.Accounts.Account(ctx, owner, at)
		require.NoError(t, err)
		for _, l := range detail.Allowance {
			if l.Key == string(plans.DatabaseSize) {
				assert.EqualValues(t, 125<<20, *l.Used)
			}
		}
		require.Len(t, detail.Warnings, 1)
		assert.Contains(t, detail.Warnings[0].What, "over their limit")
	})
	t.Run("everywhere", func(t *testing.T) {
		page, err := b.Databases.All(ctx, b.Operator, service.Filter{}, "", 2)
		require.NoError(t, err)
		require.Len(t, page.Databases, 2)
		assert.Equal(t, "gangway_shop", page.Databases[0].Name, "the biggest first")
		assert.Equal(t, "skua", page.Databases[0].Server)
		page, err = b.Databases.All(ctx, b.Operator, service.Filter{}, page.Next, 2)
		require.NoError(t, err)
		require.Len(t, page.Databases, 1)
		assert.Empty(t, page.Next)
		assert.Equal(t, "gangway_notes", page.Databases[0].Name, "not measured yet")
		for n, f := range []service.Filter{{Search: "%"}, {Server: "petrel"}, {Limited: true}} {
			page, err = b.Databases.All(ctx, owner, f, "", 50)
			require.NoError(t, err)
			require.Len(t, page.Databases, n, "%+v", f)
		}
		assert.Empty(t, page.Databases[0].Server, "it speaks of other servers")
		page, err = b.Databases.All(ctx, b.Customer("Lamp Works", ""), service.Filter{}, "", 50)
		require.NoError(t, err)
		assert.Empty(t, page.Databases, "a stranger's are not there")
		list, err := b.Databases.Engines(ctx)
		require.NoError(t, err)
		require.Len(t, list.Engines, 2)
		assert.Equal(t, api.Engine{Server: "skua", Engine: "mariadb", Title: "MariaDB", Running: true, Reachable: true,
			Accounts: 1, Databases: 2, Size: 125 << 20, Limited: 1}, list.Engines[1])
	})
	t.Run("a change of plan reaches the servers", func(t *testing.T) {
		limits := plans.Limits{plans.DatabaseSize: plans.Of(200 * plans.MiB)}
		_, err := b.Selling.ChangePlan(ctx, b.Operator, "harbour", 0, api.PlanChange{Limits: limits})
		require.NoError(t, err)
		b.Work()
		m, _ := b.Agents.On(1).InForce(account.ID)
		assert.EqualValues(t, 200*plans.MiB, *m.Databases.SizeLimit)
	})
	t.Run("collation", func(t *testing.T) {
		other, odd := "utf8mb4_german2_ci", "C"
		changed, err := b.Databases.ChangeDatabase(ctx, owner, at, "shop", 0, api.DatabaseChange{Collation: &other})
		require.NoError(t, err)
		assert.Equal(t, other, changed.Database.Collation)
		_, err = b.Databases.ChangeDatabase(ctx, owner, at, "notes", 0, api.DatabaseChange{Collation: &odd})
		servicetest.Refused(t, refusal.WrongState, err)
		_, err = b.Databases.ChangeDatabase(ctx, owner, at, "shop", 0, api.DatabaseChange{})
		servicetest.Refused(t, refusal.InvalidInput, err)
	})
	t.Run("suspended", func(t *testing.T) {
		_, err := b.Selling.SuspendAccount(ctx, b.Operator, at, "unpaid")
		require.NoError(t, err)
		b.Work()
		for _, server := range []int64{1, 3} {
			m, _ := b.Agents.On(server).InForce(account.ID)
			assert.True(t, m.Databases.Suspended)
			assert.NotEmpty(t, m.Databases.Databases, "everything stays")
		}
		_, err = b.Databases.RemoveDatabase(ctx, owner, at, "shop")
		servicetest.Refused(t, refusal.Suspended, err)
		_, err = b.Selling.ResumeAccount(ctx, b.Operator, at)
		require.NoError(t, err)
		b.Work()
	})
	t.Run("removed", func(t *testing.T) {
		preview := b.Preview(owner, func(a usecase.Actor) error {
			_, err := b.Databases.RemoveDatabase(ctx, a, at, "notes")
			return err
		})
		assert.Contains(t, preview.Notes, "the database user gangway_pen stays, and can use no database then")
		_, err := b.Databases.RemoveDatabase(ctx, owner, at, "notes")
		require.NoError(t, err)
		b.Work()
		m, _ := b.Agents.On(3).InForce(account.ID)
		assert.Empty(t, m.Databases.Databases)
	})
	t.Run("a stranger's are not there", func(t *testing.T) {
		_, err := b.Databases.Databases(ctx, b.Customer("Auk", ""), at)
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("closed", func(t *testing.T) {
		_, err := b.Accounts.CloseAccount(ctx, b.Operator, at, "gangway")
		require.NoError(t, err)
		b.Work()
		for _, server := range []int64{1, 3} {
			m, _ := b.Agents.On(server).InForce(account.ID)
			assert.Nil(t, m.Databases)
		}
		list, err := b.Base.Store.DatabasesOfAccount(ctx, account.ID)
		require.NoError(t, err)
		assert.Empty(t, list)
	})
}
