package usecase

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store/db"
)

// Agents reaches the agents of servers. Its methods are safe for concurrent use.
type Agents interface {
	// Agent returns the agent of a server at an address, host:port. Nothing is asked yet.
	Agent(serverID int64, address string) Agent
}

// Agent is what an agent can be asked; agentlink.Client documents each. An error that wraps
// agentlink.ErrUnreachable means that nothing is known of what has become of the request.
type Agent interface {
	Status(context.Context) (agentlink.Status, error)
	Preview(context.Context, manifest.Manifest) (agentlink.Preview, error)
	Apply(context.Context, manifest.Manifest, func(agentlink.Step)) (agentlink.Receipt, error)
	ApplyServer(context.Context, manifest.Server) error
	Sweep(context.Context) (agentlink.Sweep, error)
	Clear(context.Context) (agentlink.Cleared, error)
	Challenge(context.Context, agentlink.Challenges) error
	SiteLog(context.Context, agentlink.LogRequest) (agentlink.LogPage, error)
	MailLog(context.Context, agentlink.MailLogRequest) (agentlink.MailLogPage, error)
	Queue(context.Context) (agentlink.Queue, error)
	ChangeQueue(context.Context, agentlink.QueueChange) error
	ReleaseSending(ctx context.Context, account int64) error
	ListPosts(context.Context, agentlink.ListPosts) (agentlink.HeldPosts, error)
	AskDatabase(context.Context, agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error)
	ExportDatabase(context.Context, agentlink.DatabaseExport) (io.ReadCloser, error)
	Imports(context.Context, agentlink.ImportsOf) (agentlink.ImportList, error)
	NewImport(context.Context, agentlink.NewImport) (agentlink.ImportAnswer, error)
	ContinueImport(ctx context.Context, account int64, id string, offset int64,
		file io.Reader) (agentlink.ImportAnswer, error)
	OrderImport(context.Context, agentlink.ImportOrder) (agentlink.ImportAnswer, error)
	StatHomeFile(context.Context, agentlink.HomeFile) (agentlink.FileState, error)
	OpenHomeFile(context.Context, agentlink.HomeFile) (io.ReadCloser, error)
	SaveDatabase(context.Context, agentlink.DatabaseVisit) (agentlink.ImportAnswer, error)
	KitFiles(ctx context.Context, w agentlink.KitFiles, archive io.Reader) (agentlink.KitTree, error)
	KitRun(context.Context, agentlink.KitRun) (agentlink.KitOutcome, error)
	KitPHP(context.Context, agentlink.KitPHP) (agentlink.KitOutcome, error)
	KitCheck(context.Context, agentlink.KitCheck) (agentlink.KitOutcome, error)
	Renew(context.Context, *agentlink.Authority, int64, time.Time) error
}

// dialer is the agents as agentlink reaches them.
type dialer struct{ *agentlink.Dialer }

// Agent implements [Agents].
func (d dialer) Agent(serverID int64, address string) Agent { return d.Dialer.Agent(serverID, address) }

// Unreachable is the refusal where a server had to be asked while
// somebody waits, and did not answer.
func Unreachable(label string, err error) error {
	if errors.Is(err, agentlink.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded) {
		return refusal.New(refusal.ServerUnreachable,
			"the agent on %s does not answer; nothing was done. Look at the server, or try again later", label)
	}
	return refusal.New(refusal.ApplyFailed, "%s: %s", label, err)
}

// AgentError is what came of calling an agent, and not of anything else.
type AgentError struct{ Err error }

// Error implements error.
func (e *AgentError) Error() string { return e.Err.Error() }

// Unwrap is what went wrong on the server.
func (e *AgentError) Unwrap() error { return e.Err }

// AddressesOf is where a server's sites are found.
func AddressesOf(server db.Server) []string {
	if len(server.Addresses) > 0 {
		return server.Addresses
	}
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return []string{server.Address}
	}
	return []string{host}
}

// AgentTimeout bounds a question to an agent while somebody waits for the answer.
const AgentTimeout = 3 * time.Second

// NotJoined is the refusal of what needs the agent of a server that has none yet.
func NotJoined(label string) error {
	return refusal.New(refusal.WrongState, "%s has not joined yet", label)
}

// LastStatus is what a server's agent said last; nil where it never has.
func LastStatus(row db.Server) *agentlink.Status {
	var status agentlink.Status
	if len(row.Status) == 0 || json.Unmarshal(row.Status, &status) != nil {
		return nil
	}
	return &status
}
