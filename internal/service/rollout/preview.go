package rollout

import (
	"context"
	"slices"

	"victualler/internal/api"
	"victualler/internal/hosting/actions"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// askServer asks a server what it would do to match a manifest. What happens elsewhere than at the
// home bears the server's label.
func (s *Service) askServer(ctx context.Context, a usecase.Actor, w serverManifest, home bool,
	out *api.Preview) error {
	ask, cancel := context.WithTimeout(ctx, 2*usecase.AgentTimeout)
	defer cancel()
	answer, err := s.Agents.Agent(w.server.ID, w.server.Address).Preview(ask, w.manifest)
	if err != nil {
		return usecase.Unreachable(w.server.Label, err)
	}
	where := ""
	if !home {
		where = w.server.Label + ": "
	}
	for _, step := range answer.Steps {
		title := actions.StepTitle(where + step).In(a.Language)
		if !slices.Contains(out.Steps, title) { // of several accounts, the steps are the same
			out.Steps = append(out.Steps, title)
		}
	}
	for _, c := range answer.Changes {
		c.Part, c.Detail = where+c.Part, a.SayKept(c.Detail)
		out.Changes = append(out.Changes, api.Change(c))
	}
	return nil
}

// previewAccounts notes for a preview what servers would be told. Of
// many accounts it only notes how many.
func (s *Service) previewAccounts(ctx context.Context, tx store.Tx, a usecase.Actor, accounts []int64) error {
	for _, number := range accounts {
		if a.Preview.Asked() > usecase.MaxPreviewedAccounts {
			a.Preview.AskServers(nil) // so many are only counted
			continue
		}
		account, err := tx.Account(ctx, number)
		if err != nil {
			return err
		}
		if err := s.PreviewAccount(ctx, tx, a, account); err != nil {
			return err
		}
	}
	return nil
}

// PreviewAccount notes for a preview what an account's servers would be told.
//
// Refusals: ApplyFailed, ServerUnreachable.
func (s *Service) PreviewAccount(ctx context.Context, tx store.Tx, a usecase.Actor, account db.Account) error {
	list, err := s.manifestsOf(ctx, tx.Queries, account)
	if err != nil {
		return err
	}
	a.Preview.AskServers(func(ctx context.Context, out *api.Preview) error {
		for _, part := range list {
			if part.upToDate {
				continue
			}
			if err := s.askServer(ctx, a, part, part.server.ID == account.ServerID, out); err != nil {
				return err
			}
		}
		return nil
	})
	return nil
}
