package rollout

import (
	"context"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/homes"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// saveWarnings writes down what a server tells of homes, for each account that it tells of.
func saveWarnings(ctx context.Context, tx store.Tx, found map[int64][]agentlink.Warning) error {
	if len(found) == 0 {
		return nil
	}
	var other db.DeleteOtherWarningsParams
	var messages []string
	for account, list := range found {
		other.Accounts = append(other.Accounts, account)
		for _, w := range list {
			other.Ids, other.Parts = append(other.Ids, account), append(other.Parts, w.Part)
			other.Subjects, other.Paths = append(other.Subjects, w.Subject), append(other.Paths, w.Path)
			other.Codes, messages = append(other.Codes, string(w.Code)), append(messages, w.Message)
		}
	}
	if err := tx.DeleteOtherWarnings(ctx, other); err != nil {
		return err
	}
	return tx.AddWarnings(ctx, db.AddWarningsParams{Ids: other.Ids, Parts: other.Parts, Subjects: other.Subjects,
		Paths: other.Paths, Codes: other.Codes, Messages: messages})
}

// Warnings lists what does not work of an account because of what its owner has put into the home,
// or because of limits of what runs. The account is one that was found within the actor's scope.
//
// Refusals: InvalidInput.
func (s *Service) Warnings(ctx context.Context, a usecase.Actor, st entitlement.Entitlement) ([]api.Warning, error) {
	rows, err := s.Store.WarningsOfAccount(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	met, err := s.limitWarnings(ctx, a, st)
	if err != nil {
		return nil, err
	}
	list := append([]api.Warning{}, met...)
	stop, err := s.Store.MailStop(ctx, st.Account.ID)
	switch {
	case err == nil:
		e := homes.StoppedSending(stop.Sent, stop.Failed)
		list = append(list, api.Warning{Part: "mail", Code: string(homes.SendingStopped), What: e.What.In(a.Language),
			Seen: e.Seen.In(a.Language), Mend: e.Mend.In(a.Language), Since: stop.At})
	case !store.None(err):
		return nil, err
	}
	full, err := s.Store.DatabasesStopped(ctx, st.Account.ID)
	switch {
	case err == nil:
		e := homes.FullDatabases(full.Growth == "closed")
		list = append(list, api.Warning{Part: "databases", Code: string(homes.DatabasesFull),
			What: e.What.In(a.Language), Seen: e.Seen.In(a.Language), Mend: e.Mend.In(a.Language), Since: full.Since})
	case !store.None(err):
		return nil, err
	}
	failures, err := s.Store.MailboxFailuresOfAccount(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	for _, f := range failures {
		if f.Failures >= homes.ManyFailures {
			mailbox := f.Local + "@" + usecase.Unicode(f.Domain)
			e := homes.FailedSignIns(mailbox, f.Failures, f.Clients)
			list = append(list, api.Warning{Part: "mail", Subject: mailbox, Code: string(homes.SignInsFail),
				What: e.What.In(a.Language), Seen: e.Seen.In(a.Language), Mend: e.Mend.In(a.Language), Since: f.LastAt})
		}
	}
	for _, row := range rows {
		e := homes.Explain(row.Part, homes.Code(row.Code), row.Path, row.Message)
		list = append(list, api.Warning{Part: row.Part, Subject: row.Subject, Path: row.Path, Code: row.Code,
			What: e.What.In(a.Language), Seen: e.Seen.In(a.Language), Mend: e.Mend.In(a.Language), Since: row.Since})
	}
	return list, nil
}
