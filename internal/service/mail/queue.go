package mail

import (
	"context"
	"slices"
	"strings"
	"sync"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// waiting is a message that waits, with the account that it is of; 0 is none of ours.
type waiting struct {
	agentlink.QueuedMessage
	account int64
}

// queueOf asks a server which messages wait there.
func (s *Service) queueOf(ctx context.Context, server db.Server) ([]waiting, bool, error) {
	queue, err := s.Agents.Agent(server.ID, server.Address).Queue(ctx)
	if err != nil {
		return nil, false, err
	}
	var names []string
	domain := func(m agentlink.QueuedMessage) string {
		if of := domainOf(m.Sender); of != "" || len(m.Recipients) == 0 {
			return of
		}
		return domainOf(m.Recipients[0].Address) // it tells of a failure, or of nothing
	}
	for _, m := range queue.Messages {
		names = append(names, domain(m))
	}
	owners, err := s.ownersOf(ctx, names)
	if err != nil {
		return nil, false, err
	}
	var list []waiting
	for _, m := range queue.Messages {
		list = append(list, waiting{QueuedMessage: m, account: owners[domain(m)]})
	}
	return list, queue.More, nil
}

// Queue returns the messages that wait, the oldest first: those of an account, of a server, or all
// that the actor may see.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Queue(ctx context.Context, a usecase.Actor, account, server string) (api.Queue, error) {
	out := api.Queue{Messages: []api.QueuedMessage{}, Silent: []string{}}
	accounts, all, err := s.scope(ctx, a, account)
	if err != nil {
		return out, err
	}
	servers, err := s.Store.MailServers(ctx)
	if err != nil {
		return out, err
	}
	if server != "" {
		servers = slices.DeleteFunc(servers, func(r db.MailServersRow) bool { return r.Server.Label != server })
		if len(servers) == 0 {
			return out, usecase.NotFound("server", server)
		}
	}
	var mu sync.Mutex
	var group sync.WaitGroup
	found := map[string][]waiting{}
	for _, one := range servers {
		group.Go(func() {
			list, more, err := s.queueOf(ctx, one.Server)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				out.Silent = append(out.Silent, one.Server.Label)
				return
			}
			found[one.Server.Label], out.More = list, out.More || more
		})
	}
	group.Wait()
	names := map[int64]string{}
	for label, list := range found {
		for _, m := range list {
			if !all && !slices.Contains(accounts, m.account) {
				continue
			}
			if m.account != 0 && names[m.account] == "" {
				row, err := s.Store.Account(ctx, m.account)
				if err != nil {
					return out, err
				}
				names[m.account] = row.SignInName
			}
			one := api.QueuedMessage{Server: label, Queue: m.Queue, Held: m.Held, CameAt: m.Came, Size: m.Size,
				Sender: m.Sender, Account: names[m.account], Recipients: []api.QueuedRecipient{}}
			for _, r := range m.Recipients {
				one.Recipients = append(one.Recipients, api.QueuedRecipient(r))
			}
			out.Messages = append(out.Messages, one)
		}
	}
	slices.Sort(out.Silent)
	slices.SortFunc(out.Messages, func(x, y api.QueuedMessage) int {
		if c := x.CameAt.Compare(y.CameAt); c != 0 {
			return c
		}
		return strings.Compare(x.Queue, y.Queue)
	})
	return out, nil
}

// ChangeQueue tries messages again, holds them, releases them or removes them. Those that have gone
// meanwhile do not matter; those that the actor does not see are not there.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable.
func (s *Service) ChangeQueue(ctx context.Context, a usecase.Actor, in api.QueueChange) (api.QueueChanged, error) {
	accounts, all, err := s.scope(ctx, a, "")
	if err != nil {
		return api.QueueChanged{}, err
	}
	servers, err := s.Store.MailServers(ctx)
	if err != nil {
		return api.QueueChanged{}, err
	}
	at := slices.IndexFunc(servers, func(r db.MailServersRow) bool { return r.Server.Label == in.Server })
	if at < 0 {
		return api.QueueChanged{}, usecase.NotFound("server", in.Server)
	}
	server := servers[at].Server
	queue, _, err := s.queueOf(ctx, server)
	if err != nil {
		return api.QueueChanged{}, usecase.Unreachable(server.Label, err)
	}
	change := agentlink.QueueChange{Do: in.Do}
	for _, m := range queue {
		if slices.Contains(in.Messages, m.Queue) && (all || slices.Contains(accounts, m.account)) {
			change.Messages = append(change.Messages, m.Queue)
		}
	}
	if len(change.Messages) == 0 {
		return api.QueueChanged{}, refusal.New(refusal.NotFound, "none of these messages waits on %s any more",
			server.Label).Help(refusal.Remedy{Do: language.New("see what became of them"), Command: "message list"})
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.QueueChanged, error) {
		done := api.QueueChanged{Messages: len(change.Messages)}
		a.Summarize("%s: %s", server.Label, queueWords[in.Do](len(change.Messages)))
		if err := usecase.Record(ctx, tx, a, "queue."+in.Do, usecase.About("server %s", server.Label), nil,
			map[string]any{"messages": change.Messages}); err != nil {
			return done, err
		}
		if a.Preview != nil {
			return done, nil
		}
		if err := s.Agents.Agent(server.ID, server.Address).ChangeQueue(ctx, change); err != nil {
			return done, usecase.Unreachable(server.Label, err)
		}
		return done, nil
	})
}

// queueWords say what is done with messages that wait.
var queueWords = map[string]func(int) language.Text{
	agentlink.QueueRetry: func(n int) language.Text {
		return language.New("try %s again", usecase.Counted(n,
			"message"))
	},
	agentlink.QueueHold: func(n int) language.Text { return language.New("hold %s", usecase.Counted(n, "message")) },
	agentlink.QueueRelease: func(n int) language.Text {
		return language.New("release %s", usecase.Counted(n,
			"message"))
	},
	agentlink.QueueRemove: func(n int) language.Text {
		return language.New("remove %s", usecase.Counted(n,
			"message"))
	},
}
