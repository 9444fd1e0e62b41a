package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/networks"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/totp"
	"victualler/internal/passwords"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// sessionLife is how long a session lasts however much it is used; how
// long without use, the settings say.
const sessionLife = 12 * time.Hour

// Failed sign-ins are free up to a number; each further one doubles the wait.
// Many people may come from one address.
const (
	freeByName    = 5
	freeByAddress = 20
	// freeFromAnywhere is how many tries for one name may come from all
	// networks that are not known.
	freeFromAnywhere = 60
	longestWait      = 15 * time.Minute
)

// tokenMark begins every token of a program, so that it is known for one wherever it turns up.
const tokenMark = "victualler-"

// NewSecret makes a token that nobody guesses.
func NewSecret() string { return rand.Text() + rand.Text() }

// Digest is what is kept of a token.
func Digest(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// wrongSignIn is the one answer for a name that is not there, a wrong password, a wrong code, and
// an address from where the person may not come.
func wrongSignIn() error {
	return refusal.New(refusal.WrongSignIn, "wrong name or password, or sign-in is not allowed from this address. "+
		"An operator's password can be reset on the service's machine with “victuallerd operator reset NAME”")
}

// SignIn starts a session and returns its token, which is not kept.
//
// Refusals: InvalidInput, NeedsCode, NotSignedIn, Suspended, TooManyTries, WrongSignIn.
// Locks: the person.
func (s *Service) SignIn(ctx context.Context, a usecase.Actor, in api.SignIn) (api.Session, error) {
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if err := s.Throttle(ctx, name, a.Address); err != nil {
		return api.Session{}, err
	}
	person, err := s.Store.PersonByName(ctx, name)
	hash := person.PasswordHash
	if store.None(err) || err == nil && hash == "" {
		hash = passwords.Nobody // so that unknown names take as long
	} else if err != nil {
		return api.Session{}, err
	}
	if !passwords.Matches(hash, in.Password) {
		return api.Session{}, wrongSignIn()
	}
	return s.startSession(ctx, a, person, in.Code, in.Language)
}

// Throttle counts a try that has not succeeded yet, and refuses it while the wait after earlier
// ones lasts: those for the name from this network, those from this network for whatever name, and,
// much later, those for the name from anywhere. The last does not hold for networks from where the
// person has signed in of late: nobody is shut out by what others try elsewhere. What is counted
// does not depend on whether there is somebody of that name.
//
// Refusals: TooManyTries.
func (s *Service) Throttle(ctx context.Context, name, address string) error {
	network := networkOf(address)
	type bound struct {
		subject string
		free    int32
	}
	bounds := []bound{{nameFrom(name, network), freeByName}, {"address " + network, freeByAddress}}
	known, err := s.Store.KnownNetwork(ctx, db.KnownNetworkParams{Name: name, Network: network})
	if err != nil {
		return err
	}
	if !known {
		bounds = append(bounds, bound{"name " + name, freeFromAnywhere})
	}
	for _, t := range bounds {
		_, err := s.Store.CountSignIn(ctx, db.CountSignInParams{Subject: t.subject, Free: t.free,
			Longest: longestWait.Seconds()})
		if err == nil {
			continue
		}
		if !store.None(err) {
			return err
		}
		row, err := s.Store.SignInFailures(ctx, t.subject)
		if err != nil {
			return err
		}
		wait := min(time.Second<<min(row.Failures-t.free, 20), longestWait)
		left := (max(row.LastAt.Add(wait).Sub(s.Now()), 0) + time.Second).Truncate(time.Second)
		r := refusal.New(refusal.TooManyTries, "too many failed sign-ins; try again in %s", left)
		r.After = left
		return r
	}
	return nil
}

// nameFrom is what is counted of tries for a name from a network.
func nameFrom(name, network string) string { return "name " + name + " from " + network }

// networkOf is what of an address counts as one ([networks.OfSubscriber]).
func networkOf(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil || ip.Unmap().Is4() {
		return address
	}
	return networks.OfSubscriber(ip).String()
}

// Succeeded takes back that a try was counted, and remembers from where it came: of those for the
// name from this network all of them, of others this one.
func Succeeded(ctx context.Context, q *db.Queries, person db.Person, address string) error {
	if err := Forgiven(ctx, q, person.Name, address); err != nil {
		return err
	}
	return q.SaveKnownNetwork(ctx, db.SaveKnownNetworkParams{PersonID: person.ID, Network: networkOf(address)})
}

// Forgiven takes back that a try for a name was counted.
func Forgiven(ctx context.Context, q *db.Queries, name, address string) error {
	network := networkOf(address)
	if err := q.DeleteSignInFailures(ctx, nameFrom(name, network)); err != nil {
		return err
	}
	for _, subject := range []string{"address " + network, "name " + name} {
		if err := q.UncountSignIn(ctx, subject); err != nil {
			return err
		}
	}
	return nil
}

// startSession starts a session for a person who has shown a password
// or a link, if nothing else is in the way.
func (s *Service) startSession(ctx context.Context, a usecase.Actor, person db.Person, code, tag string) (api.Session,
	error) {
	return s.startSessionWith(ctx, a, person, code, tag, func(store.Tx, usecase.Actor) error { return nil })
}

// startSessionWith does something more in the same transaction, once
// everything that could be in the way is not.
func (s *Service) startSessionWith(ctx context.Context, a usecase.Actor, person db.Person, code, tag string,
	more func(store.Tx, usecase.Actor) error) (api.Session, error) {
	var token string
	err := s.Store.InTx(ctx, func(tx store.Tx) error {
		person, err := usecase.LockPerson(ctx, tx, person.ID)
		if store.None(err) {
			return wrongSignIn()
		}
		if err != nil {
			return err
		}
		if !allowedFrom(person.Networks, a.Address) {
			return wrongSignIn()
		}
		if err := s.CheckCode(ctx, tx, person, code); err != nil {
			return err
		}
		if person.Role == string(rights.Reseller) {
			reseller, err := tx.ResellerByID(ctx, *person.ResellerID)
			if err != nil {
				return err
			}
			if reseller.SuspendedAt != nil {
				return suspendedReseller(*reseller.SuspendedWhy)
			}
		}
		a.PersonID, a.Name = person.ID, person.Name
		if tag != "" {
			if err := chooseLanguage(ctx, tx, person.ID, tag); err != nil {
				return err
			}
		}
		if err := more(tx, a); err != nil {
			return err
		}
		settings, err := tx.Settings(ctx)
		if err != nil {
			return err
		}
		token = NewSecret()
		now := s.Now()
		latest := now.Add(sessionLife)
		if _, err := tx.AddSession(ctx, db.AddSessionParams{TokenDigest: Digest(token), PersonID: person.ID,
			Address: a.Address, Program: short(a.Program, 200),
			EndsAt: EndOf(now, latest, settings.SessionMinutes), EndsLatest: latest}); err != nil {
			return err
		}
		if err := Succeeded(ctx, tx.Queries, person, a.Address); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "session.start", usecase.AboutPerson(person), nil, nil)
	})
	if err != nil {
		return api.Session{}, err
	}
	who, err := s.Identify(ctx, token, a.Address, false)
	if err != nil {
		return api.Session{}, err
	}
	session, err := s.Session(ctx, who)
	session.Token = token
	return session, err
}

func suspendedReseller(why string) error {
	return refusal.New(refusal.Suspended, "your access is suspended: %s. Whoever runs this installation can resume it",
		why)
}

// EndOf is when a session ends that was used now.
func EndOf(now, latest time.Time, minutes int32) time.Time {
	if end := now.Add(time.Duration(minutes) * time.Minute); end.Before(latest) {
		return end
	}
	return latest
}

func short(text string, most int) string {
	runes := []rune(strings.ToValidUTF8(text, ""))
	return string(runes[:min(len(runes), most)])
}

// allowedFrom reports whether an address lies in one of the networks;
// no networks allow every address.
func allowedFrom(networks []netip.Prefix, address string) bool {
	if len(networks) == 0 {
		return true
	}
	ip, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(networks, func(n netip.Prefix) bool { return n.Contains(ip.Unmap()) })
}

// CheckCode asks for the second factor of whoever has one, and takes each code once.
//
// Refusals: NeedsCode, WrongSignIn.
func (s *Service) CheckCode(ctx context.Context, tx store.Tx, person db.Person, code string) error {
	if person.TotpAt == nil {
		return nil
	}
	if code == "" {
		return refusal.New(refusal.NeedsCode,
			"the password fits; now the code of your second factor, or a recovery code")
	}
	secret, err := s.Key.Open(sealedTOTP(person.ID), person.TotpSecret)
	if err != nil {
		return err
	}
	if step, fits := totp.Check(secret, code, s.Now()); fits {
		taken, err := tx.UseTOTPStep(ctx, db.UseTOTPStepParams{ID: person.ID, Step: step})
		if err == nil && taken == 0 {
			err = refusal.New(refusal.WrongSignIn, "this code was used before; wait for the next one")
		}
		return err
	}
	taken, err := tx.UseRecoveryCode(ctx, db.UseRecoveryCodeParams{PersonID: person.ID,
		Digest: Digest(plainCode(code))})
	if err == nil && taken == 0 {
		err = refusal.New(refusal.WrongSignIn,
			"the code does not fit; wait for the next one, and see that the clock of your authenticator is right")
	}
	return err
}

// Identify returns the actor of a session's token, or of a program's.
// The session lives on from now, unless the request is made without
// anybody's doing, as a page does that keeps itself current.
//
// Refusals: NotSignedIn, Suspended.
func (s *Service) Identify(ctx context.Context, token, address string, unattended bool) (usecase.Actor, error) {
	if strings.HasPrefix(token, tokenMark) {
		return s.identifyProgram(ctx, token, address)
	}
	row, err := s.Store.SessionByToken(ctx, Digest(token))
	if store.None(err) || err == nil && !allowedFrom(row.Person.Networks, address) {
		return usecase.Actor{}, refusal.New(refusal.NotSignedIn, "the session has ended; sign in again")
	}
	if err != nil {
		return usecase.Actor{}, err
	}
	if row.SuspendedWhy != "" {
		return usecase.Actor{}, suspendedReseller(row.SuspendedWhy)
	}
	ends := row.Session.EndsAt
	if now := s.Now(); !unattended && now.Sub(row.Session.SeenAt) > 10*time.Second { // not at every request
		ends = EndOf(now, row.Session.EndsLatest, row.SessionMinutes)
		if err := s.Store.TouchSession(ctx, db.TouchSessionParams{ID: row.Session.ID, EndsAt: ends}); err != nil {
			return usecase.Actor{}, err
		}
	}
	a := personActor(row.Person, row.ResellerID)
	a.Reseller, a.SessionID, a.SessionEnds, a.SessionEndsLatest = row.Reseller, row.Session.ID, ends,
		row.Session.EndsLatest
	if row.Person.MustChange {
		a.MustFirst = append(a.MustFirst, "password")
	}
	if row.WantsTotp {
		a.MustFirst = append(a.MustFirst, "second-factor")
	}
	a.Subject.MustFirst = len(a.MustFirst) > 0
	switch {
	case a.Subject.MustFirst:
	case row.Session.ActingCustomerID != nil && a.MayActAs(rights.Customer) &&
		(a.ResellerID == 0 || a.ResellerID == row.ActingCustomerReseller):
		a.OnBehalf = "customer " + row.ActingCustomer
		a.ResellerID, a.CustomerID, a.Reseller = row.ActingCustomerReseller, *row.Session.ActingCustomerID, ""
		a.Subject = rights.Subject{Role: rights.Customer, Duty: rights.All, Acting: true}
	case row.Session.ActingResellerID != nil && a.MayActAs(rights.Reseller):
		a.OnBehalf = "reseller " + row.ActingReseller
		a.ResellerID, a.Reseller = *row.Session.ActingResellerID, row.ActingReseller
		a.Subject = rights.Subject{Role: rights.Reseller, Duty: rights.All, Acting: true}
	}
	return a, nil
}

func personActor(person db.Person, reseller int64) usecase.Actor {
	a := usecase.Actor{PersonID: person.ID, Name: person.Name, Language: person.Language, ResellerID: reseller,
		CustomerID: usecase.OrZero(person.CustomerID),
		Subject: rights.Subject{Role: rights.Role(person.Role), Duty: rights.Duty(person.Duty),
			ReadOnly: person.ReadOnly}}
	if a.Role == rights.Customer {
		a.ResellerID = usecase.OrZero(person.ResellerID)
	}
	return a
}

func (s *Service) identifyProgram(ctx context.Context, token, address string) (usecase.Actor, error) {
	row, err := s.Store.TokenByDigest(ctx, Digest(token))
	if store.None(err) || err == nil &&
		!(allowedFrom(row.Person.Networks, address) && allowedFrom(row.Token.Networks, address)) {
		return usecase.Actor{}, refusal.New(refusal.NotSignedIn, "this token is not known here, has ended, or may "+
			"not be used from %s", address)
	}
	if err != nil {
		return usecase.Actor{}, err
	}
	if row.SuspendedWhy != "" {
		return usecase.Actor{}, suspendedReseller(row.SuspendedWhy)
	}
	if used := row.Token.UsedAt; used == nil || s.Now().Sub(*used) > time.Minute || row.Token.UsedFrom == nil ||
		*row.Token.UsedFrom != address {
		if err := s.Store.TouchToken(ctx, db.TouchTokenParams{ID: row.Token.ID, UsedFrom: &address}); err != nil {
			return usecase.Actor{}, err
		}
	}
	a := personActor(row.Person, row.ResellerID)
	a.Reseller = row.Reseller
	a.Name += " by token " + row.Token.Name
	a.Token = true
	a.TokenNetworks, a.TokenEnds = row.Token.Networks, row.Token.EndsAt
	for _, scope := range row.Token.Scopes {
		a.Scopes = append(a.Scopes, rights.Permission(scope))
	}
	return a, nil
}

// Session tells who is signed in.
func (s *Service) Session(ctx context.Context, a usecase.Actor) (api.Session, error) {
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return api.Session{}, err
	}
	out := api.Session{Name: a.Name, Role: string(a.Role), Duty: string(a.Duty), ReadOnly: a.ReadOnly,
		Permissions: []string{}, MustFirst: usecase.NonNil(a.MustFirst),
		Reseller: a.Reseller, CustomerID: a.CustomerID, ActingAs: a.OnBehalf, EndsAt: a.SessionEnds.UTC(),
		EndsLatest: a.SessionEndsLatest.UTC(), Title: settings.Title, Language: cmp.Or(a.Language, language.English)}
	permissions, _ := rights.Scopes()
	for _, p := range append(permissions, rights.Personal) {
		if a.Allows(p) {
			out.Permissions = append(out.Permissions, string(p))
		}
	}
	if out.Brand, err = usecase.BrandFor(ctx, s.Store.Queries, a.ResellerID); err != nil {
		return out, err
	}
	if out.Brand != nil && out.Brand.Title != "" {
		out.Title = out.Brand.Title
	}
	return out, nil
}

// ChooseLanguage has the actor read another language from now on.
//
// Refusals: InvalidInput.
func (s *Service) ChooseLanguage(ctx context.Context, a usecase.Actor, tag string) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error { return chooseLanguage(ctx, tx, a.PersonID, tag) })
}

func chooseLanguage(ctx context.Context, tx store.Tx, person int64, tag string) error {
	if err := language.Check(tag); err != nil {
		return refusal.Input("language", "%s", err)
	}
	return tx.SetLanguage(ctx, db.SetLanguageParams{ID: person, Language: tag})
}

// SignOut ends the actor's session.
func (s *Service) SignOut(ctx context.Context, a usecase.Actor) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.EndSession(ctx, db.EndSessionParams{ID: a.SessionID, Person: a.PersonID}); err != nil {
			return err
		}
		person, err := tx.PersonByID(ctx, a.PersonID)
		if err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "session.end", usecase.AboutPerson(person), nil, nil)
	})
}

// ActAs has the actor's session act on somebody's behalf, who is told
// in the record of everything done.
//
// Refusals: InvalidInput, NotAllowed, NotFound, Suspended.
func (s *Service) ActAs(ctx context.Context, a usecase.Actor, in api.ActAs) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if a.SessionID == 0 {
			return refusal.New(refusal.NotAllowed,
				"only a person's session can act on somebody's behalf; a token cannot")
		}
		p := db.ActAsParams{ID: a.SessionID}
		var of usecase.Subject
		role := rights.Customer
		switch {
		case (in.Customer == 0) == (in.Reseller == ""):
			return refusal.Input("customer", "name either a customer or a reseller")
		case in.Customer != 0:
			number, err := usecase.FindCustomer(ctx, tx.Queries, a, fmt.Sprint(in.Customer), nil)
			if err != nil {
				return err
			}
			row, err := tx.CustomerByID(ctx, number)
			if err != nil {
				return err
			}
			p.ActingCustomerID, of = &number, usecase.AboutCustomer(row)
		default:
			row, err := usecase.FindReseller(ctx, tx.Queries, a, in.Reseller)
			if err != nil {
				return err
			}
			if row.SuspendedAt != nil {
				return suspendedReseller(*row.SuspendedWhy)
			}
			role, p.ActingResellerID, of = rights.Reseller, &row.ID, usecase.AboutReseller(row)
		}
		if !a.MayActAs(role) {
			return refusal.New(refusal.NotAllowed, "your rights do not include acting as a %s", role)
		}
		if err := tx.ActAs(ctx, p); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "session.act_as", of, nil, nil)
	})
}

// StopActing has the session go back to whoever it is of.
//
// Refusals: WrongState.
func (s *Service) StopActing(ctx context.Context, a usecase.Actor) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if !a.Acting {
			return refusal.New(refusal.WrongState, "you act on nobody's behalf")
		}
		if err := tx.ActAs(ctx, db.ActAsParams{ID: a.SessionID}); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "session.stop_acting", usecase.About("%s", a.OnBehalf).Of(a.OwnerID()), nil,
			nil)
	})
}

// Tidy forgets what has ended: sessions, links, answers to repeated
// requests, failed sign-ins, old figures.
func (s *Service) Tidy(ctx context.Context) error {
	for _, forget := range []func(context.Context) error{s.Store.DeleteOldSessions, s.Store.DeleteOldLinks,
		s.Store.DeleteOldIdempotencyKeys, s.Store.DeleteOldSignInFailures, s.Store.DeleteOldProbeLimits,
		s.Store.DeleteOldCertificates, s.Store.DeleteOldOrders, s.Store.DeleteOldFormerDomains,
		s.Store.DeleteOldServerHours} {
		if err := forget(ctx); err != nil {
			return err
		}
	}
	return nil
}
