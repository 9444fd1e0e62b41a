package client

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Real connections that fail, and what people are told of them: no text of a library.
func TestReasons(t *testing.T) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("{}")) })
	plain := httptest.NewServer(handler)
	defer plain.Close()
	secure := httptest.NewTLSServer(handler)
	defer secure.Close()
	closing, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer closing.Close()
	talking, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer talking.Close()
	for listener, greeting := range map[net.Listener]string{closing: "", talking: "220 mail.example ESMTP\r\n"} {
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				// What comes before a request is asked for is not taken for its answer.
				_, _ = conn.Read(make([]byte, 1))
				_, _ = conn.Write([]byte(greeting))
				time.Sleep(20 * time.Millisecond)
				conn.Close()
			}
		}()
	}
	for base, want := range map[string]string{
		"http://127.0.0.1:1":                             "nothing listens there",
		"http://no-such-host.invalid":                    "there is no address for no-such-host.invalid",
		strings.Replace(plain.URL, "http:", "https:", 1): "it speaks HTTP without TLS",
		secure.URL:                          "an authority that this machine does not trust",
		"http://" + closing.Addr().String(): "the connection was closed",
		"http://" + talking.Addr().String(): "does not speak HTTP",
		"hosting.example":                   "that is not an address of a service",
	} {
		err := (&Client{Base: base}).Get(t.Context(), "/session", nil, nil)
		var silent *Unreachable
		if !errors.As(err, &silent) {
			assert.Fail(t, "it should not answer", "%s: %v", base, err)
			continue
		}
		assert.Contains(t, err.Error(), base+" does not answer: ", base)
		assert.Contains(t, err.Error(), want, base)
		for _, word := range []string{"dial tcp", "lookup", "x509", "Get \"", "EOF", "http:/ "} {
			assert.NotContains(t, err.Error(), word, base)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	assert.ErrorContains(t, (&Client{Base: "http://" + silent.Addr().String()}).Get(ctx, "/session", nil, nil),
		"too long")
}

func TestNotes(t *testing.T) {
	for header, want := range map[string][]string{
		"":         nil,
		`%"plain"`: {"plain"},
		`%"left out %e2%80%9c%22%e2%80%9d", %"a, b"`: {"left out “\"”", "a, b"},
		`%"cut off`:                     nil,
		`%"first", "no display string"`: {"first"},
		`%"%zz"`:                        nil,
	} {
		assert.Equal(t, want, notesIn(header), header)
	}
}
