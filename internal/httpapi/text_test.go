package httpapi_test

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
)

// Control characters, and what is no text, are refused at the door, with
// the name of the field, wherever they are.
func TestTextThatCannotBeUsed(t *testing.T) {
	s := serve(t)
	for _, c := range []struct {
		method, path string
		body         any
		field, says  string
	}{
		{http.MethodGet, "/accounts/a%00b", nil, "path", "U+0000"},
		{http.MethodGet, "/accounts/a%0ab", nil, "path", "line break"},
		{http.MethodGet, "/accounts/a%ffb", nil, "path", "not in UTF-8"},
		{http.MethodGet, "/accounts?search=a%00b", nil, "search", "U+0000"},
		{http.MethodGet, "/accounts?a%1bb=c", nil, "a�b", "U+001B"},
		{http.MethodGet, "/accounts?search=%zz", nil, "query", "cannot be read"},
		{http.MethodPost, "/customers", `{"name": "a\u0000b"}`, "name", "U+0000"},
		{http.MethodPost, "/customers", "{\"name\": \"a\u009bb\"}", "name", "U+009B"},
		{http.MethodPost, "/customers", "{\"name\": \"a\xffb\"}", "body", "not in UTF-8"},
		{http.MethodPost, "/customers", `{"name": "x", "a\u0007b": 1}`, "a�b", "U+0007"},
		{http.MethodPost, "/people", `{"name": "kai", "networks": ["192.0.2.0/24", "\u0001"]}`, "networks[1]",
			"U+0001"},
		{http.MethodPatch, "/settings", `{"title": "a\u001b[2Jb"}`, "title", "U+001B"},
		{http.MethodPatch, "/settings", `{"title": "Tern Island\nHosting"}`, "title", "line break"},
		{http.MethodPost, "/customers", `{"name": "Tern\r\nBcc: all"}`, "name", "line break"},
	} {
		var p api.Problem
		status, _ := s.ask(t, c.method, c.path, c.body, &p)
		require.Equal(t, http.StatusUnprocessableEntity, status, "%s %s %v: %+v", c.method, c.path, c.body, p)
		assert.Equal(t, api.ProblemBase+"invalid-input", p.Type)
		require.Len(t, p.Errors, 1)
		assert.Equal(t, c.field, p.Errors[0].Name, c.path)
		assert.Contains(t, p.Errors[0].Message, c.says, c.path)
	}
	var p api.Problem
	status, _ := s.ask(t, http.MethodPost, "/customers", `{"name": "x`, &p)
	assert.Equal(t, http.StatusBadRequest, status, "what is no JSON is told as that")
	var added api.Customer
	status, _ = s.ask(t, http.MethodPost, "/customers", api.NewCustomer{Name: "Ætherwind & Søn ☂"}, &added)
	assert.Equal(t, http.StatusCreated, status, "all other characters are somebody's name")
	status, _ = s.ask(t, http.MethodPost, "/customers", `{"name": "  Quay \n", "postal": "one\ntwo\tthree"}`, &added)
	assert.Equal(t, http.StatusCreated, status, "addresses have lines, and what surrounds a text is left out")
	assert.Equal(t, "Quay", added.Name)
	status, _ = s.ask(t, http.MethodGet, "/customers?search="+url.QueryEscape("Søn ☂"), nil, &api.CustomerPage{})
	assert.Equal(t, http.StatusOK, status)
}

// A place in a log that nobody was given is refused, not taken for a fault of the server.
func TestPlacesInLogs(t *testing.T) {
	s := serve(t)
	for _, place := range []string{"made-up", "1-", "-1-2", "99999999999999999999-1"} {
		var p api.Problem
		status, _ := s.ask(t, http.MethodGet, "/accounts/1/domains/x.example/log?after="+place, nil, &p)
		assert.Equal(t, http.StatusUnprocessableEntity, status, place)
	}
}

// What a stranger invents makes no new series of metrics.
func TestMetricsStayFew(t *testing.T) {
	s := serve(t)
	for n := range 50 {
		status, _ := s.ask(t, fmt.Sprintf("BREW%d", n), fmt.Sprintf("/made-up-%d", n), nil, nil)
		require.GreaterOrEqual(t, status, 400)
	}
	response, err := http.Get(s.URL + "/metrics")
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), `method="other"`)
	assert.NotContains(t, string(text), "BREW")
	assert.NotContains(t, string(text), "made-up")
}
