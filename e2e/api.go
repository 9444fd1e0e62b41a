package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab/labtest"
)

// ProblemOf returns the problem in an error, which must be one.
func ProblemOf(t *testing.T, err error) *api.Problem {
	t.Helper()
	require.Error(t, err)
	var p *api.Problem
	require.True(t, errors.As(err, &p), "%v", err)
	return p
}

// Patch changes something by a path.
func Patch(t *testing.T, path string, body, out any) {
	t.Helper()
	require.NoError(t, Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPatch, Path: path,
		Body: body}, out))
}

// Watched waits for the end of an operation.
func Watched(t *testing.T, operation int64) api.Operation {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	o, err := Inst.Client.Watch(ctx, operation, func(api.Operation) {})
	require.NoError(t, err)
	return o
}

// Settled waits until no operation is under way.
func Settled(t *testing.T) {
	t.Helper()
	labtest.Within(t, 2*time.Minute, func() bool {
		for _, state := range []string{"waiting", "running"} {
			var list api.OperationPage
			if Inst.Client.Get(context.Background(), "/operations", url.Values{"state": {state}}, &list) != nil ||
				len(list.Operations) > 0 {
				return false
			}
		}
		return true
	}, "operations do not end")
}

// Decode reads a JSON document.
func Decode[T any](t *testing.T, from io.Reader) T {
	t.Helper()
	var v T
	require.NoError(t, json.NewDecoder(from).Decode(&v))
	return v
}

// Snapshot is what must stay the same when something is refused.
func Snapshot(t *testing.T) string {
	t.Helper()
	ctx := context.Background()
	var b strings.Builder
	for _, list := range []string{"/accounts?limit=500", "/accounts?limit=500&state=closed", "/customers?limit=500",
		"/plans?limit=500", "/operations?limit=1"} {
		path, query, _ := strings.Cut(list, "?")
		values, err := url.ParseQuery(query)
		require.NoError(t, err)
		var doc map[string]any
		require.NoError(t, Inst.Client.Get(ctx, path, values, &doc))
		for _, row := range asList(doc) {
			fmt.Fprintln(&b, row["id"], row["name"], row["state"], row["accounts"])
		}
	}
	return b.String()
}

func asList(doc map[string]any) []map[string]any {
	var rows []map[string]any
	for _, v := range doc {
		if list, ok := v.([]any); ok {
			for _, row := range list {
				if m, ok := row.(map[string]any); ok {
					rows = append(rows, m)
				}
			}
		}
	}
	return rows
}

// Put sets something by a path.
func Put(path string, body, out any) error {
	return Inst.Client.Do(context.Background(), client.Call{Method: http.MethodPut, Path: path, Body: body}, out)
}

// Remove removes what is at a path.
func Remove(path string, out any) error {
	return Inst.Client.Do(context.Background(), client.Call{Method: http.MethodDelete, Path: path}, out)
}

// RefusedAs asks for a change and returns the refusal, of which the kind is looked at.
func RefusedAs(t *testing.T, kind string, err error) *api.Problem {
	t.Helper()
	require.Error(t, err)
	p := ProblemOf(t, err)
	require.Equal(t, api.ProblemBase+kind, p.Type, "%s", p.Detail)
	return p
}

// Pointer is a pointer to a value, for fields that may be left out.
func Pointer[T any](v T) *T { return &v }
