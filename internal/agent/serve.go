package agent

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/manifest"
)

// maxBody bounds what the service may send: a manifest of thousands of domains.
const maxBody = 16 << 20

// Handler answers the service.
func (a *Agent) Handler(certificateEnds time.Time) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/status", func(w http.ResponseWriter, r *http.Request) {
		s, err := a.Status(r.Context())
		s.CertificateEnds = certificateEnds
		answer(w, s, err)
	})
	mux.HandleFunc("POST /v1/preview", func(w http.ResponseWriter, r *http.Request) {
		if m, ok := read[manifest.Manifest](w, r); ok {
			p, err := a.Preview(r.Context(), m)
			answer(w, p, err)
		}
	})
	mux.HandleFunc("POST /v1/sweep", func(w http.ResponseWriter, r *http.Request) {
		if request, ok := read[agentlink.SweepRequest](w, r); ok {
			s, err := a.Sweep(r.Context(), request.Only)
			answer(w, s, err)
		}
	})
	mux.HandleFunc("POST /v1/clear", func(w http.ResponseWriter, r *http.Request) {
		n, err := a.Clear()
		answer(w, agentlink.Cleared{Files: n}, err)
	})
	mux.HandleFunc("POST /v1/apply", func(w http.ResponseWriter, r *http.Request) {
		m, ok := read[manifest.Manifest](w, r)
		if !ok {
			return
		}
		steps := make(chan agentlink.Step, 64)
		receipt := make(chan agentlink.Receipt, 1)
		go func() {
			receipt <- a.Apply(r.Context(), m, func(s agentlink.Step) { steps <- s })
			close(steps)
		}()
		w.Header().Set("Content-Type", "application/x-ndjson")
		control := http.NewResponseController(w)
		encoder := json.NewEncoder(w)
		control.Flush()
		alive := time.NewTicker(agentlink.SignOfLife)
		defer alive.Stop()
		for going := true; going; { // also when nobody reads any more: the apply must not wait
			select {
			case s, more := <-steps:
				if going = more; more {
					encoder.Encode(agentlink.Progress{Step: &s})
				}
			case <-alive.C:
				encoder.Encode(agentlink.Progress{})
			}
			control.Flush()
		}
		result := <-receipt
		encoder.Encode(agentlink.Progress{Receipt: &result})
	})
	return mux
}

func read[T any](w http.ResponseWriter, r *http.Request) (T, bool) {
	var v T
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody)).Decode(&v); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return v, false
	}
	return v, true
}

func answer(w http.ResponseWriter, v any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// Listen serves on address until the context ends. An agent that has not
// joined waits for a join secret and serves the enrolment first.
func Listen(ctx context.Context, address, stateDir string, log *slog.Logger, start func(context.Context) (*Agent, error)) error {
	identity, err := loadIdentity(stateDir)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err = enrol(ctx, address, stateDir, log)
	}
	if err != nil {
		return err
	}
	a, err := start(ctx)
	if err != nil {
		return err
	}
	leaf := identity.Certificate.Leaf
	log.Info("ready", "address", address, "certificate_ends", leaf.NotAfter)
	return serve(ctx, address, identity.ServerTLS(), a.Handler(leaf.NotAfter))
}

func serve(ctx context.Context, address string, config *tls.Config, handler http.Handler) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: handler, TLSConfig: config, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	stopped := make(chan struct{})
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		server.Shutdown(end)
		close(stopped)
	}()
	if err := server.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	<-stopped
	return nil
}

func identityPath(stateDir string) string { return filepath.Join(stateDir, "identity.pem") }
func secretPath(stateDir string) string   { return filepath.Join(stateDir, "join-secret") }

func loadIdentity(stateDir string) (agentlink.Identity, error) {
	text, err := os.ReadFile(identityPath(stateDir))
	if err != nil {
		return agentlink.Identity{}, err
	}
	return agentlink.DecodeIdentity(text)
}

// KeepJoinSecret leaves a secret for the agent that waits for one.
func KeepJoinSecret(stateDir, text string) error {
	secret, err := agentlink.ParseJoinSecret(text)
	if err != nil {
		return err
	}
	if _, err := os.Stat(identityPath(stateDir)); err == nil {
		return fmt.Errorf("this agent has joined already; to have it join another installation, stop it and remove %s", identityPath(stateDir))
	}
	if err := os.MkdirAll(stateDir, 0o700); err != nil {
		return err
	}
	return writeFile(secretPath(stateDir), []byte(secret.String()+"\n"), 0o600)
}

// enrol waits for a join secret, then for the service, and keeps the identity.
func enrol(ctx context.Context, address, stateDir string, log *slog.Logger) (agentlink.Identity, error) {
	none := agentlink.Identity{}
	log.Info("not joined yet: waiting for “victualler-agent join SECRET” on this server")
	var secret agentlink.JoinSecret
	for {
		text, err := os.ReadFile(secretPath(stateDir))
		if err == nil {
			if secret, err = agentlink.ParseJoinSecret(string(text)); err != nil {
				return none, err
			}
			break
		}
		select {
		case <-ctx.Done():
			return none, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	enrollee, err := agentlink.NewEnrollee(secret)
	if err != nil {
		return none, err
	}
	config, err := enrollee.ServerTLS()
	if err != nil {
		return none, err
	}
	log.Info("waiting for the service", "address", address)
	serving, stop := context.WithCancel(ctx)
	failed := make(chan error, 1)
	go func() { failed <- serve(serving, address, config, enrollee) }()
	defer func() { stop(); <-failed }()
	select {
	case identity := <-enrollee.Joined():
		text, err := identity.Encode()
		if err != nil {
			return none, err
		}
		if err := writeFile(identityPath(stateDir), text, 0o600); err != nil {
			return none, err
		}
		log.Info("joined")
		return identity, os.Remove(secretPath(stateDir))
	case err := <-failed:
		failed <- nil
		return none, err
	case <-ctx.Done():
		return none, ctx.Err()
	}
}
