package logins_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIB6LCiXwOVnM9HwXbY0Zk0HhmUEX0uJb3oPlWqS2MvqC mate@bridge"

func TestLogins(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{plans.Logins: plans.Of(2)}, "logins", "shell")
	b.Plan("bare", nil)
	owner := b.Customer("Tern Ferries", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "gangway.example", Plan: "harbour",
		Customer: "Tern Ferries"})
	b.Account(b.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Tern Ferries"})

	for name, c := range map[string]struct {
		in   api.NewLogin
		kind refusal.Kind
	}{
		"a name with a dot":  {api.NewLogin{Name: "ma.te", Password: "long enough"}, refusal.InvalidInput},
		"a key that is none": {api.NewLogin{Name: "mate", Keys: []string{"nonsense"}}, refusal.InvalidInput},
		"a folder that leads out": {api.NewLogin{Name: "mate", Keys: []string{key}, Folder: "../other"},
			refusal.InvalidInput},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Logins.AddLogin(ctx, owner, "gangway.example", c.in)
			servicetest.Refused(t, c.kind, err)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	_, err := b.Logins.AddLogin(ctx, owner, "bare.example", api.NewLogin{Name: "mate", Keys: []string{key}})
	servicetest.Refused(t, refusal.NotAllowed, err)

	added, err := b.Logins.AddLogin(ctx, owner, "gangway.example", api.NewLogin{Name: "mate", Keys: []string{key},
		Folder: "sites/gangway.example"})
	require.NoError(t, err)
	assert.Equal(t, "gangway-mate", added.Login.Name)
	_, err = b.Logins.AddLogin(ctx, owner, "gangway.example", api.NewLogin{Name: "mate", Keys: []string{key}})
	servicetest.Refused(t, refusal.NameTaken, err)
	_, err = b.Logins.AddLogin(ctx, owner, "gangway.example", api.NewLogin{Name: "cook",
		Password: "tidal-barnacle-2741"})
	require.NoError(t, err)
	_, err = b.Logins.AddLogin(ctx, owner, "gangway.example", api.NewLogin{Name: "third",
		Password: "tidal-barnacle-2741"})
	servicetest.Refused(t, refusal.LimitReached, err)
	b.Work()

	t.Run("what the server holds", func(t *testing.T) {
		m, _ := b.Agents.On(1).InForce(account.ID)
		require.Len(t, m.Logins, 3, "its own sign-in, and two more")
		assert.True(t, m.Shell)
		for _, l := range m.Logins {
			switch l.Name {
			case "gangway-mate":
				assert.Equal(t, "sites/gangway.example", l.Folder)
				assert.Len(t, l.Keys, 1)
			case "gangway-cook":
				assert.NotEmpty(t, l.Hash)
				assert.NotContains(t, l.Hash, "barnacle")
			}
		}
	})
	t.Run("nobody is let in while the account is suspended", func(t *testing.T) {
		_, err := b.Selling.SuspendAccount(ctx, b.Operator, "gangway.example", "unpaid")
		require.NoError(t, err)
		b.Work()
		m, _ := b.Agents.On(1).InForce(account.ID)
		for _, l := range m.Logins {
			assert.Empty(t, l.Hash)
			assert.Empty(t, l.Keys)
		}
		assert.False(t, m.Shell)
		_, err = b.Logins.RemoveLogin(ctx, owner, "gangway.example", "gangway-mate")
		servicetest.Refused(t, refusal.Suspended, err)
		_, err = b.Selling.ResumeAccount(ctx, b.Operator, "gangway.example")
		require.NoError(t, err)
		b.Work()
	})
	t.Run("changing one", func(t *testing.T) {
		list, err := b.Logins.Logins(ctx, owner, "gangway.example")
		require.NoError(t, err)
		require.Len(t, list.Logins, 3)
		assert.True(t, list.Logins[0].Main)
		_, err = b.Logins.ChangeLogin(ctx, owner, "gangway.example", "gangway-mate", 99, api.LoginChange{})
		servicetest.Refused(t, refusal.Changed, err)
		fingerprint := added.Login.Keys[0].Fingerprint
		_, err = b.Logins.ChangeLogin(ctx, owner, "gangway.example", "gangway-mate", 0,
			api.LoginChange{RemoveKeys: []string{"SHA256:nothing"}})
		require.Error(t, err)
		word := "another-barnacle-88"
		changed, err := b.Logins.ChangeLogin(ctx, owner, "gangway.example", "gangway-mate", 0,
			api.LoginChange{RemoveKeys: []string{fingerprint}, Password: &word})
		require.NoError(t, err)
		assert.Empty(t, changed.Login.Keys)
		assert.True(t, changed.Login.Password)
	})
	t.Run("the account's own stays", func(t *testing.T) {
		_, err := b.Logins.RemoveLogin(ctx, owner, "gangway.example", "gangway")
		servicetest.Refused(t, refusal.InUse, err)
		_, err = b.Logins.RemoveLogin(ctx, owner, "gangway.example", "gangway-cook")
		require.NoError(t, err)
		_, err = b.Logins.RemoveLogin(ctx, owner, "gangway.example", "gangway-cook")
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("a stranger's are not there", func(t *testing.T) {
		_, err := b.Logins.Logins(ctx, b.Customer("Auk", ""), "gangway.example")
		servicetest.Refused(t, refusal.NotFound, err)
	})
}
