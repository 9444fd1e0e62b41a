package agent

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
)

func identityPath(stateDir string) string { return filepath.Join(stateDir, "identity.pem") }
func secretPath(stateDir string) string   { return filepath.Join(stateDir, "join-secret") }

// identity is who the agent is, on disk and in use.
type identity struct {
	path string

	mu      sync.Mutex
	current agentlink.Identity
	renewal *agentlink.Renewal
}

func loadIdentity(stateDir string) (*identity, error) {
	text, err := os.ReadFile(identityPath(stateDir))
	if err != nil {
		return nil, err
	}
	current, err := agentlink.DecodeIdentity(text)
	return &identity{path: identityPath(stateDir), current: current}, err
}

// save makes an identity the one in use, on disk first.
func (i *identity) save(to agentlink.Identity) error {
	text, err := to.Encode()
	if err != nil {
		return err
	}
	if err := wholefile.Write(i.path, text, 0o600, ""); err != nil {
		return err
	}
	i.current = to
	return nil
}

func (i *identity) certificate() *tls.Certificate {
	i.mu.Lock()
	defer i.mu.Unlock()
	c := i.current.Certificate
	return &c
}

func (i *identity) beginRenewal() (request []byte, err error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.renewal, err = agentlink.NewRenewal(); err != nil {
		return nil, err
	}
	return i.renewal.Request, nil
}

func (i *identity) finishRenewal(certificate []byte) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.renewal == nil {
		return errors.New("no renewal has begun")
	}
	renewed, err := i.renewal.Finish(i.current, certificate)
	if err != nil {
		return err
	}
	i.renewal = nil
	return i.save(renewed)
}

// SaveJoinSecret leaves a secret for the agent that waits for one.
func SaveJoinSecret(stateDir, text string) error {
	secret, err := agentlink.ParseJoinSecret(text)
	if err != nil {
		return err
	}
	if _, err := os.Stat(identityPath(stateDir)); err == nil {
		return fmt.Errorf("this agent has joined already; to have it join another installation, stop it and remove %s",
			identityPath(stateDir))
	}
	if err := os.MkdirAll(stateDir, 0o700); err != nil {
		return err
	}
	return wholefile.Write(secretPath(stateDir), []byte(secret.String()+"\n"), 0o600, "")
}

// enrol waits for a join secret, then for the service, and keeps the identity.
func enrol(ctx context.Context, address, stateDir string, log *slog.Logger) (*identity, error) {
	log.Info("not joined yet: waiting for “victualler-agent join SECRET” on this server")
	var secret agentlink.JoinSecret
	for {
		text, err := os.ReadFile(secretPath(stateDir))
		if err == nil {
			if secret, err = agentlink.ParseJoinSecret(string(text)); err != nil {
				return nil, err
			}
			break
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	enrollee, err := agentlink.NewEnrollee(secret)
	if err != nil {
		return nil, err
	}
	config, err := enrollee.ServerTLS()
	if err != nil {
		return nil, err
	}
	log.Info("waiting for the service", "address", address)
	serving, stop := context.WithCancel(ctx)
	failed := make(chan error, 1)
	go func() { failed <- serve(serving, address, config, enrollee) }()
	defer func() { stop(); <-failed }()
	select {
	case joined := <-enrollee.Joined():
		own := &identity{path: identityPath(stateDir)}
		if err := own.save(joined); err != nil {
			return nil, err
		}
		log.Info("joined")
		return own, os.Remove(secretPath(stateDir))
	case err := <-failed:
		failed <- nil
		return nil, err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
