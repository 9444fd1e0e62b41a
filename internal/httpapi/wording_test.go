package httpapi_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/api"
)

// What a schema does not allow is told in sentences.
func TestWordsOfTheValidator(t *testing.T) {
	s := serve(t)
	for _, c := range []struct {
		method, path, body, field, message string
	}{
		{http.MethodGet, "/accounts?limit=many", "", "limit", "write a whole number"},
		{http.MethodGet, "/accounts?limit=0", "", "limit", "write 1 or more"},
		{http.MethodGet, "/accounts?limit=501", "", "limit", "write 500 or less"},
		{http.MethodGet, "/accounts?state=opne", "", "state", "write one of "},
		{http.MethodGet, "/plans?own=perhaps", "", "own", "write true or false"},
		{http.MethodGet, "/trace", "", "name", "is missing"},
		{http.MethodPost, "/customers", `{}`, "", "name is missing"},
		{http.MethodPost, "/customers", `{"name": 7}`, "name", "write a text"},
		{http.MethodPost, "/customers", `{"name": "x", "colour": "red"}`, "colour", "there is no such field here"},
	} {
		p := s.refused(t, "invalid-input", http.StatusUnprocessableEntity, c.method, c.path, orNil(c.body))
		if assert.Len(t, p.Errors, 1, c.path) {
			assert.Contains(t, p.Errors[0].Message, c.message, c.path)
			if c.field != "" {
				assert.Equal(t, c.field, p.Errors[0].Name, c.path)
			}
		}
	}
}

func orNil(text string) any {
	if text == "" {
		return nil
	}
	return text
}

// A filter with a slip in its name, or of something that is not there, is none.
func TestFiltersThatAreNone(t *testing.T) {
	s := serve(t)
	p := s.refused(t, "invalid-input", http.StatusUnprocessableEntity, http.MethodGet, "/accounts?sevrer=skua", nil)
	assert.Equal(t, "sevrer", p.Errors[0].Name)
	assert.Equal(t, "there is no such query parameter here; did you mean server?", p.Errors[0].Message)
	s.refused(t, "invalid-input", http.StatusUnprocessableEntity, http.MethodDelete, "/customers/1?force=true", nil)
	for _, path := range []string{"/accounts?server=skuaa", "/accounts?plan=nosuch", "/accounts?customer=nosuch",
		"/accounts?reseller=nosuch", "/certificates?authority=nosuch", "/certificates?account=nosuch",
		"/operations?server=nosuch", "/operations?account=nosuch", "/zones?account=nosuch", "/domains?account=nosuch",
		"/events?account=nosuch", "/people?customer=nosuch", "/people?reseller=nosuch", "/plans?reseller=nosuch",
		"/customers?reseller=nosuch"} {
		s.refused(t, "not-found", http.StatusNotFound, http.MethodGet, path, nil)
	}
}

// What is worth knowing is told of what is done as of what would be.
func TestNotesOfWhatIsDone(t *testing.T) {
	s := serve(t)
	var preview api.Preview
	status, h := s.ask(t, http.MethodPost, "/accounts?preview=true", api.OpenAccount{Domain: "https://TERN.example/",
		Plan: "harbour", Customer: "Tern", NewCustomer: true}, &preview)
	assert.Equal(t, http.StatusOK, status)
	assert.Empty(t, h.Get("Notes"))
	assert.Contains(t, preview.Notes, "left out “https://”")
	status, h = s.ask(t, http.MethodPost, "/accounts", api.OpenAccount{Domain: "https://TERN.example/",
		Plan: "harbour", Customer: "Tern", NewCustomer: true}, nil)
	assert.Equal(t, http.StatusAccepted, status)
	assert.Contains(t, h.Get("Notes"), `%"left out %e2%80%9chttps://%e2%80%9d"`, "a display string (RFC 9651)")
	_, h = s.ask(t, http.MethodPost, "/customers", api.NewCustomer{Name: "Surf School"}, nil)
	assert.Empty(t, h.Get("Notes"))
}
