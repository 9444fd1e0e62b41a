package httpapi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
	"victualler/internal/httpapi"
)

// schema is what is read of a JSON schema.
type schema struct {
	Ref                  string `json:"$ref"`
	Type                 any
	Format               string
	Enum                 []any
	Properties           map[string]schema
	Items                *schema
	AdditionalProperties any
}

// operation is what is read of an operation of the description.
type operation struct {
	method, path string
	OperationID  string
	Parameters   []struct {
		Name, In string
		Schema   schema
	}
	RequestBody struct {
		Content map[string]struct{ Schema schema }
	}
}

// outward are operations that ask other machines: what those make of it is not the service's. The
// others end what the fuzzing needs, or do not end.
var outward = []string{"ask-authority", "add-authority", "trace-domain", "check-zone", "import-zone", "preview-zone",
	"rehearse-certificate", "test-mail", "watch-operation", "watch-changes", "end-session", "end-other-session",
	"change-own-password",
	"set-up-second-factor", "confirm-second-factor", "act-as", "site-log"}

// odd are values that something may stumble over.
var odd = []any{"", " ", "a", "x.example", "ferries.example", "maren", "skua", "harbour", "guillemot", "1", "2", "0",
	"-1",
	"9223372036854775807", "99999999999999999999", "1.5", "true", "null", "../../etc/passwd", "a/b", "%", "%00", "*",
	"-", "--", "{}",
	"'; drop table accounts; --", "\\", "“”", "ÆØÅ", "xn--", "xn--a.example", "😀.example", strings.Repeat("x", 300),
	strings.Repeat("a.", 130), "192.0.2.1", "192.0.2.0/33", "2001:db8::/200", "::ffff:1.2.3.4", "2026-11-27T00:00:00Z",
	"0000-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "2026-13-40", "\u202e", "\n", "\t", 0, 1, -1, 1.5, 1e300,
	int64(1) << 62,
	true, nil, []any{}, []any{nil}, map[string]any{}, map[string]any{"disk": -1}, map[string]any{"": ""}}

// fuzzer draws requests from the description.
type fuzzer struct {
	*rand.Rand
	schemas map[string]schema
}

// value draws what a schema asks for, or something odd.
func (f fuzzer) value(s schema, depth int) any {
	if s.Ref != "" {
		s = f.schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]]
	}
	if f.IntN(4) == 0 || depth > 5 {
		return odd[f.IntN(len(odd))]
	}
	if len(s.Enum) > 0 {
		return s.Enum[f.IntN(len(s.Enum))]
	}
	switch kind := fmt.Sprint(s.Type); {
	case strings.Contains(kind, "object"):
		out := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) { // the same in each run
			if name != "$schema" && f.IntN(4) > 0 {
				out[name] = f.value(s.Properties[name], depth+1)
			}
		}
		if f.IntN(20) == 0 {
			out["unheard_of"] = odd[f.IntN(len(odd))]
		}
		return out
	case strings.Contains(kind, "array") && s.Items != nil:
		list := []any{}
		for range f.IntN(3) {
			list = append(list, f.value(*s.Items, depth+1))
		}
		return list
	case strings.Contains(kind, "boolean"):
		return f.IntN(2) == 0
	case strings.Contains(kind, "integer"):
		return []int64{0, 1, 2, 3, 100, -1, 1 << 40}[f.IntN(7)]
	}
	return odd[f.IntN(30)]
}

func (f fuzzer) text(s schema) string {
	switch v := f.value(s, 4).(type) {
	case string:
		return v
	default:
		text, _ := json.Marshal(v)
		return string(text)
	}
}

// request draws a request for an operation.
func (f fuzzer) request(o operation) (address string, body []byte) {
	path, query := o.path, url.Values{}
	for _, p := range o.Parameters {
		switch p.In {
		case "path":
			text := f.text(p.Schema)
			if text == "" || f.IntN(2) == 0 {
				text = []string{"1", "ferries", "ferries.example", "harbour", "skua", "maren"}[f.IntN(6)]
			}
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(text))
		case "query":
			if f.IntN(3) == 0 {
				query.Set(p.Name, f.text(p.Schema))
			}
		}
	}
	if f.IntN(2) == 0 && o.method != http.MethodGet {
		query.Set("preview", "true")
	}
	if content, is := o.RequestBody.Content["application/json"]; is {
		body, _ = json.Marshal(f.value(content.Schema, 0))
		if f.IntN(30) == 0 {
			body = body[:f.IntN(len(body)+1)]
		}
	}
	return path + "?" + query.Encode(), body
}

// Whatever is asked of any operation, the answer is never that the service has failed.
func TestNothingAskedBreaksTheService(t *testing.T) {
	count := 100_000
	if testing.Short() {
		count = 4_000
	}
	s := serve(t)
	s.bench.Account(s.bench.Operator, api.OpenAccount{Domain: "ferries.example", Plan: "harbour", Customer: "Ferries",
		NewCustomer: true})
	routes := httpapi.New(httpapi.Options{Service: s.bench.Service, Log: slog.New(slog.DiscardHandler)})
	text, err := routes.OpenAPI()
	require.NoError(t, err)
	var description struct {
		Paths      map[string]map[string]operation
		Components struct{ Schemas map[string]schema }
	}
	require.NoError(t, json.Unmarshal(text, &description))
	var all []operation
	for path, methods := range description.Paths {
		for method, o := range methods {
			o.method, o.path = strings.ToUpper(method), path
			if !slices.Contains(outward, o.OperationID) {
				all = append(all, o)
			}
		}
	}
	slices.SortFunc(all, func(a, b operation) int { return strings.Compare(a.OperationID, b.OperationID) })
	require.Greater(t, len(all), 100)
	f := fuzzer{Rand: rand.New(rand.NewPCG(5, 2026)), schemas: description.Components.Schemas}
	statuses := map[int]int{}
	for n := range count {
		o := all[n%len(all)]
		address, body := f.request(o)
		r := httptest.NewRequestWithContext(t.Context(), o.method, address, bytes.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+s.token)
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		routes.ServeHTTP(w, r)
		statuses[w.Code]++
		if !assert.Less(t, w.Code, 500, "%s %s\n%s\n%s", o.method, address, body, w.Body) {
			return
		}
		if n%1000 == 0 {
			s.bench.Queue.Drain()
			all, no := string(rights.All), false // should she have taken her own rights away
			_, err := s.bench.People.ChangePerson(t.Context(), s.bench.Operator, "maren", 0,
				api.PersonChange{Duty: &all,
					ReadOnly: &no})
			require.NoError(t, err)
		}
	}
	t.Logf("statuses: %v", statuses)
	assert.Greater(t, statuses[200]+statuses[201]+statuses[202], count/10, "some of it is right")
	assert.Less(t, statuses[401]+statuses[403], count/10, "the session lasts, with its rights")
}
