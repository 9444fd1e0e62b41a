package agent

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
)

// maxBody bounds what the service may send: a manifest of thousands of domains.
const maxBody = 16 << 20

// Handler answers the service.
func (a *Agent) Handler(own *identity) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/status", func(w http.ResponseWriter, r *http.Request) {
		s, err := a.Status(r.Context())
		s.CertificateEnds = own.certificate().Leaf.NotAfter
		answer(w, s, err)
	})
	mux.HandleFunc("POST /v1/renewal/request", func(w http.ResponseWriter, _ *http.Request) {
		request, err := own.beginRenewal()
		answer(w, agentlink.SigningRequest{Request: request}, err)
	})
	mux.HandleFunc("POST /v1/renewal", func(w http.ResponseWriter, r *http.Request) {
		if signed, ok := read[agentlink.SignedCertificate](w, r); ok {
			answer(w, struct{}{}, own.finishRenewal(signed.Certificate))
		}
	})
	mux.HandleFunc("POST /v1/preview", func(w http.ResponseWriter, r *http.Request) {
		if m, ok := read[manifest.Manifest](w, r); ok {
			p, err := a.Preview(r.Context(), m)
			answer(w, p, err)
		}
	})
	mux.HandleFunc("POST /v1/sweep", func(w http.ResponseWriter, r *http.Request) {
		s, err := a.Sweep(r.Context())
		answer(w, s, err)
	})
	mux.HandleFunc("POST /v1/clear", func(w http.ResponseWriter, r *http.Request) {
		n, err := a.Clear()
		answer(w, agentlink.Cleared{Files: n}, err)
	})
	mux.HandleFunc("POST /v1/challenges", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.Challenges](w, r); ok {
			answer(w, struct{}{}, a.Challenger.Challenge(r.Context(), asked))
		}
	})
	mux.HandleFunc("POST /v1/server", func(w http.ResponseWriter, r *http.Request) {
		if m, ok := read[manifest.Server](w, r); ok {
			answer(w, struct{}{}, a.ApplyServer(m))
		}
	})
	mux.HandleFunc("POST /v1/log", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.LogRequest](w, r); ok {
			page, err := a.SiteLog(r.Context(), asked)
			answer(w, page, err)
		}
	})
	a.kitRoutes(mux)
	a.homeFileRoutes(mux)
	if a.Mailer != nil {
		mux.HandleFunc("POST /v1/mail-log", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.MailLogRequest](w, r); ok {
				page, err := a.Mailer.MailLog(r.Context(), asked)
				answer(w, page, err)
			}
		})
		mux.HandleFunc("POST /v1/queue", func(w http.ResponseWriter, r *http.Request) {
			queue, err := a.Mailer.Queue(r.Context())
			answer(w, queue, err)
		})
		mux.HandleFunc("POST /v1/queue/change", func(w http.ResponseWriter, r *http.Request) {
			if change, ok := read[agentlink.QueueChange](w, r); ok {
				answer(w, struct{}{}, a.Mailer.ChangeQueue(r.Context(), change))
			}
		})
		mux.HandleFunc("POST /v1/list-posts", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.ListPosts](w, r); ok {
				told, err := a.Mailer.ListPosts(r.Context(), asked)
				answer(w, told, err)
			}
		})
		mux.HandleFunc("POST /v1/release-sending", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.MailStop](w, r); ok {
				answer(w, struct{}{}, a.Mailer.ReleaseSending(r.Context(), asked.Account))
			}
		})
	}
	if a.Visitor != nil {
		mux.HandleFunc("POST /v1/database", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.DatabaseQuestion](w, r); ok {
				told, err := a.Visitor.Look(r.Context(), asked)
				answer(w, told, err)
			}
		})
		mux.HandleFunc("POST /v1/database/export", a.exportDatabase)
		mux.HandleFunc("POST /v1/database/imports", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.ImportsOf](w, r); ok {
				answer(w, agentlink.ImportList{Imports: a.Visitor.Imports(asked.Account)}, nil)
			}
		})
		mux.HandleFunc("POST /v1/database/imports/new", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.NewImport](w, r); ok {
				one, err := a.Visitor.NewImport(asked)
				answer(w, agentlink.ImportAnswer{Import: one}, err)
			}
		})
		mux.HandleFunc("POST /v1/database/imports/save", func(w http.ResponseWriter, r *http.Request) {
			if asked, ok := read[agentlink.DatabaseVisit](w, r); ok {
				one, err := a.Visitor.SaveDatabase(r.Context(), asked)
				answer(w, agentlink.ImportAnswer{Import: one}, err)
			}
		})
		mux.HandleFunc("POST /v1/database/imports/file", a.receiveImport)
		mux.HandleFunc("POST /v1/database/imports/order", func(w http.ResponseWriter, r *http.Request) {
			if order, ok := read[agentlink.ImportOrder](w, r); ok {
				told, err := a.Visitor.OrderImport(r.Context(), order)
				answer(w, told, err)
			}
		})
	}
	mux.HandleFunc("POST /v1/apply", func(w http.ResponseWriter, r *http.Request) {
		m, ok := read[manifest.Manifest](w, r)
		if !ok {
			return
		}
		w.Header().Set("Content-Type", "application/x-ndjson")
		told := newTeller(w)
		defer told.end()
		result := a.Apply(r.Context(), m, func(s agentlink.Step) { told.tell(agentlink.Progress{Step: &s}) })
		told.tell(agentlink.Progress{Receipt: &result})
	})
	return mux
}

// exportDatabase answers with the contents of a database.
func (a *Agent) exportDatabase(w http.ResponseWriter, r *http.Request) {
	asked, ok := read[agentlink.DatabaseExport](w, r)
	if !ok {
		return
	}
	stream(w, func(begin func() io.Writer) error { return a.Visitor.Export(r.Context(), asked, begin) })
}

// stream answers with what is written. A failure after the beginning is told in a trailer.
func stream(w http.ResponseWriter, write func(begin func() io.Writer) error) {
	begun := false
	err := write(func() io.Writer {
		begun = true
		w.Header().Set("Trailer", agentlink.FailureTrailer)
		w.Header().Set("Content-Type", "application/octet-stream")
		return w
	})
	switch {
	case err != nil && begun:
		w.Header().Set(agentlink.FailureTrailer, url.QueryEscape(err.Error()))
	case err != nil:
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
	case !begun:
		w.WriteHeader(http.StatusOK)
	}
}

// receiveImport takes a part of a file that is to be imported.
func (a *Agent) receiveImport(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	account, err := strconv.ParseInt(q.Get("account"), 10, 64)
	offset, wrong := strconv.ParseInt(q.Get("offset"), 10, 64)
	if err := errors.Join(err, wrong); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	one, err := a.Visitor.ContinueImport(r.Context(), account, q.Get("id"), offset, r.Body)
	answer(w, agentlink.ImportAnswer{Import: one}, err)
}

// teller writes what becomes of an apply to whoever waits for it, with signs of life between. It
// needs no goroutine of its own: hundreds of applies may be on their way.
type teller struct {
	mu      sync.Mutex
	encoder *json.Encoder
	control *http.ResponseController
	alive   *time.Timer
	ended   bool
}

// newTeller begins to tell; end it before the request is.
func newTeller(w http.ResponseWriter) *teller {
	t := &teller{encoder: json.NewEncoder(w), control: http.NewResponseController(w)}
	t.control.Flush()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.alive = time.AfterFunc(agentlink.SignOfLife, func() {
		t.tell(agentlink.Progress{})
		t.mu.Lock()
		defer t.mu.Unlock()
		if !t.ended {
			t.alive.Reset(agentlink.SignOfLife)
		}
	})
	return t
}

// tell writes one line. When nobody reads any more, the apply goes on, and does not wait for it.
func (t *teller) tell(p agentlink.Progress) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ended {
		return
	}
	// In HTTP/2, a deadline that passes ends the stream, whether or not something is being written.
	t.ended = errors.Join(t.control.SetWriteDeadline(time.Now().Add(agentlink.SignOfLife)), t.encoder.Encode(p),
		t.control.Flush(), t.control.SetWriteDeadline(time.Time{})) != nil
}

// end has nothing written any more.
func (t *teller) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended = true
	t.alive.Stop()
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
func Listen(ctx context.Context, address, stateDir string, log *slog.Logger,
	start func(context.Context) (*Agent, error)) error {
	own, err := loadIdentity(stateDir)
	if errors.Is(err, fs.ErrNotExist) {
		own, err = enrol(ctx, address, stateDir, log)
	}
	if err != nil {
		return err
	}
	a, err := start(ctx)
	if err != nil {
		return err
	}
	log.Info("ready", "address", address, "certificate_ends", own.certificate().Leaf.NotAfter)
	return serve(ctx, address, own.current.ServerTLS(own.certificate), a.Handler(own))
}

func serve(ctx context.Context, address string, config *tls.Config, handler http.Handler) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	guarded := &door{Listener: listener}
	server := &http.Server{Handler: handler, TLSConfig: guarded.tls(config), ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	stopped := make(chan struct{})
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		server.Shutdown(end)
		close(stopped)
	}()
	if err := server.ServeTLS(guarded, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	<-stopped
	return nil
}
