package httpapi

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAddressBehindProxies(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32"), netip.MustParsePrefix("10.9.0.0/16"),
		netip.MustParsePrefix("2001:db8:9::/48")}
	for _, c := range []struct {
		what, from string
		forwarded  []string
		want       string
	}{
		{"by a proxy", "127.0.0.1:4711", []string{"192.0.2.7"}, "192.0.2.7"},
		{"by two of ours", "127.0.0.1:4711", []string{"192.0.2.7, 10.9.1.1"}, "192.0.2.7"},
		{"in two header lines", "127.0.0.1:4711", []string{"192.0.2.7", "10.9.1.1"}, "192.0.2.7"},
		{"what somebody wrote before is not believed", "127.0.0.1:4711", []string{"198.51.100.1, 192.0.2.7"},
			"192.0.2.7"},
		{"not by a proxy", "192.0.2.9:4711", []string{"198.51.100.1"}, "192.0.2.9"},
		{"a proxy that says nothing", "127.0.0.1:4711", nil, "127.0.0.1"},
		{"rubbish", "127.0.0.1:4711", []string{"192.0.2.7, unknown"}, "127.0.0.1"},
		{"rubbish further on", "127.0.0.1:4711", []string{"unknown, 10.9.1.1"}, "10.9.1.1"},
		{"only proxies", "127.0.0.1:4711", []string{"10.9.1.1, 10.9.1.2"}, "10.9.1.1"},
		{"IPv6", "[2001:db8:9::1]:4711", []string{"2001:db8:7::5"}, "2001:db8:7::5"},
		{"IPv4 in IPv6", "[::ffff:127.0.0.1]:4711", []string{"::ffff:192.0.2.7"}, "192.0.2.7"},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.from
		r.Header["X-Forwarded-For"] = c.forwarded
		got := ""
		behind(proxies)(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			got = clientAddress(r)
		})).ServeHTTP(httptest.NewRecorder(), r)
		assert.Equal(t, c.want, got, c.what)
	}
}
