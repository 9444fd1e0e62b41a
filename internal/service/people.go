package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/passwords"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// sessionLife is how long a session lasts without use.
const sessionLife = 12 * time.Hour

// firstOperator is the name of the operator made at the first start.
const firstOperator = "operator"

// EnsureOperator makes the first operator if there is none, and returns the
// name and the password, which can be shown only now.
func (s *Service) EnsureOperator(ctx context.Context) (name, password string, made bool, err error) {
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.Exec(ctx, "lock table people in share row exclusive mode"); err != nil {
			return err
		}
		operators, err := tx.CountOperators(ctx)
		if err != nil || operators > 0 {
			return err
		}
		name, password, made = firstOperator, passwords.Generate(16), true
		if _, err := tx.AddPerson(ctx, db.AddPersonParams{Name: name, Role: string(rights.Operator), PasswordHash: passwords.Hash(password)}); err != nil {
			return err
		}
		return record(ctx, tx, Actor{Name: "victuallerd"}, "operator.add", "operator "+name, nil, map[string]string{"name": name})
	})
	return name, password, made, err
}

// ResetOperator gives an operator a new password and ends their sessions. It
// is for whoever has the machine, not for the API.
func (s *Service) ResetOperator(ctx context.Context, name string) (password string, err error) {
	password = passwords.Generate(16)
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		person, err := tx.PersonByName(ctx, name)
		if store.None(err) || err == nil && person.Role != string(rights.Operator) {
			return fmt.Errorf("there is no operator %q", name)
		}
		if err != nil {
			return err
		}
		if _, err := tx.SetPassword(ctx, db.SetPasswordParams{Name: name, PasswordHash: passwords.Hash(password)}); err != nil {
			return err
		}
		if err := tx.EndSessionsOf(ctx, name); err != nil {
			return err
		}
		if err := tx.ForgetSignInFailures(ctx, "name "+name); err != nil {
			return err
		}
		return record(ctx, tx, Actor{Name: "victuallerd", Address: "this machine"}, "operator.reset", "operator "+name, nil, nil)
	})
	return password, err
}

// Failed sign-ins are free up to a number; each further one doubles the wait.
// Many people may come from one address.
const (
	freeByName    = 5
	freeByAddress = 20
	longestWait   = 15 * time.Minute
)

// SignIn starts a session and returns its token, which is not kept.
func (s *Service) SignIn(ctx context.Context, a Actor, in api.SignIn) (api.Session, error) {
	name := strings.ToLower(strings.TrimSpace(in.Name))
	byName, byAddress := "name "+name, "address "+a.Address
	for subject, free := range map[string]int32{byName: freeByName, byAddress: freeByAddress} {
		if err := s.countSignIn(ctx, subject, free); err != nil {
			return api.Session{}, err
		}
	}
	person, err := s.store.PersonByName(ctx, name)
	hash := person.PasswordHash
	if store.None(err) {
		hash = passwords.Nobody // so that unknown names take as long
	} else if err != nil {
		return api.Session{}, err
	}
	if !passwords.Matches(hash, in.Password) {
		return api.Session{}, refusal.New(refusal.WrongSignIn, "name and password do not fit; an operator's password can be reset on the service's machine with “victuallerd operator reset NAME”")
	}
	token := rand.Text() + rand.Text()
	ends := s.now().Add(sessionLife)
	err = s.store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.AddSession(ctx, db.AddSessionParams{TokenDigest: digest(token), PersonID: person.ID, Address: a.Address, EndsAt: ends}); err != nil {
			return err
		}
		if err := tx.ForgetSignInFailures(ctx, byName); err != nil {
			return err
		}
		if err := tx.UncountSignIn(ctx, byAddress); err != nil {
			return err
		}
		a.PersonID, a.Name = person.ID, person.Name
		return record(ctx, tx, a, "session.start", person.Role+" "+person.Name, nil, nil)
	})
	return api.Session{Name: person.Name, Role: person.Role, EndsAt: ends.UTC(), Token: token}, err
}

// countSignIn counts a try that has not succeeded yet, and refuses it while the
// wait after earlier ones lasts.
func (s *Service) countSignIn(ctx context.Context, subject string, free int32) error {
	_, err := s.store.CountSignIn(ctx, db.CountSignInParams{Subject: subject, Free: free, Longest: longestWait.Seconds()})
	if !store.None(err) {
		return err
	}
	row, err := s.store.SignInFailures(ctx, subject)
	if err != nil {
		return err
	}
	wait := min(time.Second<<min(row.Failures-free, 20), longestWait)
	left := max(row.LastAt.Add(wait).Sub(s.now()), 0)
	return refusal.New(refusal.TooManyTries, "too many failed sign-ins; try again in %s", (left + time.Second).Truncate(time.Second))
}

func digest(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// Identify returns the actor of a session token. The session lives on from now.
func (s *Service) Identify(ctx context.Context, token string) (Actor, error) {
	row, err := s.store.SessionByToken(ctx, digest(token))
	if store.None(err) {
		return Actor{}, refusal.New(refusal.NotSignedIn, "the session has ended; sign in again")
	}
	if err != nil {
		return Actor{}, err
	}
	ends := row.EndsAt
	if now := s.now(); now.Sub(row.SeenAt) > time.Minute { // not at every request
		ends = now.Add(sessionLife)
		if err := s.store.TouchSession(ctx, db.TouchSessionParams{ID: row.ID, EndsAt: ends}); err != nil {
			return Actor{}, err
		}
	}
	return Actor{PersonID: row.PersonID, Name: row.Name, Role: rights.Role(row.Role), SessionID: row.ID, SessionEnds: ends}, nil
}

// SignOut ends the actor's session.
func (s *Service) SignOut(ctx context.Context, a Actor) error {
	return s.store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.EndSession(ctx, a.SessionID); err != nil {
			return err
		}
		return record(ctx, tx, a, "session.end", string(a.Role)+" "+a.Name, nil, nil)
	})
}

// Tidy forgets what has ended: sessions, answers to repeated requests, failed sign-ins.
func (s *Service) Tidy(ctx context.Context) error {
	for _, forget := range []func(context.Context) error{s.store.EndOldSessions, s.store.ForgetIdempotency, s.store.ForgetOldSignInFailures} {
		if err := forget(ctx); err != nil {
			return err
		}
	}
	return nil
}
