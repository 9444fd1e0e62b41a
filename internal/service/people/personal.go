package people

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/strength"
	"victualler/internal/hosting/totp"
	"victualler/internal/passwords"
	"victualler/internal/qr"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/notify"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// CheckPassword estimates how well a password would hold. Nothing of it is kept.
func (s *Service) CheckPassword(a usecase.Actor, in api.PasswordCheck) api.Strength {
	e := strength.Estimate(in.Password, in.About)
	return api.Strength{Bits: e.Bits, Level: string(e.Level), Reasons: a.SayAll(e.Reasons),
		Advice: e.Advice.In(a.Language)}
}

// GeneratePassword makes a password of n characters of the kinds wanted.
//
// Refusals: InvalidInput.
func (s *Service) GeneratePassword(n int, small, large, digits, signs bool) (api.GeneratedPassword, error) {
	var sets []string
	size := 0
	for _, kind := range []struct {
		on  bool
		set string
	}{{small, passwords.Small}, {large, passwords.Large}, {digits, passwords.Digits}, {signs, passwords.Signs}} {
		if kind.on {
			sets, size = append(sets, kind.set), size+len(kind.set)
		}
	}
	if len(sets) == 0 {
		return api.GeneratedPassword{}, refusal.Input("small", "take at least one kind of characters")
	}
	return api.GeneratedPassword{Password: passwords.GenerateOf(n, sets...), Bits: strength.Random(n, size)}, nil
}

// CheckNewPassword refuses a password that would soon be guessed. About
// is what others know about the person.
//
// Refusals: WeakPassword.
func CheckNewPassword(field, password string, about ...string) error {
	e := strength.Estimate(password, about)
	if e.Level != strength.Weak {
		return nil
	}
	why := e.Reasons
	if len(why) == 0 {
		why = []language.Text{language.New("it is too easily guessed")}
	}
	return refusal.New(refusal.WeakPassword, "this password is too weak: %s; %s", why, e.Advice).On(field)
}

// identityWords is what others know about a person.
func identityWords(person db.Person) []string {
	known := []string{person.Name}
	if person.Email != nil {
		known = append(known, *person.Email)
	}
	return known
}

// lockSelf loads the actor's own record, locked.
func lockSelf(ctx context.Context, tx store.Tx, a usecase.Actor) (db.Person, error) {
	return usecase.LockPerson(ctx, tx, a.PersonID)
}

// verifyPassword asks for the person's own password once more. Wrong
// ones are counted like failed sign-ins.
func (s *Service) verifyPassword(ctx context.Context, a usecase.Actor, field, password string) error {
	if err := s.Throttle(ctx, a.Name, a.Address); err != nil {
		return err
	}
	person, err := s.Store.PersonByID(ctx, a.PersonID)
	if err != nil {
		return err
	}
	if !passwords.Matches(person.PasswordHash, password) {
		return refusal.New(refusal.WrongSignIn, "that is not your present password").On(field)
	}
	return Succeeded(ctx, s.Store.Queries, person, a.Address)
}

// ChangePassword changes the actor's own password and ends all their other sessions.
//
// Refusals: InvalidInput, MailFailed, TooManyTries, WeakPassword, WrongSignIn.
// Locks: the person.
func (s *Service) ChangePassword(ctx context.Context, a usecase.Actor, in api.PasswordChange) error {
	if err := s.verifyPassword(ctx, a, "present", in.Present); err != nil {
		return err
	}
	if in.New == in.Present {
		return refusal.Input("new", "take another password than the present one")
	}
	hash := passwords.Hash(in.New)
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		person, err := lockSelf(ctx, tx, a)
		if err != nil {
			return err
		}
		if err := CheckNewPassword("new", in.New, identityWords(person)...); err != nil {
			return err
		}
		return s.setPassword(ctx, tx, a, person, hash, false, a.SessionID)
	})
}

// setPassword writes a new password down, ends the person's sessions
// but one, and tells them by mail if that is possible.
func (s *Service) setPassword(ctx context.Context, tx store.Tx, a usecase.Actor, person db.Person, hash string,
	mustChange bool, but int64) error {
	if err := tx.SetPassword(ctx, db.SetPasswordParams{ID: person.ID, PasswordHash: hash,
		MustChange: mustChange}); err != nil {
		return err
	}
	if err := tx.EndSessionsOf(ctx, db.EndSessionsOfParams{Person: person.ID, But: but}); err != nil {
		return err
	}
	if err := tx.DeleteLinksOf(ctx, db.DeleteLinksOfParams{PersonID: person.ID, Purpose: "password"}); err != nil {
		return err
	}
	if err := tx.DeleteSignInFailures(ctx, "name "+person.Name); err != nil {
		return err
	}
	if person.PasswordHash != "" { // who had none yet knows
		if err := s.notifyPasswordChanged(ctx, tx, person, "password"); err != nil {
			return err
		}
	}
	return usecase.Record(ctx, tx, a, "person.password", usecase.AboutPerson(person), nil, nil)
}

// notifyPasswordChanged tells a person by mail that something about their sign-in was changed, if
// mail goes out and they have an address.
func (s *Service) notifyPasswordChanged(ctx context.Context, tx store.Tx, person db.Person, what string) error {
	if person.Email == nil {
		return nil
	}
	from, name, address, err := s.notify.SenderFor(ctx, tx.Queries, person.ResellerID)
	if err != nil {
		return err
	}
	err = s.notify.QueueMail(ctx, tx, notify.OutboundMail{Kind: "sign-in changed", To: *person.Email,
		Language: person.Language, Customer: person.CustomerID, Reseller: person.ResellerID,
		SenderName: name, SenderAt: address, Notice: notices.Changed(person.Language, from, person.Name, what,
			s.Now())})
	return notify.IgnoreNoMail(err)
}

func sealedTOTP(person int64) string { return fmt.Sprintf("second factor of person %d", person) }

// SecondFactor tells how the actor's second factor is.
func (s *Service) SecondFactor(ctx context.Context, a usecase.Actor) (api.SecondFactor, error) {
	person, err := s.Store.PersonByID(ctx, a.PersonID)
	if err != nil {
		return api.SecondFactor{}, err
	}
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return api.SecondFactor{}, err
	}
	left, err := s.Store.RecoveryCodesLeft(ctx, a.PersonID)
	return api.SecondFactor{On: person.TotpAt != nil, Since: person.TotpAt,
		Required: slices.Contains(settings.SecondFactor, person.Role), Left: left}, err
}

// StartSecondFactor makes a secret for an authenticator. It counts when a code of it was given.
//
// Refusals: WrongState.
// Locks: the person.
func (s *Service) StartSecondFactor(ctx context.Context, a usecase.Actor) (api.SecondFactorSetup, error) {
	secret := make([]byte, totp.SecretSize)
	rand.Read(secret)
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.SecondFactorSetup, error) {
		none := api.SecondFactorSetup{}
		person, err := lockSelf(ctx, tx, a)
		if err != nil {
			return none, err
		}
		if person.TotpAt != nil {
			return none, refusal.New(refusal.WrongState, "your second factor is on already; switch it off first to "+
				"set up another")
		}
		settings, err := tx.Settings(ctx)
		if err != nil {
			return none, err
		}
		out := api.SecondFactorSetup{Secret: totp.Text(secret), URI: totp.URI(settings.Title, person.Name, secret)}
		if out.Image, err = qr.SVG(out.URI); err != nil {
			return none, err
		}
		if out.Text, err = qr.Blocks(out.URI); err != nil {
			return none, err
		}
		return out, tx.StartTOTP(ctx, db.StartTOTPParams{ID: person.ID,
			TotpSecret: s.Key.Seal(sealedTOTP(person.ID), secret)})
	})
}

// ConfirmSecondFactor switches the second factor on, with a code that
// shows that the authenticator has the secret.
//
// Refusals: InvalidInput, MailFailed, TooManyTries, WrongState.
// Locks: the person.
func (s *Service) ConfirmSecondFactor(ctx context.Context, a usecase.Actor, code string) (api.RecoveryCodes, error) {
	setup, err := s.Store.PersonByID(ctx, a.PersonID)
	if err != nil {
		return api.RecoveryCodes{}, err
	}
	if setup.TotpAt != nil || setup.TotpSecret == nil {
		return api.RecoveryCodes{}, refusal.New(refusal.WrongState, "there is no second factor being set up").
			Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("start again"), Command: "factor add"})
	}
	if err := s.Throttle(ctx, a.Name, a.Address); err != nil { // the code could be guessed
		return api.RecoveryCodes{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.RecoveryCodes, error) {
		none := api.RecoveryCodes{}
		person, err := lockSelf(ctx, tx, a)
		if err != nil {
			return none, err
		}
		if person.TotpAt != nil {
			return none, refusal.New(refusal.WrongState, "your second factor was switched on meanwhile")
		}
		secret, err := s.Key.Open(sealedTOTP(person.ID), person.TotpSecret)
		if err != nil {
			return none, err
		}
		step, fits := totp.Check(secret, code, s.Now())
		if !fits {
			return none, refusal.Input("code", "the code does not fit; wait for the next one, and see that the clock "+
				"of your authenticator is right")
		}
		if err := tx.SaveTOTP(ctx, db.SaveTOTPParams{ID: person.ID, TotpStep: step}); err != nil {
			return none, err
		}
		if err := Succeeded(ctx, tx.Queries, person, a.Address); err != nil {
			return none, err
		}
		if err := tx.EndSessionsOf(ctx, db.EndSessionsOfParams{Person: person.ID, But: a.SessionID}); err != nil {
			return none, err
		}
		if err := s.notifyPasswordChanged(ctx, tx, person, "second-factor"); err != nil {
			return none, err
		}
		if err := usecase.Record(ctx, tx, a, "person.second_factor", usecase.AboutPerson(person),
			map[string]bool{"on": false}, map[string]bool{"on": true}); err != nil {
			return none, err
		}
		return newRecoveryCodes(ctx, tx, person.ID)
	})
}

// recoveryCodes is how many recovery codes there are.
const recoveryCodes = 10

// plainCode is a recovery code without what people put in or leave out.
func plainCode(code string) string {
	return strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(code))
}

func newRecoveryCodes(ctx context.Context, tx store.Tx, person int64) (api.RecoveryCodes, error) {
	out := api.RecoveryCodes{}
	var digests [][]byte
	for range recoveryCodes {
		code := passwords.GenerateOf(10, passwords.Small)
		out.Codes = append(out.Codes, code[:5]+"-"+code[5:])
		digests = append(digests, Digest(code))
	}
	if err := tx.DeleteRecoveryCodes(ctx, person); err != nil {
		return out, err
	}
	return out, tx.AddRecoveryCodes(ctx, db.AddRecoveryCodesParams{Person: person, Digests: digests})
}

// RenewRecoveryCodes makes new recovery codes; the old ones work no longer.
//
// Refusals: TooManyTries, WrongSignIn, WrongState.
// Locks: the person.
func (s *Service) RenewRecoveryCodes(ctx context.Context, a usecase.Actor, in api.Proof) (api.RecoveryCodes, error) {
	if err := s.verifyPassword(ctx, a, "password", in.Password); err != nil {
		return api.RecoveryCodes{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.RecoveryCodes, error) {
		person, err := lockSelf(ctx, tx, a)
		if err != nil {
			return api.RecoveryCodes{}, err
		}
		if person.TotpAt == nil {
			return api.RecoveryCodes{}, refusal.New(refusal.WrongState, "recovery codes go with a second factor; set "+
				"one up first")
		}
		if err := usecase.Record(ctx, tx, a, "person.recovery_codes", usecase.AboutPerson(person), nil,
			nil); err != nil {
			return api.RecoveryCodes{}, err
		}
		return newRecoveryCodes(ctx, tx, person.ID)
	})
}

// DropSecondFactor switches the actor's own second factor off.
//
// Refusals: MailFailed, TooManyTries, WrongSignIn, WrongState.
// Locks: the person.
func (s *Service) DropSecondFactor(ctx context.Context, a usecase.Actor, in api.Proof) error {
	if err := s.verifyPassword(ctx, a, "password", in.Password); err != nil {
		return err
	}
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		person, err := lockSelf(ctx, tx, a)
		if err != nil {
			return err
		}
		return s.clearSecondFactor(ctx, tx, a, person)
	})
}

func (s *Service) clearSecondFactor(ctx context.Context, tx store.Tx, a usecase.Actor, person db.Person) error {
	if person.TotpAt == nil {
		return refusal.New(refusal.WrongState, "%s has no second factor", person.Name)
	}
	if err := tx.DeleteTOTP(ctx, person.ID); err != nil {
		return err
	}
	if err := tx.DeleteRecoveryCodes(ctx, person.ID); err != nil {
		return err
	}
	if err := s.notifyPasswordChanged(ctx, tx, person, "no-second-factor"); err != nil {
		return err
	}
	return usecase.Record(ctx, tx, a, "person.second_factor", usecase.AboutPerson(person), map[string]bool{"on": true},
		map[string]bool{"on": false})
}

// Sessions lists the actor's own sessions.
func (s *Service) Sessions(ctx context.Context, a usecase.Actor) (api.OpenSessions, error) {
	out := api.OpenSessions{Sessions: []api.OpenSession{}}
	rows, err := s.Store.SessionsOf(ctx, a.PersonID)
	for _, row := range rows {
		out.Sessions = append(out.Sessions, api.OpenSession{ID: row.ID, This: row.ID == a.SessionID,
			Address: row.Address, Program: row.Program,
			StartedAt: row.CreatedAt, SeenAt: row.SeenAt, EndsAt: row.EndsAt})
	}
	return out, err
}

// EndSession ends one of the actor's own sessions.
//
// Refusals: NotFound.
func (s *Service) EndSession(ctx context.Context, a usecase.Actor, number int64) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		ended, err := tx.EndSession(ctx, db.EndSessionParams{ID: number, Person: a.PersonID})
		if err != nil {
			return err
		}
		if ended == 0 {
			return usecase.NotFound("session", fmt.Sprint(number))
		}
		person, err := tx.PersonByID(ctx, a.PersonID)
		if err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "session.end", usecase.AboutPerson(person),
			map[string]int64{"session": number}, nil)
	})
}

// Scopes lists what a token can be allowed.
func (s *Service) Scopes(a usecase.Actor) api.ScopeList {
	list := api.ScopeList{}
	permissions, about := rights.Scopes()
	for _, p := range permissions {
		list.Scopes = append(list.Scopes, api.Scope{Name: string(p), About: about[p], Yours: a.Allows(p)})
	}
	return list
}

func tokenView(row db.TokensOfRow) api.Token {
	t := api.Token{ID: row.ID, Name: row.Name, Scopes: row.Scopes, Networks: networkTexts(row.Networks),
		EndsAt: row.EndsAt, UsedAt: row.UsedAt, CreatedAt: row.CreatedAt}
	if row.UsedFrom != nil {
		t.UsedFrom = *row.UsedFrom
	}
	return t
}

// Tokens lists the actor's own tokens.
func (s *Service) Tokens(ctx context.Context, a usecase.Actor) (api.TokenList, error) {
	out := api.TokenList{Tokens: []api.Token{}}
	rows, err := s.Store.TokensOf(ctx, a.PersonID)
	for _, row := range rows {
		out.Tokens = append(out.Tokens, tokenView(row))
	}
	return out, err
}

// AddToken makes a token. Its secret is in the answer and nowhere else.
//
// Refusals: InvalidInput, NameTaken, NotAllowed.
func (s *Service) AddToken(ctx context.Context, a usecase.Actor, in api.NewToken) (api.Token, error) {
	p := db.AddTokenParams{PersonID: a.PersonID, Name: usecase.OneLine(in.Name), EndsAt: in.EndsAt}
	if p.Name == "" {
		return api.Token{}, refusal.Input("name", "a token needs a name: what is it for?")
	}
	for _, scope := range in.Scopes {
		permission := rights.Permission(scope)
		permissions, _ := rights.Scopes()
		switch {
		case !slices.Contains(permissions, permission):
			return api.Token{},
				refusal.Input("scopes", "there is no scope %q", scope).Help(refusal.Remedy{By: refusal.Anybody,
					Do: language.New("see the list of scopes"), Command: "scope list"})
		case !a.Allows(permission):
			return api.Token{}, refusal.Input("scopes", "a token cannot be allowed what you may not do yourself: %s",
				scope)
		case !slices.Contains(p.Scopes, scope):
			p.Scopes = append(p.Scopes, scope)
		}
	}
	if in.EndsAt != nil && !in.EndsAt.After(s.Now()) {
		return api.Token{}, refusal.Input("ends_at", "the token would have ended already")
	}
	var err error
	if p.Networks, err = parseNetworks(in.Networks); err != nil {
		return api.Token{}, err
	}
	secret := tokenMark + NewSecret()
	p.Digest = Digest(secret)
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Token, error) {
		if err := s.mayUseAPI(ctx, tx, a); err != nil {
			return api.Token{}, err
		}
		row, err := tx.AddToken(ctx, p)
		if store.ViolatedConstraint(err) == "tokens_person_id_name_key" {
			return api.Token{}, refusal.New(refusal.NameTaken, "you have a token %q already", p.Name).On("name")
		}
		if err != nil {
			return api.Token{}, err
		}
		person, err := tx.PersonByID(ctx, a.PersonID)
		if err != nil {
			return api.Token{}, err
		}
		out := tokenView(db.TokensOfRow{ID: row.ID, Name: row.Name, Scopes: row.Scopes, Networks: row.Networks,
			EndsAt: row.EndsAt, CreatedAt: row.CreatedAt})
		if err := usecase.Record(ctx, tx, a, "token.add", usecase.AboutPerson(person), nil,
			map[string]any{"name": row.Name, "scopes": row.Scopes, "networks": out.Networks}); err != nil {
			return api.Token{}, err
		}
		out.Secret = secret
		return out, nil
	})
}

// mayUseAPI refuses tokens to customers none of whose accounts has the feature.
func (s *Service) mayUseAPI(ctx context.Context, tx store.Tx, a usecase.Actor) error {
	if a.Role != rights.Customer {
		return nil
	}
	accounts, err := tx.AccountsOfCustomer(ctx, a.CustomerID)
	if err != nil {
		return err
	}
	entitlements, err := entitlement.LoadMany(ctx, s.Base, tx.Queries, accounts)
	if err != nil {
		return err
	}
	for _, st := range entitlements {
		if st.Allowance().Features["api"].On {
			return nil
		}
	}
	return refusal.New(refusal.NotAllowed, "none of your accounts has the feature api; another plan can switch it on")
}

// RemoveToken takes one of the actor's own tokens back: it works no longer.
//
// Refusals: NotFound.
func (s *Service) RemoveToken(ctx context.Context, a usecase.Actor, number int64) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		row, err := tx.RemoveToken(ctx, db.RemoveTokenParams{ID: number, Person: a.PersonID})
		if store.None(err) {
			return usecase.NotFound("token", fmt.Sprint(number))
		}
		if err != nil {
			return err
		}
		person, err := tx.PersonByID(ctx, a.PersonID)
		if err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "token.remove", usecase.AboutPerson(person), map[string]any{"name": row.Name,
			"scopes": row.Scopes}, nil)
	})
}
