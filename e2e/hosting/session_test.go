package hosting

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
)

func TestSession(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	session := filepath.Join(t.TempDir(), "deep", "session.json")
	_, stderr, exit := e2e.CommandWith(t, session, "", "account", "list")
	assert.Equal(t, 3, exit)
	assert.Contains(t, stderr, "session start")
	_, stderr, exit = e2e.CommandWith(t, session, "wrong password", "session", "start", i.Address(), "--name",
		i.Operator, "--password-stdin")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "wrong name or password")
	assert.NoFileExists(t, session)
	out, stderr, exit := e2e.CommandWith(t, session, i.Password+"\n", "session", "start", i.Address(), "--name",
		i.Operator, "--password-stdin")
	require.Equal(t, 0, exit, stderr)
	assert.NotContains(t, out+stderr, i.Password)
	info, err := os.Stat(session)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	out, _, exit = e2e.CommandWith(t, session, "", "session", "show")
	assert.Equal(t, 0, exit)
	assert.Contains(t, out, "operator")
	_, _, exit = e2e.CommandWith(t, session, "", "session", "end")
	assert.Equal(t, 0, exit)
	assert.NoFileExists(t, session)
	_, _, exit = e2e.CommandWith(t, session, i.Password, "session", "start", "http://127.0.0.1:1", "--name", "x",
		"--password-stdin")
	assert.Equal(t, 4, exit, "nobody there")

	t.Run("unknown names and wrong passwords look the same", func(t *testing.T) {
		c := client.Client{Base: i.Address()}
		_, err1 := c.SignIn(ctx, api.SignIn{Name: "nobody-at-all", Password: "x"})
		_, err2 := c.SignIn(ctx, api.SignIn{Name: i.Operator, Password: "x"})
		assert.Equal(t, e2e.ProblemOf(t, err1), e2e.ProblemOf(t, err2))
	})
	t.Run("tries are throttled", func(t *testing.T) {
		c := client.Client{Base: i.Address()}
		var mu sync.Mutex
		answers := map[int]int{}
		var details []string
		var group sync.WaitGroup
		for range 12 { // all at once count like all in a row
			group.Go(func() {
				_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: "guesser", Password: "x"})
				mu.Lock()
				defer mu.Unlock()
				p := e2e.ProblemOf(t, err)
				if answers[p.Status]++; p.Status == http.StatusTooManyRequests {
					details = append(details, p.Detail)
				}
			})
		}
		group.Wait()
		assert.Equal(t, map[int]int{401: 5, 429: 7}, answers)
		assert.Contains(t, strings.Join(details, "\n"), "try again in")
		_, err := c.SignIn(ctx, api.SignIn{Name: i.Operator, Password: i.Password})
		assert.NoError(t, err, "others are not kept out")
	})
	t.Run("an ended session is no session", func(t *testing.T) {
		c := client.Client{Base: i.Address()}
		_, err := c.SignIn(ctx, api.SignIn{Name: i.Operator, Password: i.Password})
		require.NoError(t, err)
		require.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete, Path: "/session"}, nil))
		assert.Equal(t, 401, e2e.ProblemOf(t, c.Get(ctx, "/session", nil, nil)).Status)
	})
	t.Run("a page of another site changes nothing", func(t *testing.T) {
		request, err := http.NewRequest(http.MethodPost, i.Address()+"/api/v1/session",
			strings.NewReader(`{"name":"a","password":"b"}`))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Sec-Fetch-Site", "cross-site")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 403, response.StatusCode)
	})
	t.Run("the operator is got back on the machine", func(t *testing.T) {
		old, oldPassword := *i.Client, i.Password
		resetPassword(t)
		assert.Equal(t, 401, e2e.ProblemOf(t, old.Get(ctx, "/session", nil, nil)).Status, "sessions have ended")
		_, err := (&client.Client{Base: i.Address()}).SignIn(ctx, api.SignIn{Name: i.Operator, Password: oldPassword})
		assert.Equal(t, 401, e2e.ProblemOf(t, err).Status)
		_, err = i.Daemon("operator", "reset", "nobody").Output()
		assert.Error(t, err)
	})
	t.Run("no secret is in the log", func(t *testing.T) {
		log, err := os.ReadFile(i.LogFile())
		require.NoError(t, err)
		assert.NotContains(t, string(log), i.Password)
		assert.NotContains(t, string(log), i.Client.Token)
	})
}

func TestHealth(t *testing.T) {
	i := e2e.Shared(t)
	for path, want := range map[string]string{"/healthz": "alive", "/readyz": "ready",
		"/metrics": "victualler_request_seconds_bucket"} {
		response, err := http.Get(i.Address() + path)
		require.NoError(t, err)
		body := make([]byte, 1<<20)
		n, _ := response.Body.Read(body)
		text := string(body[:n])
		for n > 0 {
			n, _ = response.Body.Read(body)
			text += string(body[:n])
		}
		response.Body.Close()
		assert.Equal(t, 200, response.StatusCode)
		assert.Contains(t, text, want)
		assert.Contains(t, response.Header.Get("Content-Security-Policy"), "script-src 'self'")
	}
}
