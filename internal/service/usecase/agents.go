package usecase

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/refusal"
	"victualler/internal/store/db"
)

func Unreachable(label string, err error) error {
	if errors.Is(err, agentlink.ErrUnreachable) || errors.Is(err, context.DeadlineExceeded) {
		return refusal.New(refusal.ServerUnreachable,
			"the agent on %s does not answer; nothing was done. Look at the server, or try again later", label)
	}
	return refusal.New(refusal.ApplyFailed, "%s: %s", label, err)
}

// AgentError is what came of calling an agent, and not of anything else.
type AgentError struct{ Err error }

func (e *AgentError) Error() string { return e.Err.Error() }

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

func NotJoined(label string) error {
	return refusal.New(refusal.WrongState, "%s has not joined yet", label)
}

func LastStatus(row db.Server) *agentlink.Status {
	var status agentlink.Status
	if len(row.Status) == 0 || json.Unmarshal(row.Status, &status) != nil {
		return nil
	}
	return &status
}
