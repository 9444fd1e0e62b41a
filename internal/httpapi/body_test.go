package httpapi

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The time in which a request must be read is not the one in which it must be answered: neither it
// nor the next one on its connection is given up.
func TestLongRequest(t *testing.T) {
	defer func(d time.Duration) { bodyTime = d }(bodyTime)
	bodyTime = time.Second
	router := chi.NewMux()
	router.Use(digestBody)
	a := &API{huma: humachi.New(router, huma.DefaultConfig("test", "1"))}
	type question struct {
		Body struct {
			Seconds float64 `json:"seconds"`
		}
	}
	type answer struct{ Body struct{ Done bool } }
	register(a, route{id: "wait", method: http.MethodPost, path: "/wait", permission: "public"},
		func(ctx context.Context, in *question) (*answer, error) {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(time.Duration(in.Body.Seconds * float64(time.Second))):
				return &answer{}, nil
			}
		})
	server := httptest.NewUnstartedServer(router)
	server.Start()
	defer server.Close()
	for _, seconds := range []string{"1.2", "0", "0"} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, server.URL+Base+"/wait",
			strings.NewReader(`{"seconds": `+seconds+`}`))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Idempotency-Key", seconds)
		response, err := server.Client().Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, http.StatusOK, response.StatusCode, string(text))
	}

	// A body that does not come is not waited for.
	slow, write := io.Pipe()
	defer write.Close()
	begun := time.Now()
	response, err := server.Client().Post(server.URL+Base+"/wait", "application/json", slow)
	if err == nil {
		response.Body.Close()
		assert.Equal(t, http.StatusBadRequest, response.StatusCode)
	}
	assert.Less(t, time.Since(begun), 4*time.Second)
}
