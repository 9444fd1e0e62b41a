package people_test

import (
	"encoding/base32"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/totp"
	"victualler/internal/service/people"
	"victualler/internal/service/servicetest"
	"victualler/internal/service/usecase"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const password = "tidal-barnacle-2741-quay"

// visitor is somebody who has not signed in.
func visitor() usecase.Actor {
	return usecase.Actor{Address: "192.0.2.1", Request: "test", Program: "go test"}
}

// person adds somebody with a password.
func person(t *testing.T, b *servicetest.Bench, in api.NewPerson) api.Person {
	t.Helper()
	in.Activation, in.Password, in.Language = "password", password, "en"
	p, err := b.People.AddPerson(t.Context(), b.Operator, in)
	require.NoError(t, err)
	return p
}

func signIn(t *testing.T, b *servicetest.Bench, name, word string) (usecase.Actor, error) {
	t.Helper()
	session, err := b.People.SignIn(t.Context(), visitor(), api.SignIn{Name: name, Password: word, Token: true})
	if err != nil {
		return usecase.Actor{}, err
	}
	a, err := b.People.Identify(t.Context(), session.Token, "192.0.2.1", false)
	require.NoError(t, err)
	return a, nil
}

func TestAddPerson(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	guillemot := b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	customer, err := b.Selling.AddCustomer(ctx, guillemot, api.NewCustomer{Name: "Bakery"})
	require.NoError(t, err)
	for name, c := range map[string]struct {
		actor usecase.Actor
		in    api.NewPerson
		kind  refusal.Kind
	}{
		"a name with spaces":    {b.Operator, api.NewPerson{Name: "a b"}, refusal.InvalidInput},
		"a name that is in use": {b.Operator, api.NewPerson{Name: "Operator"}, refusal.NameTaken},
		"a weak password": {b.Operator, api.NewPerson{Name: "anna", Activation: "password",
			Password: "password1"}, refusal.WeakPassword},
		"a link without an address": {b.Operator, api.NewPerson{Name: "anna", Activation: "link"},
			refusal.InvalidInput},
		"a network that is none": {b.Operator, api.NewPerson{Name: "anna", Networks: []string{"here"}},
			refusal.InvalidInput},
		"an operator, by a reseller": {guillemot, api.NewPerson{Name: "anna", Role: "operator"},
			refusal.InvalidInput},
		"of another customer": {guillemot, api.NewPerson{Name: "anna", Customer: customer.ID + 100},
			refusal.NotFound},
		"of a reseller there is not": {b.Operator, api.NewPerson{Name: "anna", Reseller: "auk"},
			refusal.NotFound},
		"a customer of no customer at all": {b.Operator, api.NewPerson{Name: "anna", Role: "customer"},
			refusal.InvalidInput},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.People.AddPerson(ctx, c.actor, c.in)
			servicetest.Refused(t, c.kind, err)
		})
	}
	baker, err := b.People.AddPerson(ctx, guillemot, api.NewPerson{Name: "Baker", Customer: customer.ID})
	require.NoError(t, err)
	assert.Equal(t, "baker", baker.Name)
	assert.Equal(t, "customer", baker.Role)
	list, err := b.People.People(ctx, guillemot, people.PersonFilter{}, "", 10)
	require.NoError(t, err)
	assert.Len(t, list.People, 2, "their own and their customers'")
	_, err = b.People.Person(ctx, guillemot, "operator")
	servicetest.Refused(t, refusal.NotFound, err)
}

func TestSignIn(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator", Duty: "support", Networks: []string{"192.0.2.0/24"}})

	a, err := signIn(t, b, " MINDER ", password)
	require.NoError(t, err)
	assert.Equal(t, "minder", a.Name)
	assert.Equal(t, rights.Operator, a.Role)
	assert.Equal(t, rights.Support, a.Duty)
	for name, in := range map[string]api.SignIn{
		"a wrong password": {Name: "minder", Password: "wrong"},
		"nobody":           {Name: "nobody", Password: password},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := b.People.SignIn(ctx, visitor(), in)
			r := servicetest.Refused(t, refusal.WrongSignIn, err)
			assert.Contains(t, r.Detail, "wrong name or password, or sign-in is not allowed from this address.")
		})
	}
	t.Run("from elsewhere", func(t *testing.T) {
		from := visitor()
		from.Address = "198.51.100.1"
		_, err := b.People.SignIn(ctx, from, api.SignIn{Name: "minder", Password: password})
		servicetest.Refused(t, refusal.WrongSignIn, err)
	})
	t.Run("a session is for its networks, and ends", func(t *testing.T) {
		session, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password, Token: true})
		require.NoError(t, err)
		_, err = b.People.Identify(ctx, session.Token, "198.51.100.1", false)
		servicetest.Refused(t, refusal.NotSignedIn, err)
		_, err = b.People.Identify(ctx, session.Token+"x", "192.0.2.1", false)
		servicetest.Refused(t, refusal.NotSignedIn, err)
		a, err := b.People.Identify(ctx, session.Token, "192.0.2.7", false)
		require.NoError(t, err)
		require.NoError(t, b.People.SignOut(ctx, a))
		_, err = b.People.Identify(ctx, session.Token, "192.0.2.1", false)
		servicetest.Refused(t, refusal.NotSignedIn, err)
	})
	t.Run("one that is not used ends", func(t *testing.T) {
		session, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password, Token: true})
		require.NoError(t, err)
		b.Pass(time.Hour)
		_, err = b.People.Identify(ctx, session.Token, "192.0.2.1", false)
		servicetest.Refused(t, refusal.NotSignedIn, err)
	})
}

func TestThrottle(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	var waits []time.Duration
	for range 30 {
		_, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: "wrong"})
		if r := refusal.As(err); r.Kind == refusal.TooManyTries {
			waits = append(waits, r.After)
			b.Pass(r.After)
		}
	}
	require.GreaterOrEqual(t, len(waits), 3)
	assert.Greater(t, waits[2], waits[0], "the wait grows")
	var r *refusal.Refusal
	for r == nil {
		_, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: "wrong"})
		if refusal.Is(err, refusal.TooManyTries) {
			r = refusal.As(err)
		}
	}
	_, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password})
	servicetest.Refused(t, refusal.TooManyTries, err)
	b.Pass(r.After)
	_, err = b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password})
	require.NoError(t, err, "after the wait, the right one lets in")
}

// Nobody is shut out by what others try from elsewhere, and no answer
// tells whether there is somebody.
func TestThrottleByOthers(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	home := visitor()
	home.Address = "198.51.100.7"
	_, err := b.People.SignIn(ctx, home, api.SignIn{Name: "minder", Password: password})
	require.NoError(t, err)
	from := func(n int) usecase.Actor {
		a := visitor()
		a.Address = fmt.Sprintf("203.0.113.%d", n)
		return a
	}
	answers := map[string][]refusal.Kind{}
	for n := range 120 { // from many networks, few from each
		for _, name := range []string{"minder", "nobody"} {
			_, err := b.People.SignIn(ctx, from(n), api.SignIn{Name: name, Password: "wrong"})
			answers[name] = append(answers[name], refusal.As(err).Kind)
		}
	}
	assert.Equal(t, answers["nobody"], answers["minder"], "whether there is somebody does not show")
	assert.Contains(t, answers["minder"], refusal.TooManyTries, "guessing from many networks is slowed down")
	_, err = b.People.SignIn(ctx, from(200), api.SignIn{Name: "minder", Password: password})
	servicetest.Refused(t, refusal.TooManyTries, err)
	_, err = b.People.SignIn(ctx, home, api.SignIn{Name: "minder", Password: password})
	require.NoError(t, err, "from where they have come before, they are let in")
}

func TestThrottleCountsWithManyAtOnce(t *testing.T) {
	b := servicetest.Process(t, servicetest.New(t).URL)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	var tried atomic.Int64
	var group sync.WaitGroup
	for range 40 {
		group.Go(func() {
			_, err := b.People.SignIn(t.Context(), visitor(), api.SignIn{Name: "minder", Password: "wrong"})
			if refusal.Is(err, refusal.WrongSignIn) {
				tried.Add(1)
			}
		})
	}
	group.Wait()
	assert.LessOrEqual(t, tried.Load(), int64(12), "few passwords are tried, however many come together")
}

func TestPasswords(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	first, err := signIn(t, b, "minder", password)
	require.NoError(t, err)
	second, err := signIn(t, b, "minder", password)
	require.NoError(t, err)

	servicetest.Refused(t, refusal.WrongSignIn,
		b.People.ChangePassword(ctx, first, api.PasswordChange{Present: "wrong", New: "another-good-one-8812"}))
	servicetest.Refused(t, refusal.WeakPassword,
		b.People.ChangePassword(ctx, first, api.PasswordChange{Present: password, New: "minder123"}))
	require.NoError(t,
		b.People.ChangePassword(ctx, first, api.PasswordChange{Present: password, New: "another-good-one-8812"}))
	sessions, err := b.People.Sessions(ctx, first)
	require.NoError(t, err)
	assert.Len(t, sessions.Sessions, 1, "all others have ended")
	_ = second
	_, err = signIn(t, b, "minder", password)
	servicetest.Refused(t, refusal.WrongSignIn, err)

	t.Run("one that somebody else sets has to be changed first", func(t *testing.T) {
		require.NoError(t, b.People.ResetPassword(ctx, b.Operator, "minder", api.NewPassword{Password: password,
			MustChange: true}))
		a, err := signIn(t, b, "minder", password)
		require.NoError(t, err)
		assert.Equal(t, []string{"password"}, a.MustFirst)
	})
	t.Run("how strong one is", func(t *testing.T) {
		assert.Equal(t, "weak", b.People.CheckPassword(b.Operator, api.PasswordCheck{Password: "letmein"}).Level)
		made, err := b.People.GeneratePassword(20, true, true, true, false)
		require.NoError(t, err)
		assert.Len(t, made.Password, 20)
		_, err = b.People.GeneratePassword(20, false, false, false, false)
		servicetest.Refused(t, refusal.InvalidInput, err)
	})
}

func TestSecondFactor(t *testing.T) {
	ctx := t.Context()
	b := servicetest.Process(t, servicetest.New(t).URL)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	a, err := signIn(t, b, "minder", password)
	require.NoError(t, err)
	setup, err := b.People.StartSecondFactor(ctx, a)
	require.NoError(t, err)
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(setup.Secret)
	require.NoError(t, err)
	code := func(step int64) string { return totp.Code(secret, totp.Step(b.Base.Now())+step) }
	_, err = b.People.ConfirmSecondFactor(ctx, a, "000000")
	servicetest.Refused(t, refusal.InvalidInput, err)
	codes, err := b.People.ConfirmSecondFactor(ctx, a, code(0))
	require.NoError(t, err)
	require.Len(t, codes.Codes, 10)

	with := func(c string) error {
		_, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password, Code: c})
		return err
	}
	servicetest.Refused(t, refusal.NeedsCode, with(""))
	assert.Error(t, with(code(0)), "a code counts once")
	// Whoever has watched a code being typed is as quick as its owner.
	together := func(code string) (let int) {
		errs := make([]error, 3)
		var group sync.WaitGroup
		for n := range errs {
			group.Go(func() { errs[n] = with(code) })
		}
		group.Wait()
		for _, err := range errs {
			if err == nil {
				let++
			}
		}
		return let
	}
	assert.Equal(t, 1, together(code(1)), "the next one, by one of those who have it")
	assert.Equal(t, 1, together(codes.Codes[0]), "a recovery code")
	assert.Error(t, with(codes.Codes[0]), "once")
	factor, err := b.People.SecondFactor(ctx, a)
	require.NoError(t, err)
	assert.True(t, factor.On)
	assert.EqualValues(t, 9, factor.Left)

	t.Run("it is given up with the password", func(t *testing.T) {
		servicetest.Refused(t, refusal.WrongSignIn, b.People.DropSecondFactor(ctx, a, api.Proof{Password: "wrong"}))
		require.NoError(t, b.People.DropSecondFactor(ctx, a, api.Proof{Password: password}))
		require.NoError(t, with(""))
	})
	t.Run("whose role must have one has to set it up first", func(t *testing.T) {
		_, err := b.Settings.ChangeSettings(ctx, b.Operator, 0, api.SettingsChange{SecondFactor: &[]string{"operator"}})
		require.NoError(t, err)
		a, err := signIn(t, b, "minder", password)
		require.NoError(t, err)
		assert.Equal(t, []string{"second-factor"}, a.MustFirst)
	})
}

func TestTokens(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator", Duty: "support"})
	a, err := signIn(t, b, "minder", password)
	require.NoError(t, err)
	_, err = b.People.AddToken(ctx, a, api.NewToken{Name: "shop", Scopes: []string{"boats.sail"}})
	servicetest.Refused(t, refusal.InvalidInput, err)
	past := b.Base.Now().Add(-time.Hour)
	_, err = b.People.AddToken(ctx, a, api.NewToken{Name: "shop", Scopes: []string{"accounts.read"}, EndsAt: &past})
	servicetest.Refused(t, refusal.InvalidInput, err)
	ends := b.Base.Now().Add(24 * time.Hour)
	token, err := b.People.AddToken(ctx, a, api.NewToken{Name: "shop", Scopes: []string{"accounts.read"},
		Networks: []string{"192.0.2.0/24"}, EndsAt: &ends})
	require.NoError(t, err)

	program, err := b.People.Identify(ctx, token.Secret, "192.0.2.9", false)
	require.NoError(t, err)
	assert.True(t, program.Allows(rights.AccountsRead))
	assert.False(t, program.Allows(rights.PeopleRead), "only what it was given, whatever its person may")
	_, err = b.People.Identify(ctx, token.Secret, "198.51.100.1", false)
	servicetest.Refused(t, refusal.NotSignedIn, err)
	list, err := b.People.Tokens(ctx, a)
	require.NoError(t, err)
	require.Len(t, list.Tokens, 1)
	assert.Empty(t, list.Tokens[0].Secret, "it is shown once")
	b.Pass(25 * time.Hour)
	_, err = b.People.Identify(ctx, token.Secret, "192.0.2.9", false)
	servicetest.Refused(t, refusal.NotSignedIn, err)
	require.NoError(t, b.People.RemoveToken(ctx, a, token.ID))
	servicetest.Refused(t, refusal.NotFound, b.People.RemoveToken(ctx, a, token.ID))
}

func TestLinks(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	_, err := b.Settings.ChangeSettings(ctx, b.Operator, 0,
		api.SettingsChange{Console: ptr("https://console.tern.test")})
	require.NoError(t, err)
	_, err = b.People.AddPerson(ctx, b.Operator, api.NewPerson{Name: "minder", Role: "operator", Language: "en"})
	require.NoError(t, err)
	link, err := b.People.AddLink(ctx, b.Operator, "minder", api.NewLink{Purpose: "password"})
	require.NoError(t, err)
	address, secret, found := strings.Cut(link.URL, "#")
	require.True(t, found, "the secret is behind the #, which browsers send nobody")
	assert.True(t, strings.HasPrefix(address, "https://console.tern.test/"))
	purpose, err := b.People.CheckLink(ctx, secret)
	require.NoError(t, err)
	assert.Equal(t, "minder", purpose.Name)

	_, err = b.People.SignInByLink(ctx, visitor(), api.LinkSignIn{Link: secret})
	require.Error(t, err, "it sets a password")
	_, err = b.People.SignInByLink(ctx, visitor(), api.LinkSignIn{Link: secret, Password: password})
	require.NoError(t, err)
	_, err = b.People.SignInByLink(ctx, visitor(), api.LinkSignIn{Link: secret, Password: password})
	servicetest.Refused(t, refusal.LinkEnded, err)
	_, err = b.People.CheckLink(ctx, "never-was")
	servicetest.Refused(t, refusal.LinkEnded, err)
	_, err = signIn(t, b, "minder", password)
	require.NoError(t, err)

	t.Run("it ends in time", func(t *testing.T) {
		link, err := b.People.AddLink(ctx, b.Operator, "minder", api.NewLink{Purpose: "sign-in"})
		require.NoError(t, err)
		_, secret, _ := strings.Cut(link.URL, "#")
		b.Pass(30 * 24 * time.Hour)
		_, err = b.People.SignInByLink(ctx, visitor(), api.LinkSignIn{Link: secret})
		servicetest.Refused(t, refusal.LinkEnded, err)
	})
}

func ptr[T any](v T) *T { return &v }

func TestPasswordReset(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	_, err := b.Settings.ChangeSettings(ctx, b.Operator, 0,
		api.SettingsChange{Console: ptr("https://console.tern.test"),
			MailServer: ptr("127.0.0.1:1"), MailSecurity: ptr("none"), Sender: ptr("desk@tern.test")})
	require.NoError(t, err)
	_, err = b.People.AddPerson(ctx, b.Operator, api.NewPerson{Name: "minder", Role: "operator", Language: "en",
		Email: "minder@post.test"})
	require.NoError(t, err)
	for _, name := range []string{"minder", "nobody"} {
		require.NoError(t, b.People.RequestPasswordReset(ctx, visitor(), api.Forgotten{Name: name}),
			"the same answer for both")
	}
	var mails int
	for _, j := range b.Queue.Drain() {
		require.Equal(t, "MailPasswordReset", j.Kind)
		require.NoError(t, b.People.MailPasswordReset(ctx, j.Words[0], j.Words[1], j.Words[2]))
		for _, m := range b.Queue.Drain() {
			require.Equal(t, "SendMail", m.Kind)
			mails++
		}
	}
	assert.Equal(t, 1, mails)
}

func TestTheLastOperatorStays(t *testing.T) {
	ctx := t.Context()
	b := servicetest.Process(t, servicetest.New(t).URL)
	servicetest.Refused(t, refusal.InUse, b.People.RemovePerson(ctx, b.Operator, "operator"))
	for n := range 4 {
		_, err := b.People.AddPerson(ctx, b.Operator, api.NewPerson{Name: fmt.Sprintf("op%d", n), Role: "operator"})
		require.NoError(t, err)
	}
	var group sync.WaitGroup
	for _, name := range []string{"op0", "op1", "op2", "op3", "operator"} {
		group.Go(func() { _ = b.People.RemovePerson(ctx, b.Operator, name) })
	}
	group.Wait()
	list, err := b.People.People(ctx, b.Operator, people.PersonFilter{}, "", 10)
	require.NoError(t, err)
	assert.NotEmpty(t, list.People)
}

func TestActAs(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	session, err := b.People.SignIn(ctx, visitor(), api.SignIn{Name: "minder", Password: password, Token: true})
	require.NoError(t, err)
	me := func() usecase.Actor {
		a, err := b.People.Identify(ctx, session.Token, "192.0.2.1", false)
		require.NoError(t, err)
		return a
	}
	servicetest.Refused(t, refusal.NotFound, b.People.ActAs(ctx, me(), api.ActAs{Reseller: "auk"}))
	require.NoError(t, b.People.ActAs(ctx, me(), api.ActAs{Reseller: "guillemot"}))
	acting := me()
	assert.Equal(t, rights.Reseller, acting.Role)
	assert.False(t, acting.Allows(rights.ServersRead), "their rights, and no others")
	_, err = b.Selling.AddCustomer(ctx, acting, api.NewCustomer{Name: "Bakery"})
	require.NoError(t, err)
	page, err := b.People.Events(ctx, b.Operator, people.EventFilter{Action: "customer.add"}, 0, 10)
	require.NoError(t, err)
	require.NotEmpty(t, page.Events)
	assert.Equal(t, "minder", page.Events[0].Actor)
	assert.Contains(t, page.Events[0].OnBehalf, "guillemot", "the record has both names")
	require.NoError(t, b.People.StopActing(ctx, acting))
	assert.Equal(t, rights.Operator, me().Role)
}

func TestEvents(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	guillemot := b.Reseller("guillemot", "used", plans.Limits{plans.Disk: plans.Of(plans.GiB)})
	for n := range 5 {
		_, err := b.Selling.AddCustomer(ctx, guillemot, api.NewCustomer{Name: fmt.Sprintf("Bakery %d", n)})
		require.NoError(t, err)
	}
	_, err := b.Selling.AddCustomer(ctx, b.Operator, api.NewCustomer{Name: "Tern Ferries"})
	require.NoError(t, err)

	page, err := b.People.Events(ctx, guillemot, people.EventFilter{Action: "customer"}, 0, 10)
	require.NoError(t, err)
	assert.Len(t, page.Events, 5, "what concerns theirs")
	for name, f := range map[string]people.EventFilter{
		"by a part of the subject": {Search: "tern ferries"},
		"by whose doing it was":    {Actor: "operator", Action: "customer.add"},
	} {
		t.Run(name, func(t *testing.T) {
			page, err := b.People.Events(ctx, b.Operator, f, 0, 10)
			require.NoError(t, err)
			require.Len(t, page.Events, 1)
			assert.Contains(t, page.Events[0].Subject, "Tern Ferries")
		})
	}
	t.Run("all of it, newest first", func(t *testing.T) {
		var ids []int64
		require.NoError(t, b.People.ExportEvents(ctx, b.Operator, people.EventFilter{}, func(e api.Event) error {
			ids = append(ids, e.ID)
			return nil
		}))
		for n := 1; n < len(ids); n++ {
			assert.Less(t, ids[n], ids[n-1])
		}
		assert.GreaterOrEqual(t, len(ids), 8)
	})
	t.Run("from where others work is not told", func(t *testing.T) {
		_, err := b.Selling.ChangeCustomer(ctx, b.Operator, "Bakery 0", 0, api.CustomerChange{Phone: ptr("1")})
		require.NoError(t, err)
		page, err := b.People.Events(ctx, guillemot, people.EventFilter{Action: "customer.change"}, 0, 10)
		require.NoError(t, err)
		require.Len(t, page.Events, 1)
		assert.Empty(t, page.Events[0].Address)
	})
	t.Run("nothing of it can be changed", func(t *testing.T) {
		_, err := b.Store.Pool.Exec(ctx, "update events set actor = 'somebody else'")
		assert.Error(t, err)
		_, err = b.Store.Pool.Exec(ctx, "delete from events")
		assert.Error(t, err)
	})
}

func TestTidy(t *testing.T) {
	ctx := t.Context()
	b := servicetest.New(t)
	person(t, b, api.NewPerson{Name: "minder", Role: "operator"})
	_, err := signIn(t, b, "minder", password)
	require.NoError(t, err)
	b.Pass(365 * 24 * time.Hour)
	require.NoError(t, b.People.Tidy(ctx))
	var n int
	require.NoError(t, b.Store.Pool.QueryRow(ctx, "select count(*) from sessions").Scan(&n))
	assert.Zero(t, n)
}

// No token, whatever its scopes, makes, changes or lets in anybody who could do more than itself.
func TestTokensCannotGrow(t *testing.T) {
	b := servicetest.New(t)
	b.Customer("Ferries", "")
	_, err := b.Settings.ChangeSettings(t.Context(), b.Operator, 0, api.SettingsChange{
		Console: ptr("https://console.ternisland.example")})
	require.NoError(t, err)
	permissions, _ := rights.Scopes()
	people := map[string]api.NewPerson{
		"boss":    {Name: "boss", Duty: "all"},
		"helper":  {Name: "helper", Duty: "support"},
		"looker":  {Name: "looker", Duty: "all", ReadOnly: true},
		"visitor": {Name: "visitor", Customer: 1},
	}
	subjects := map[string]rights.Subject{
		"boss":    {Role: rights.Operator, Duty: rights.All},
		"helper":  {Role: rights.Operator, Duty: rights.Support},
		"looker":  {Role: rights.Operator, Duty: rights.All, ReadOnly: true},
		"visitor": {Role: rights.Customer, Duty: rights.All},
	}
	for name, in := range people {
		in.Name += "-there"
		_, err := b.People.AddPerson(t.Context(), b.Operator, in)
		require.NoError(t, err, name)
	}
	attempts := 0
	try := func(token usecase.Actor, beyond func(rights.Subject) bool) {
		t.Helper()
		for name, in := range people {
			token.Preview = &usecase.Preview{} // nothing of it stays
			_, added := b.People.AddPerson(t.Context(), token, in)
			there := name + "-there"
			_, linked := b.People.AddLink(t.Context(), token, there, api.NewLink{Purpose: "sign-in"})
			_, changed := b.People.ChangePerson(t.Context(), token, there, 0, api.PersonChange{Duty: ptr("all"),
				ReadOnly: ptr(false)})
			outcomes := map[string]error{"add": added, "link": linked}
			if len(token.Scopes) == len(permissions) { // it takes a while each time
				outcomes["password"] = b.People.ResetPassword(t.Context(), token, there,
					api.NewPassword{Password: "storm-petrel-harbour-77"})
			}
			for what, err := range outcomes {
				attempts++
				if beyond(subjects[name]) {
					servicetest.Refused(t, refusal.NotAllowed, err)
				} else {
					assert.NoError(t, err, "%s %s", what, name)
				}
			}
			full := subjects[name]
			full.Duty, full.ReadOnly = rights.All, false
			if beyond(full) {
				servicetest.Refused(t, refusal.NotAllowed, changed)
			}
		}
	}
	// With every scope but one, and with that one and the right to change people alone.
	for _, p := range permissions {
		for _, scopes := range [][]rights.Permission{
			slices.DeleteFunc(slices.Clone(permissions), func(q rights.Permission) bool { return q == p }),
			{p, rights.PeopleChange},
		} {
			token := b.Operator
			token.Token, token.Scopes = true, scopes
			try(token, func(s rights.Subject) bool {
				return !slices.Contains(scopes, rights.PeopleChange) || len(token.Beyond(s)) > 0
			})
		}
	}
	assert.Greater(t, attempts, 400)
	// With all scopes, but not for ever or not from everywhere.
	token := b.Operator
	token.Token, token.Scopes = true, permissions
	try(token, func(rights.Subject) bool { return false })
	ends := time.Now().Add(time.Hour)
	token.TokenEnds = &ends
	try(token, func(rights.Subject) bool { return true })
	token.TokenEnds, token.TokenNetworks = nil, []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}
	try(token, func(rights.Subject) bool { return true })
	token.Preview = &usecase.Preview{}
	for network, may := range map[string]bool{"192.0.2.128/25": true, "192.0.0.0/16": false, "198.51.100.7": false} {
		in := people["boss"]
		in.Networks = []string{network}
		_, err := b.People.AddPerson(t.Context(), token, in)
		assert.Equal(t, may, err == nil, network)
	}
}
