package notify_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
	"victualler/internal/standins/mailsink"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func ptr[T any](v T) *T { return &v }

// office is a bench with an account whose customer has an address, and
// the settings that mail needs.
func office(t *testing.T, server string) *servicetest.Bench {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	_, err := b.Selling.AddCustomer(t.Context(), b.Operator, api.NewCustomer{Name: "Tern Ferries",
		Email: "office@ferries.test"})
	require.NoError(t, err)
	b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour", Customer: "Tern Ferries"})
	if server != "" {
		_, err = b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{MailServer: &server,
			MailSecurity: ptr("none"), Sender: ptr("desk@tern.test"), Title: ptr("Tern Island")})
		require.NoError(t, err)
		b.Work() // pages on servers bear the title
	}
	return b
}

// mail queues a handover sheet and returns its number.
func mail(t *testing.T, b *servicetest.Bench) int64 {
	t.Helper()
	_, err := b.Accounts.MailHandover(t.Context(), b.Operator, "ferries.example")
	require.NoError(t, err)
	jobs := b.Queue.Drain()
	require.Len(t, jobs, 1)
	require.Equal(t, "SendMail", jobs[0].Kind)
	return jobs[0].ID
}

func state(t *testing.T, b *servicetest.Bench) api.Mail {
	t.Helper()
	list, err := b.Selling.Mails(t.Context(), b.Operator, "Tern Ferries")
	require.NoError(t, err)
	require.NotEmpty(t, list.Mails)
	return list.Mails[0]
}

func TestWithoutAMailServer(t *testing.T) {
	b := office(t, "")
	_, err := b.Accounts.MailHandover(t.Context(), b.Operator, "ferries.example")
	servicetest.Refused(t, refusal.MailFailed, err)
	assert.Empty(t, b.Queue.Drain())
}

func TestSendMail(t *testing.T) {
	ctx := t.Context()
	sink, err := mailsink.Listen("127.0.0.1:0", "127.0.0.1:0")
	require.NoError(t, err)
	defer sink.Close()
	b := office(t, sink.SMTP)
	number := mail(t, b)
	assert.Equal(t, "waiting", state(t, b).State)

	b = servicetest.Process(t, b.URL)
	var group sync.WaitGroup
	for range 5 { // several processes may have it queued
		group.Go(func() { assert.NoError(t, b.Notify.SendMail(context.Background(), number)) })
	}
	group.Wait()
	assert.Equal(t, "sent", state(t, b).State)
	assert.Len(t, sink.Messages(), 1, "once, however many are at it")
	require.NoError(t, b.Notify.SendMail(ctx, number), "one that was sent")
	assert.Len(t, sink.Messages(), 1)
	var kept *string
	require.NoError(t, b.Store.Pool.QueryRow(ctx, "select message::text from mails where id = $1", number).Scan(&kept))
	assert.Nil(t, kept, "its text is forgotten")
}

func TestSendMailLater(t *testing.T) {
	ctx := t.Context()
	b := office(t, "127.0.0.1:1")
	number := mail(t, b)
	require.Error(t, b.Notify.SendMail(ctx, number), "it is tried again")
	assert.Equal(t, "waiting", state(t, b).State)
	assert.NotEmpty(t, state(t, b).Failure)
	b.Pass(25 * time.Hour)
	require.NoError(t, b.Notify.SendMail(ctx, number))
	assert.Equal(t, "failed", state(t, b).State, "for a day")
}

func TestSendMailOfAKilledProcess(t *testing.T) {
	ctx := t.Context()
	sink, err := mailsink.Listen("127.0.0.1:0", "127.0.0.1:0")
	require.NoError(t, err)
	defer sink.Close()
	b := office(t, sink.SMTP)
	number := mail(t, b)
	_, err = b.Store.ClaimMail(ctx, number)
	require.NoError(t, err)
	require.NoError(t, b.Notify.SendMail(ctx, number), "another process has it")
	assert.Empty(t, sink.Messages())
	b.Pass(10 * time.Minute)
	require.NoError(t, b.Notify.SendMail(ctx, number))
	assert.Len(t, sink.Messages(), 1, "it is gone, and this one takes over")
}

func TestTestMail(t *testing.T) {
	ctx := t.Context()
	b := office(t, "")
	servicetest.Refused(t, refusal.MailFailed, b.Notify.TestMail(ctx, b.Operator, api.MailTest{To: "me@tern.test"}))
	servicetest.Refused(t, refusal.InvalidInput, b.Notify.TestMail(ctx, b.Operator, api.MailTest{To: "me"}))
	b = office(t, "127.0.0.1:1")
	servicetest.Refused(t, refusal.MailFailed, b.Notify.TestMail(ctx, b.Operator, api.MailTest{To: "me@tern.test"}))
}
