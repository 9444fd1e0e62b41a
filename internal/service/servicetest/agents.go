package servicetest

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing/iotest"
	"time"
	"victualler/internal/hosting/databases/dumps"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/mail"
	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
)

// Agents are the agents of all servers of a bench. Each holds what it
// was told, and can be made to fail.
type Agents struct {
	mu      sync.Mutex
	servers map[int64]*Agent
}

func newAgents() *Agents { return &Agents{servers: map[int64]*Agent{}} }

// Agent implements usecase.Agents.
func (a *Agents) Agent(serverID int64, _ string) usecase.Agent { return a.On(serverID) }

// On is the agent of one server, to look at and to set faults.
func (a *Agents) On(serverID int64) *Agent {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.servers[serverID] == nil {
		a.servers[serverID] = &Agent{Accounts: map[int64]manifest.Manifest{}, Drift: map[int64][]agentlink.Drift{},
			Warnings: map[int64][]agentlink.Warning{}, Loads: map[int64]agentlink.Load{},
			Health: agentlink.Status{HostName: "test", AgentVersion: "test", Processors: 2, MemoryTotal: 4 << 30,
				MemoryFree: 3 << 30, DiskTotal: 100 << 30, DiskFree: 75 << 30, Quota: "btrfs",
				Programs: []agentlink.ProgramStatus{}}}
	}
	return a.servers[serverID]
}

// Agent is one server's.
type Agent struct {
	mu sync.Mutex
	// Accounts are the manifests in force.
	Accounts map[int64]manifest.Manifest
	// Server is what the server holds for all accounts together.
	Server manifest.Server
	// Drift is what a sweep finds, by account; an apply puts it right.
	Drift map[int64][]agentlink.Drift
	// Warnings are what applies and sweeps tell of homes, by account.
	Warnings map[int64][]agentlink.Warning
	// Loads are what runs, by account.
	Loads map[int64]agentlink.Load
	// Sizes are those of databases, by account.
	Sizes map[int64][]agentlink.DatabaseSize
	// Used is what each account holds in bytes; 0 is 1 MiB.
	Used int64
	// Mail is what has become of messages, and Waiting those that wait.
	Mail    []agentlink.Delivery
	Waiting []agentlink.QueuedMessage
	// Stops are the accounts that are stopped from sending.
	Stops []agentlink.MailStop
	// Left are members who have left lists by a message, Posts what waits for owners of lists.
	Left  []agentlink.ListLeave
	Posts []mail.HeldPost
	// Imported are imports into databases; Answer is what any question about one is answered.
	Imported []agentlink.Import
	Answer   agentlink.DatabaseAnswer
	// HomeFiles are the files in homes, by their paths.
	HomeFiles map[string]string
	// Asked are the questions about databases.
	Asked []agentlink.DatabaseQuestion
	// Sites are the files of sites, by domain; see [Agent.Site]. KitFault is asked before each
	// piece of work with one.
	Sites    map[string]*Site
	KitFault func(what string) error
	// Failures are sign-ins that failed.
	Failures []agentlink.SignInFailures
	// Applies counts applies, refused ones too.
	Applies int
	// Health is what it says of its server: a quarter full, unless a test says otherwise.
	Health agentlink.Status
	// Unreachable has it answer nothing; Refuses is what it fails each
	// apply with, unless it is empty.
	Unreachable bool
	Refuses     string
	// Hold is called in an apply before databases are made (“databases”) and before its end
	// (“end”), and the agent answers others meanwhile; nil for nothing.
	Hold func(next string)
}

// Set changes the agent while nobody asks it.
func (a *Agent) Set(change func(*Agent)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	change(a)
}

// InForce returns the manifest in force for an account.
func (a *Agent) InForce(account int64) (manifest.Manifest, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	m, known := a.Accounts[account]
	return m, known
}

func (a *Agent) lock() (func(), error) {
	a.mu.Lock()
	if a.Unreachable {
		a.mu.Unlock()
		return nil, fmt.Errorf("%w: the test says so", agentlink.ErrUnreachable)
	}
	return a.mu.Unlock, nil
}

// Status implements usecase.Agent.
func (a *Agent) Status(context.Context) (agentlink.Status, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Status{}, err
	}
	defer unlock()
	status := a.Health
	status.Accounts, status.CertificateEnds = int64(len(a.Accounts)), time.Now().AddDate(1, 0, 0)
	return status, nil
}

// Preview implements usecase.Agent: one change, unless the account is as it should be.
func (a *Agent) Preview(_ context.Context, m manifest.Manifest) (agentlink.Preview, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Preview{}, err
	}
	defer unlock()
	p := agentlink.Preview{Changes: []agentlink.Drift{}, Steps: []string{"account"}}
	if !same(a.Accounts[m.AccountID], m) {
		p.Changes = append(p.Changes, agentlink.Drift{Part: "account", Subject: m.SignInName, Detail: "changes"})
	}
	return p, nil
}

// same reports whether two manifests want the same, whatever their revisions.
func same(a, b manifest.Manifest) bool {
	a.Revision, b.Revision = 0, 0
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && slices.Equal(x, y)
}

// Apply implements usecase.Agent.
func (a *Agent) Apply(_ context.Context, m manifest.Manifest, tell func(agentlink.Step)) (agentlink.Receipt, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Receipt{}, err
	}
	defer unlock()
	a.Applies++
	receipt := agentlink.Receipt{AccountID: m.AccountID, Revision: m.Revision, Verified: []string{}, At: time.Now()}
	now := a.Accounts[m.AccountID]
	switch {
	case now.Revision > m.Revision:
		receipt.Failure = &agentlink.Failure{Code: agentlink.FailedStale, Step: "journal", Message: "newer"}
		return receipt, nil
	case a.Refuses != "":
		receipt.Failure = &agentlink.Failure{Code: agentlink.FailedStep, Step: "account", Message: a.Refuses}
		return receipt, nil
	}
	hold := func(next string) {
		if a.Hold != nil {
			a.mu.Unlock()
			a.Hold(next)
			a.mu.Lock()
		}
	}
	tell(agentlink.Step{Name: "account", State: agentlink.StepDone})
	if m.Databases != nil {
		hold("databases")
		tell(agentlink.Step{Name: "databases", State: agentlink.StepDone})
	}
	hold("end")
	receipt.Changed, receipt.Warnings = !same(now, m), a.Warnings[m.AccountID]
	delete(a.Drift, m.AccountID)
	if m.Wanted == manifest.Absent {
		delete(a.Accounts, m.AccountID)
	} else {
		a.Accounts[m.AccountID] = m
	}
	return receipt, nil
}

// ApplyServer implements usecase.Agent.
func (a *Agent) ApplyServer(_ context.Context, m manifest.Server) error {
	unlock, err := a.lock()
	if err != nil {
		return err
	}
	defer unlock()
	a.Server = m
	return nil
}

// Sweep implements usecase.Agent.
func (a *Agent) Sweep(context.Context) (agentlink.Sweep, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Sweep{}, err
	}
	defer unlock()
	s := agentlink.Sweep{Accounts: []agentlink.AccountState{}, Strays: []agentlink.Drift{}}
	if a.Server.DNS != nil {
		s.Server = a.Server.Digest()
	}
	files := int64(100)
	for id, m := range a.Accounts {
		state := agentlink.AccountState{AccountID: id, SignInName: m.SignInName,
			Revision: m.Revision, Wanted: m.Wanted, Drift: a.Drift[id],
			Warnings: a.Warnings[id], Databases: a.Sizes[id],
			DatabaseLimit: databaseLimit(m), Usage: &agentlink.Usage{Bytes: cmp.Or(a.Used, 1<<20),
				Files: &files}}
		if load, runs := a.Loads[id]; runs {
			state.Load = &load
		}
		s.Accounts = append(s.Accounts, state)
	}
	return s, nil
}

// databaseLimit is what the databases of a manifest may hold.
func databaseLimit(m manifest.Manifest) *int64 {
	if m.Databases == nil {
		return nil
	}
	return m.Databases.SizeLimit
}

// Clear implements usecase.Agent.
func (a *Agent) Clear(context.Context) (agentlink.Cleared, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Cleared{}, err
	}
	defer unlock()
	return agentlink.Cleared{}, nil
}

// Challenge implements usecase.Agent.
func (a *Agent) Challenge(context.Context, agentlink.Challenges) error {
	unlock, err := a.lock()
	if err != nil {
		return err
	}
	defer unlock()
	return nil
}

// SiteLog implements usecase.Agent: a log of one line.
func (a *Agent) SiteLog(context.Context, agentlink.LogRequest) (agentlink.LogPage, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.LogPage{}, err
	}
	defer unlock()
	return agentlink.LogPage{Lines: []string{"GET /"}, Next: "1"}, nil
}

// MailLog implements usecase.Agent.
func (a *Agent) MailLog(_ context.Context, asked agentlink.MailLogRequest) (agentlink.MailLogPage, error) {
	page := agentlink.MailLogPage{}
	unlock, err := a.lock()
	if err != nil {
		return page, err
	}
	defer unlock()
	for _, d := range a.Mail {
		if d.Change > asked.After {
			page.Deliveries = append(page.Deliveries, d)
		}
	}
	page.Stops, page.Left, page.Failures = slices.Clone(a.Stops), slices.Clone(a.Left), slices.Clone(a.Failures)
	return page, nil
}

// ListPosts implements usecase.Agent.
func (a *Agent) ListPosts(_ context.Context, asked agentlink.ListPosts) (told agentlink.HeldPosts, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	if asked.Do != "" {
		before := len(a.Posts)
		a.Posts = slices.DeleteFunc(a.Posts,
			func(p mail.HeldPost) bool { return p.List == asked.List && p.Name == asked.Post })
		told.Gone = len(a.Posts) == before
	}
	for _, p := range a.Posts {
		if p.List == asked.List {
			told.Posts = append(told.Posts, p)
		}
	}
	return told, nil
}

// ReleaseSending implements usecase.Agent.
func (a *Agent) ReleaseSending(_ context.Context, account int64) error {
	unlock, err := a.lock()
	if err != nil {
		return err
	}
	defer unlock()
	a.Stops = slices.DeleteFunc(a.Stops, func(s agentlink.MailStop) bool { return s.Account == account })
	return nil
}

// Queue implements usecase.Agent.
func (a *Agent) Queue(context.Context) (agentlink.Queue, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.Queue{}, err
	}
	defer unlock()
	return agentlink.Queue{Messages: a.Waiting}, nil
}

// ChangeQueue implements usecase.Agent: what is removed no longer waits.
func (a *Agent) ChangeQueue(_ context.Context, change agentlink.QueueChange) error {
	unlock, err := a.lock()
	if err != nil {
		return err
	}
	defer unlock()
	a.Waiting = slices.DeleteFunc(a.Waiting, func(m agentlink.QueuedMessage) bool {
		return change.Do == agentlink.QueueRemove && slices.Contains(change.Messages, m.Queue)
	})
	return nil
}

// Renew implements usecase.Agent.
func (a *Agent) Renew(context.Context, *agentlink.Authority, int64, time.Time) error {
	unlock, err := a.lock()
	if err != nil {
		return err
	}
	defer unlock()
	return nil
}

// AskDatabase implements usecase.Agent.
func (a *Agent) AskDatabase(_ context.Context, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.DatabaseAnswer{}, err
	}
	defer unlock()
	a.Asked = append(a.Asked, q)
	return a.Answer, nil
}

// ExportDatabase implements usecase.Agent: a file with the name of the database.
func (a *Agent) ExportDatabase(_ context.Context, asked agentlink.DatabaseExport) (io.ReadCloser, error) {
	unlock, err := a.lock()
	if err != nil {
		return nil, err
	}
	defer unlock()
	return io.NopCloser(strings.NewReader("-- " + asked.Database)), nil
}

// Imports implements usecase.Agent.
func (a *Agent) Imports(_ context.Context, asked agentlink.ImportsOf) (told agentlink.ImportList, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	for _, one := range a.Imported {
		if one.Account == asked.Account {
			told.Imports = append(told.Imports, one)
		}
	}
	return told, nil
}

// NewImport implements usecase.Agent.
func (a *Agent) NewImport(_ context.Context, asked agentlink.NewImport) (told agentlink.ImportAnswer, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	told.Import = agentlink.Import{NewImport: asked, ID: fmt.Sprint("import-", len(a.Imported)),
		State: agentlink.ImportWaits, AddedAt: time.Now()}
	a.Imported = append(a.Imported, told.Import)
	return told, nil
}

// ContinueImport implements usecase.Agent.
func (a *Agent) ContinueImport(_ context.Context, account int64, id string, offset int64,
	file io.Reader) (told agentlink.ImportAnswer, err error) {
	n, err := io.Copy(io.Discard, file)
	told, unknown := a.importOf(account, id, func(one *agentlink.Import) { one.Received = offset + n })
	return told, errors.Join(err, unknown)
}

// StatHomeFile implements usecase.Agent.
func (a *Agent) StatHomeFile(_ context.Context, asked agentlink.HomeFile) (agentlink.FileState, error) {
	unlock, err := a.lock()
	if err != nil {
		return agentlink.FileState{}, err
	}
	defer unlock()
	text, is := a.HomeFiles[asked.Path]
	if !is {
		return agentlink.FileState{}, fmt.Errorf("there is no file %s in the home", asked.Path)
	}
	return agentlink.FileState{Size: int64(len(text))}, nil
}

// OpenHomeFile implements usecase.Agent. What ends with “!” breaks off there.
func (a *Agent) OpenHomeFile(_ context.Context, asked agentlink.HomeFile) (io.ReadCloser, error) {
	now, err := a.StatHomeFile(context.Background(), agentlink.HomeFile{Path: asked.Path})
	if err != nil || now != asked.As {
		return nil, errors.Join(err, fmt.Errorf("%s was changed meanwhile", asked.Path))
	}
	text := a.HomeFiles[asked.Path][asked.Offset:]
	if whole, broken := strings.CutSuffix(text, "!"); broken {
		return io.NopCloser(io.MultiReader(strings.NewReader(whole), iotest.ErrReader(io.ErrUnexpectedEOF))), nil
	}
	return io.NopCloser(strings.NewReader(text)), nil
}

// OrderImport implements usecase.Agent: an import is done as soon as it is started.
func (a *Agent) OrderImport(_ context.Context, order agentlink.ImportOrder) (told agentlink.ImportAnswer, err error) {
	told, err = a.importOf(order.Account, order.ID, func(one *agentlink.Import) {
		if order.Do == agentlink.ImportStart {
			one.State, one.Mend, one.EndedAt = agentlink.ImportDone, order.Mend, time.Now()
			one.Empty = order.Empty
		}
		if order.Do == agentlink.ImportGiveUp {
			one.State, one.Progress.Failure = agentlink.ImportFailed, order.Failure
		}
	})
	if order.Do == agentlink.ImportLook {
		told.Contents = &dumps.Contents{Statements: 1, Whole: true,
			Found: []dumps.Found{{Finding: dumps.Definer, Line: 7, Count: 2, Example: "CREATE"}}}
	}
	return told, err
}

func (a *Agent) importOf(account int64, id string, change func(*agentlink.Import)) (told agentlink.ImportAnswer,
	err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	for n := range a.Imported {
		if one := &a.Imported[n]; one.ID == id && one.Account == account {
			change(one)
			return agentlink.ImportAnswer{Import: *one}, nil
		}
	}
	return told, errors.New("there is no such import")
}
