package databases

import (
	"cmp"
	"context"
	"io"
	"slices"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Imports lists the imports into databases of an account, the newest first. Each server keeps its
// own; one that does not answer is an error.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Imports(ctx context.Context, a usecase.Actor, reference string) (api.ImportList, error) {
	out := api.ImportList{Imports: []api.DatabaseImport{}}
	number, err := usecase.FindAccount(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return out, err
	}
	engines, err := s.Store.EnginesOfAccount(ctx, number)
	if err != nil {
		return out, err
	}
	found, err := s.importsOn(ctx, number, engines)
	for _, one := range found {
		out.Imports = append(out.Imports, importView(a, one.Import))
	}
	return out, err
}

// placedImport is an import with the server that has it.
type placedImport struct {
	agentlink.Import
	server db.Server
}

// importsOn asks the servers with an account's databases for imports, the newest first.
//
// Refusals: ServerUnreachable, WrongState.
func (s *Service) importsOn(ctx context.Context, account int64, engines []db.EnginesOfAccountRow) ([]placedImport,
	error) {
	var list []placedImport
	var asked []int64
	ask, cancel := context.WithTimeout(ctx, usecase.AgentTimeout)
	defer cancel()
	for _, e := range engines {
		if slices.Contains(asked, e.Server.ID) {
			continue
		}
		asked = append(asked, e.Server.ID)
		told, err := s.Agents.Agent(e.Server.ID, e.Server.Address).Imports(ask, agentlink.ImportsOf{Account: account})
		if err != nil {
			return nil, refusedBy(e.Server, err)
		}
		for _, one := range told.Imports {
			list = append(list, placedImport{one, e.Server})
		}
	}
	slices.SortStableFunc(list, func(x, y placedImport) int { return y.AddedAt.Compare(x.AddedAt) })
	return list, nil
}

func importView(a usecase.Actor, i agentlink.Import) api.DatabaseImport {
	v := api.DatabaseImport{ID: i.ID, Database: i.Database, User: i.User, Name: i.Name, Size: i.Size,
		Received: i.Received, FromHome: i.Home != nil, State: i.State, Taken: i.Progress.Taken, Line: i.Progress.Line,
		Statements: i.Progress.Statements, Rows: i.Progress.Rows, Mended: []api.MendedInFile{},
		Failure: i.Progress.Failure, Statement: i.Progress.Statement, AddedAt: i.AddedAt}
	if i.Copy != nil {
		v.CopyOf = i.Copy.Database
	}
	if i.CSV != nil {
		v.Table = i.CSV.Table
	}
	for what, n := range i.Progress.Mended {
		v.Mended = append(v.Mended, api.MendedInFile{What: what.Text().In(a.Language), Count: n})
	}
	slices.SortFunc(v.Mended, func(x, y api.MendedInFile) int { return cmp.Compare(x.What, y.What) })
	for _, at := range []struct {
		to   **time.Time
		when time.Time
	}{{&v.BegunAt, i.BegunAt}, {&v.EndedAt, i.EndedAt}} {
		if !at.when.IsZero() {
			*at.to = &at.when
		}
	}
	return v
}

// NewImport prepares an import into a database: its file is sent next ([Service.ContinueImport]) or
// comes by itself from the account's home ([Service.ReceiveImport]), and then it is started.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) NewImport(ctx context.Context, a usecase.Actor, reference, database string,
	in api.NewImport) (api.DatabaseImport, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.DatabaseImport, error) {
		v, err := s.visit(ctx, tx.Queries, a, reference, database, in.User)
		if err != nil {
			return api.DatabaseImport{}, err
		}
		asked := agentlink.NewImport{DatabaseVisit: v.DatabaseVisit, Name: in.Name, Size: in.Size}
		switch {
		case in.CopyOf != "" && (in.CSV != nil || in.Size != 0 || in.HomeFile != ""):
			return api.DatabaseImport{}, refusal.Input("copy_of", "a database or a file, not both")
		case in.HomeFile != "" && (in.Size != 0 || in.Name != ""):
			return api.DatabaseImport{}, refusal.Input("home_file", "a file in the home or one that is sent, not both")
		case in.HomeFile != "":
			asked.Name = in.HomeFile
			if asked.Home, err = s.statHomeFile(ctx, tx.Queries, v.account, in.HomeFile); err != nil {
				return api.DatabaseImport{}, err
			}
			asked.Size = asked.Home.Size
		case in.CopyOf != "":
			if asked.Copy, err = s.copied(v, in.CopyOf); err != nil {
				return api.DatabaseImport{}, err
			}
		case in.Size <= 0:
			return api.DatabaseImport{}, refusal.Input("size", "the file is empty, or its size is not said")
		}
		if in.CSV != nil {
			asked.CSV = &agentlink.CSVImport{Table: in.CSV.Table, Separator: cmp.Or(in.CSV.Separator, ","),
				Header: in.CSV.Header}
		}
		ask, cancel := context.WithTimeout(ctx, usecase.AgentTimeout)
		defer cancel()
		told, err := s.agent(v).NewImport(ask, asked)
		if err != nil {
			return api.DatabaseImport{}, refusedBy(v.server, err)
		}
		if asked.Home != nil {
			err = s.receive(ctx, tx, v.account.ID, told.Import.ID)
		}
		return importView(a, told.Import), err
	})
}

// copied is the database that is copied, in the name of a user who may read it.
//
// Refusals: NotFound, WrongState.
func (s *Service) copied(v visit, typed string) (*agentlink.DatabaseVisit, error) {
	from, err := v.rows.find(v.account.SignInName, typed)
	if err != nil {
		return nil, err
	}
	if from.Engine != string(v.Engine) || from.Name == v.Database {
		return nil, refusal.New(refusal.WrongState, "%s is copied into another database of %s", from.Name,
			databases.Engine(from.Engine).Title()).On("copy_of")
	}
	user, err := v.rows.inTheNameOf(v.account.SignInName, from, "")
	if err != nil {
		return nil, err
	}
	return &agentlink.DatabaseVisit{Account: v.Account, Engine: v.Engine, Database: from.Name, User: user}, nil
}

// importOf finds an import of an account.
//
// Refusals: InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) importOf(ctx context.Context, q *db.Queries, a usecase.Actor, reference, id string) (db.Account,
	placedImport, error) {
	number, err := usecase.FindAccount(ctx, q, a, reference)
	if err != nil {
		return db.Account{}, placedImport{}, err
	}
	account, err := q.Account(ctx, number)
	if err != nil {
		return account, placedImport{}, err
	}
	engines, err := q.EnginesOfAccount(ctx, number)
	if err != nil {
		return account, placedImport{}, err
	}
	list, err := s.importsOn(ctx, number, engines)
	if err != nil {
		return account, placedImport{}, err
	}
	at := slices.IndexFunc(list, func(i placedImport) bool { return i.ID == id })
	if at < 0 {
		return account, placedImport{}, usecase.NotFound("import", id)
	}
	return account, list[at], nil
}

// Import returns an import.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Import(ctx context.Context, a usecase.Actor, reference, id string) (api.DatabaseImport, error) {
	_, one, err := s.importOf(ctx, s.Store.Queries, a, reference, id)
	return importView(a, one.Import), err
}

// ContinueImport takes the part of an import's file that comes behind its first offset bytes.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) ContinueImport(ctx context.Context, a usecase.Actor, reference, id string, offset int64,
	part io.Reader) (api.DatabaseImport, error) {
	account, one, err := s.importOf(ctx, s.Store.Queries, a, reference, id)
	if err != nil {
		return api.DatabaseImport{}, err
	}
	if one.Home != nil {
		return api.DatabaseImport{}, refusal.New(refusal.WrongState, "the file of this import comes from the home")
	}
	told, err := s.Agents.Agent(one.server.ID, one.server.Address).ContinueImport(ctx, account.ID, id, offset, part)
	if err != nil {
		return api.DatabaseImport{}, refusedBy(one.server, err)
	}
	return importView(a, told.Import), nil
}

// ImportContents says what is in the file of an import.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) ImportContents(ctx context.Context, a usecase.Actor, reference, id string) (api.FileContents, error) {
	out := api.FileContents{Tables: []string{}, Found: []api.FoundInFile{}}
	account, one, err := s.importOf(ctx, s.Store.Queries, a, reference, id)
	if err != nil {
		return out, err
	}
	told, err := s.order(ctx, one, agentlink.ImportOrder{Account: account.ID, ID: id, Do: agentlink.ImportLook})
	if err != nil || told.Contents == nil {
		return out, err
	}
	c := told.Contents
	out.Engine, out.Version, out.Statements, out.Size, out.Whole = string(c.Engine), c.Version, c.Statements, c.Size,
		c.Whole
	out.Tables = append(out.Tables, c.Tables...)
	for _, f := range c.Found {
		out.Found = append(out.Found, api.FoundInFile{What: string(f.Finding), Text: f.Finding.Text().In(a.Language),
			Mended: f.Finding.Mended(), Line: f.Line, Count: f.Count, Example: f.Example})
	}
	return out, nil
}

// longestOrder is how long an order may take: looking through a large file is the longest.
const longestOrder = 2 * time.Minute

// order has something done with an import.
//
// Refusals: ServerUnreachable, WrongState.
func (s *Service) order(ctx context.Context, one placedImport, order agentlink.ImportOrder) (agentlink.ImportAnswer,
	error) {
	ask, cancel := context.WithTimeout(ctx, longestOrder)
	defer cancel()
	told, err := s.Agents.Agent(one.server.ID, one.server.Address).OrderImport(ask, order)
	if err != nil {
		return told, refusedBy(one.server, err)
	}
	return told, nil
}

// StartImport has an import executed.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) StartImport(ctx context.Context, a usecase.Actor, reference, id string,
	in api.StartImport) (api.DatabaseImport, error) {
	return s.changeImport(ctx, a, reference, id, "database.import", agentlink.ImportOrder{Do: agentlink.ImportStart,
		Mend: in.Mend})
}

// StopImport stops an import that is running. What it has executed stays.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) StopImport(ctx context.Context, a usecase.Actor, reference, id string) (api.DatabaseImport, error) {
	return s.changeImport(ctx, a, reference, id, "database.stop_import",
		agentlink.ImportOrder{Do: agentlink.ImportStop})
}

// ForgetImport removes the file of an import that does not run, and what is known of it.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) ForgetImport(ctx context.Context, a usecase.Actor, reference, id string) error {
	_, err := s.changeImport(ctx, a, reference, id, "", agentlink.ImportOrder{Do: agentlink.ImportForget})
	return err
}

// changeImport has something done with an import, and records it under a name unless that is empty.
func (s *Service) changeImport(ctx context.Context, a usecase.Actor, reference, id, action string,
	order agentlink.ImportOrder) (api.DatabaseImport, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.DatabaseImport, error) {
		account, one, err := s.importOf(ctx, tx.Queries, a, reference, id)
		if err != nil {
			return api.DatabaseImport{}, err
		}
		order.Account, order.ID = account.ID, id
		told, err := s.order(ctx, one, order)
		if err != nil || action == "" {
			return importView(a, told.Import), err
		}
		words := map[string]any{"database": one.Database, "user": one.User, "file": one.Name}
		if one.Copy != nil {
			words = map[string]any{"database": one.Database, "user": one.User, "copy of": one.Copy.Database}
		}
		return importView(a, told.Import), usecase.Record(ctx, tx, a, action, usecase.AboutAccount(account), nil, words)
	})
}
