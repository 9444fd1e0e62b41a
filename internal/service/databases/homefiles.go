package databases

import (
	"context"
	"errors"
	"io"
	"slices"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// homeOf is the server with an account's home.
func (s *Service) homeOf(ctx context.Context, q *db.Queries, account db.Account) (db.Server, usecase.Agent, error) {
	server, err := q.ServerByID(ctx, account.ServerID)
	if err != nil {
		return server, nil, err
	}
	return server, s.Agents.Agent(server.ID, server.Address), nil
}

// statHomeFile finds a file in an account's home.
//
// Refusals: InvalidInput, ServerUnreachable.
func (s *Service) statHomeFile(ctx context.Context, q *db.Queries, account db.Account,
	path string) (*agentlink.FileState, error) {
	server, agent, err := s.homeOf(ctx, q, account)
	if err != nil {
		return nil, err
	}
	ask, cancel := context.WithTimeout(ctx, usecase.AgentTimeout)
	defer cancel()
	told, err := agent.StatHomeFile(ask, agentlink.HomeFile{AccountID: account.ID, SignInName: account.SignInName,
		Path: path})
	switch {
	case err != nil && passing(err):
		return nil, usecase.Unreachable(server.Label, err)
	case err != nil:
		return nil, refusal.Input("home_file", "%s", agentlink.Said(err))
	case told.Size == 0:
		return nil, refusal.Input("home_file", "%s is empty", path)
	}
	return &told, nil
}

// passing reports whether an agent has given no answer, so that asking again may help.
func passing(err error) bool {
	return errors.Is(err, agentlink.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, context.Canceled) || errors.Is(err, io.ErrUnexpectedEOF)
}

// receivesAgain is how long it takes until an import whose file could not be received is tried
// again.
const receivesAgain = 2 * time.Second

// receive has an import receive its file, by whoever takes work from the queue.
func (s *Service) receive(ctx context.Context, tx store.Tx, account int64, id string) error {
	err := tx.ReceiveImport(ctx, db.ReceiveImportParams{AccountID: account, Import: id})
	if err != nil {
		return err
	}
	return s.Queue.ReceiveImport(ctx, tx, account, id)
}

// ReceiveImport has an import receive its file from the account's home, and goes on where it was
// cut off. A file that cannot be read has the import fail. Again is when to try once more; 0 is
// never.
//
// Refusals: ApplyFailed, ServerUnreachable, WrongState.
func (s *Service) ReceiveImport(ctx context.Context, account int64, id string) (again time.Duration, err error) {
	defer s.heartbeat(ctx, account, id)()
	again, err = s.tryToReceive(ctx, account, id)
	if err == nil && again == 0 {
		err = s.Store.ImportReceived(ctx, db.ImportReceivedParams{AccountID: account, Import: id})
	}
	return again, err
}

// heartbeat says that somebody is at an import, until the function that it returns is called.
func (s *Service) heartbeat(ctx context.Context, account int64, id string) (stop func()) {
	ctx, stop = context.WithCancel(ctx)
	say := func() {
		if err := s.Store.StillReceiving(ctx, db.StillReceivingParams{AccountID: account, Import: id}); err != nil &&
			ctx.Err() == nil {
			s.Log.Warn("an import may be taken up by somebody else", "import", id, "reason", err)
		}
	}
	say()
	go func() {
		for ticker := time.NewTicker(usecase.StalledAfter / 4); ; {
			select {
			case <-ctx.Done():
				ticker.Stop()
				return
			case <-ticker.C:
				say()
			}
		}
	}()
	return stop
}

// Resume takes up imports that were receiving their files when the process that was at them ended.
func (s *Service) Resume(ctx context.Context) error {
	cut, err := s.Store.StalledImports(ctx, usecase.StalledAfter.Seconds())
	if err != nil || len(cut) == 0 {
		return err
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		for _, one := range cut {
			if err := s.Queue.ReceiveImport(ctx, tx, one.AccountID, one.Import); err != nil {
				return err
			}
		}
		return nil
	})
}

// tryToReceive is one try of [Service.ReceiveImport].
func (s *Service) tryToReceive(ctx context.Context, accountID int64, id string) (again time.Duration, err error) {
	account, err := s.Store.Account(ctx, accountID)
	if store.None(err) {
		return 0, nil // it was closed meanwhile
	}
	if err != nil {
		return 0, err
	}
	engines, err := s.Store.EnginesOfAccount(ctx, accountID)
	if err != nil {
		return 0, err
	}
	list, err := s.importsOn(ctx, accountID, engines)
	if err != nil {
		return receivesAgain, nil // its server does not answer
	}
	at := slices.IndexFunc(list, func(i placedImport) bool { return i.ID == id })
	if at < 0 || list[at].Home == nil || list[at].State != agentlink.ImportWaits || list[at].Received == list[at].Size {
		return 0, nil
	}
	one := list[at]
	_, from, err := s.homeOf(ctx, s.Store.Queries, account)
	if err != nil {
		return 0, err
	}
	to := s.Agents.Agent(one.server.ID, one.server.Address)
	file, err := from.OpenHomeFile(ctx, agentlink.HomeFile{AccountID: account.ID, SignInName: account.SignInName,
		Path: one.Name, Offset: one.Received, As: *one.Home})
	if err == nil {
		reading := &failing{from: file}
		_, err = to.ContinueImport(ctx, account.ID, id, one.Received, reading)
		file.Close()
		if err != nil && reading.err == nil {
			return receivesAgain, nil // it is gone, or somebody else is at it, or the server is away
		}
		err = reading.err
	}
	switch {
	case err == nil:
		return 0, nil
	case passing(err):
		return receivesAgain, nil
	}
	_, err = to.OrderImport(ctx, agentlink.ImportOrder{Account: account.ID, ID: id, Do: agentlink.ImportGiveUp,
		Failure: agentlink.Said(err)})
	if err != nil {
		return receivesAgain, nil // the part that was cut off has not ended yet
	}
	return 0, nil
}

// failing remembers the error at which a reader has ended early.
type failing struct {
	from io.Reader
	err  error
}

// Read implements io.Reader.
func (f *failing) Read(p []byte) (int, error) {
	n, err := f.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err = err
	}
	return n, err
}
