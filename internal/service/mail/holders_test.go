package mail_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/mail"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

func TestHolders(t *testing.T) {
	ctx := t.Context()
	b, _, account := boats(t, plans.Limits{plans.Mailboxes: plans.Of(3), plans.MailboxSize: plans.Of(plans.GiB)})
	for address, secret := range map[string]string{"anna": password, "bo": "another-barnacle-2741", "cy": ""} {
		_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats", api.NewMailbox{Address: address, Password: secret})
		require.NoError(t, err)
	}
	b.Work()
	from := usecase.Actor{Address: "192.0.2.7", Program: "test"}
	signIn := func(address, secret string) (usecase.Actor, error) {
		session, err := b.Mail.SignIn(ctx, from, api.MailboxSignIn{Address: address, Password: secret})
		if err != nil {
			return usecase.Actor{}, err
		}
		who, err := b.Mail.IdentifyHolder(ctx, session.Token)
		who.Address = from.Address
		return who, err
	}
	for _, wrong := range [][2]string{{"anna@boats.example", "x"}, {"nobody@boats.example", password},
		{"cy@boats.example", ""}, {"cy@boats.example", "x"}, {"anna", password}, {"anna@boats.example", ""}} {
		_, err := signIn(wrong[0], wrong[1])
		servicetest.Refused(t, refusal.WrongSignIn, err)
		from.Address = "192.0.2." + string(rune('1'+len(wrong[0])%9)) // tries from elsewhere
	}
	_, err := b.Mail.IdentifyHolder(ctx, "nothing")
	servicetest.Refused(t, refusal.NotSignedIn, err)
	anna, err := signIn("Anna@Boats.example", password)
	require.NoError(t, err)
	assert.Equal(t, rights.Holder, anna.Role)
	for _, p := range []rights.Permission{rights.Own, rights.Personal, rights.AccountsRead, rights.MailChange} {
		assert.Error(t, anna.Require(p), "a holder has nothing but the mailbox")
	}
	assert.NoError(t, anna.Require(rights.OwnMailbox))
	assert.Error(t, b.Operator.Require(rights.OwnMailbox))

	own, err := b.Mail.OwnMailbox(ctx, anna)
	require.NoError(t, err)
	assert.Equal(t, "anna@boats.example", own.Mailbox.Address)
	assert.Equal(t, "skua.ternisland.example", own.Server)

	change := func(in api.OwnMailboxChange) error {
		_, err := b.Mail.ChangeOwnMailbox(ctx, anna, 0, in)
		b.Work()
		return err
	}
	filters := []api.MailFilter{{All: true, Folder: "Tides", Tests: []api.MailFilterTest{
		{Field: "subject", How: "contains", Value: " tide "}}}}
	require.NoError(t, change(api.OwnMailboxChange{Filters: &filters, Reply: &api.AbsenceReply{Text: "Away."}}))
	m, _ := b.Agents.On(1).InForce(account.ID)
	require.NoError(t, m.Validate())
	for _, box := range m.Mail.Mailboxes {
		if box.Address == "anna@boats.example" {
			assert.Equal(t, "tide", box.Filters[0].Tests[0].Value)
			assert.Equal(t, "Away.", box.Reply.Text)
		} else {
			assert.Empty(t, box.Filters, "another's mailbox is as it was")
		}
	}
	wrong := []api.MailFilter{{Folder: "../bo"}}
	servicetest.Refused(t, refusal.InvalidInput, change(api.OwnMailboxChange{Filters: &wrong}))

	t.Run("messages", func(t *testing.T) {
		for n, d := range []agentlink.Delivery{
			{Sender: "anna@boats.example", SignIn: "anna@boats.example", Recipient: "x@harbourmail.test"},
			{Sender: "anna@boats.example", SignIn: "bo@boats.example", Recipient: "x@harbourmail.test"},
			{Sender: "x@harbourmail.test", Recipient: "anna@boats.example"},
			{Sender: "x@harbourmail.test", Recipient: "sales@boats.example", DeliveredTo: "anna@boats.example"},
			{Sender: "x@harbourmail.test", Recipient: "bo@boats.example"},
			{Sender: "bo@boats.example", SignIn: "bo@boats.example", Recipient: "anna@boats.example"}} {
			d.ID, d.Change, d.Outcome = int64(n+1), int64(n+1), "delivered"
			d.Came = time.Now().Add(time.Duration(n) * time.Second)
			d.At, d.Relay, d.Folder = d.Came, "skua[private/victualler-lmtp]", "Junk"
			b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Mail = append(a.Mail, d) })
		}
		require.NoError(t, b.Mail.CollectLogs(ctx))
		seen := func(page api.MessagePage) (list []string) {
			for _, m := range page.Messages {
				list = append(list, strings.TrimSpace(m.SignIn+" "+m.Sender+">"+m.Recipient+" "+m.Folder))
			}
			return list
		}
		page, err := b.Mail.OwnMessages(ctx, anna, mail.MessageCursor{}, 3)
		require.NoError(t, err)
		assert.Equal(t, []string{"bo@boats.example>anna@boats.example Junk",
			"x@harbourmail.test>sales@boats.example Junk",
			"x@harbourmail.test>anna@boats.example Junk"}, seen(page))
		require.NotEmpty(t, page.Next)
		last := page.Messages[2]
		page, err = b.Mail.OwnMessages(ctx, anna, mail.MessageCursor{Came: last.CameAt, ID: last.ID}, 3)
		require.NoError(t, err)
		assert.Equal(t, []string{"anna@boats.example anna@boats.example>x@harbourmail.test"}, seen(page))
	})

	t.Run("the way of a message", func(t *testing.T) {
		targets := []string{"bo", "anna@harbourmail.test"}
		require.NoError(t, change(api.OwnMailboxChange{ForwardTo: &targets}))
		_, err := b.Mail.ChangeMailbox(ctx, b.Operator, "boats", "bo@boats.example", 0,
			api.MailboxChange{ForwardTo: &[]string{"bos-own@harbourmail.test"}})
		require.NoError(t, err)
		b.Work()
		path, err := b.Mail.OwnPath(ctx, anna)
		require.NoError(t, err)
		assert.Equal(t, "mailbox", path.Hop)
		ways := map[string]string{}
		for _, next := range path.Next {
			ways[next.Address] = next.Hop
			assert.Empty(t, next.Next, "where others have their mail go is nobody else's business")
			assert.NotContains(t, next.Says, "stored")
		}
		assert.Equal(t, map[string]string{"anna@harbourmail.test": "outside", "bo@boats.example": "address"}, ways)
		for b.Base.AllowProbe(ctx, anna) == nil {
		}
		_, err = b.Mail.RehearseOwn(ctx, anna)
		servicetest.Refused(t, refusal.TooManyTries, err)
	})

	made, err := b.Mail.AddOwnPassword(ctx, anna, api.NewProgramPassword{Name: "telephone"})
	require.NoError(t, err)
	_, err = signIn("anna@boats.example", made.Password)
	servicetest.Refused(t, refusal.WrongSignIn, err)
	_, err = b.Mail.RemoveOwnPassword(ctx, anna, "telephone")
	require.NoError(t, err)

	second, err := signIn("anna@boats.example", password)
	require.NoError(t, err)
	bo, err := signIn("bo@boats.example", "another-barnacle-2741")
	require.NoError(t, err)
	next := "tidal-limpet-9312"
	servicetest.Refused(t, refusal.WrongSignIn, change(api.OwnMailboxChange{Password: &next, CurrentPassword: "x"}))
	require.NoError(t, change(api.OwnMailboxChange{Password: &next, CurrentPassword: password}))
	_, err = b.Mail.OwnMailbox(ctx, anna)
	assert.NoError(t, err, "the session that changed it stays")
	assert.Len(t, sessions(t, b), 2, "anna's and bo's")
	_, _ = second, bo
	require.NoError(t, b.Mail.SignOut(ctx, bo))
	assert.Len(t, sessions(t, b), 1)

	t.Run("an operator's change of the password ends all", func(t *testing.T) {
		_, err := b.Mail.ChangeMailbox(ctx, b.Operator, "boats", "anna", 0, api.MailboxChange{Password: &next})
		require.NoError(t, err)
		assert.Empty(t, sessions(t, b))
	})
	t.Run("nobody signs in to a suspended account", func(t *testing.T) {
		session, err := b.Mail.SignIn(ctx, from, api.MailboxSignIn{Address: "anna@boats.example", Password: next})
		require.NoError(t, err)
		_, err = b.Selling.SuspendAccount(ctx, b.Operator, "boats", "unpaid")
		require.NoError(t, err)
		b.Work()
		_, err = b.Mail.IdentifyHolder(ctx, session.Token)
		servicetest.Refused(t, refusal.NotSignedIn, err)
		_, err = signIn("anna@boats.example", next)
		servicetest.Refused(t, refusal.WrongSignIn, err)
	})
	b.Pass(13 * time.Hour)
	require.NoError(t, b.Mail.TidySessions(ctx))
	assert.Empty(t, sessions(t, b), "they have ended")
}

// sessions are the digests of holders' sessions.
func sessions(t *testing.T, b *servicetest.Bench) []string {
	t.Helper()
	rows, err := b.Store.Pool.Query(t.Context(), "select token_digest::text from mailbox_sessions")
	require.NoError(t, err)
	defer rows.Close()
	list := []string{}
	for rows.Next() {
		var one string
		require.NoError(t, rows.Scan(&one))
		list = append(list, one)
	}
	return list
}
