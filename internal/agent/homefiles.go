package agent

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"victualler/internal/agent/asuser"
	"victualler/internal/agentlink"
)

// homeFile finds the home that a file is in, and in whose name it is read.
func (a *Agent) homeFile(asked agentlink.HomeFile) (uid int, w asuser.FileWork, err error) {
	m := a.state.last(asked.SignInName)
	if m == nil || m.AccountID != asked.AccountID || !m.HasHome() {
		return 0, w, fmt.Errorf("account %s has no home here", asked.SignInName)
	}
	name := asked.Path // as people write it who are in the home, or look at it from elsewhere
	for _, before := range []string{"~/", m.HomePath() + "/"} {
		name = strings.TrimPrefix(name, before)
	}
	return m.UID(), asuser.FileWork{Home: m.HomePath(), Path: name, Offset: asked.Offset}, nil
}

// StatHomeFile tells what a file in a home is.
func (a *Agent) StatHomeFile(ctx context.Context, asked agentlink.HomeFile) (agentlink.FileState, error) {
	uid, w, err := a.homeFile(asked)
	if err != nil {
		return agentlink.FileState{}, err
	}
	told, err := asuser.StatFile(ctx, uid, w)
	return agentlink.FileState(told), err
}

// ReadHomeFile writes a file in a home to what begin returns.
func (a *Agent) ReadHomeFile(ctx context.Context, asked agentlink.HomeFile, begin func() io.Writer) error {
	uid, w, err := a.homeFile(asked)
	if err != nil {
		return err
	}
	return asuser.ReadFile(ctx, uid, w, func(f asuser.File) (io.Writer, error) {
		now := agentlink.FileState(f)
		if asked.As != (agentlink.FileState{}) && (now.Size != asked.As.Size ||
			!now.Modified.Equal(asked.As.Modified)) {
			return nil, fmt.Errorf("%s was changed meanwhile", asked.Path)
		}
		return begin(), nil
	})
}

// homeFileRoutes are what the service asks about files in homes.
func (a *Agent) homeFileRoutes(mux *http.ServeMux) {
	mux.HandleFunc("POST /v1/home-file/stat", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.HomeFile](w, r); ok {
			told, err := a.StatHomeFile(r.Context(), asked)
			answer(w, told, err)
		}
	})
	mux.HandleFunc("POST /v1/home-file", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.HomeFile](w, r); ok {
			a.alone(w, busyWith{asked.AccountID, "a file"}, func() {
				stream(w, func(begin func() io.Writer) error { return a.ReadHomeFile(r.Context(), asked, begin) })
			})
		}
	})
}
