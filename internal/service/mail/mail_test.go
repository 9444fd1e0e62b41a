package mail_test

import (
	"strings"
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

const password = "tidal-barnacle-2741"

// island is a bench with a plan with mail, and an account on it, on a server that takes none.
func island(t *testing.T) *servicetest.Bench {
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{plans.Mailboxes: plans.Of(2), plans.MailboxSize: plans.Of(plans.GiB)}, "mail")
	b.Plan("bare", nil)
	b.Customer("Tern Ferries", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "gangway.example", Plan: "harbour", Customer: "Tern Ferries"})
	return b
}

// takesMail gives a server the name that it needs to take mail.
func takesMail(t *testing.T, b *servicetest.Bench, label string) {
	t.Helper()
	name := label + ".ternisland.example"
	_, err := b.Fleet.ChangeServer(t.Context(), b.Operator, label, 0, api.ServerChange{HostName: &name})
	require.NoError(t, err)
}

func TestWhereMailIs(t *testing.T) {
	ctx := t.Context()
	b := island(t)
	add := func(account, address string) (api.MailboxChanged, error) {
		return b.Mail.AddMailbox(ctx, b.Operator, account, api.NewMailbox{Address: address, Password: password})
	}
	_, err := add("gangway.example", "info")
	servicetest.Refused(t, refusal.NoServer, err)
	b.Server("tern", "mail")
	b.Server("puffin", "web", "mail")
	_, err = add("gangway.example", "info")
	servicetest.Refused(t, refusal.NoServer, err)
	takesMail(t, b, "tern")
	takesMail(t, b, "puffin")

	b.Account(b.Operator, api.OpenAccount{Domain: "at-home.example", Plan: "harbour", Customer: "Tern Ferries",
		Server: "puffin"})
	first, err := add("at-home.example", "info")
	require.NoError(t, err)
	assert.Equal(t, "puffin.ternisland.example", first.Server, "where its sites are")
	second, err := add("gangway.example", "info")
	require.NoError(t, err)
	assert.Equal(t, "tern.ternisland.example", second.Server, "where the mail of the fewest is")
	b.Work()
	takesMail(t, b, "skua")
	third, err := add("gangway.example", "second")
	require.NoError(t, err)
	assert.Equal(t, second.Server, third.Server, "it stays where it is")
	b.Work()

	detail, err := b.Accounts.Account(ctx, b.Operator, "gangway.example")
	require.NoError(t, err)
	m, there := b.Agents.On(2).InForce(detail.ID)
	require.True(t, there)
	assert.True(t, m.Elsewhere)
	require.NotNil(t, m.Mail)
	assert.Len(t, m.Mail.Mailboxes, 2)
	home, _ := b.Agents.On(1).InForce(detail.ID)
	assert.Nil(t, home.Mail)

	name := "tern.ternisland.example"
	_, err = b.Fleet.ChangeServer(ctx, b.Operator, "skua", 0, api.ServerChange{HostName: &name})
	servicetest.Refused(t, refusal.NameTaken, err)
}

func TestMailboxes(t *testing.T) {
	ctx := t.Context()
	b := island(t)
	b.Server("tern", "mail")
	takesMail(t, b, "tern")
	owner := b.Customer("Tern Boats", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	b.Account(b.Operator, api.OpenAccount{Domain: "bare.example", Plan: "bare", Customer: "Tern Boats"})
	size := 2 * plans.GiB
	for name, c := range map[string]struct {
		account string
		in      api.NewMailbox
		kind    refusal.Kind
	}{
		"a wrong local part": {"boats.example", api.NewMailbox{Address: "a b"}, refusal.InvalidInput},
		"a catch-all":        {"boats.example", api.NewMailbox{Address: "*"}, refusal.InvalidInput},
		"somebody else's domain": {"boats.example", api.NewMailbox{Address: "a@gangway.example"},
			refusal.InvalidInput},
		"somebody else's account": {"gangway.example", api.NewMailbox{Address: "a"}, refusal.NotFound},
		"no mail in the plan":     {"bare.example", api.NewMailbox{Address: "a"}, refusal.NotAllowed},
		"more than a mailbox has": {"boats.example", api.NewMailbox{Address: "a", Size: &size}, refusal.LimitReached},
		"a weak password": {"boats.example", api.NewMailbox{Address: "a", Password: "letmein"},
			refusal.WeakPassword},
		"a password that is the name": {"boats.example", api.NewMailbox{Address: "skipper",
			Password: "skipper@boats.example"}, refusal.WeakPassword},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Mail.AddMailbox(ctx, owner, c.account, c.in)
			servicetest.Refused(t, c.kind, err)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	added, err := b.Mail.AddMailbox(ctx, owner, "boats.example", api.NewMailbox{Address: "Info@boats.example",
		Password: password})
	require.NoError(t, err)
	assert.Equal(t, "info@boats.example", added.Mailbox.Address)
	_, err = b.Mail.AddMailbox(ctx, owner, "boats.example", api.NewMailbox{Address: "info"})
	servicetest.Refused(t, refusal.NameTaken, err)
	_, err = b.Mail.AddMailbox(ctx, owner, "boats.example", api.NewMailbox{Address: "second"})
	require.NoError(t, err)
	_, err = b.Mail.AddMailbox(ctx, owner, "boats.example", api.NewMailbox{Address: "third"})
	servicetest.Refused(t, refusal.LimitReached, err)
	b.Work()

	held := func() map[string]string {
		m, _ := b.Agents.On(2).InForce(account.ID)
		hashes := map[string]string{}
		if m.Mail != nil {
			for _, box := range m.Mail.Mailboxes {
				hashes[box.Address] = box.Hash
				require.NotNil(t, box.Size)
				assert.EqualValues(t, plans.GiB, *box.Size, "what the account may give one")
			}
		}
		return hashes
	}
	before := held()
	assert.True(t, strings.HasPrefix(before["info@boats.example"], "{BLF-CRYPT}$2a$"))
	assert.Empty(t, before["second@boats.example"], "without a password, nobody signs in")

	t.Run("a change by somebody who has not seen the last one", func(t *testing.T) {
		_, err := b.Mail.ChangeMailbox(ctx, owner, "boats.example", "info", added.Version+1, api.MailboxChange{})
		servicetest.Refused(t, refusal.Changed, err)
	})
	t.Run("another password", func(t *testing.T) {
		another := "windy-cormorant-5519"
		_, err := b.Mail.ChangeMailbox(ctx, owner, "boats.example", "info@boats.example", added.Version,
			api.MailboxChange{Password: &another})
		require.NoError(t, err)
		b.Work()
		assert.NotEqual(t, before["info@boats.example"], held()["info@boats.example"])
	})
	t.Run("nobody signs in while the account is suspended", func(t *testing.T) {
		_, err := b.Selling.SuspendAccount(ctx, b.Operator, "boats.example", "unpaid")
		require.NoError(t, err)
		b.Work()
		assert.Equal(t, map[string]string{"info@boats.example": "", "second@boats.example": ""}, held())
		_, err = b.Selling.ResumeAccount(ctx, b.Operator, "boats.example")
		require.NoError(t, err)
		b.Work()
	})
	t.Run("a mailbox is removed, and so is the account", func(t *testing.T) {
		_, err := b.Mail.RemoveMailbox(ctx, owner, "boats.example", "second")
		require.NoError(t, err)
		b.Work()
		assert.Len(t, held(), 1)
		_, err = b.Accounts.CloseAccount(ctx, b.Operator, account.SignInName, account.SignInName)
		require.NoError(t, err)
		b.Work()
		_, there := b.Agents.On(2).InForce(account.ID)
		assert.False(t, there)
	})
}
