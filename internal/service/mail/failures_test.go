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
	"victualler/internal/service/servicetest"
)

func TestFailedSignIns(t *testing.T) {
	ctx := t.Context()
	b, owner, _ := boats(t, plans.Limits{plans.Mailboxes: plans.Of(3), plans.MailboxSize: plans.Of(plans.GiB)})
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats", api.NewMailbox{Address: "anna", Password: password})
	require.NoError(t, err)
	b.Work()
	tell := func(count int64) (api.Mailbox, []api.Warning) {
		t.Helper()
		told := []agentlink.SignInFailures{}
		if count > 0 {
			told = append(told, agentlink.SignInFailures{Mailbox: "anna@boats.example", Count: count, Clients: 3,
				LastAt: time.Now(), LastFrom: "192.0.2.7"},
				agentlink.SignInFailures{Mailbox: "gone@boats.example", Count: 9, Clients: 1, LastAt: time.Now()})
		}
		b.Agents.On(1).Set(func(a *servicetest.Agent) { a.Failures = told })
		require.NoError(t, b.Mail.CollectLogs(ctx))
		list, err := b.Mail.Mailboxes(ctx, owner, "boats")
		require.NoError(t, err)
		detail, err := b.Accounts.Account(ctx, owner, "boats")
		require.NoError(t, err)
		return list.Mailboxes[0], detail.Warnings
	}
	box, warnings := tell(99)
	require.NotNil(t, box.FailedSignIns)
	assert.EqualValues(t, 99, box.FailedSignIns.Count)
	assert.Equal(t, "192.0.2.7", box.FailedSignIns.LastFrom)
	assert.Empty(t, warnings, "a program with an old password tries some times")
	assert.NotContains(t, strings.Join(b.Events("boats"), " "), "sign_ins_fail")
	for _, count := range []int64{100, 120} {
		box, warnings = tell(count)
		assert.Equal(t, count, box.FailedSignIns.Count)
		require.Len(t, warnings, 1)
		assert.Equal(t, "sign-ins-fail anna@boats.example", warnings[0].Code+" "+warnings[0].Subject)
	}
	events := 0
	for _, one := range b.Events("boats") {
		if strings.HasPrefix(one, "mailbox.sign_ins_fail ") {
			events++
		}
	}
	assert.Equal(t, 1, events, "told once")
	box, warnings = tell(0)
	assert.Nil(t, box.FailedSignIns)
	assert.Empty(t, warnings)
}
