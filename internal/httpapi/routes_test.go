package httpapi_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/httpapi"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// server is a service over HTTP, with an operator who is signed in.
type server struct {
	*httptest.Server
	bench *servicetest.Bench
	token string
}

const password = "kittiwake-over-quiet-slipway-41"

func serve(t *testing.T) *server {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Plan("harbour", nil)
	_, err := b.People.AddPerson(t.Context(), b.Operator, api.NewPerson{Name: "maren", Duty: "all",
		Activation: "password", Password: password})
	require.NoError(t, err)
	s := &server{bench: b, Server: httptest.NewServer(httpapi.New(httpapi.Options{Service: b.Service,
		Log: slog.New(slog.DiscardHandler)}))}
	t.Cleanup(s.Close)
	var session api.Session
	status, _ := s.ask(t, http.MethodPost, "/session", api.SignIn{Name: "maren", Password: password, Token: true},
		&session)
	require.Equal(t, http.StatusOK, status)
	s.token = session.Token
	return s
}

// ask makes a request with a document, or with text as it is, and reads the answer.
func (s *server) ask(t *testing.T, method, path string, body, into any, header ...string) (int, http.Header) {
	t.Helper()
	var reader io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		reader = strings.NewReader(b)
	default:
		text, err := json.Marshal(body)
		require.NoError(t, err)
		reader = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, reader)
	require.NoError(t, err)
	if reader != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if s.token != "" {
		request.Header.Set("Authorization", "Bearer "+s.token)
	}
	for n := 0; n < len(header); n += 2 {
		request.Header.Set(header[n], header[n+1])
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	if into != nil && len(text) > 0 {
		require.NoError(t, json.Unmarshal(text, into), "%s", text)
	}
	return response.StatusCode, response.Header
}

// refused makes a request that is refused, and returns the problem.
func (s *server) refused(t *testing.T, kind string, status int, method, path string, body any,
	header ...string) api.Problem {
	t.Helper()
	var p api.Problem
	got, h := s.ask(t, method, path, body, &p, header...)
	assert.Equal(t, status, got, p.Detail)
	assert.Equal(t, api.ProblemBase+kind, p.Type, p.Detail)
	assert.Equal(t, "application/problem+json", h.Get("Content-Type"))
	assert.NotEmpty(t, p.Title)
	return p
}

func TestWhoMayAsk(t *testing.T) {
	s := serve(t)
	token := s.token
	for name, c := range map[string]string{"nobody": "", "a token that is none": "nonsense"} {
		t.Run(name, func(t *testing.T) {
			s.token = c
			p := s.refused(t, "not-signed-in", http.StatusUnauthorized, http.MethodGet, "/accounts", nil)
			assert.NotEmpty(t, p.Detail)
			_, h := s.ask(t, http.MethodGet, "/accounts", nil, nil)
			assert.Contains(t, h.Get("WWW-Authenticate"), "Bearer")
		})
	}
	s.token = token
	status, _ := s.ask(t, http.MethodGet, "/accounts", nil, nil)
	assert.Equal(t, http.StatusOK, status)
	_, err := s.bench.People.AddPerson(t.Context(), s.bench.Operator, api.NewPerson{Name: "viewer", Duty: "read-only",
		Activation: "password", Password: password})
	require.NoError(t, err)
	var session api.Session
	s.ask(t, http.MethodPost, "/session", api.SignIn{Name: "viewer", Password: password, Token: true}, &session)
	s.token = session.Token
	s.refused(t, "not-allowed", http.StatusForbidden, http.MethodPost, "/plans", api.NewPlan{Name: "x"})
}

// A browser has its session in a cookie, and only pages of the console may use it.
func TestCookie(t *testing.T) {
	s := serve(t)
	s.token = ""
	_, h := s.ask(t, http.MethodPost, "/session", api.SignIn{Name: "maren", Password: password},
		nil)
	set, err := http.ParseSetCookie(h.Get("Set-Cookie"))
	require.NoError(t, err)
	assert.True(t, set.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, set.SameSite)
	cookie := []string{"Cookie", set.Name + "=" + set.Value}
	status, _ := s.ask(t, http.MethodGet, "/session", nil, nil, cookie...)
	assert.Equal(t, http.StatusOK, status)
	plan := api.NewPlan{Name: "skiff"}
	s.refused(t, "foreign-origin", http.StatusForbidden, http.MethodPost, "/plans", plan,
		append(cookie, "Sec-Fetch-Site", "cross-site")...)
	s.refused(t, "foreign-origin", http.StatusForbidden, http.MethodPost, "/plans", plan,
		append(cookie, "Origin", "https://elsewhere.example")...)
	status, _ = s.ask(t, http.MethodPost, "/plans", plan, nil, append(cookie, "Sec-Fetch-Site", "same-origin")...)
	assert.Equal(t, http.StatusCreated, status)
}

func TestRequestsThatCannotBeRead(t *testing.T) {
	s := serve(t)
	for name, c := range map[string]struct {
		kind   string
		status int
		body   any
		header []string
	}{
		"no JSON":              {"malformed-request", 400, "nonsense", nil},
		"cut off":              {"malformed-request", 400, `{"name": "x"`, nil},
		"of another type":      {"wrong-media-type", 415, "a,b", []string{"Content-Type", "text/csv"}},
		"an unknown field":     {"invalid-input", 422, `{"name": "skiff", "colour": "red"}`, nil},
		"a wrong kind of data": {"invalid-input", 422, `{"name": 7}`, nil},
		"too large":            {"too-large", 413, `{"name": "` + strings.Repeat("x", 2<<20) + `"}`, nil},
		"too large, with a key": {"too-large", 413, `{"name": "` + strings.Repeat("x", 2<<20) + `"}`,
			[]string{"Idempotency-Key", "large"}},
		"a key that is too long": {"invalid-input", 422, `{"name": "skiff"}`,
			[]string{"Idempotency-Key", strings.Repeat("k", 256)}},
	} {
		t.Run(name, func(t *testing.T) {
			s.refused(t, c.kind, c.status, http.MethodPost, "/plans", c.body, c.header...)
		})
	}
	s.refused(t, "not-found", http.StatusNotFound, http.MethodGet, "/nowhere", nil)
	s.refused(t, "wrong-method", http.StatusMethodNotAllowed, http.MethodDelete, "/plans", nil)
	s.refused(t, "invalid-input", http.StatusUnprocessableEntity, http.MethodGet, "/accounts?limit=100000", nil)
	s.refused(t, "invalid-input", http.StatusUnprocessableEntity, http.MethodGet, "/accounts?cursor=nonsense", nil)
	for _, o := range []string{"/openapi.json", "/problems", "/problems/not-found"} {
		status, _ := s.ask(t, http.MethodGet, o, nil, nil)
		assert.Equal(t, http.StatusOK, status, o)
	}
}

func TestPreviewOfAChange(t *testing.T) {
	s := serve(t)
	var p api.Preview
	status, h := s.ask(t, http.MethodPost, "/plans?preview=true", api.NewPlan{Name: "skiff"}, &p)
	assert.Equal(t, http.StatusOK, status)
	assert.Empty(t, h.Get("Location"))
	assert.Contains(t, p.Summary, "skiff")
	s.refused(t, "not-found", http.StatusNotFound, http.MethodGet, "/plans/skiff", nil)
}

// Repeating a request with its key gives its answer once more, and does nothing.
func TestIdempotencyKey(t *testing.T) {
	s := serve(t)
	key := []string{"Idempotency-Key", "one"}
	var first, again api.Customer
	status, _ := s.ask(t, http.MethodPost, "/customers", api.NewCustomer{Name: "Tern Ferries"}, &first, key...)
	require.Equal(t, http.StatusCreated, status)
	status, _ = s.ask(t, http.MethodPost, "/customers", api.NewCustomer{Name: "Tern Ferries"}, &again, key...)
	assert.Equal(t, http.StatusCreated, status)
	assert.Equal(t, first.ID, again.ID)
	s.refused(t, "idempotency-key-reused", http.StatusUnprocessableEntity, http.MethodPost, "/customers",
		api.NewCustomer{Name: "Auk"}, key...)
	s.refused(t, "name-taken", http.StatusConflict, http.MethodPost, "/customers",
		api.NewCustomer{Name: "Tern Ferries"})
}

// What is read has a version, and a change says which one it has seen.
func TestVersions(t *testing.T) {
	s := serve(t)
	var plan api.Plan
	_, h := s.ask(t, http.MethodGet, "/plans/harbour", nil, &plan)
	seen := h.Get("ETag")
	require.NotEmpty(t, seen)
	name := "haven"
	status, h := s.ask(t, http.MethodPatch, "/plans/harbour", api.PlanChange{Name: name}, nil, "If-Match", seen)
	assert.Equal(t, http.StatusOK, status)
	assert.NotEqual(t, seen, h.Get("ETag"))
	name = "port"
	s.refused(t, "changed-meanwhile", http.StatusPreconditionFailed, http.MethodPatch, "/plans/haven",
		api.PlanChange{Name: name}, "If-Match", seen)
	status, _ = s.ask(t, http.MethodPatch, "/plans/haven", api.PlanChange{Name: name}, nil)
	assert.Equal(t, http.StatusOK, status, "whoever says nothing overwrites")
}

// What servers have to do is begun, and can be watched to its end from wherever the last connection
// was lost.
func TestBegunAndWatched(t *testing.T) {
	s := serve(t)
	s.bench.Customer("Tern Ferries", "")
	var opening api.Opening
	status, h := s.ask(t, http.MethodPost, "/accounts", api.OpenAccount{Domain: "ferries.example", Plan: "harbour",
		Customer: "Tern Ferries"}, &opening)
	require.Equal(t, http.StatusAccepted, status)
	assert.Equal(t, fmt.Sprintf("/api/v1/operations/%d", opening.Operation), h.Get("Location"))

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	go s.bench.Rollout.Run(ctx)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
		fmt.Sprintf("%s%s/progress", s.URL, h.Get("Location")), nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+s.token)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Contains(t, response.Header.Get("Content-Type"), "text/event-stream")
	s.bench.Work()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"state":"done"`)
	assert.Contains(t, string(text), "id: ")

	var o api.Operation
	s.ask(t, http.MethodGet, fmt.Sprintf("/operations/%d", opening.Operation), nil, &o)
	assert.Equal(t, "done", o.State)
	s.refused(t, "not-found", http.StatusNotFound, http.MethodGet, "/operations/4711", nil)
}

// Whoever follows changes is told of those that they may see, and of nothing before they ask.
func TestChangesAreFollowed(t *testing.T) {
	s := serve(t)
	s.refused(t, "invalid-input", http.StatusUnprocessableEntity, http.MethodGet, "/changes?account=1", nil)
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/changes", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+s.token)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Contains(t, response.Header.Get("Content-Type"), "text/event-stream")
	lines := bufio.NewScanner(response.Body)
	next := func() string {
		for lines.Scan() {
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
				return data
			}
		}
		require.NoError(t, lines.Err())
		return ""
	}
	assert.JSONEq(t, `{"things": [], "accounts": []}`, next())
	status, _ := s.ask(t, http.MethodPost, "/customers", api.NewCustomer{Name: "Auk Bakery"}, nil)
	require.Equal(t, http.StatusCreated, status)
	assert.JSONEq(t, `{"things": ["customer"], "accounts": []}`, next())
}

func TestBesideTheAPI(t *testing.T) {
	s := serve(t)
	for path, want := range map[string]string{"/healthz": "alive", "/readyz": "ready",
		"/metrics": "victualler_request"} {
		response, err := http.Get(s.URL + path)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, http.StatusOK, response.StatusCode, path)
		assert.Contains(t, string(text), want, path)
		assert.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"), path)
	}
}
