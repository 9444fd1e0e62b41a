package e2e

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"victualler/internal/api"
)

// Seen is what a visitor gets.
type Seen struct {
	Status int
	Header http.Header
	Body   string
}

// TryVisit is [Visit] where it may fail.
func TryVisit(server, address string, change ...func(*http.Request)) (Seen, error) {
	request, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		return Seen{}, err
	}
	for _, c := range change {
		c(request)
	}
	to := Inst.Servers[server].Address.String()
	transport := &http.Transport{DisableKeepAlives: true, DisableCompression: true, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, at string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(at)
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(to, port))
		}}
	visitor := http.Client{Timeout: 10 * time.Second, Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
	response, err := visitor.Do(request)
	if err != nil {
		return Seen{}, err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return Seen{response.StatusCode, response.Header, string(body)}, err
}

// Visit asks a server for an address as a visitor would, and follows
// nothing. Change may change the request before it is sent.
func Visit(t *testing.T, server, address string, change ...func(*http.Request)) Seen {
	t.Helper()
	s, err := TryVisit(server, address, change...)
	require.NoError(t, err, address)
	return s
}

// Domains is the path of an account's domains.
func Domains(account int64) string { return fmt.Sprintf("/accounts/%d/domains", account) }

// Added adds a domain and waits until it is served.
func Added(t *testing.T, account int64, body api.NewDomain) api.Domain {
	t.Helper()
	var done api.DomainChanged
	require.NoError(t, Inst.Client.Post(context.Background(), Domains(account), body, &done))
	o := Watched(t, done.Operation)
	require.Equal(t, "done", o.State, o.Failure)
	return done.Domain
}

// ChangeDomain changes a domain and waits until it is served so.
func ChangeDomain(t *testing.T, account int64, name string, body api.DomainChange) {
	t.Helper()
	var done api.DomainChanged
	Patch(t, Domains(account)+"/"+name, body, &done)
	o := Watched(t, done.Operation)
	require.Equal(t, "done", o.State, o.Failure)
}

// Write puts a file into a site as the account's own user.
func Write(t *testing.T, account api.Account, path, content string) {
	t.Helper()
	cmd := Inst.Servers[account.Server].Command(context.Background(), "setpriv", "--reuid="+account.SignInName,
		"--regid="+account.SignInName, "--clear-groups",
		"sh", "-ec", `mkdir -p "$(dirname "$1")"; cat > "$1"`, "sh", "/home/"+account.SignInName+"/"+path)
	cmd.Stdin = strings.NewReader(content)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}
