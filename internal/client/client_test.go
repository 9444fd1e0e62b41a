package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
)

// answering starts a service that answers in its own way.
func answering(t *testing.T, answer http.HandlerFunc) *client.Client {
	t.Helper()
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	return &client.Client{Base: s.URL, Token: "token"}
}

func event(w io.Writer, o api.Operation) {
	text, _ := json.Marshal(o)
	fmt.Fprintf(w, "id: %d\nevent: operation\ndata: %s\n\n", o.Version, text)
}

// A watch whose connection is lost three times sees every version once.
func TestWatchGoesOn(t *testing.T) {
	var calls atomic.Int64
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/api/v1/operations/7/progress", r.URL.Path)
		assert.Equal(t, "Bearer token", r.Header.Get("Authorization"))
		n := calls.Add(1)
		if n > 1 {
			assert.Equal(t, fmt.Sprint(n-1), r.Header.Get("Last-Event-ID"))
		}
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprint(w, "retry: 1000\n\n")
		o := api.Operation{ID: 7, Version: n, State: "running"}
		if n == 4 {
			now := time.Now()
			o.State, o.FinishedAt = "done", &now
		}
		event(w, o)
		if n == 2 {
			http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler) // in the middle
		}
	})
	var seen []int64
	o, err := c.Watch(context.Background(), 7, func(o api.Operation) { seen = append(seen, o.Version) })
	require.NoError(t, err)
	assert.Equal(t, "done", o.State)
	assert.Equal(t, []int64{1, 2, 3, 4}, seen)
}

func TestWatchOfNothing(t *testing.T) {
	c := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotFound)
		json.NewEncoder(w).Encode(api.Problem{Type: api.ProblemBase + "not-found", Status: 404,
			Detail: "there is no operation"})
	})
	_, err := c.Watch(context.Background(), 7, func(api.Operation) {})
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 404, p.Status)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.Watch(ctx, 7, func(api.Operation) {})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestDo(t *testing.T) {
	ctx := context.Background()
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/api/v1/echo":
			assert.Equal(t, "application/json", r.Header.Get("Content-Type"))
			assert.Equal(t, "key", r.Header.Get("Idempotency-Key"))
			assert.Equal(t, `"3"`, r.Header.Get("If-Match"))
			assert.Equal(t, "a=b", r.URL.RawQuery)
			io.Copy(w, r.Body)
		case "/api/v1/nothing":
			w.WriteHeader(http.StatusNoContent)
		case "/api/v1/other":
			http.Error(w, "<html>", http.StatusBadGateway)
		case "/api/v1/lost":
			panic(http.ErrAbortHandler)
		case "/api/v1/rubbish":
			io.WriteString(w, "rubbish")
		}
	})
	var out map[string]int
	call := client.Call{Method: http.MethodPost, Path: "/echo", Query: map[string][]string{"a": {"b"}},
		Body: map[string]int{"n": 1}, Key: "key", IfMatch: `"3"`}
	require.NoError(t, c.Do(ctx, call, &out))
	assert.Equal(t, map[string]int{"n": 1}, out)
	assert.NoError(t, c.Get(ctx, "/nothing", nil, &out))
	assert.ErrorContains(t, c.Get(ctx, "/other", nil, nil), "is that a Victualler service?")
	assert.ErrorContains(t, c.Get(ctx, "/rubbish", nil, &out), "cannot be read")
	var silent *client.Unreachable
	assert.ErrorAs(t, (&client.Client{Base: "http://127.0.0.1:1"}).Post(ctx, "/x", nil, nil), &silent)
	assert.False(t, silent.Sent, "nobody was there to read it")
	assert.ErrorAs(t, c.Post(ctx, "/lost", nil, nil), &silent)
	assert.True(t, silent.Sent)
	assert.ErrorContains(t, silent, "may have been done")
	assert.ErrorAs(t, c.Get(ctx, "/lost", nil, nil), &silent)
	assert.False(t, silent.Sent, "reading does nothing")
}
