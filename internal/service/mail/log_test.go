package mail_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/mail"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
)

// correspondents are two accounts with mail: boats.example and quay.example, of a reseller's
// customer.
func correspondents(t *testing.T) (b *servicetest.Bench, boats, quay, reseller usecase.Actor) {
	b = servicetest.New(t)
	b.Server("skua", "web", "mail")
	takesMail(t, b, "skua")
	b.Plan("harbour", plans.Limits{plans.Mailboxes: plans.Of(5), plans.SendsPerHour: plans.Of(200)}, "mail")
	boats = b.Customer("Tern Boats", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "boats.example", Plan: "harbour", Customer: "Tern Boats"})
	reseller = b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(5),
		plans.Mailboxes: plans.Of(5), plans.PHPWorkers: plans.Of(5)}, "mail")
	quay = b.Customer("Quay", "guillemot")
	b.PlanOf("guillemot", "skiff", plans.Limits{plans.Mailboxes: plans.Of(5)}, "mail")
	b.Account(reseller, api.OpenAccount{Domain: "quay.example", Plan: "skiff", Customer: "Quay"})
	_, err := b.Domains.ProveDomain(t.Context(), b.Operator, "quay.example", "quay.example", true)
	require.NoError(t, err)
	return b, boats, quay, reseller
}

func TestMessages(t *testing.T) {
	ctx := t.Context()
	b, boats, quay, reseller := correspondents(t)
	change := int64(100)
	tell := func(d agentlink.Delivery) {
		change++
		d.Change, d.At = change, time.Now()
		if d.ID == 0 {
			d.ID = change
		}
		if d.Came.IsZero() {
			d.Came = d.At
		}
		agent := b.Agents.On(1)
		agent.Mail = append(agent.Mail, d)
	}
	list := func(a usecase.Actor, f mail.MessageFilter) []string {
		t.Helper()
		page, err := b.Mail.Messages(ctx, a, f, mail.MessageCursor{}, 50)
		require.NoError(t, err)
		lines := []string{}
		for _, m := range page.Messages {
			lines = append(lines, fmt.Sprintf("%s>%s %s", m.Sender, m.Recipient, m.Says))
		}
		return lines
	}
	tell(agentlink.Delivery{Sender: "eve@harbourmail.test", Recipient: "info@boats.example", Outcome: "delivered",
		Relay: "skua[private/victualler-lmtp]", MessageID: "m1@harbourmail.test", Client: "192.0.2.7"})
	tell(agentlink.Delivery{ID: 7, Sender: "anna@boats.example", SignIn: "anna@boats.example",
		Recipient: "bo@harbourmail.test", Outcome: "waiting", Reply: "451 later", Tries: 1})
	tell(agentlink.Delivery{Sender: "anna@boats.example", SignIn: "anna@boats.example", Recipient: "cy@quay.example",
		Outcome: "failed", Reply: "550 no"})
	tell(agentlink.Delivery{Sender: "forged@boats.example", Recipient: "cy@quay.example", Outcome: "refused",
		Reply: "550 forged", Client: "192.0.2.9"})
	inbound := "eve@harbourmail.test>info@boats.example in the mailbox info@boats.example"
	outbound := "anna@boats.example>bo@harbourmail.test waits: 451 later"
	between := "anna@boats.example>cy@quay.example came back: 550 no"
	forged := "forged@boats.example>cy@quay.example refused: 550 forged"
	assert.Equal(t, []string{forged, between, outbound, inbound}, list(b.Operator, mail.MessageFilter{}))
	assert.Equal(t, []string{between, outbound, inbound}, list(boats, mail.MessageFilter{}),
		"whoever only says that they are of the account is not")
	assert.Equal(t, []string{forged, between}, list(quay, mail.MessageFilter{}))
	assert.Equal(t, []string{forged, between}, list(reseller, mail.MessageFilter{}))
	assert.Equal(t, []string{inbound}, list(b.Operator, mail.MessageFilter{MessageID: "<m1@harbourmail.test>"}))
	assert.Equal(t, []string{between}, list(b.Operator, mail.MessageFilter{Outcome: "failed"}))
	assert.Equal(t, []string{outbound}, list(boats, mail.MessageFilter{Recipient: "Bo@harbourmail.test"}))
	assert.Equal(t, []string{forged, between}, list(b.Operator, mail.MessageFilter{Account: "quay.example"}))

	t.Run("what happens later changes the same message", func(t *testing.T) {
		tell(agentlink.Delivery{ID: 7, Sender: "anna@boats.example", SignIn: "anna@boats.example",
			Recipient: "bo@harbourmail.test", Outcome: "delivered",
			Relay: "mx.harbourmail.test[192.0.2.1]:25", Tries: 2})
		assert.Equal(t, []string{"anna@boats.example>bo@harbourmail.test taken by mx.harbourmail.test"},
			list(boats, mail.MessageFilter{Recipient: "bo@harbourmail.test"}))
	})
	t.Run("nobody sees others' messages", func(t *testing.T) {
		page, err := b.Mail.Messages(ctx, b.Operator, mail.MessageFilter{}, mail.MessageCursor{}, 50)
		require.NoError(t, err)
		for _, m := range page.Messages {
			for _, a := range []usecase.Actor{boats, quay} {
				_, err := b.Mail.Message(ctx, a, m.ID)
				if m.FromAccount == "boats" && a.CustomerID == boats.CustomerID ||
					m.ToAccount == map[int64]string{boats.CustomerID: "boats", quay.CustomerID: "quay"}[a.CustomerID] {
					assert.NoError(t, err)
				} else {
					servicetest.Refused(t, refusal.NotFound, err)
				}
			}
		}
		_, err = b.Mail.Messages(ctx, boats, mail.MessageFilter{Account: "quay.example"}, mail.MessageCursor{}, 50)
		servicetest.Refused(t, refusal.NotFound, err)
	})
	t.Run("pages", func(t *testing.T) {
		page, err := b.Mail.Messages(ctx, boats, mail.MessageFilter{}, mail.MessageCursor{}, 2)
		require.NoError(t, err)
		require.Len(t, page.Messages, 2)
		require.NotEmpty(t, page.Next)
		behind := mail.MessageCursor{Came: page.Messages[1].CameAt, ID: page.Messages[1].ID}
		rest, err := b.Mail.Messages(ctx, boats, mail.MessageFilter{}, behind, 2)
		require.NoError(t, err)
		require.Len(t, rest.Messages, 1)
		assert.Empty(t, rest.Next)
	})
	t.Run("a server that does not answer", func(t *testing.T) {
		b.Agents.On(1).Unreachable = true
		assert.Len(t, list(boats, mail.MessageFilter{}), 3, "what is known is shown")
		b.Agents.On(1).Unreachable = false
	})
	t.Run("of the other side, nobody sees more than its server tells", func(t *testing.T) {
		tell(agentlink.Delivery{ID: 40, Sender: "anna@boats.example", SignIn: "anna@boats.example", Client: "192.0.2.8",
			Recipient: "sales@quay.example", DeliveredTo: "cy@quay.example", Outcome: "delivered", Folder: "Junk",
			Score: "9.1; WINNER", Relay: "skua[private/victualler-lmtp]", Reply: "250 2.0.0 <cy@quay.example> x Saved"})
		seen := func(a usecase.Actor) string {
			t.Helper()
			page, err := b.Mail.Messages(ctx, a, mail.MessageFilter{Recipient: "sales@quay.example"},
				mail.MessageCursor{}, 5)
			require.NoError(t, err)
			require.Len(t, page.Messages, 1)
			m := page.Messages[0]
			one, err := b.Mail.Message(ctx, a, m.ID)
			require.NoError(t, err)
			assert.Equal(t, m, one)
			return strings.Join([]string{m.FromAccount, m.SignIn, m.Client, m.ToAccount, m.DeliveredTo, m.Folder,
				m.Score, m.Reply, m.Says}, "|")
		}
		assert.Equal(t, "boats|anna@boats.example|192.0.2.8||||||in the mailbox sales@quay.example", seen(boats))
		assert.Equal(t, "|||quay|cy@quay.example|Junk|9.1; WINNER|250 2.0.0 <cy@quay.example> x Saved|in the "+
			"folder Junk "+
			"of cy@quay.example, for a score of 9.1", seen(quay))
		assert.Equal(t, "boats|anna@boats.example|192.0.2.8|quay|cy@quay.example|Junk|9.1; WINNER|250 2.0.0 "+
			"<cy@quay.example> x Saved|in the folder Junk of cy@quay.example, for a score of 9.1", seen(b.Operator))
	})
	t.Run("after a month, it is forgotten", func(t *testing.T) {
		b.Pass(31 * 24 * time.Hour)
		require.NoError(t, b.Mail.TidyLog(ctx))
		assert.Empty(t, list(b.Operator, mail.MessageFilter{}))
	})
}

func TestQueue(t *testing.T) {
	ctx := t.Context()
	b, boats, quay, _ := correspondents(t)
	agent := b.Agents.On(1)
	agent.Waiting = []agentlink.QueuedMessage{
		{Queue: "4aaaaaaaa1", Came: time.Now(), Sender: "anna@boats.example",
			Recipients: []agentlink.QueuedRecipient{{Address: "bo@harbourmail.test", Reason: "451 later"}}},
		{Queue: "4aaaaaaaa2", Came: time.Now().Add(-time.Hour), Sender: "cy@quay.example"},
		{Queue: "4aaaaaaaa3", Came: time.Now(),
			Recipients: []agentlink.QueuedRecipient{{Address: "anna@boats.example"}}},
	}
	names := func(a usecase.Actor) []string {
		t.Helper()
		queue, err := b.Mail.Queue(ctx, a, "", "")
		require.NoError(t, err)
		list := []string{}
		for _, m := range queue.Messages {
			list = append(list, m.Queue)
		}
		return list
	}
	assert.Equal(t, []string{"4aaaaaaaa2", "4aaaaaaaa1", "4aaaaaaaa3"}, names(b.Operator))
	assert.Equal(t, []string{"4aaaaaaaa1", "4aaaaaaaa3"}, names(boats))
	assert.Equal(t, []string{"4aaaaaaaa2"}, names(quay))

	remove := api.QueueChange{Server: "skua", Do: "remove", Messages: []string{"4aaaaaaaa1", "4aaaaaaaa2"}}
	preview := b.Preview(boats, func(a usecase.Actor) error {
		_, err := b.Mail.ChangeQueue(ctx, a, remove)
		return err
	})
	assert.Contains(t, fmt.Sprint(preview.Summary), "remove 1 message")
	assert.Len(t, names(b.Operator), 3, "a preview removes nothing")
	done, err := b.Mail.ChangeQueue(ctx, boats, remove)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Messages, "and none of somebody else's")
	assert.Equal(t, []string{"4aaaaaaaa2", "4aaaaaaaa3"}, names(b.Operator))
	_, err = b.Mail.ChangeQueue(ctx, boats, remove)
	servicetest.Refused(t, refusal.NotFound, err)
	agent.Unreachable = true
	queue, err := b.Mail.Queue(ctx, b.Operator, "", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"skua"}, queue.Silent)
	_, err = b.Mail.ChangeQueue(ctx, quay, remove)
	servicetest.Refused(t, refusal.ServerUnreachable, err)
}

func TestStoppedSending(t *testing.T) {
	ctx := t.Context()
	b, boats, _, _ := correspondents(t)
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats.example", api.NewMailbox{Address: "anna"})
	require.NoError(t, err)
	b.Work()
	detail, err := b.Accounts.Account(ctx, b.Operator, "boats.example")
	require.NoError(t, err)
	warned := func() []string {
		t.Helper()
		require.NoError(t, b.Mail.CollectLogs(ctx))
		detail, err := b.Accounts.Account(ctx, boats, "boats.example")
		require.NoError(t, err)
		list := []string{}
		for _, w := range detail.Warnings {
			list = append(list, w.What)
		}
		return list
	}
	assert.Empty(t, warned())
	agent := b.Agents.On(1)
	agent.Mail = []agentlink.Delivery{{ID: 1, Change: 1, Came: time.Now(), At: time.Now(), Sender: "anna@boats.example",
		SignIn: "anna@boats.example", Recipient: "nobody@harbourmail.test", Outcome: "failed", Reply: "550 no"}}
	agent.Stops = []agentlink.MailStop{{Account: detail.ID, At: time.Now(), Sent: 20, Failed: 12},
		{Account: detail.ID + 1, At: time.Now(), Sent: 20, Failed: 12}}
	assert.Equal(t, []string{"Sending is stopped: 12 of 20 messages of a day came back."}, warned())
	warned()
	assert.Len(t, slices.DeleteFunc(b.Events("boats"), func(e string) bool {
		return !strings.Contains(e,
			"sending.stop")
	}),
		1, "told once")
	_, err = b.Mail.ReleaseSending(ctx, b.Operator, "boats.example")
	require.NoError(t, err)
	assert.Len(t, agent.Stops, 1, "that of an account whose mail is not there says nothing")
	assert.Empty(t, warned())
	_, err = b.Mail.ReleaseSending(ctx, b.Operator, "boats.example")
	servicetest.Refused(t, refusal.WrongState, err)
}
