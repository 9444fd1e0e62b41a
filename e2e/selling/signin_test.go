package selling

import (
	"context"
	"encoding/base32"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/totp"
	"victualler/internal/lab/labtest"
)

var linkIn = regexp.MustCompile(`/link#(\S+)`)

func TestSecondFactor(t *testing.T) {
	e2e.Shared(t)
	ctx := context.Background()
	c := e2e.Person(t, api.NewPerson{Name: "totp-tester", Duty: "support"})
	other := e2e.SignedIn(t, "totp-tester")
	var setup api.SecondFactorSetup
	require.NoError(t, c.Post(ctx, "/second-factor", nil, &setup))
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(setup.Secret)
	require.NoError(t, err)
	u, err := url.Parse(setup.URI)
	require.NoError(t, err)
	assert.Equal(t, setup.Secret, u.Query().Get("secret"))
	assert.Contains(t, setup.Image, "<svg")
	_, err = (&client.Client{Base: e2e.Inst.Address()}).SignIn(ctx, api.SignIn{Name: "totp-tester",
		Password: e2e.Password})
	require.NoError(t, err, "a second factor counts when a code of it was given")
	assert.Equal(t, 422, e2e.ProblemOf(t, c.Post(ctx, "/second-factor/confirm", api.Code{Code: "000000"}, nil)).Status)
	var codes api.RecoveryCodes
	code := func(ahead int64) string { return totp.Code(secret, totp.Step(time.Now())+ahead) }
	require.NoError(t, c.Post(ctx, "/second-factor/confirm", api.Code{Code: code(-1)}, &codes))
	require.Len(t, codes.Codes, 10)
	assert.Equal(t, 401, e2e.ProblemOf(t, other.Get(ctx, "/session", nil, nil)).Status, "older sessions have ended")

	try := func(code string) error {
		_, err := (&client.Client{Base: e2e.Inst.Address()}).SignIn(ctx, api.SignIn{Name: "totp-tester",
			Password: e2e.Password, Code: code})
		return err
	}
	assert.Equal(t, api.ProblemBase+"needs-code", e2e.ProblemOf(t, try("")).Type)
	assert.Equal(t, 401, e2e.ProblemOf(t, try("123456")).Status)
	now := code(0)
	assert.NoError(t, try(now))
	assert.ErrorContains(t, try(now), "used before", "no code counts twice")
	assert.ErrorContains(t, try(code(-1)), "used before", "nor an older one")
	assert.NoError(t, try(strings.ToUpper(codes.Codes[3])))
	assert.Error(t, try(codes.Codes[3]), "a recovery code works once")
	var f api.SecondFactor
	require.NoError(t, c.Get(ctx, "/second-factor", nil, &f))
	assert.True(t, f.On)
	assert.EqualValues(t, 9, f.Left)
	_, err = (&client.Client{Base: e2e.Inst.Address()}).SignIn(ctx, api.SignIn{Name: "totp-tester", Password: "wrong",
		Code: code(1)})
	assert.ErrorContains(t, err, "wrong name or password", "the code alone tells nothing about the password")

	assert.Equal(t, 401, e2e.ProblemOf(t, c.Post(ctx, "/second-factor/drop", api.Proof{Password: "wrong"}, nil)).Status)
	require.NoError(t, c.Post(ctx, "/second-factor/drop", api.Proof{Password: e2e.Password}, nil))
	assert.NoError(t, try(""))

	t.Run("a role that must have one is led there", func(t *testing.T) {
		e2e.Patch(t, "/settings", map[string][]string{"second_factor": {"reseller"}}, nil)
		defer e2e.Patch(t, "/settings", map[string][]string{"second_factor": {}}, nil)
		require.NoError(t,
			e2e.Inst.Client.Post(ctx, "/resellers", api.NewReseller{Name: "factory", Title: "F",
				Limits: plans.Limits{}}, nil))
		r := e2e.Person(t, api.NewPerson{Name: "factor-reseller", Reseller: "factory"})
		var s api.Session
		require.NoError(t, r.Get(ctx, "/session", nil, &s))
		assert.Equal(t, []string{"second-factor"}, s.MustFirst)
		assert.Equal(t, api.ProblemBase+"must-do-first", e2e.ProblemOf(t, r.Get(ctx, "/accounts", nil, nil)).Type)
		require.NoError(t, r.Post(ctx, "/second-factor", nil, &setup))
		secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(setup.Secret)
		require.NoError(t, err)
		require.NoError(t,
			r.Post(ctx, "/second-factor/confirm", api.Code{Code: totp.Code(secret, totp.Step(time.Now()))}, nil))
		assert.NoError(t, r.Get(ctx, "/accounts", nil, nil))
	})
}

func TestPasswords(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	c := e2e.Person(t, api.NewPerson{Name: "password-tester", Duty: "read-only", MustChange: true})
	var s api.Session
	require.NoError(t, c.Get(ctx, "/session", nil, &s))
	assert.Equal(t, []string{"password"}, s.MustFirst)
	assert.Equal(t, 403, e2e.ProblemOf(t, c.Get(ctx, "/accounts", nil, nil)).Status, "first the password")
	change := func(c *client.Client, present, next string) error {
		return c.Do(ctx, client.Call{Method: http.MethodPut, Path: "/password",
			Body: api.PasswordChange{Present: present, New: next}}, nil)
	}
	assert.ErrorContains(t, change(c, "wrong", "slow-heron-under-lantern-77"), "not your present password")
	weak := e2e.ProblemOf(t, change(c, e2e.Password, "password-tester1"))
	assert.Equal(t, api.ProblemBase+"weak-password", weak.Type)
	assert.Contains(t, weak.Detail, "others know about you")
	assert.Error(t, change(c, e2e.Password, e2e.Password))
	other := e2e.SignedIn(t, "password-tester")
	require.NoError(t, change(c, e2e.Password, "slow-heron-under-lantern-77"))
	assert.NoError(t, c.Get(ctx, "/accounts", nil, nil))
	assert.Equal(t, 401, e2e.ProblemOf(t, other.Get(ctx, "/session", nil, nil)).Status, "other sessions end")

	var strength api.Strength
	require.NoError(t,
		i.Client.Post(ctx, "/check/password", api.PasswordCheck{Password: "Ternferries1",
			About: []string{"ternferries.example"}}, &strength))
	assert.Equal(t, "weak", strength.Level)
	assert.NotEmpty(t, strength.Reasons)
	var made api.GeneratedPassword
	require.NoError(t, i.Client.Get(ctx, "/generate/password", url.Values{"length": {"24"}, "small": {"false"},
		"large": {"false"}, "signs": {"true"}}, &made))
	assert.Regexp(t, `^[2-9!#%+./:=?@_~-]{24}$`, made.Password)
	assert.Equal(t, 422,
		e2e.ProblemOf(t, i.Client.Get(ctx, "/generate/password", url.Values{"small": {"false"}, "large": {"false"},
			"digits": {"false"}}, nil)).Status)

	out, stderr, exit := e2e.Command(t, "person", "password", "password-tester", "--generate", "--length", "20")
	require.Equal(t, 0, exit, stderr)
	password := regexp.MustCompile(`password-tester: (\S{20})`).FindStringSubmatch(out)
	require.NotNil(t, password)
	assert.Equal(t, 401, e2e.ProblemOf(t, c.Get(ctx, "/session", nil, nil)).Status)
	_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "password-tester",
		Password: password[1]})
	assert.NoError(t, err)
}

func TestLinks(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	assert.Equal(t, api.ProblemBase+"wrong-state",
		e2e.ProblemOf(t, i.Client.Post(ctx, "/people", api.NewPerson{Name: "linked", Email: "linked@post.example",
			Activation: "link"}, nil)).Type, "no links before the console's address is known")
	sink := e2e.Mailing(t)
	require.NoError(t, i.Client.Post(ctx, "/people", api.NewPerson{Name: "linked", Email: "linked@post.example",
		Language: "de", Duty: "billing", Activation: "link"}, nil))
	m := e2e.Mailed(t, sink, "linked@post.example")
	assert.Contains(t, m.Text, "Wählen Sie hier ein Passwort")
	found := linkIn.FindStringSubmatch(m.Text)
	require.NotNil(t, found, m.Text)
	secret := found[1]
	c := &client.Client{Base: i.Address()}
	purpose, err := c.CheckLink(ctx, secret)
	require.NoError(t, err)
	assert.Equal(t, "linked", purpose.Name)
	assert.Equal(t, "password", purpose.Purpose)
	_, err = c.SignInByLink(ctx, api.LinkSignIn{Link: secret, Password: "linked"})
	assert.Equal(t, 422, e2e.ProblemOf(t, err).Status, "a weak password uses no link up")
	_, err = c.SignInByLink(ctx, api.LinkSignIn{Link: secret, Password: e2e.Password})
	require.NoError(t, err)
	assert.NoError(t, c.Get(ctx, "/accounts", nil, nil))
	_, err = c.SignInByLink(ctx, api.LinkSignIn{Link: secret, Password: e2e.Password})
	assert.Equal(t, 410, e2e.ProblemOf(t, err).Status, "a link works once")
	_, err = c.CheckLink(ctx, secret)
	assert.Equal(t, 410, e2e.ProblemOf(t, err).Status)

	var link api.Link
	require.NoError(t, i.Client.Post(ctx, "/people/linked/links", api.NewLink{Purpose: "sign-in"}, &link))
	first := linkIn.FindStringSubmatch(link.URL)[1]
	require.NoError(t, i.Client.Post(ctx, "/people/linked/links", api.NewLink{Purpose: "sign-in"}, &link))
	_, err = c.SignInByLink(ctx, api.LinkSignIn{Link: first})
	assert.Equal(t, 410, e2e.ProblemOf(t, err).Status, "the newest counts")
	session, err := c.SignInByLink(ctx, api.LinkSignIn{Link: linkIn.FindStringSubmatch(link.URL)[1]})
	require.NoError(t, err)
	assert.Equal(t, "linked", session.Name)

	t.Run("a forgotten password", func(t *testing.T) {
		for _, name := range []string{"linked", "nobody-of-that-name"} {
			require.NoError(t, (&client.Client{Base: i.Address()}).Post(ctx, "/session/forgotten",
				api.Forgotten{Name: name}, nil), "the same for every name")
		}
		labtest.Eventually(t, func() bool { return len(sink.To("linked@post.example")) >= 2 }, "no link")
		m := sink.To("linked@post.example")[0]
		assert.Contains(t, m.Subject, "neues Passwort")
		_, stderr, exit := e2e.CommandWith(t, t.TempDir()+"/s.json", "slow-heron-under-lantern-77\n", "session",
			"start",
			i.Address(), "--link", i.Address()+"/link#"+linkIn.FindStringSubmatch(m.Text)[1], "--password-stdin")
		require.Equal(t, 0, exit, stderr)
		labtest.Eventually(t, func() bool {
			return strings.Contains(sink.To("linked@post.example")[0].Subject, "geändert")
		}, "the person is not told")
		for range 7 {
			err = (&client.Client{Base: i.Address()}).Post(ctx, "/session/forgotten", api.Forgotten{Name: "linked"},
				nil)
		}
		p := e2e.ProblemOf(t, err)
		assert.Equal(t, 429, p.Status)
		assert.Positive(t, p.After)
		answer, err := http.Post(i.Address()+"/api/v1/session/forgotten", "application/json",
			strings.NewReader(`{"name":"linked"}`))
		require.NoError(t, err)
		answer.Body.Close()
		assert.NotEmpty(t, answer.Header.Get("Retry-After"))
	})
	t.Run("a link goes with the address it was mailed to", func(t *testing.T) {
		require.NoError(t, i.Client.Post(ctx, "/people", api.NewPerson{Name: "mover", Email: "mover@post.example",
			Duty: "billing", Activation: "link"}, nil))
		secret := linkIn.FindStringSubmatch(e2e.Mailed(t, sink, "mover@post.example").Text)[1]
		_, err := c.CheckLink(ctx, secret)
		require.NoError(t, err)
		elsewhere := "elsewhere@post.example"
		e2e.Patch(t, "/people/mover", api.PersonChange{Email: &elsewhere}, nil)
		_, err = c.CheckLink(ctx, secret)
		assert.Equal(t, 410, e2e.ProblemOf(t, err).Status)
	})
	t.Run("mail that does not go out", func(t *testing.T) {
		assert.ErrorContains(t, i.Client.Post(ctx, "/settings/test-mail", api.MailTest{To: "refused@b.example"}, nil),
			"550 there is no such mailbox")
		assert.NoError(t, i.Client.Post(ctx, "/settings/test-mail", api.MailTest{To: "fine@b.example"}, nil))
		require.NoError(t,
			i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "Unreachable", Email: "refused@post.example"}, nil))
		a := e2e.Opened(t, api.OpenAccount{Domain: "unreachable.example", Customer: "Unreachable"})
		require.NoError(t, i.Client.Post(ctx, fmt.Sprintf("/accounts/%d/handover/mail", a.ID), nil, nil))
		labtest.Eventually(t, func() bool {
			var list api.MailList
			require.NoError(t, i.Client.Get(ctx, fmt.Sprintf("/customers/%d/mails", a.CustomerID), nil, &list))
			return list.Mails[0].State == "failed" && strings.Contains(list.Mails[0].Failure, "550")
		}, "the failure is not told")
	})
	t.Run("no link and no password is kept or logged", func(t *testing.T) {
		for _, where := range []string{"log", "events", "mails", "idempotency"} {
			text := e2e.EverythingIn(t, where)
			for _, secret := range []string{secret, first, e2e.Password, "slow-heron-under-lantern-77"} {
				assert.NotContains(t, text, secret, where)
			}
		}
	})
}

func TestTokens(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	c := e2e.Person(t, api.NewPerson{Name: "token-tester"})
	var scopes api.ScopeList
	require.NoError(t, c.Get(ctx, "/scopes", nil, &scopes))
	require.Len(t, scopes.Scopes, len(stated)-4, "public, own, personal and mailbox.own are no scopes")
	make := func(name string, scopes ...string) (*client.Client, api.Token) {
		t.Helper()
		var token api.Token
		require.NoError(t, c.Post(ctx, "/tokens", api.NewToken{Name: name, Scopes: scopes}, &token))
		return &client.Client{Base: i.Address(), Token: token.Secret}, token
	}
	t.Run("each opens what it is for, and nothing else", func(t *testing.T) {
		var all []string
		for _, s := range scopes.Scopes {
			all = append(all, s.Name)
		}
		paths := routes(t)
		for _, scope := range all {
			with, _ := make("only "+scope, scope)
			without, _ := make("all but "+scope, slices.DeleteFunc(slices.Clone(all), func(s string) bool {
				return s == scope
			})...)
			for path, methods := range paths {
				for method, route := range methods {
					if route.Permission != scope || route.OperationID == "watch-operation" ||
						route.OperationID == "test-mail" || route.OperationID == "act-as" {
						continue
					}
					x := tenant{mark: "none", person: "nobody-here", reseller: "none", plan: "none",
						account: api.Account{ID: 999999, SignInName: "none"}, customer: 999999, operation: 999999}
					status, kind, body := ask(t, strings.ToUpper(method), path, route, x, visitor{client: with})
					assert.NotContains(t, []int{401, 403}, status, "%s with %s: %s %s", route.OperationID, scope, kind,
						body)
					status, kind, _ = ask(t, strings.ToUpper(method), path, route, x, visitor{client: without})
					assert.Equal(t, 403, status, "%s without %s: %s", route.OperationID, scope, kind)
				}
			}
		}
	})
	t.Run("rights that its person does not have, it does not have either", func(t *testing.T) {
		support := e2e.Person(t, api.NewPerson{Name: "token-support"})
		var token api.Token
		require.NoError(t,
			support.Post(ctx, "/tokens", api.NewToken{Name: "t", Scopes: []string{"plans.change", "accounts.read"}},
				&token))
		duty := "support"
		e2e.Patch(t, "/people/token-support", api.PersonChange{Duty: &duty}, nil)
		k := &client.Client{Base: i.Address(), Token: token.Secret}
		assert.Equal(t, 403, e2e.ProblemOf(t, k.Post(ctx, "/plans", api.NewPlan{Name: "by-token"}, nil)).Status)
		assert.NoError(t, k.Get(ctx, "/accounts", nil, nil))
		assert.Equal(t, 422,
			e2e.ProblemOf(t, support.Post(ctx, "/tokens", api.NewToken{Name: "u", Scopes: []string{"plans.change"}},
				nil)).Status)
	})
	t.Run("a token is no person", func(t *testing.T) {
		k, _ := make("no person", "accounts.read")
		for _, path := range []string{"/tokens", "/sessions", "/second-factor"} {
			assert.Equal(t, 403, e2e.ProblemOf(t, k.Get(ctx, path, nil, nil)).Status, path)
		}
		assert.Equal(t, 403,
			e2e.ProblemOf(t,
				k.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/acting", Body: api.ActAs{Customer: 1}},
					nil)).Status)
	})
	t.Run("bounds and the end", func(t *testing.T) {
		soon := time.Now().Add(1500 * time.Millisecond)
		var token api.Token
		require.NoError(t, c.Post(ctx, "/tokens", api.NewToken{Name: "short", Scopes: []string{"accounts.read"},
			EndsAt: &soon}, &token))
		k := &client.Client{Base: i.Address(), Token: token.Secret}
		assert.NoError(t, k.Get(ctx, "/accounts", nil, nil))
		require.NoError(t, c.Post(ctx, "/tokens", api.NewToken{Name: "elsewhere", Scopes: []string{"accounts.read"},
			Networks: []string{"192.0.2.0/24", "198.51.100.7"}}, &token))
		assert.Equal(t, 401,
			e2e.ProblemOf(t, (&client.Client{Base: i.Address(), Token: token.Secret}).Get(ctx, "/accounts", nil,
				nil)).Status)
		assert.Equal(t, []string{"192.0.2.0/24", "198.51.100.7"}, token.Networks)
		labtest.Eventually(t, func() bool {
			return k.Get(ctx, "/accounts", nil, nil) != nil
		}, "a token that has ended is none")
		gone, token := make("taken back", "accounts.read")
		require.NoError(t, gone.Get(ctx, "/accounts", nil, nil))
		var list api.TokenList
		require.NoError(t, c.Get(ctx, "/tokens", nil, &list))
		used := list.Tokens[slices.IndexFunc(list.Tokens, func(k api.Token) bool { return k.ID == token.ID })]
		assert.NotNil(t, used.UsedAt)
		assert.Equal(t, "127.0.0.1", used.UsedFrom)
		assert.Empty(t, used.Secret)
		require.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete, Path: fmt.Sprintf("/tokens/%d", token.ID)},
			nil))
		assert.Equal(t, 401, e2e.ProblemOf(t, gone.Get(ctx, "/accounts", nil, nil)).Status,
			"once taken back it works no longer")
		assert.Equal(t, 404,
			e2e.ProblemOf(t,
				i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: fmt.Sprintf("/tokens/%d", token.ID)},
					nil)).Status)
	})
	t.Run("a customer needs the feature", func(t *testing.T) {
		a := e2e.Opened(t, api.OpenAccount{Domain: "no-api.example", Customer: "No API", NewCustomer: true,
			SignInName: "noapi", Activation: "password", Password: e2e.Password})
		k := e2e.SignedIn(t, "noapi")
		assert.ErrorContains(t, k.Post(ctx, "/tokens", api.NewToken{Name: "t", Scopes: []string{"accounts.read"}}, nil),
			"feature api")
		on := true
		require.NoError(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPut, Path: fmt.Sprintf("/accounts/%d/exceptions", a.ID),
				Body: api.NewException{Feature: "api", On: &on, Reason: "asked for"}}, nil))
		assert.NoError(t, k.Post(ctx, "/tokens", api.NewToken{Name: "t", Scopes: []string{"accounts.read"}}, nil))
	})
	out, stderr, exit := e2e.Command(t, "token", "add", "from the client", "--scopes", "accounts.read,plans.read")
	require.Equal(t, 0, exit, stderr)
	assert.Regexp(t, `^victualler-\w{52}\n`, out)
	out, _, _ = e2e.Command(t, "token", "list")
	assert.Contains(t, out, "from the client")
	_, _, exit = e2e.Command(t, "token", "remove", strings.Fields(strings.Split(out, "\n")[1])[0], "--yes")
	assert.Equal(t, 0, exit)
}

func TestSessionsAndNetworks(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	c := e2e.Person(t, api.NewPerson{Name: "session-tester", Email: "s@post.example"})
	t.Run("a session is begun anew at each sign-in", func(t *testing.T) {
		request, err := http.NewRequest(http.MethodPost, i.Address()+"/api/v1/session",
			strings.NewReader(fmt.Sprintf(`{"name":"session-tester","password":%q}`, e2e.Password)))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Cookie", "victualler_session=planted-by-somebody-else")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		cookies := response.Cookies()
		require.Len(t, cookies, 1)
		assert.NotContains(t, cookies[0].Value, "planted")
		assert.True(t, cookies[0].HttpOnly)
		assert.Equal(t, http.SameSiteStrictMode, cookies[0].SameSite)
	})
	t.Run("listed and ended", func(t *testing.T) {
		other := e2e.SignedIn(t, "session-tester")
		var list api.OpenSessions
		require.NoError(t, c.Get(ctx, "/sessions", nil, &list))
		require.Len(t, list.Sessions, 3)
		assert.Contains(t, list.Sessions[0].Program, "victualler/")
		for _, s := range list.Sessions {
			if !s.This {
				require.NoError(t,
					c.Do(ctx, client.Call{Method: http.MethodDelete, Path: fmt.Sprintf("/sessions/%d", s.ID)}, nil))
				assert.Equal(t, 404,
					e2e.ProblemOf(t,
						i.Client.Do(ctx, client.Call{Method: http.MethodDelete,
							Path: fmt.Sprintf("/sessions/%d", s.ID)}, nil)).Status, "nobody else's")
			}
		}
		assert.Equal(t, 401, e2e.ProblemOf(t, other.Get(ctx, "/session", nil, nil)).Status)
		assert.NoError(t, c.Get(ctx, "/session", nil, nil))
	})
	t.Run("what is unattended keeps no session alive", func(t *testing.T) {
		now := func(unattended bool) time.Time {
			request, err := http.NewRequest(http.MethodGet, i.Address()+"/api/v1/session", nil)
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+c.Token)
			if unattended {
				request.Header.Set("Victualler-Unattended", "true")
			}
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			defer response.Body.Close()
			return e2e.Decode[api.Session](t, response.Body).EndsAt
		}
		e2e.SessionsEnd(t, "session-tester", 5*time.Minute, 10*time.Minute, 0)
		assert.WithinDuration(t, time.Now().Add(10*time.Minute), now(true), time.Minute)
		assert.WithinDuration(t, time.Now().Add(60*time.Minute), now(false), time.Minute)
		e2e.SessionsEnd(t, "session-tester", 5*time.Minute, 0, 2*time.Minute)
		assert.WithinDuration(t, time.Now().Add(2*time.Minute), now(false), time.Minute,
			"it ends however much it is used")
	})
	t.Run("only from allowed networks", func(t *testing.T) {
		networks := []string{"192.0.2.0/24"}
		e2e.Patch(t, "/people/session-tester", api.PersonChange{Networks: &networks}, nil)
		assert.Equal(t, 401, e2e.ProblemOf(t, c.Get(ctx, "/session", nil, nil)).Status,
			"at once, for sessions that are open")
		_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "session-tester",
			Password: e2e.Password})
		assert.Equal(t, 401, e2e.ProblemOf(t, err).Status)
		assert.ErrorContains(t, i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/people/" + i.Operator,
			Body: api.PersonChange{Networks: &networks}}, nil), "lock yourself out")
		networks = []string{"127.0.0.0/8", "::1"}
		e2e.Patch(t, "/people/session-tester", api.PersonChange{Networks: &networks}, nil)
		_, err = (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "session-tester",
			Password: e2e.Password})
		assert.NoError(t, err)
		networks = []string{"10.0.0.0/33"}
		assert.Equal(t, 422,
			e2e.ProblemOf(t, i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/people/session-tester",
				Body: api.PersonChange{Networks: &networks}}, nil)).Status)
	})
	t.Run("names cannot be told by time", func(t *testing.T) {
		took := func(name string) time.Duration {
			begun := time.Now()
			_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: name,
				Password: "wrong password"})
			took := time.Since(begun)
			require.Equal(t, 401, e2e.ProblemOf(t, err).Status)
			e2e.ForgetSignInFailures(t)
			return took
		}
		// What else is going on makes some tries longer: what always takes longer shows in the
		// shortest as well as in those of medium length, however often it is measured.
		var there, notThere []time.Duration
		alike := func() bool {
			slices.Sort(there)
			slices.Sort(notThere)
			for _, at := range []int{0, len(there) / 2} {
				if math.Abs(float64(there[at])/float64(notThere[at])-1) < 0.4 {
					return true
				}
			}
			return false
		}
		for n := 0; n < 12 || n < 100 && !alike(); n++ {
			// In no order: each second one may meet what the one before has left, such as memory
			// that is to be collected.
			first := rand.IntN(2) == 0
			if first {
				there = append(there, took("session-tester"))
			}
			notThere = append(notThere, took(fmt.Sprintf("nobody-%d", n)))
			if !first {
				there = append(there, took("session-tester"))
			}
		}
		assert.True(t, alike(), "%v and %v", there, notThere)
	})
	t.Run("the last operator stays", func(t *testing.T) {
		support := "support"
		for _, name := range []string{"session-tester"} {
			assert.NoError(t, i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/people/" + name}, nil))
		}
		assert.ErrorContains(t, i.Client.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/people/" + i.Operator},
			nil), "yourself")
		e2e.OnlyOperator(t, i.Operator)
		assert.ErrorContains(t, i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/people/" + i.Operator,
			Body: api.PersonChange{Duty: &support}}, nil), "last operator")
	})
}

func TestActingAs(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	a := e2e.Opened(t, api.OpenAccount{Domain: "acted-for.example", Customer: "Acted For", NewCustomer: true})
	b := e2e.Opened(t, api.OpenAccount{Domain: "somebody-else.example", Customer: "Somebody Else", NewCustomer: true})
	c := e2e.Person(t, api.NewPerson{Name: "acting-support", Duty: "support"})
	act := func(c *client.Client, as api.ActAs) error {
		return c.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/acting", Body: as}, nil)
	}
	require.NoError(t, act(c, api.ActAs{Customer: a.CustomerID}))
	var s api.Session
	require.NoError(t, c.Get(ctx, "/session", nil, &s))
	assert.Equal(t, "customer Acted For", s.ActingAs)
	assert.Equal(t, "acting-support", s.Name)
	assert.Equal(t, "customer", s.Role)
	var page api.AccountPage
	require.NoError(t, c.Get(ctx, "/accounts", nil, &page))
	require.Len(t, page.Accounts, 1)
	assert.Equal(t, 404, e2e.ProblemOf(t, c.Get(ctx, fmt.Sprintf("/accounts/%d", b.ID), nil, nil)).Status)
	assert.Equal(t, 403, e2e.ProblemOf(t, c.Get(ctx, "/customers/"+fmt.Sprint(a.CustomerID)+"/notes", nil, nil)).Status,
		"no more rights than the customer's")
	assert.Equal(t, 403,
		e2e.ProblemOf(t,
			c.Do(ctx, client.Call{Method: http.MethodPut, Path: "/password", Body: api.PasswordChange{Present: "x",
				New: "y"}}, nil)).Status)
	assert.Equal(t, 403, e2e.ProblemOf(t, act(c, api.ActAs{Customer: b.CustomerID})).Status, "one at a time")
	var added api.DomainChanged
	require.NoError(t,
		c.Post(ctx, fmt.Sprintf("/accounts/%d/domains", a.ID), api.NewDomain{Domain: "acted-for-two.example"}, &added))
	assert.Equal(t, "done", e2e.Watched(t, added.Operation).State)
	var events api.EventPage
	require.NoError(t, i.Client.Get(ctx, "/events", url.Values{"account": {fmt.Sprint(a.ID)}, "action": {"domain"}},
		&events))
	require.Len(t, events.Events, 1)
	assert.Equal(t, "acting-support", events.Events[0].Actor)
	assert.Equal(t, "customer Acted For", events.Events[0].OnBehalf)
	require.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session/acting"}, nil))
	require.NoError(t, c.Get(ctx, fmt.Sprintf("/accounts/%d", b.ID), nil, nil))

	require.NoError(t,
		i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "actor", Title: "A", Limits: plans.Limits{}}, nil))
	assert.Equal(t, 403, e2e.ProblemOf(t, act(c, api.ActAs{Reseller: "actor"})).Status,
		"support may not change plans, also not as somebody else")
	r := e2e.Person(t, api.NewPerson{Name: "acting-reseller", Reseller: "actor"})
	assert.Equal(t, 404, e2e.ProblemOf(t, act(r, api.ActAs{Customer: a.CustomerID})).Status, "not a customer of theirs")
	assert.Equal(t, 403, e2e.ProblemOf(t, act(r, api.ActAs{Reseller: "actor"})).Status)
	t.Run("who loses the right loses the guise", func(t *testing.T) {
		require.NoError(t, act(c, api.ActAs{Customer: a.CustomerID}))
		duty := "billing"
		e2e.Patch(t, "/people/acting-support", api.PersonChange{Duty: &duty}, nil)
		var now api.Session
		require.NoError(t, c.Get(ctx, "/session", nil, &now))
		assert.Empty(t, now.ActingAs)
		assert.Equal(t, "operator", now.Role)
	})
	out, stderr, exit := e2e.Command(t, "session", "act", "--customer", "Acted For")
	require.Equal(t, 0, exit, stderr)
	assert.Contains(t, out, "you act as customer Acted For")
	_, _, exit = e2e.Command(t, "session", "act", "--stop")
	assert.Equal(t, 0, exit)
}
