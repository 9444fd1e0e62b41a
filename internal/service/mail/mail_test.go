package mail_test

import (
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
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

// boats is a bench with a mail server and, on it, the account boats.example of Tern Ferries, which
// may use so much.
func boats(t *testing.T, limits plans.Limits) (b *servicetest.Bench, owner usecase.Actor, account api.AccountDetail) {
	b = servicetest.New(t)
	b.Server("skua", "web", "mail")
	takesMail(t, b, "skua")
	b.Plan("harbour", limits, "mail")
	owner = b.Customer("Tern Ferries", "")
	return b, owner, b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour",
		Customer: "Tern Ferries"})
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

	// What its sites send goes through the mail server, and each knows the other by its key.
	require.NotNil(t, home.SendsBy)
	assert.Equal(t, publicKeyOf(t, b, 2), home.SendsBy.Key)
	assert.Equal(t, publicKeyOf(t, b, 1), m.Mail.Home)
	assert.Equal(t, "gangway.example", m.Mail.Senders[0].String())
	detail, err = b.Accounts.Account(ctx, b.Operator, "at-home.example")
	require.NoError(t, err)
	both, there := b.Agents.On(3).InForce(detail.ID)
	require.True(t, there)
	assert.Nil(t, both.SendsBy)
	assert.Nil(t, both.Mail.Home)

	name := "tern.ternisland.example"
	_, err = b.Fleet.ChangeServer(ctx, b.Operator, "skua", 0, api.ServerChange{HostName: &name})
	servicetest.Refused(t, refusal.NameTaken, err)
}

// publicKeyOf is what a server shows to others, as it was told.
func publicKeyOf(t *testing.T, b *servicetest.Bench, server int64) ed25519.PublicKey {
	t.Helper()
	var secret manifest.Secret
	b.Agents.On(server).Set(func(a *servicetest.Agent) { secret = a.Server.LinkKey })
	seed, err := base64.StdEncoding.DecodeString(string(secret))
	require.NoError(t, err)
	require.Len(t, seed, ed25519.SeedSize)
	return ed25519.NewKeyFromSeed(seed).Public().(ed25519.PublicKey)
}

// One disk limit holds on two servers: what is on one leaves less to the other.
func TestDiskOfTwoServers(t *testing.T) {
	ctx := t.Context()
	b := island(t)
	b.Server("tern", "mail")
	takesMail(t, b, "tern")
	b.Plan("quay", plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Mailboxes: plans.Of(2)}, "mail")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "quay", Customer: "Tern Ferries"})
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats.example", api.NewMailbox{Address: "info", Password: password})
	require.NoError(t, err)
	b.Work()
	limits := func() (home, messages int64) {
		t.Helper()
		b.Work()
		on1, _ := b.Agents.On(1).InForce(account.ID)
		on2, _ := b.Agents.On(2).InForce(account.ID)
		return *on1.Home.DiskLimit, *on2.Mail.DiskLimit
	}
	home, messages := limits()
	assert.Equal(t, []int64{100 * plans.MiB, 100 * plans.MiB}, []int64{home, messages}, "nothing is known yet")
	sweep := func(server, used int64) {
		t.Helper()
		b.Agents.On(server).Set(func(a *servicetest.Agent) { a.Used = used })
		require.NoError(t, b.Rollout.Sweep(ctx, server, 0, false))
		b.Work()
	}
	sweep(1, 20*plans.MiB)
	sweep(2, 30*plans.MiB)
	home, messages = limits()
	assert.Equal(t, []int64{70 * plans.MiB, 80 * plans.MiB}, []int64{home, messages})
	detail, err := b.Accounts.Account(ctx, b.Operator, "boats.example")
	require.NoError(t, err)
	assert.Equal(t, 50*plans.MiB, *detail.DiskUsed, "it counts together")
	applies := 0
	count := func() { b.Agents.On(2).Set(func(a *servicetest.Agent) { applies = a.Applies }) }
	count()
	before := applies
	sweep(1, 20*plans.MiB-100)
	sweep(2, 30*plans.MiB-100)
	b.Work()
	count()
	assert.Equal(t, before, applies, "not for each byte")
	sweep(2, 200*plans.MiB)
	home, _ = limits()
	assert.Equal(t, plans.MiB, home)
}

func TestWhereMailIsToBe(t *testing.T) {
	ctx := t.Context()
	b := island(t)
	for _, label := range []string{"tern", "puffin"} {
		b.Server(label, "mail")
		takesMail(t, b, label)
	}
	owner := b.Customer("Tern Boats", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	add := func(a usecase.Actor, address, server string) error {
		_, err := b.Mail.AddMailbox(ctx, a, "boats.example", api.NewMailbox{Address: address, Password: password,
			Server: server})
		return err
	}
	servicetest.Refused(t, refusal.NotAllowed, add(owner, "info", "tern"))
	servicetest.Refused(t, refusal.NotFound, add(b.Operator, "info", "skua"))
	require.NoError(t, add(b.Operator, "info", "tern"))
	servicetest.Refused(t, refusal.WrongState, add(b.Operator, "second", "puffin"))
	require.NoError(t, add(b.Operator, "second", "tern"))
	list, err := b.Mail.Mailboxes(ctx, b.Operator, "boats.example")
	require.NoError(t, err)
	assert.Equal(t, "tern.ternisland.example", list.Server)
	assert.Equal(t, "named by the person who added the first mailbox", list.Placement)
	list, err = b.Mail.Mailboxes(ctx, owner, "boats.example")
	require.NoError(t, err)
	assert.Empty(t, list.Placement, "other servers are nothing to customers")
	_, err = b.Mail.AddMailboxes(ctx, b.Operator, "gangway.example", api.NewMailboxes{Mailboxes: []api.NewMailbox{
		{Address: "a", Server: "tern"}, {Address: "b", Server: "puffin"}}})
	servicetest.Refused(t, refusal.InvalidInput, err)
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

func TestAddresses(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "mail")
	takesMail(t, b, "skua")
	b.Plan("harbour", plans.Limits{plans.Mailboxes: plans.Of(5), plans.MailboxSize: plans.Of(plans.GiB),
		plans.Addresses: plans.Of(3), plans.SendsPerHour: plans.Of(200), plans.BounceShare: plans.Of(20)}, "mail")
	owner := b.Customer("Tern Boats", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	box := func(address string, forwards ...string) error {
		_, err := b.Mail.AddMailbox(ctx, owner, "boats.example", api.NewMailbox{Address: address, ForwardTo: forwards})
		return err
	}
	add := func(address string, targets ...string) (api.MailAddressChanged, error) {
		return b.Mail.AddAddress(ctx, owner, "boats.example", api.NewMailAddress{Address: address, Targets: targets})
	}
	sent := func() *manifest.Mail {
		b.Work()
		m, there := b.Agents.On(1).InForce(account.ID)
		require.True(t, there)
		return m.Mail
	}
	leads := func(address string) string {
		for _, a := range sent().Addresses {
			if a.Address == address {
				return strings.Join(append(a.Targets, a.Forwards...), " ")
			}
		}
		return ""
	}
	// An account that only passes on has mail, too.
	first, err := add("Crew", "crew@harbourmail.test")
	require.NoError(t, err)
	assert.Equal(t, "crew@boats.example", first.Address.Address)
	assert.Equal(t, "skua.ternisland.example", first.Server)
	assert.Equal(t, "crew@harbourmail.test", leads("crew@boats.example"))
	assert.Equal(t, "crew@harbourmail.test", leads("postmaster@boats.example"), "which nobody has pointed")

	require.NoError(t, box("info"))
	require.NoError(t, box("anna", "anna@harbourmail.test", "info"))
	assert.Equal(t, "info@boats.example", sent().Mailboxes[0].Copies[0], "anna comes first")
	assert.Equal(t, []string{"anna@harbourmail.test"}, sent().Mailboxes[0].Forwards)
	assert.Equal(t, "anna@boats.example", leads("abuse@boats.example"))
	_, err = add("sales", "info", "Crew@Boats.example")
	require.NoError(t, err)
	assert.Equal(t, "info@boats.example crew@harbourmail.test", leads("sales@boats.example"))
	_, err = add("webmaster", "nobody")
	servicetest.Refused(t, refusal.InvalidInput, err)
	assert.ErrorContains(t, err, "nobody@boats.example, which is no address")
	_, err = add("*", "info")
	require.NoError(t, err)

	m := sent()
	assert.EqualValues(t, 200, *m.Hourly)
	assert.EqualValues(t, 20, *m.BounceShare)
	require.Len(t, m.Senders, 1)
	require.Len(t, m.Keys, 1)
	assert.Equal(t, "k1", m.Keys[0].Selector)

	for name, c := range map[string]struct {
		address string
		targets []string
		kind    refusal.Kind
	}{
		"a mailbox":           {"info", []string{"anna"}, refusal.NameTaken},
		"an address":          {"crew", []string{"anna"}, refusal.NameTaken},
		"more than allowed":   {"fourth", []string{"anna"}, refusal.LimitReached},
		"nowhere":             {"webmaster", nil, refusal.InvalidInput},
		"no address":          {"webmaster", []string{"|/bin/sh"}, refusal.InvalidInput},
		"an option":           {"webmaster", []string{"-oi@harbourmail.test"}, refusal.InvalidInput},
		"somebody's domain":   {"a@quay.example", []string{"anna"}, refusal.InvalidInput},
		"itself, as a circle": {"webmaster", []string{"webmaster"}, refusal.InvalidInput},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := add(c.address, c.targets...)
			servicetest.Refused(t, c.kind, err)
		})
	}
	t.Run("a circle", func(t *testing.T) {
		_, err := b.Mail.ChangeAddress(ctx, owner, "boats.example", "crew", 1,
			api.MailAddressChange{Targets: []string{"sales"}})
		servicetest.Refused(t, refusal.InvalidInput, err)
		assert.ErrorContains(t, err, "circle")
	})
	t.Run("role addresses are pointed, and do not count", func(t *testing.T) {
		list, err := b.Mail.Addresses(ctx, owner, "boats.example")
		require.NoError(t, err)
		require.Len(t, list.Addresses, 3+4)
		assert.Equal(t, "*@boats.example", list.Addresses[2].Address)
		assert.False(t, list.Addresses[3].Pointed)
		_, err = b.Mail.RemoveAddress(ctx, owner, "boats.example", "abuse")
		servicetest.Refused(t, refusal.InUse, err)
		pointed, err := b.Mail.ChangeAddress(ctx, owner, "boats.example", "abuse", 1,
			api.MailAddressChange{Targets: []string{"info"}})
		require.NoError(t, err)
		assert.True(t, pointed.Address.Pointed)
		assert.Equal(t, "info@boats.example", leads("abuse@boats.example"))
		_, err = b.Mail.RemoveAddress(ctx, owner, "boats.example", "abuse@boats.example")
		require.NoError(t, err)
		assert.Equal(t, "anna@boats.example", leads("abuse@boats.example"))
	})
	t.Run("the path of a message", func(t *testing.T) {
		path, err := b.Mail.MailPath(ctx, owner, "boats.example", "sales+spring@boats.example")
		require.NoError(t, err)
		assert.Equal(t, "sub_address", path.Hop)
		assert.Equal(t, "address", path.Next[0].Hop)
		require.Len(t, path.Next[0].Next, 2)
		assert.Equal(t, "stored in the mailbox", path.Next[0].Next[0].Says)
		assert.Equal(t, "outside", path.Next[0].Next[1].Next[0].Hop)
	})
	t.Run("what a removed mailbox leaves", func(t *testing.T) {
		_, err := b.Mail.RemoveMailbox(ctx, owner, "boats.example", "info")
		servicetest.Refused(t, refusal.InUse, err)
		_, err = b.Mail.RemoveAddress(ctx, owner, "boats.example", "*")
		require.NoError(t, err)
		_, err = b.Mail.RemoveMailbox(ctx, owner, "boats.example", "info")
		require.NoError(t, err)
		assert.Equal(t, "crew@harbourmail.test", leads("sales@boats.example"))
		assert.Empty(t, sent().Mailboxes[0].Copies)
	})
	t.Run("nothing is sent for a suspended account", func(t *testing.T) {
		_, err := b.Selling.SuspendAccount(ctx, b.Operator, "boats.example", "unpaid")
		require.NoError(t, err)
		assert.True(t, sent().Silent)
		_, err = b.Selling.ResumeAccount(ctx, b.Operator, "boats.example")
		require.NoError(t, err)
		assert.False(t, sent().Silent)
	})
	t.Run("a change of the plan reaches the server", func(t *testing.T) {
		plan, err := b.Selling.Plan(ctx, b.Operator, "harbour")
		require.NoError(t, err)
		limits := plans.Limits{plans.SendsPerHour: plans.Of(50)}
		_, err = b.Selling.ChangePlan(ctx, b.Operator, "harbour", plan.Version, api.PlanChange{Limits: limits})
		require.NoError(t, err)
		assert.EqualValues(t, 50, *sent().Hourly)
	})
	t.Run("a domain with addresses stays", func(t *testing.T) {
		_, err := b.Domains.AddDomain(ctx, b.Operator, "boats.example", api.NewDomain{Domain: "quay.example"})
		require.NoError(t, err)
		_, err = b.Mail.AddAddress(ctx, b.Operator, "boats.example",
			api.NewMailAddress{Address: "postmaster@quay.example", Targets: []string{"anna@boats.example"}})
		require.NoError(t, err)
		_, err = b.Domains.RemoveDomain(ctx, b.Operator, "boats.example", "quay.example")
		servicetest.Refused(t, refusal.InUse, err)
	})
}

func TestSigningKeysAreTurned(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "mail", "dns")
	b.Server("petrel", "dns")
	takesMail(t, b, "skua")
	b.Plan("harbour", plans.Limits{plans.Mailboxes: plans.Of(5), plans.SendsPerHour: plans.Of(200)}, "mail", "dns")
	b.Customer("Tern Boats", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats.example", api.NewMailbox{Address: "info"})
	require.NoError(t, err)
	_, err = b.Settings.ChangeSettings(ctx, b.Operator, 0, api.SettingsChange{
		NameServers: &[]string{"ns1.tern.test", "ns2.tern.test"}})
	require.NoError(t, err)
	_, err = b.DNS.ChangeZone(ctx, b.Operator, "boats.example", 0, api.ZoneChange{Hosted: "here"})
	require.NoError(t, err)
	// state is the selector that signs, and those that are published.
	state := func() (string, []string) {
		require.NoError(t, b.Mail.TurnSigningKeys(ctx))
		b.Work()
		m, there := b.Agents.On(1).InForce(account.ID)
		require.True(t, there)
		require.Len(t, m.Mail.Keys, 1)
		var published []string
		for _, r := range m.Zones[0].Records {
			if before, _, is := strings.Cut(r.Name, "._domainkey"); is {
				assert.Contains(t, r.Data, "v=DKIM1")
				published = append(published, before)
			}
		}
		return m.Mail.Keys[0].Selector, published
	}
	for _, c := range []struct {
		days      int
		signs     string
		published []string
	}{{0, "k1", []string{"k1"}}, {179, "k1", []string{"k1"}}, {2, "k1", []string{"k1", "k2"}},
		{2, "k1", []string{"k1", "k2"}}, {2, "k2", []string{"k1", "k2"}}, {15, "k2", []string{"k2"}}} {
		b.Pass(time.Duration(c.days) * 24 * time.Hour)
		signs, published := state()
		assert.Equal(t, c.signs, signs, "after %d days", c.days)
		assert.Equal(t, c.published, published, "after %d days", c.days)
	}
}

func TestManyMailboxes(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "mail")
	takesMail(t, b, "skua")
	b.Plan("harbour", plans.Limits{plans.Mailboxes: plans.Of(1000), plans.MailboxSize: plans.Of(plans.GiB)}, "mail")
	b.Customer("Tern Boats", "")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	many := func(n int) api.NewMailboxes {
		var in api.NewMailboxes
		for k := range n {
			in.Mailboxes = append(in.Mailboxes, api.NewMailbox{Address: fmt.Sprintf("box%d", k)})
		}
		return in
	}
	count := func() int {
		list, err := b.Mail.Mailboxes(ctx, b.Operator, "boats.example")
		require.NoError(t, err)
		return len(list.Mailboxes)
	}
	for name, c := range map[string]struct {
		last api.NewMailbox
		kind refusal.Kind
		says string
	}{
		"one twice": {api.NewMailbox{Address: "box1"}, refusal.NameTaken, "line 4, box1: there is a mailbox"},
		"a wrong one": {api.NewMailbox{Address: "a b"}, refusal.InvalidInput,
			"line 4, a b: an address has no spaces"},
		"a weak one": {api.NewMailbox{Address: "weak", Password: "letmein"}, refusal.WeakPassword, "line 4, weak: "},
		"to nobody":  {api.NewMailbox{Address: "to", ForwardTo: []string{"gone"}}, refusal.InvalidInput, "gone"},
		"a large one": {api.NewMailbox{Address: "big", Size: new(2 * plans.GiB)}, refusal.LimitReached,
			"line 4, big"},
		"somebody else": {api.NewMailbox{Address: "a@quay.example"}, refusal.InvalidInput, "line 4, a@quay.example"},
	} {
		t.Run(name, func(t *testing.T) {
			in := many(3)
			in.Mailboxes = append(in.Mailboxes, c.last)
			_, err := b.Mail.AddMailboxes(ctx, b.Operator, "boats.example", in)
			servicetest.Refused(t, c.kind, err)
			assert.ErrorContains(t, err, c.says)
			assert.Zero(t, count(), "all or none")
		})
	}
	_, err := b.Mail.AddMailboxes(ctx, b.Operator, "boats.example", many(1001))
	servicetest.Refused(t, refusal.LimitReached, err)

	begun := time.Now()
	done, err := b.Mail.AddMailboxes(ctx, b.Operator, "boats.example", many(1000))
	require.NoError(t, err)
	t.Logf("1,000 mailboxes in %s", time.Since(begun))
	assert.Equal(t, 1000, count())
	b.Work()
	m, _ := b.Agents.On(1).InForce(account.ID)
	require.Len(t, m.Mail.Mailboxes, 1000)
	require.Len(t, done.Mailboxes, 1000)
	hashes := map[string]string{}
	for _, box := range m.Mail.Mailboxes {
		hashes[box.Address] = box.Hash
	}
	passwords := map[string]bool{}
	for _, one := range done.Mailboxes {
		passwords[one.Password] = true
		assert.Len(t, one.Password, 20)
	}
	assert.Len(t, passwords, 1000)
	first := done.Mailboxes[0]
	assert.NoError(t, bcrypt.CompareHashAndPassword(
		[]byte(strings.TrimPrefix(hashes[first.Address], "{BLF-CRYPT}")), []byte(first.Password)))
}
