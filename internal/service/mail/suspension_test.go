package mail_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/accounts"
	"victualler/internal/service/servicetest"
)

func TestSuspendMail(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua", "web", "mail")
	takesMail(t, b, "skua")
	guillemot := b.Reseller("guillemot", "allotted", plans.Limits{plans.Disk: plans.Of(10 * plans.GiB),
		plans.Domains: plans.Of(10), plans.PHPWorkers: plans.Of(10),
		plans.Mailboxes: plans.Of(10), plans.MailboxSize: plans.Of(plans.GiB)}, "mail")
	b.PlanOf("guillemot", "stall", plans.Limits{plans.Disk: plans.Of(plans.GiB), plans.Domains: plans.Of(1),
		plans.Mailboxes: plans.Of(2), plans.MailboxSize: plans.Of(plans.MiB)}, "mail")
	b.Customer("Bakery", "guillemot")
	account := b.Account(b.Operator, api.OpenAccount{Domain: "bakery.example", Plan: "guillemot.stall",
		Customer: "Bakery", Reseller: "guillemot"})
	_, err := b.Mail.AddMailbox(ctx, guillemot, "bakery", api.NewMailbox{Address: "info", Password: password})
	require.NoError(t, err)
	suspend := func(in api.SuspendMail) error {
		_, err := b.Mail.SuspendMail(ctx, b.Operator, "bakery", in)
		b.Work()
		return err
	}
	servicetest.Refused(t, refusal.InvalidInput, suspend(api.SuspendMail{Sending: true, Why: " "}))
	servicetest.Refused(t, refusal.InvalidInput, suspend(api.SuspendMail{Why: "x"}))
	_, err = b.Mail.ResumeMail(ctx, b.Operator, "bakery")
	servicetest.Refused(t, refusal.WrongState, err)

	require.NoError(t, suspend(api.SuspendMail{Sending: true, Why: "a list was bought"}))
	m, _ := b.Agents.On(1).InForce(account.ID)
	assert.Equal(t, "true false false", strings.Join([]string{said(m.Mail.Silent), said(m.Mail.Deferred),
		said(m.Suspended)}, " "))
	assert.NotEmpty(t, m.Mail.Mailboxes[0].Hash, "what is there is read")
	list, err := b.Accounts.Accounts(ctx, guillemot, accounts.AccountFilter{}, "", 10)
	require.NoError(t, err)
	assert.Equal(t, "sending", list.Accounts[0].MailState, "every list shows it")

	require.NoError(t, suspend(api.SuspendMail{Receiving: true, Why: "moves away"}))
	m, _ = b.Agents.On(1).InForce(account.ID)
	assert.Equal(t, "false true", said(m.Mail.Silent)+" "+said(m.Mail.Deferred))
	_, err = b.Mail.ResumeMail(ctx, guillemot, "bakery")
	r := servicetest.Refused(t, refusal.NotAllowed, err)
	assert.Contains(t, r.Detail, "by an operator (moves away)")
	_, err = b.Mail.ResumeMail(ctx, b.Operator, "bakery")
	require.NoError(t, err)
	b.Work()
	m, _ = b.Agents.On(1).InForce(account.ID)
	assert.Equal(t, "false false", said(m.Mail.Silent)+" "+said(m.Mail.Deferred))
}

func said(is bool) string { return map[bool]string{true: "true", false: "false"}[is] }

func TestProgramPasswords(t *testing.T) {
	ctx := t.Context()
	b := island(t)
	takesMail(t, b, "skua")
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "gangway", api.NewMailbox{Address: "info"})
	servicetest.Refused(t, refusal.NoServer, err)
	b.Server("tern", "mail")
	takesMail(t, b, "tern")
	_, err = b.Mail.AddMailbox(ctx, b.Operator, "gangway", api.NewMailbox{Address: "info"})
	require.NoError(t, err)
	add := func(name string) (api.ProgramPasswordAdded, error) {
		return b.Mail.AddProgramPassword(ctx, b.Operator, "gangway", "info", api.NewProgramPassword{Name: name})
	}
	made, err := add("  telephone ")
	require.NoError(t, err)
	assert.Equal(t, "telephone info@gangway.example tern.ternisland.example", made.Name+" "+made.SignInName+" "+
		made.Server)
	b.Work()
	detail, err := b.Accounts.Account(ctx, b.Operator, "gangway")
	require.NoError(t, err)
	programs := func() []string {
		var keys []string
		m, _ := b.Agents.On(2).InForce(detail.ID)
		for _, p := range m.Mail.Mailboxes[0].Programs {
			keys = append(keys, p.Key)
			assert.NoError(t, bcrypt.CompareHashAndPassword([]byte(strings.TrimPrefix(p.Hash, "{BLF-CRYPT}")),
				[]byte(made.Password)))
		}
		return keys
	}
	assert.Equal(t, []string{mail.ProgramKey(made.Password)}, programs())
	for name, kind := range map[string]refusal.Kind{"": refusal.InvalidInput, strings.Repeat("x",
		61): refusal.InvalidInput,
		"Telephone": refusal.NameTaken} {
		_, err := add(name)
		servicetest.Refused(t, kind, err)
	}
	list, err := b.Mail.Mailboxes(ctx, b.Operator, "gangway")
	require.NoError(t, err)
	require.Len(t, list.Mailboxes[0].Programs, 1)

	_, err = b.Selling.SuspendAccount(ctx, b.Operator, "gangway", "unpaid")
	require.NoError(t, err)
	b.Work()
	assert.Empty(t, programs(), "nobody signs in")
	_, err = b.Selling.ResumeAccount(ctx, b.Operator, "gangway")
	require.NoError(t, err)
	_, err = b.Mail.RemoveProgramPassword(ctx, b.Operator, "gangway", "info", "laptop")
	servicetest.Refused(t, refusal.NotFound, err)
	_, err = b.Mail.RemoveProgramPassword(ctx, b.Operator, "gangway", "info", "TELEPHONE")
	require.NoError(t, err)
	b.Work()
	assert.Empty(t, programs())
	for n := range mail.MostPrograms {
		_, err = add(fmt.Sprint("program ", n))
		require.NoError(t, err)
	}
	_, err = add("one more")
	servicetest.Refused(t, refusal.LimitReached, err)
}
