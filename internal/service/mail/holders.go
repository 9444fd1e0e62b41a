package mail

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/people"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// filtersOf are the filters of a mailbox, which were checked before they were kept.
func filtersOf(b db.Mailbox) []mail.Filter {
	var list []mail.Filter
	if err := json.Unmarshal(b.Filters, &list); err != nil {
		return nil
	}
	return list
}

func viewFilters(list []mail.Filter) []api.MailFilter {
	view := []api.MailFilter{}
	for _, f := range list {
		one := api.MailFilter{All: f.All, Folder: f.Folder, Read: f.Read, Flag: f.Flag, Drop: f.Drop}
		for _, t := range f.Tests {
			one.Tests = append(one.Tests, api.MailFilterTest(t))
		}
		view = append(view, one)
	}
	return view
}

// setFilters keeps the filters of a mailbox.
//
// Refusals: InvalidInput.
func setFilters(ctx context.Context, tx store.Tx, mailbox int64, in []api.MailFilter) ([]mail.Filter, error) {
	list := []mail.Filter{}
	for _, f := range in {
		one := mail.Filter{All: f.All, Folder: strings.TrimSpace(f.Folder), Read: f.Read, Flag: f.Flag, Drop: f.Drop}
		for _, t := range f.Tests {
			t.Value = strings.TrimSpace(t.Value)
			one.Tests = append(one.Tests, mail.FilterTest(t))
		}
		list = append(list, one)
	}
	if err := mail.CheckFilters(list); err != nil {
		return nil, err
	}
	text, err := json.Marshal(list)
	if err != nil {
		return nil, err
	}
	return list, tx.SetMailboxFilters(ctx, db.SetMailboxFiltersParams{ID: mailbox, Filters: text})
}

// holderLife is how long a holder's session lasts at most.
const holderLife = 12 * time.Hour

// nobodysHash makes a sign-in with an unknown address take as long as any other.
var nobodysHash, _ = bcrypt.GenerateFromPassword([]byte(rand.Text()), cost)

// wrongHolder is the one answer for an address that is no mailbox's, for a wrong password, and
// while nobody may sign in.
func wrongHolder() error {
	return refusal.New(refusal.WrongSignIn, "wrong address or password, or nobody may sign in to this mailbox just now")
}

// SignIn starts a session of the holder of a mailbox, who shows the mailbox's own password: those
// for single programs let nobody in here.
//
// Refusals: InvalidInput, TooManyTries, WrongSignIn.
func (s *Service) SignIn(ctx context.Context, a usecase.Actor, in api.MailboxSignIn) (api.MailboxSession, error) {
	local, domain := splitTyped(in.Address)
	address := local + "@" + domain
	if err := s.people.Throttle(ctx, address, a.Address); err != nil {
		return api.MailboxSession{}, err
	}
	row, err := s.Store.MailboxAt(ctx, db.MailboxAtParams{Local: local, Domain: domain})
	if err != nil && !store.None(err) {
		return api.MailboxSession{}, err
	}
	if fits, err := s.fits(row.Mailbox, in.Password); err != nil || !fits || row.Suspended {
		if err == nil {
			err = wrongHolder()
		}
		return api.MailboxSession{}, err
	}
	token := people.NewSecret()
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return api.MailboxSession{}, err
	}
	now := s.Now()
	latest := now.Add(holderLife)
	ends := people.EndOf(now, latest, settings.SessionMinutes)
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.AddMailboxSession(ctx, db.AddMailboxSessionParams{MailboxID: row.Mailbox.ID,
			TokenDigest: people.Digest(token), Address: a.Address, Program: usecase.OneLine(a.Program), EndsAt: ends,
			EndsLatest: latest}); err != nil {
			return err
		}
		return people.Forgiven(ctx, tx.Queries, address, a.Address)
	})
	return api.MailboxSession{Address: address, EndsAt: ends, Token: token}, err
}

// fits reports whether a password is a mailbox's own. It takes as long whether there is one or not.
func (s *Service) fits(b db.Mailbox, password string) (bool, error) {
	hash := nobodysHash
	if b.Hash != nil {
		opened, err := s.Key.Open(sealedHash, b.Hash)
		if err != nil {
			return false, err
		}
		hash = bytes.TrimPrefix(opened, []byte("{BLF-CRYPT}"))
	}
	return bcrypt.CompareHashAndPassword(hash, []byte(password)) == nil && b.Hash != nil, nil
}

// IdentifyHolder returns the actor of a holder's token. The session lives on from now.
//
// Refusals: NotSignedIn.
func (s *Service) IdentifyHolder(ctx context.Context, token string) (usecase.Actor, error) {
	row, err := s.Store.MailboxSession(ctx, people.Digest(token))
	if store.None(err) || err == nil && row.Suspended {
		return usecase.Actor{}, refusal.New(refusal.NotSignedIn, "the session has ended; sign in again")
	}
	if err != nil {
		return usecase.Actor{}, err
	}
	if now := s.Now(); now.Sub(row.MailboxSession.SeenAt) > 10*time.Second {
		settings, err := s.Store.Settings(ctx)
		if err != nil {
			return usecase.Actor{}, err
		}
		if err := s.Store.TouchMailboxSession(ctx, db.TouchMailboxSessionParams{ID: row.MailboxSession.ID,
			EndsAt: people.EndOf(now, row.MailboxSession.EndsLatest, settings.SessionMinutes)}); err != nil {
			return usecase.Actor{}, err
		}
	}
	address := row.Local + "@" + row.Domain
	return usecase.Actor{Name: address, Mailbox: address, Subject: rights.Subject{Role: rights.Holder,
		Duty: rights.All},
		CustomerID: row.CustomerID, ResellerID: row.ResellerID, SessionID: row.MailboxSession.ID}, nil
}

// SignOut ends the session of a holder.
func (s *Service) SignOut(ctx context.Context, a usecase.Actor) error {
	return s.Store.EndMailboxSession(ctx, a.SessionID)
}

// TidySessions removes sessions of holders that have ended.
func (s *Service) TidySessions(ctx context.Context) error { return s.Store.TidyMailboxSessions(ctx) }

// asAccount is a holder as the use cases of accounts know actors: one of the account's customer,
// who is let at the one mailbox alone by what calls them here.
func asAccount(a usecase.Actor) usecase.Actor {
	a.Subject = rights.Subject{Role: rights.Customer, Duty: rights.All}
	a.IdempotencyKey = "" // keys are told apart by people
	return a
}

// holder finds the mailbox of a holder, with its account.
func (s *Service) holder(ctx context.Context, a usecase.Actor) (db.MailboxAtRow, error) {
	local, domain, _ := strings.Cut(a.Mailbox, "@")
	row, err := s.Store.MailboxAt(ctx, db.MailboxAtParams{Local: local, Domain: domain})
	if store.None(err) {
		err = refusal.New(refusal.NotSignedIn, "the session has ended; sign in again")
	}
	return row, err
}

// OwnMailbox returns the mailbox of a holder.
//
// Refusals: InvalidInput, NotFound, NotSignedIn.
func (s *Service) OwnMailbox(ctx context.Context, a usecase.Actor) (api.OwnMailbox, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.OwnMailbox{}, err
	}
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return api.OwnMailbox{}, err
	}
	list, err := s.Mailboxes(ctx, asAccount(a), row.SignInName)
	if err != nil {
		return api.OwnMailbox{}, err
	}
	at := slices.IndexFunc(list.Mailboxes, func(b api.Mailbox) bool { return b.Address == a.Mailbox })
	if at < 0 {
		return api.OwnMailbox{}, refusal.New(refusal.NotSignedIn, "the session has ended; sign in again")
	}
	return api.OwnMailbox{Mailbox: list.Mailboxes[at], Server: list.Server, Title: settings.Title}, nil
}

// OwnProfile is a file by which telephones set up the mailbox of a holder.
//
// Refusals: InvalidInput, NotFound, NotSignedIn.
func (s *Service) OwnProfile(ctx context.Context, a usecase.Actor) ([]byte, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return nil, err
	}
	return s.Profile(ctx, asAccount(a), row.SignInName, a.Mailbox)
}

// OwnPath tells what would become of a message to a holder's address. Where it is passed on to
// somebody else of the account, how it goes on from there is theirs to know.
//
// Refusals: InvalidInput, NotFound, NotSignedIn.
func (s *Service) OwnPath(ctx context.Context, a usecase.Actor) (api.MailPath, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.MailPath{}, err
	}
	path, err := s.MailPath(ctx, asAccount(a), row.SignInName, a.Mailbox)
	for n := range path.Next {
		next := &path.Next[n]
		if next.Hop != string(mail.ToOutside) && next.Hop != string(mail.Nowhere) && next.Hop != string(mail.Loop) {
			next.Hop, next.Next = string(mail.ToOthers), []api.MailPath{}
			next.Says = language.Say(a.Language, "goes on by that address’s own rules")
		}
	}
	return path, err
}

// RehearseOwn looks at the mail of a holder's domain as others do before they take a message.
//
// Refusals: InvalidInput, NotFound, NotSignedIn, TooManyTries, WrongState.
func (s *Service) RehearseOwn(ctx context.Context, a usecase.Actor) (api.MailRehearsal, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.MailRehearsal{}, err
	}
	_, domain, _ := strings.Cut(a.Mailbox, "@")
	return s.Rehearse(ctx, asAccount(a), row.SignInName, domain)
}

// ChangeOwnMailbox changes the mailbox of a holder: what they may say about it themselves.
//
// Refusals: ApplyFailed, Changed, InvalidInput, LimitReached, NotFound, NotSignedIn,
// ServerUnreachable, Suspended, TooManyTries, WeakPassword, WrongSignIn, WrongState.
// Locks: the account, the reseller.
func (s *Service) ChangeOwnMailbox(ctx context.Context, a usecase.Actor, version int64, in api.OwnMailboxChange) (
	api.MailboxChanged, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.MailboxChanged{}, err
	}
	if in.Password != nil {
		if err := s.people.Throttle(ctx, a.Mailbox, a.Address); err != nil {
			return api.MailboxChanged{}, err
		}
		fits, err := s.fits(row.Mailbox, in.CurrentPassword)
		if err != nil {
			return api.MailboxChanged{}, err
		}
		if !fits {
			return api.MailboxChanged{}, refusal.New(refusal.WrongSignIn, "the present password is another one").
				On("current_password")
		}
		if err := people.Forgiven(ctx, s.Store.Queries, a.Mailbox, a.Address); err != nil {
			return api.MailboxChanged{}, err
		}
	}
	return s.ChangeMailbox(ctx, asAccount(a), row.SignInName, a.Mailbox, version, api.MailboxChange{
		Password: in.Password, ForwardTo: in.ForwardTo, JunkAbove: in.JunkAbove, Reply: in.Reply, Filters: in.Filters})
}

// AddOwnPassword makes a further password of a holder's mailbox, for one program.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NotFound, NotSignedIn,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddOwnPassword(ctx context.Context, a usecase.Actor, in api.NewProgramPassword) (
	api.ProgramPasswordAdded, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.ProgramPasswordAdded{}, err
	}
	return s.AddProgramPassword(ctx, asAccount(a), row.SignInName, a.Mailbox, in)
}

// RemoveOwnPassword takes a program's password away.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, NotSignedIn, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveOwnPassword(ctx context.Context, a usecase.Actor, name string) (api.Started, error) {
	row, err := s.holder(ctx, a)
	if err != nil {
		return api.Started{}, err
	}
	return s.RemoveProgramPassword(ctx, asAccount(a), row.SignInName, a.Mailbox, name)
}
