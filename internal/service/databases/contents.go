package databases

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/databases/dumps"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// visit is work with a database in the name of one of its users.
type visit struct {
	agentlink.DatabaseVisit
	account db.Account
	server  db.Server
	rows    rows
}

// visit finds a database, and in whose name it is worked with: the user that is named, or the one
// that may do the most of those with a password.
//
// Refusals: InvalidInput, NotFound, Suspended, WrongState.
func (s *Service) visit(ctx context.Context, q *db.Queries, a usecase.Actor, reference, typed, user string) (visit,
	error) {
	number, err := usecase.FindAccount(ctx, q, a, reference)
	if err != nil {
		return visit{}, err
	}
	account, err := q.Account(ctx, number)
	if err != nil {
		return visit{}, err
	}
	v := visit{account: account}
	if v.rows, err = loadRows(ctx, q, number); err != nil {
		return visit{}, err
	}
	database, err := v.rows.find(account.SignInName, typed)
	if err != nil {
		return visit{}, err
	}
	engine, is := v.rows.engine(database.Engine)
	if !is {
		return visit{}, refusal.New(refusal.WrongState, "%s is on no server yet", database.Name)
	}
	v.server = engine.Server
	v.DatabaseVisit = agentlink.DatabaseVisit{Account: number, Engine: databases.Engine(database.Engine),
		Database: database.Name}
	v.User, err = v.rows.inTheNameOf(account.SignInName, database, user)
	return v, err
}

// inTheNameOf is the user in whose name a database is worked with.
//
// Refusals: NotFound, WrongState.
func (r rows) inTheNameOf(signIn string, database db.Database, typed string) (string, error) {
	if typed != "" {
		u, err := r.findUser(signIn, typed)
		switch {
		case err != nil:
			return "", err
		case r.levelsOf(u.ID)[database.Name] == "":
			return "", refusal.New(refusal.WrongState, "%s may do nothing with %s; give it a right first, or name "+
				"another "+
				"user", u.Name, database.Name).On("user")
		case u.Verifier == nil:
			return "", refusal.New(refusal.WrongState, "%s has no password, so that nobody signs in as it; set "+
				"one, or "+
				"name another user", u.Name).On("user")
		}
		return u.Name, nil
	}
	best, name := -1, ""
	for _, u := range r.users {
		level := slices.Index(databases.Levels, r.levelsOf(u.ID)[database.Name])
		if u.Verifier != nil && level > best {
			best, name = level, u.Name
		}
	}
	if name == "" {
		return "", refusal.New(refusal.WrongState, "no user with a password may do anything with %s, and it is worked "+
			"with in the name of one", database.Name).
			Help(refusal.Remedy{Do: language.New("add one"), Command: "database user add"})
	}
	return name, nil
}

func (s *Service) agent(v visit) usecase.Agent { return s.Agents.Agent(v.server.ID, v.server.Address) }

// ask asks the engine something.
//
// Refusals: InvalidInput, ServerUnreachable.
func (s *Service) ask(ctx context.Context, v visit, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error) {
	q.DatabaseVisit = v.DatabaseVisit
	ask, cancel := context.WithTimeout(ctx, cmp.Or(q.Longest, usualQuestion)+10*usecase.AgentTimeout)
	defer cancel()
	told, err := s.agent(v).AskDatabase(ask, q)
	if err != nil {
		return told, refusedBy(v.server, err)
	}
	if told.Refused != "" {
		return told, refusal.New(refusal.InvalidInput, "%s: %s", v.Engine.Title(), told.Refused)
	}
	return told, nil
}

// refusedBy is the refusal of what a server's agent was asked: what it says is for the person.
//
// Refusals: ServerUnreachable, WrongState.
func refusedBy(server db.Server, err error) error {
	if errors.Is(err, agentlink.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded) {
		return usecase.Unreachable(server.Label, err)
	}
	return refusal.New(refusal.WrongState, "%s: %s", server.Label, agentlink.Said(err))
}

const (
	// usualQuestion is how long a question may take that says nothing else.
	usualQuestion = 30 * time.Second
	// usualRows is how many rows an answer has that says nothing else.
	usualRows = 100
)

// Tables lists the tables of a database.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Tables(ctx context.Context, a usecase.Actor, reference, database, user string) (api.DatabaseTables,
	error) {
	out := api.DatabaseTables{Tables: []api.DatabaseTable{}}
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, user)
	if err != nil {
		return out, err
	}
	told, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskTables, Longest: usualQuestion})
	for _, t := range told.Tables {
		out.Tables = append(out.Tables, api.DatabaseTable(t))
	}
	out.User = v.User
	return out, err
}

// Structure tells what a table is made of.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Structure(ctx context.Context, a usecase.Actor, reference, database, user,
	table string) (api.TableStructure, error) {
	out := api.TableStructure{Columns: []api.TableColumn{}, Indexes: []api.TableIndex{}}
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, user)
	if err != nil {
		return out, err
	}
	told, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskStructure, Table: table,
		Longest: usualQuestion})
	if err != nil || told.Structure == nil {
		return out, err
	}
	for _, c := range told.Structure.Columns {
		out.Columns = append(out.Columns, api.TableColumn(c))
	}
	for _, i := range told.Structure.Indexes {
		out.Indexes = append(out.Indexes, api.TableIndex(i))
	}
	return out, nil
}

// Rows returns some rows of a table behind the first offset.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Rows(ctx context.Context, a usecase.Actor, reference, database, user, table string, offset int64,
	limit int) (api.StatementResult, error) {
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, user)
	if err != nil {
		return resultView(v, nil), err
	}
	told, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskRows, Table: table, Offset: offset,
		Limit: cmp.Or(limit, usualRows), Longest: usualQuestion})
	return resultView(v, told.Result), err
}

func resultView(v visit, r *agentlink.StatementResult) api.StatementResult {
	if r == nil {
		return api.StatementResult{User: v.User, Columns: []string{}, Rows: [][]*string{}}
	}
	return api.StatementResult{User: v.User, Columns: append([]string{}, r.Columns...),
		Rows: append([][]*string{}, r.Rows...), More: r.More, Affected: r.Affected, Seconds: r.Took.Seconds()}
}

// Execute executes one statement. That it was, is recorded, with its beginning.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Execute(ctx context.Context, a usecase.Actor, reference, database string,
	in api.NewStatement) (api.StatementResult, error) {
	var failed error
	out, err := usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.StatementResult, error) {
		v, err := s.visit(ctx, tx.Queries, a, reference, database, in.User)
		if err != nil {
			return api.StatementResult{}, err
		}
		if err := usecase.Record(ctx, tx, a, "database.statement", usecase.AboutAccount(v.account), nil,
			map[string]any{"database": v.Database, "user": v.User,
				"statement": dumps.Outline([]byte(in.Statement))}); err != nil {
			return api.StatementResult{}, err
		}
		var told agentlink.DatabaseAnswer
		told, failed = s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskStatement, Statement: in.Statement,
			Limit: cmp.Or(in.Rows, usualRows), Longest: cmp.Or(time.Duration(in.Seconds)*time.Second, usualQuestion)})
		return resultView(v, told.Result), nil // it may have been executed: the record stays
	})
	if err == nil {
		err = failed
	}
	return out, err
}

// Running lists what is being executed in a database, the longest first.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Running(ctx context.Context, a usecase.Actor, reference, database string) (api.RunningStatements,
	error) {
	out := api.RunningStatements{Running: []api.RunningStatement{}}
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, "")
	if err != nil {
		return out, err
	}
	told, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskRunning, Longest: usualQuestion})
	for _, r := range told.Running {
		out.Running = append(out.Running, api.RunningStatement{ID: r.ID, User: r.User, Seconds: r.For.Seconds(),
			State: r.State, Statement: r.Statement})
	}
	slices.SortFunc(out.Running, func(x, y api.RunningStatement) int { return cmp.Compare(y.Seconds, x.Seconds) })
	return out, err
}

// Slow lists what was slow in a database within the last day, what took most of its time first.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Slow(ctx context.Context, a usecase.Actor, reference, database string) (api.SlowStatements, error) {
	out := api.SlowStatements{Slow: []api.SlowStatement{}}
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, "")
	if err != nil {
		return out, err
	}
	told, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskSlow, Longest: usualQuestion})
	for _, one := range told.Slow {
		all := one.Tally()
		out.Slow = append(out.Slow, api.SlowStatement{User: one.User, Statement: one.Statement, Count: all.Count,
			Longest: all.Longest.Seconds(), Total: all.Total.Seconds(), LastAt: all.Last})
	}
	return out, err
}

// StopStatement stops one that is being executed.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) StopStatement(ctx context.Context, a usecase.Actor, reference, database string, id int64) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		v, err := s.visit(ctx, tx.Queries, a, reference, database, "")
		if err != nil {
			return err
		}
		if _, err := s.ask(ctx, v, agentlink.DatabaseQuestion{Ask: agentlink.AskStop, ID: id,
			Longest: usualQuestion}); err != nil {
			return err
		}
		return usecase.Record(ctx, tx, a, "database.stop_statement", usecase.AboutAccount(v.account), nil,
			map[string]any{"database": v.Database})
	})
}

// Export opens the contents of a database, of one moment; the caller closes them. The error at the
// end of reading is io.EOF only if they are whole. Tables are those that are wanted; none is all.
//
// Refusals: ApplyFailed, InvalidInput, NotFound, ServerUnreachable, WrongState.
func (s *Service) Export(ctx context.Context, a usecase.Actor, reference, database, user, compression string,
	tables []string) (io.ReadCloser, string, error) {
	v, err := s.visit(ctx, s.Store.Queries, a, reference, database, user)
	if err != nil {
		return nil, "", err
	}
	contents, err := s.agent(v).ExportDatabase(ctx, agentlink.DatabaseExport{DatabaseVisit: v.DatabaseVisit,
		Tables: tables, Compression: compression})
	if err != nil {
		return nil, "", refusedBy(v.server, err)
	}
	words := map[string]any{"database": v.Database, "user": v.User}
	if len(tables) > 0 {
		words["tables"] = strings.Join(tables, ", ")
	}
	err = usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		return usecase.Record(ctx, tx, a, "database.export", usecase.AboutAccount(v.account), nil, words)
	})
	if err != nil {
		contents.Close()
		return nil, "", err
	}
	name := v.Database + "-" + time.Now().UTC().Format("2006-01-02") + ".sql" +
		map[string]string{"gzip": ".gz", "zstd": ".zst"}[compression]
	return contents, name, nil
}
