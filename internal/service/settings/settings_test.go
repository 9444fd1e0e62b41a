package settings_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/people"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func ptr[T any](v T) *T { return &v }

func TestChangeSettings(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	for name, in := range map[string]api.SettingsChange{
		"a console that is no address":       {Console: ptr("console")},
		"a name server twice":                {NameServers: &[]string{"ns1.tern.test", "NS1.tern.test"}},
		"a name server that is an address":   {NameServers: &[]string{"192.0.2.1", "192.0.2.2"}},
		"a role there is not":                {SecondFactor: &[]string{"boatman"}},
		"a sender that is no address":        {Sender: ptr("desk")},
		"a mail server without a port":       {MailServer: ptr("mail.tern.test")},
		"a challenge zone that is not here":  {ChallengeZone: ptr("elsewhere.test")},
		"a blocklist that is no name":        {Spam: &api.SpamChange{Blocklists: &[]string{"a b"}}},
		"an end of a name with a dot in it":  {Spam: &api.SpamChange{Forbidden: &[]string{"tar.gz"}}},
		"a scanner that is nowhere":          {Spam: &api.SpamChange{Scanner: ptr("clamd; reboot")}},
		"Junk for more than what is refused": {Spam: &api.SpamChange{JunkAbove: ptr(20.0)}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Settings.ChangeSettings(ctx, b.Operator, 0, in)
			servicetest.Refused(t, refusal.InvalidInput, err)
		})
	}
	before, err := b.Settings.Settings(ctx)
	require.NoError(t, err)
	_, err = b.Settings.ChangeSettings(ctx, b.Operator, before.Version+5, api.SettingsChange{Title: ptr("Tern Island")})
	servicetest.Refused(t, refusal.Changed, err)
	after, err := b.Settings.ChangeSettings(ctx, b.Operator, before.Version,
		api.SettingsChange{Title: ptr("Tern Island"),
			MailServer: ptr("mail.tern.test:25"), MailSecurity: ptr("tls"), MailName: ptr("desk"),
			MailPassword: ptr("quite secret"),
			Sender:       ptr("desk@tern.test")})
	require.NoError(t, err)
	assert.Equal(t, "Tern Island", after.Title)

	t.Run("the password is in no event", func(t *testing.T) {
		page, err := b.People.Events(ctx, b.Operator, people.EventFilter{Action: "settings"}, 0, 10)
		require.NoError(t, err)
		require.NotEmpty(t, page.Events)
		for _, f := range page.Events[0].Fields {
			assert.NotContains(t, f.Before+f.After, "quite secret")
		}
	})
}

func TestMailDays(t *testing.T) {
	b := servicetest.New(t)
	after, err := b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{MailDays: ptr(3)})
	require.NoError(t, err)
	assert.Equal(t, 3, after.MailDays)
}

func TestSpamSettings(t *testing.T) {
	b := servicetest.New(t)
	after, err := b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{Spam: &api.SpamChange{
		JunkAbove: ptr(4.55), Greylisting: ptr(true), Blocklists: &[]string{"BL.tern.test", "bl.tern.test"},
		Forbidden: &[]string{".EXE", "exe", "js"}, Scanner: ptr(" 192.0.2.5:3310 ")}})
	require.NoError(t, err)
	assert.Equal(t, api.Spam{JunkAbove: 4.6, RefuseAbove: 15, Greylisting: true, Blocklists: []string{"bl.tern.test"},
		Forbidden: []string{"exe", "js"}, Scanner: "192.0.2.5:3310"}, after.Spam)
}
