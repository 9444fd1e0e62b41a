package mail

import (
	"context"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// SuspendMail keeps an account from sending, from receiving, or from both; its sites go on, and
// holders read what is there.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) SuspendMail(ctx context.Context, a usecase.Actor, reference string, in api.SuspendMail) (api.Started,
	error) {
	why := strings.TrimSpace(in.Why)
	switch {
	case why == "":
		return api.Started{}, refusal.Input("why", "say why; the customer and whoever looks at the account later "+
			"need to know")
	case !in.Sending && !in.Receiving:
		return api.Started{}, refusal.Input("sending", "say what is suspended: sending, receiving or both")
	}
	return change(ctx, s, a, reference, "mail.suspend",
		func(tx store.Tx, st entitlement.Entitlement, _ rows) (func(outcome) api.Started, error) {
			before, err := suspensionToChange(ctx, tx, a, st.Account)
			if err != nil && !store.None(err) {
				return nil, err
			}
			what := suspended(in.Sending, in.Receiving)
			a.Summarize("suspend mail of account %s: %s", st.Account.SignInName, usecase.Word(what))
			if in.Receiving {
				a.Note("whoever writes is told to try again later; most servers do so for some days")
			}
			if err := tx.SuspendMail(ctx, db.SuspendMailParams{AccountID: st.Account.ID, Sending: in.Sending,
				Receiving: in.Receiving, Why: why, By: a.Name, Role: string(a.Role)}); err != nil {
				return nil, err
			}
			return tellOperation, usecase.Record(ctx, tx, a, "mail.suspend", usecase.AboutAccount(st.Account),
				suspensionWords(before), map[string]any{"mail": what, "why": why})
		})
}

// ResumeMail ends a suspension of mail.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller.
func (s *Service) ResumeMail(ctx context.Context, a usecase.Actor, reference string) (api.Started, error) {
	return change(ctx, s, a, reference, "mail.resume",
		func(tx store.Tx, st entitlement.Entitlement, _ rows) (func(outcome) api.Started, error) {
			before, err := suspensionToChange(ctx, tx, a, st.Account)
			if store.None(err) {
				return nil, refusal.New(refusal.WrongState, "mail of %s is not suspended by itself",
					st.Account.SignInName)
			}
			if err != nil {
				return nil, err
			}
			a.Summarize("resume mail of account %s", st.Account.SignInName)
			if err := tx.ResumeMail(ctx, st.Account.ID); err != nil {
				return nil, err
			}
			return tellOperation, usecase.Record(ctx, tx, a, "mail.resume", usecase.AboutAccount(st.Account),
				suspensionWords(before), nil)
		})
}

func tellOperation(out outcome) api.Started { return api.Started{Operation: out.operation} }

// suspensionToChange is the suspension that somebody is about to change or to end.
//
// Refusals: NotAllowed.
func suspensionToChange(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account) (db.MailSuspension,
	error) {
	row, err := tx.MailSuspension(ctx, account.ID)
	if err == nil && !a.MayLift(rights.Role(row.Role)) {
		return row, refusal.New(refusal.NotAllowed, "mail of %s was suspended by an operator (%s); an operator has to "+
			"resume it", account.SignInName, row.Why)
	}
	return row, err
}

// suspended is one word for what of mail is suspended.
func suspended(sending, receiving bool) string {
	switch {
	case sending && receiving:
		return "all"
	case sending:
		return "sending"
	}
	return "receiving"
}

func suspensionWords(row db.MailSuspension) map[string]any {
	if row.AccountID == 0 {
		return nil
	}
	return map[string]any{"mail": suspended(row.Sending, row.Receiving), "why": row.Why}
}
