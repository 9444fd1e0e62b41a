package databases_test

import (
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
)

func TestContents(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "database")
	engines(t, b, 1, "mariadb", "postgresql")
	b.Plan("harbour", plans.Limits{plans.Databases: plans.Of(5)}, "databases")
	owner, other := b.Customer("Tern Ferries", ""), b.Customer("Lamp Works", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "gangway.example", Plan: "harbour", Customer: "Tern Ferries"})
	const at = "gangway.example"
	add := func(in api.NewDatabase) {
		t.Helper()
		_, err := b.Databases.AddDatabase(ctx, owner, at, in)
		require.NoError(t, err)
		b.Work()
	}
	agent := b.Agents.On(1)
	agent.Set(func(a *servicetest.Agent) {
		a.Answer = agentlink.DatabaseAnswer{Tables: []agentlink.DatabaseTable{{Name: "boats"}},
			Result: &agentlink.StatementResult{Columns: []string{"n"}, Took: time.Second, Affected: 3}}
	})
	add(api.NewDatabase{Name: "shop"})
	_, err := b.Databases.Tables(ctx, owner, at, "shop", "")
	servicetest.Refused(t, refusal.WrongState, err) // nobody may do anything with it
	_, err = b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "eye", Password: password,
		Levels: []api.DatabaseLevel{{Database: "shop", Level: "read"}}})
	require.NoError(t, err)
	_, err = b.Databases.AddDatabaseUser(ctx, owner, at, api.NewDatabaseUser{Name: "mute",
		Levels: []api.DatabaseLevel{{Database: "shop", Level: "all"}}})
	require.NoError(t, err)
	tables, err := b.Databases.Tables(ctx, owner, at, "shop", "")
	require.NoError(t, err)
	assert.Equal(t, "gangway_eye", tables.User, "the other one has no password")
	_, err = b.Databases.Tables(ctx, owner, at, "shop", "mute")
	servicetest.Refused(t, refusal.WrongState, err)
	add(api.NewDatabase{Name: "spare", User: "app", Password: password})
	_, err = b.Databases.Tables(ctx, owner, at, "shop", "app")
	servicetest.Refused(t, refusal.WrongState, err)
	add(api.NewDatabase{Name: "notes", Engine: "postgresql", User: "pen", Password: password})

	t.Run("statements", func(t *testing.T) {
		result, err := b.Databases.Execute(ctx, owner, at, "shop", api.NewStatement{Statement: "DELETE FROM boats"})
		require.NoError(t, err)
		assert.Equal(t, api.StatementResult{User: "gangway_eye", Columns: []string{"n"}, Rows: [][]*string{},
			Affected: 3, Seconds: 1}, result)
		assert.Contains(t, b.Events(at)[0], "database.statement")
		last := time.Now()
		agent.Set(func(a *servicetest.Agent) {
			a.Answer.Slow = []databases.SlowStatement{{User: "gangway_eye", Statement: "SELECT …",
				Hours: []databases.SlowHour{{Count: 2, Longest: 3 * time.Second, Total: 4 * time.Second, Last: last}}}}
		})
		slow, err := b.Databases.Slow(ctx, owner, at, "shop")
		require.NoError(t, err)
		assert.Equal(t, []api.SlowStatement{{User: "gangway_eye", Statement: "SELECT …", Count: 2, Longest: 3, Total: 4,
			LastAt: last}}, slow.Slow)
		agent.Set(func(a *servicetest.Agent) { a.Answer.Refused = "1054: no such column" })
		_, err = b.Databases.Execute(ctx, owner, at, "shop", api.NewStatement{Statement: "SELECT x"})
		servicetest.Refused(t, refusal.InvalidInput, err)
		assert.ErrorContains(t, err, "MariaDB: 1054: no such column")
		statements := strings.Count(strings.Join(b.Events(at), "\n"), "database.statement")
		assert.Equal(t, 2, statements, "what was tried is recorded, too")
		agent.Set(func(a *servicetest.Agent) { a.Answer.Refused, a.Unreachable = "", true })
		_, err = b.Databases.Running(ctx, owner, at, "shop")
		servicetest.Refused(t, refusal.ServerUnreachable, err)
		agent.Set(func(a *servicetest.Agent) { a.Unreachable = false })
	})
	t.Run("imports", func(t *testing.T) {
		for what, in := range map[string]api.NewImport{"nothing": {}, "both": {CopyOf: "spare", Size: 3}} {
			_, err := b.Databases.NewImport(ctx, owner, at, "shop", in)
			servicetest.Refused(t, refusal.InvalidInput, err)
			assert.Error(t, err, what)
		}
		for _, from := range []string{"shop", "notes"} { // itself; another engine
			_, err := b.Databases.NewImport(ctx, owner, at, "shop", api.NewImport{CopyOf: from})
			servicetest.Refused(t, refusal.WrongState, err)
		}
		one, err := b.Databases.NewImport(ctx, owner, at, "shop", api.NewImport{Name: "boats.sql", Size: 6})
		require.NoError(t, err)
		one, err = b.Databases.ContinueImport(ctx, owner, at, one.ID, 0, strings.NewReader("SELECT"))
		require.NoError(t, err)
		assert.EqualValues(t, 6, one.Received)
		in, err := b.Databases.ImportContents(ctx, owner, at, one.ID)
		require.NoError(t, err)
		assert.Equal(t, "definer", in.Found[0].What)
		assert.True(t, in.Found[0].Mended)
		_, err = b.Databases.StartImport(ctx, other, at, one.ID, api.StartImport{})
		servicetest.Refused(t, refusal.NotFound, err)
		done, err := b.Databases.StartImport(ctx, owner, at, one.ID, api.StartImport{Mend: true})
		require.NoError(t, err)
		assert.Equal(t, "done", done.State)
		assert.NotNil(t, done.EndedAt)
		assert.Contains(t, b.Events(at)[0], "database.import")
		_, err = b.Databases.Import(ctx, owner, at, "nothing")
		servicetest.Refused(t, refusal.NotFound, err)
		list, err := b.Databases.Imports(ctx, owner, at)
		require.NoError(t, err)
		assert.Len(t, list.Imports, 1)
	})
	t.Run("files in the home", func(t *testing.T) {
		agent.Set(func(a *servicetest.Agent) {
			a.HomeFiles = map[string]string{"boats.sql": "SELECT 1;", "cut.sql": "SELECT!", "empty.sql": ""}
		})
		for what, in := range map[string]api.NewImport{"there is no file nothing.sql": {HomeFile: "nothing.sql"},
			"empty.sql is empty": {HomeFile: "empty.sql"}, "not both": {HomeFile: "boats.sql", Size: 3}} {
			_, err := b.Databases.NewImport(ctx, owner, at, "spare", in)
			servicetest.Refused(t, refusal.InvalidInput, err)
			assert.ErrorContains(t, err, what)
		}
		imports := func(file string) api.DatabaseImport {
			t.Helper()
			one, err := b.Databases.NewImport(ctx, owner, at, "spare", api.NewImport{HomeFile: file})
			require.NoError(t, err)
			assert.True(t, one.FromHome)
			assert.EqualValues(t, 0, one.Received)
			return one
		}
		now := func(one api.DatabaseImport) api.DatabaseImport {
			t.Helper()
			one, err := b.Databases.Import(ctx, owner, at, one.ID)
			require.NoError(t, err)
			return one
		}
		whole := imports("boats.sql")
		_, err := b.Databases.ContinueImport(ctx, owner, at, whole.ID, 0, strings.NewReader("DROP"))
		servicetest.Refused(t, refusal.WrongState, err)
		b.Work()
		assert.EqualValues(t, 9, now(whole).Received)

		changed := imports("boats.sql")
		agent.Set(func(a *servicetest.Agent) { a.HomeFiles["boats.sql"] = "SELECT 2, 3;" })
		b.Work()
		assert.Equal(t, "failed", now(changed).State)
		assert.Contains(t, now(changed).Failure, "boats.sql was changed meanwhile")

		away := imports("boats.sql")
		account := b.Queue.Drain()[0].ID
		for range 2 { // the server that it comes from, or goes to, does not answer; the rest does not come
			agent.Set(func(a *servicetest.Agent) { a.Unreachable = true })
			again, err := b.Databases.ReceiveImport(ctx, account, away.ID)
			require.NoError(t, err)
			assert.Positive(t, again)
			agent.Set(func(a *servicetest.Agent) { a.Unreachable = false })
		}
		cut := imports("cut.sql")
		again, err := b.Databases.ReceiveImport(ctx, account, cut.ID)
		require.NoError(t, err)
		assert.Positive(t, again)
		assert.Equal(t, "waiting", now(cut).State)
		assert.EqualValues(t, 6, now(cut).Received, "what has come is not sent again")
		again, err = b.Databases.ReceiveImport(ctx, account, "gone")
		require.NoError(t, err)
		assert.Zero(t, again)
	})
	t.Run("export", func(t *testing.T) {
		contents, name, err := b.Databases.Export(ctx, owner, at, "spare", "", "zstd", []string{"boats"})
		require.NoError(t, err)
		text, err := io.ReadAll(contents)
		require.NoError(t, err)
		assert.Equal(t, "-- gangway_spare", string(text))
		assert.Regexp(t, `^gangway_spare-\d{4}-\d\d-\d\d\.sql\.zst$`, name)
		assert.Contains(t, b.Events(at)[0], "database.export")
		_, _, err = b.Databases.Export(ctx, other, at, "spare", "", "", nil)
		servicetest.Refused(t, refusal.NotFound, err)
	})
}
