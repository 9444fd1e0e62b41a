package mail

import (
	"context"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/bcrypt"

	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/refusal"
	"victualler/internal/passwords"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// AddProgramPassword makes a further password of a mailbox, for one program. It is told here and
// nowhere else.
//
// Refusals: ApplyFailed, InvalidInput, LimitReached, NameTaken, NotFound, ServerUnreachable,
// Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) AddProgramPassword(ctx context.Context, a usecase.Actor, reference, mailbox string,
	in api.NewProgramPassword) (api.ProgramPasswordAdded, error) {
	made := passwords.GenerateOf(mail.ProgramLength, passwords.Small, passwords.Digits)
	hash, err := s.seal(made, bcrypt.MinCost) // nobody guesses it
	if err != nil {
		return api.ProgramPasswordAdded{}, err
	}
	return change(ctx, s, a, reference, "mailbox.add_password",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.ProgramPasswordAdded, error) {
			row, err := r.find(mailbox)
			if err != nil {
				return nil, err
			}
			name := usecase.OneLine(in.Name)
			there := r.programsOf(row.Mailbox.ID)
			switch {
			case name == "" || utf8.RuneCountInString(name) > mail.LongestProgram:
				return nil, refusal.Input("name", "say which program it is for, in 1 to %d characters",
					mail.LongestProgram)
			case slices.ContainsFunc(there, func(p db.ProgramPassword) bool { return strings.EqualFold(p.Name, name) }):
				return nil, refusal.New(refusal.NameTaken, "%s has a password for %s already; remove that one first",
					box(row), name).On("name")
			case len(there) >= mail.MostPrograms:
				return nil, refusal.New(refusal.LimitReached,
					"a mailbox has %d passwords for programs at most; remove "+
						"those that are no longer used", mail.MostPrograms)
			}
			a.Summarize("make a password of mailbox %s for %s", box(row), name)
			if err := tx.AddProgramPassword(ctx, db.AddProgramPasswordParams{MailboxID: row.Mailbox.ID, Name: name,
				Key: mail.ProgramKey(made), Hash: hash}); err != nil {
				return nil, err
			}
			return func(out outcome) api.ProgramPasswordAdded {
					return api.ProgramPasswordAdded{Name: name, Password: made, SignInName: box(row),
						Server:    out.server,
						Operation: out.operation}
				}, usecase.Record(ctx, tx, a, "mailbox.add_password", usecase.AboutAccount(st.Account), nil,
					map[string]any{"mailbox": box(row), "program": name})
		})
}

// RemoveProgramPassword takes a program's password away. All sessions of the mailbox end, as nobody
// can tell which ones it has begun.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, Suspended, WrongState.
// Locks: the account, the reseller.
func (s *Service) RemoveProgramPassword(ctx context.Context, a usecase.Actor, reference, mailbox,
	name string) (api.Started, error) {
	return change(ctx, s, a, reference, "mailbox.remove_password",
		func(tx store.Tx, st entitlement.Entitlement, r rows) (func(outcome) api.Started, error) {
			row, err := r.find(mailbox)
			if err != nil {
				return nil, err
			}
			at := slices.IndexFunc(r.programsOf(row.Mailbox.ID),
				func(p db.ProgramPassword) bool { return strings.EqualFold(p.Name, name) })
			if at < 0 {
				return nil, usecase.NotFound("password for a program", name)
			}
			name := r.programsOf(row.Mailbox.ID)[at].Name
			a.Summarize("remove the password of mailbox %s for %s", box(row), name)
			a.Note("all sessions of %s end", box(row))
			if _, err := tx.RemoveProgramPassword(ctx, db.RemoveProgramPasswordParams{MailboxID: row.Mailbox.ID,
				Name: name}); err != nil {
				return nil, err
			}
			return tellOperation, usecase.Record(ctx, tx, a, "mailbox.remove_password",
				usecase.AboutAccount(st.Account), map[string]any{"mailbox": box(row), "program": name}, nil)
		})
}
