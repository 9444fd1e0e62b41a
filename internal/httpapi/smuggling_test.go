package httpapi

import (
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A proxy in front sends the requests of many over one connection. No bytes that a sender can
// choose may make one request of theirs into two, or take a part of the next one.
func TestRequestsAreNotSmuggled(t *testing.T) {
	const hidden = "GET /healthz HTTP/1.1\r\nHost: console.example\r\n\r\n"
	const start = "POST /api/v1/session HTTP/1.1\r\nHost: console.example\r\nContent-Type: application/json\r\n"
	handler := New(Options{Log: slog.New(slog.DiscardHandler)})
	var requests atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests.Add(1)
		if r.URL.Path != "/healthz" { // there is no service behind it
			r.URL.Path = "/nowhere"
		}
		handler.ServeHTTP(w, r)
	}))
	defer server.Close()
	send := func(t *testing.T, text string) (answer string, served int64) {
		t.Helper()
		before := requests.Load()
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		require.NoError(t, err)
		defer conn.Close()
		_, err = conn.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(500*time.Millisecond)))
		read, _ := io.ReadAll(conn)
		return string(read), requests.Load() - before
	}

	answer, served := send(t, start+"Content-Length: 2\r\n\r\n{}"+hidden)
	assert.EqualValues(t, 2, served, "two requests on one connection are two: %s", answer)
	for name, text := range map[string]string{
		"a length and chunks":           "Content-Length: 6\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"chunks and a length":           "Transfer-Encoding: chunked\r\nContent-Length: 6\r\n\r\n0\r\n\r\n",
		"chunks alone":                  "Transfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n0\r\n\r\n",
		"chunks with an extension":      "Transfer-Encoding: chunked\r\n\r\n2;a=b\r\n{}\r\n0\r\n\r\n",
		"chunks that are not called so": "Transfer-Encoding: xchunked\r\n\r\n0\r\n\r\n",
		"chunks, twice":                 "Transfer-Encoding: chunked\r\nTransfer-Encoding: identity\r\n\r\n0\r\n\r\n",
		"chunks behind a tab":           "Transfer-Encoding:\tchunked\r\nContent-Length: 6\r\n\r\n0\r\n\r\n",
		"chunks in a folded line":       "Transfer-Encoding:\r\n chunked\r\nContent-Length: 6\r\n\r\n0\r\n\r\n",
		"a blank before the colon":      "Content-Length : 2\r\n\r\n{}",
		"two lengths":                   "Content-Length: 2\r\nContent-Length: 0\r\n\r\n{}",
		"a list of lengths":             "Content-Length: 2, 0\r\n\r\n{}",
		"a length with a sign":          "Content-Length: +2\r\n\r\n{}",
		"a negative length":             "Content-Length: -2\r\n\r\n{}",
		"a length in hexadecimal":       "Content-Length: 0x2\r\n\r\n{}",
		"a chunk longer than it says":   "Transfer-Encoding: chunked\r\n\r\n1\r\n{}\r\n0\r\n\r\n",
		"a chunk of a negative size":    "Transfer-Encoding: chunked\r\n\r\n-1\r\n{}\r\n0\r\n\r\n",
		"a huge chunk":                  "Transfer-Encoding: chunked\r\n\r\nffffffffffffffff1\r\n{}\r\n0\r\n\r\n",
		"two hosts":                     "Host: other.example\r\nContent-Length: 2\r\n\r\n{}",
		"a NUL in a header":             "X-Forwarded-For: 192.0.2.1\x00\r\nContent-Length: 2\r\n\r\n{}",
	} {
		t.Run(name, func(t *testing.T) {
			answer, served := send(t, start+text+hidden)
			assert.LessOrEqual(t, served, int64(1), answer)
			assert.NotContains(t, answer, "alive", "what is hidden behind it is not answered")
			assert.LessOrEqual(t, strings.Count(answer, "HTTP/1.1 "), 1)
		})
	}
}
