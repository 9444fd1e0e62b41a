package domains_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// harbour is a bench with an account, ferries.example, that may have 5
// domains, 3 subdomains and 2 mirrors.
func harbour(t *testing.T) (*servicetest.Bench, api.AccountDetail) {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", plans.Limits{plans.Subdomains: plans.Of(3), plans.Mirrors: plans.Of(2)}, "raw_directives")
	b.Customer("Tern Ferries", "")
	return b, b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour",
		Customer: "Tern Ferries"})
}

// site returns what the server holds for one site of an account.
func site(t *testing.T, b *servicetest.Bench, account int64, name string) manifest.Site {
	t.Helper()
	m, _ := b.Agents.On(1).InForce(account)
	for _, s := range m.Sites {
		if s.Domain.String() == name {
			return s
		}
	}
	require.Fail(t, "the server has no site "+name)
	return manifest.Site{}
}

func TestAddDomain(t *testing.T) {
	ctx := t.Context()
	b, account := harbour(t)
	b.Customer("Auk Boats", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "auk.example", Plan: "harbour", Customer: "Auk Boats"})
	_, err := b.Settings.ChangeSettings(ctx, b.Operator, 0,
		api.SettingsChange{Console: ptr("https://console.tern.test")})
	require.NoError(t, err)
	customer := b.Customer("Skerry", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "skerry.example", Plan: "harbour", Customer: "Skerry"})

	for name, c := range map[string]struct {
		in    api.NewDomain
		kind  refusal.Kind
		field string
	}{
		"hosted already":  {api.NewDomain{Domain: "WWW.auk.example"}, refusal.DomainTaken, "domain"},
		"below another's": {api.NewDomain{Domain: "shop.auk.example"}, refusal.DomainTaken, "domain"},
		"no domain":       {api.NewDomain{Domain: "not a domain"}, refusal.InvalidInput, "domain"},
		"a public suffix": {api.NewDomain{Domain: "co.uk"}, refusal.InvalidInput, "domain"},
		"a root outside the home": {api.NewDomain{Domain: "a.example", Serving: api.Serving{Root: "../other"}},
			refusal.InvalidInput, "root"},
		"the root of another": {api.NewDomain{Domain: "a.example",
			Serving: api.Serving{Root: "sites/ferries.example"}}, refusal.InUse, "root"},
		"a mirror of nothing": {api.NewDomain{Domain: "a.example", Serving: api.Serving{ServedAs: "mirror"}},
			refusal.InvalidInput, "mirror_of"},
		"a mirror of another's": {api.NewDomain{Domain: "a.example", Serving: api.Serving{ServedAs: "mirror",
			MirrorOf: "auk.example"}}, refusal.InvalidInput, "mirror_of"},
		"a target without a redirect": {api.NewDomain{Domain: "a.example",
			Serving: api.Serving{Target: "https://b.example"}}, refusal.InvalidInput, "target"},
		"a redirect that leads nowhere": {api.NewDomain{Domain: "a.example",
			Serving: api.Serving{ServedAs: "redirect"}}, refusal.InvalidInput, "target"},
		"a code there is not": {api.NewDomain{Domain: "a.example", Serving: api.Serving{ServedAs: "redirect",
			Target: "https://b.example", Code: 303}}, refusal.InvalidInput, "code"},
		"a redirect to itself": {api.NewDomain{Domain: "a.example", Serving: api.Serving{ServedAs: "redirect",
			Target: "https://a.example/x"}}, refusal.InvalidInput, "target"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Domains.AddDomain(ctx, b.Operator, account.SignInName, c.in)
			r := servicetest.Refused(t, c.kind, err)
			require.NotEmpty(t, r.Fields, r.Detail)
			assert.Equal(t, c.field, r.Fields[0].Name)
			assert.Empty(t, b.Queue.Drain())
		})
	}
	t.Run("names of the installation are the operator's", func(t *testing.T) {
		_, err := b.Domains.AddDomain(ctx, customer, "skerry.example", api.NewDomain{Domain: "ns9.tern.test"})
		servicetest.Refused(t, refusal.DomainTaken, err)
	})
	t.Run("each counts against its own limit", func(t *testing.T) {
		for _, c := range []struct {
			in     api.NewDomain
			counts string
		}{
			{api.NewDomain{Domain: "second.example"}, "domains"},
			{api.NewDomain{Domain: "shop.ferries.example"}, "subdomains"},
			{api.NewDomain{Domain: "same.example", Serving: api.Serving{ServedAs: "mirror",
				MirrorOf: "ferries.example"}}, "mirrors"},
			{api.NewDomain{Domain: "names.example", Serving: api.Serving{ServedAs: "dns-only"}}, "domains"},
			{api.NewDomain{Domain: "away.example", Serving: api.Serving{ServedAs: "redirect",
				Target: "elsewhere.test/now"}}, "domains"},
		} {
			changed, err := b.Domains.AddDomain(ctx, b.Operator, account.SignInName, c.in)
			require.NoError(t, err, c.in.Domain)
			assert.Equal(t, c.counts, changed.Domain.CountsAs)
		}
		b.Work()
		m, _ := b.Agents.On(1).InForce(account.ID)
		assert.Len(t, m.Sites, 5, "what is there for its DNS alone has none")
		assert.Equal(t, "ferries.example", site(t, b, account.ID, "same.example").MirrorOf)
		assert.Equal(t, "https://elsewhere.test/now", site(t, b, account.ID, "away.example").Redirect.Target)
	})
	t.Run("and no further than that", func(t *testing.T) {
		_, err := b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: "fifth.example"})
		require.NoError(t, err)
		_, err = b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: "sixth.example"})
		r := servicetest.Refused(t, refusal.LimitReached, err)
		require.Len(t, r.Limits, 1)
		assert.Equal(t, "domains", r.Limits[0].Key)
	})
}

func ptr[T any](v T) *T { return &v }

func TestChangeDomain(t *testing.T) {
	ctx := t.Context()
	b, account := harbour(t)
	change := func(name string, in api.DomainChange) error {
		_, err := b.Domains.ChangeDomain(ctx, b.Operator, account.SignInName, name, 0, in)
		b.Work()
		return err
	}
	_, err := b.Domains.ChangeDomain(ctx, b.Operator, account.SignInName, "ferries.example", 99, api.DomainChange{})
	servicetest.Refused(t, refusal.Changed, err)
	servicetest.Refused(t, refusal.NotFound, change("auk.example", api.DomainChange{}))

	require.NoError(t,
		change("ferries.example", api.DomainChange{Settings: map[string]any{"largest_upload": float64(20 << 20),
			"https_redirect": true}}))
	assert.EqualValues(t, 20<<20, site(t, b, account.ID, "ferries.example").Switches.LargestUpload)
	for name, in := range map[string]api.DomainChange{
		"a setting there is not":     {Settings: map[string]any{"sails": true}},
		"a value of another kind":    {Settings: map[string]any{"https_redirect": "perhaps"}},
		"a size without a unit":      {Settings: map[string]any{"largest_upload": "20"}},
		"directives that name files": {Settings: map[string]any{"raw": "alias /etc/;"}},
	} {
		t.Run(name, func(t *testing.T) {
			servicetest.Refused(t, refusal.InvalidInput, change("ferries.example", in))
		})
	}
	t.Run("what cannot be taken back wants a decision", func(t *testing.T) {
		in := api.DomainChange{Settings: map[string]any{"hsts": float64(30 * 86400)}}
		r := servicetest.Refused(t, refusal.NeedsDecision, change("ferries.example", in))
		assert.Equal(t, "hsts_accepted", r.Decide[0].Field)
		in.HSTSAccepted = true
		require.NoError(t, change("ferries.example", in))
	})
	t.Run("a value goes back to the usual one", func(t *testing.T) {
		require.NoError(t, change("ferries.example", api.DomainChange{Settings: map[string]any{"largest_upload": nil}}))
		detail, err := b.Domains.Domain(ctx, b.Operator, account.SignInName, "ferries.example")
		require.NoError(t, err)
		for _, s := range detail.Settings {
			if s.Key == "largest_upload" {
				assert.Empty(t, s.Source)
			}
		}
	})
	t.Run("a new root, with the files moved or not", func(t *testing.T) {
		require.NoError(t, change("ferries.example", api.DomainChange{Serving: api.Serving{Root: "sites/public"},
			MoveFiles: true}))
		s := site(t, b, account.ID, "ferries.example")
		assert.Equal(t, "sites/public", s.Root)
		assert.Equal(t, "sites/ferries.example", s.MovedFrom)
		require.NoError(t, b.Rollout.Apply(ctx, account.ID))
		require.NoError(t,
			change("ferries.example", api.DomainChange{Settings: map[string]any{"https_redirect": false}}))
		assert.Empty(t, site(t, b, account.ID, "ferries.example").MovedFrom, "files are moved once")
	})
	t.Run("a site that is mirrored stays one", func(t *testing.T) {
		_, err := b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: "same.example",
			Serving: api.Serving{ServedAs: "mirror", MirrorOf: "ferries.example"}})
		require.NoError(t, err)
		err = change("ferries.example", api.DomainChange{Serving: api.Serving{ServedAs: "dns-only"}})
		servicetest.Refused(t, refusal.InUse, err)
	})
	t.Run("the preview shows settings before and after", func(t *testing.T) {
		p := b.Preview(b.Operator, func(a usecase.Actor) error {
			_, err := b.Domains.ChangeDomain(ctx, a, account.SignInName, "ferries.example", 0,
				api.DomainChange{Settings: map[string]any{"largest_upload": float64(30 << 20)}})
			return err
		})
		require.Len(t, p.Records, 1)
		require.NotEmpty(t, p.Records[0].Fields)
		assert.Equal(t, "settings.largest_upload", p.Records[0].Fields[0].Name)
	})
}

func TestRemoveDomain(t *testing.T) {
	ctx := t.Context()
	b, account := harbour(t)
	_, err := b.Domains.RemoveDomain(ctx, b.Operator, account.SignInName, "ferries.example")
	servicetest.Refused(t, refusal.InUse, err)
	_, err = b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: "second.example"})
	require.NoError(t, err)
	_, err = b.Domains.AddDomain(ctx, b.Operator, account.SignInName, api.NewDomain{Domain: "same.example",
		Serving: api.Serving{ServedAs: "mirror", MirrorOf: "second.example"}})
	require.NoError(t, err)
	_, err = b.Domains.RemoveDomain(ctx, b.Operator, account.SignInName, "second.example")
	servicetest.Refused(t, refusal.InUse, err)
	for _, name := range []string{"same.example", "second.example"} {
		_, err = b.Domains.RemoveDomain(ctx, b.Operator, account.SignInName, name)
		require.NoError(t, err)
	}
	b.Work()
	m, _ := b.Agents.On(1).InForce(account.ID)
	assert.Len(t, m.Sites, 1)
	_, err = b.Domains.RemoveDomain(ctx, b.Operator, account.SignInName, "second.example")
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestSuspendedAccountsAreLeftAlone(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	customer := b.Customer("Tern Ferries", "")
	b.Account(b.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour", Customer: "Tern Ferries"})
	_, err := b.Selling.SuspendAccount(ctx, b.Operator, "ferries.example", "unpaid")
	require.NoError(t, err)
	b.Work()
	_, err = b.Domains.AddDomain(ctx, customer, "ferries.example", api.NewDomain{Domain: "second.example"})
	servicetest.Refused(t, refusal.Suspended, err)
	_, err = b.Domains.AddDomain(ctx, b.Operator, "ferries.example", api.NewDomain{Domain: "second.example"})
	assert.NoError(t, err, "whoever can resume it can change it")
}

func TestFolders(t *testing.T) {
	ctx := t.Context()
	b, account := harbour(t)
	for name, in := range map[string]api.NewFolder{
		"a path that leads out": {Path: "../x", Users: []api.NewFolderUser{{Name: "anna", Password: "long enough"}}},
		"no user":               {Path: "crew", Users: []api.NewFolderUser{{Password: "long enough"}}},
		"a user with a colon":   {Path: "crew", Users: []api.NewFolderUser{{Name: "an:na", Password: "long enough"}}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.Domains.ProtectFolder(ctx, b.Operator, account.SignInName, "ferries.example", in)
			servicetest.Refused(t, refusal.InvalidInput, err)
		})
	}
	changed, err := b.Domains.ProtectFolder(ctx, b.Operator, account.SignInName, "ferries.example",
		api.NewFolder{Path: "/crew/", Title: "Crew", Users: []api.NewFolderUser{{Name: "anna",
			Password: "long enough"}}})
	require.NoError(t, err)
	b.Work()
	folders := site(t, b, account.ID, "ferries.example").Folders
	require.Len(t, folders, 1)
	assert.Equal(t, "crew", folders[0].Path)
	require.Len(t, folders[0].Users, 1)
	assert.Equal(t, "anna", folders[0].Users[0].Name)

	_, err = b.Domains.AddFolderUser(ctx, b.Operator, account.SignInName, "ferries.example", changed.Folder.ID, "ben",
		"long enough")
	require.NoError(t, err)
	_, err = b.Domains.RemoveFolderUser(ctx, b.Operator, account.SignInName, "ferries.example", changed.Folder.ID,
		"anna")
	require.NoError(t, err)
	_, err = b.Domains.RemoveFolderUser(ctx, b.Operator, account.SignInName, "ferries.example", changed.Folder.ID,
		"anna")
	servicetest.Refused(t, refusal.NotFound, err)
	b.Work()
	users := site(t, b, account.ID, "ferries.example").Folders[0].Users
	require.Len(t, users, 1)
	assert.Equal(t, "ben", users[0].Name)
	_, err = b.Domains.UnprotectFolder(ctx, b.Operator, account.SignInName, "ferries.example", changed.Folder.ID)
	require.NoError(t, err)
	_, err = b.Domains.UnprotectFolder(ctx, b.Operator, account.SignInName, "ferries.example", changed.Folder.ID)
	servicetest.Refused(t, refusal.NotFound, err)
	b.Work()
	assert.Empty(t, site(t, b, account.ID, "ferries.example").Folders)
}

func TestTemplates(t *testing.T) {
	ctx := t.Context()
	b, account := harbour(t)
	_, err := b.Domains.AddTemplate(ctx, b.Operator, api.NewTemplate{Name: "Pilot age"})
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = b.Domains.AddTemplate(ctx, b.Operator, api.NewTemplate{Name: "pilotage",
		Settings: map[string]any{"sails": 1}})
	servicetest.Refused(t, refusal.InvalidInput, err)
	_, err = b.Domains.AddTemplate(ctx, b.Operator, api.NewTemplate{Name: "pilotage",
		Settings: map[string]any{"largest_upload": float64(7 << 20)}})
	require.NoError(t, err)
	_, err = b.Domains.AddTemplate(ctx, b.Operator, api.NewTemplate{Name: "pilotage"})
	servicetest.Refused(t, refusal.NameTaken, err)

	_, err = b.Domains.ChangeDomain(ctx, b.Operator, account.SignInName, "ferries.example", 0,
		api.DomainChange{Template: ptr("pilotage")})
	require.NoError(t, err)
	b.Work()
	assert.EqualValues(t, 7<<20, site(t, b, account.ID, "ferries.example").Switches.LargestUpload)

	t.Run("a change reaches the sites that follow it", func(t *testing.T) {
		changed, err := b.Domains.ChangeTemplate(ctx, b.Operator, "pilotage", 0,
			api.TemplateChange{Settings: map[string]any{"largest_upload": float64(8 << 20)}})
		require.NoError(t, err)
		require.NotZero(t, changed.Operation)
		b.Work()
		assert.EqualValues(t, 8<<20, site(t, b, account.ID, "ferries.example").Switches.LargestUpload)
	})
	t.Run("what the site has of its own wins", func(t *testing.T) {
		_, err := b.Domains.ChangeDomain(ctx, b.Operator, account.SignInName, "ferries.example", 0,
			api.DomainChange{Settings: map[string]any{"largest_upload": float64(9 << 20)}})
		require.NoError(t, err)
		b.Work()
		assert.EqualValues(t, 9<<20, site(t, b, account.ID, "ferries.example").Switches.LargestUpload)
	})
	t.Run("others do not see a reseller's", func(t *testing.T) {
		guillemot := b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
		_, err := b.Domains.AddTemplate(ctx, guillemot, api.NewTemplate{Name: "theirs"})
		require.NoError(t, err)
		list, err := b.Domains.Templates(ctx, b.Reseller("razorbill", "used", plans.Limits{}))
		require.NoError(t, err)
		for _, tpl := range list.Templates {
			assert.NotEqual(t, "theirs", tpl.Name)
		}
		_, err = b.Domains.ChangeTemplate(ctx, guillemot, "pilotage", 0, api.TemplateChange{})
		require.Error(t, err, "the operator's are for all to use, and for the operator to change")
	})
	t.Run("one that is followed stays", func(t *testing.T) {
		servicetest.Refused(t, refusal.InUse, b.Domains.RemoveTemplate(ctx, b.Operator, "pilotage"))
		_, err := b.Domains.ChangeDomain(ctx, b.Operator, account.SignInName, "ferries.example", 0,
			api.DomainChange{Template: ptr("")})
		require.NoError(t, err)
		require.NoError(t, b.Domains.RemoveTemplate(ctx, b.Operator, "pilotage"))
		servicetest.Refused(t, refusal.NotFound, b.Domains.RemoveTemplate(ctx, b.Operator, "pilotage"))
	})
}
