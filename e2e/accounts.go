package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

// Opened opens an account and waits until it is there.
func Opened(t *testing.T, body api.OpenAccount) api.Account {
	t.Helper()
	opening, o := Open(t, body)
	require.Equal(t, "done", o.State, o.Failure)
	return opening.Account
}

// Open opens an account and waits for its operation to end.
func Open(t *testing.T, body api.OpenAccount) (api.Opening, api.Operation) {
	t.Helper()
	if body.Plan == "" {
		body.Plan = "harbour"
	}
	if body.Customer == "" {
		body.Customer = "Tern Ferries"
	}
	var opening api.Opening
	require.NoError(t, Inst.Client.Post(context.Background(), "/accounts", body, &opening))
	return opening, Watched(t, opening.Operation)
}

// CloseAccount closes an account and waits for the end of that.
func CloseAccount(t *testing.T, a api.Account) api.Operation {
	t.Helper()
	var started api.Started
	require.NoError(t, Inst.Client.Post(context.Background(), fmt.Sprintf("/accounts/%d/close", a.ID),
		api.CloseAccount{SignInName: a.SignInName}, &started))
	return Watched(t, started.Operation)
}

// Page asks a server for a page of a site, as a visitor would.
func Page(t *testing.T, server, domain, path string) (status int, body string) {
	t.Helper()
	request, err := http.NewRequest(http.MethodGet, "http://"+Inst.Servers[server].Address.String()+path, nil)
	require.NoError(t, err)
	request.Host = domain
	client := http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(response.Body)
	require.NoError(t, err)
	return response.StatusCode, b.String()
}

// On runs a shell command on a server.
func On(t *testing.T, server, command string) string {
	t.Helper()
	out, err := Inst.Servers[server].Exec(context.Background(), "sh", "-ec", command)
	require.NoError(t, err)
	return out
}

// Traces lists what a server still has of an account.
func Traces(t *testing.T, server, name string) string {
	t.Helper()
	out, _ := Inst.Servers[server].Exec(context.Background(), "sh", "-c", `getent passwd "$1"; getent group "$1"; ls -d "/home/$1" 2>/dev/null
		ls -d /etc/victualler/sandboxes/"$1".json /etc/victualler/php/"$1" /etc/nginx/victualler/accounts/"$1".conf 2>/dev/null`, "sh", name)
	return strings.TrimSpace(out)
}

// Limit returns one limit of an account's allowance.
func Limit(t *testing.T, account int64, key plans.Key) api.Allowed {
	t.Helper()
	var a api.AccountDetail
	require.NoError(t, Inst.Client.Get(context.Background(), fmt.Sprintf("/accounts/%d", account), nil, &a))
	return a.Allowance[slices.IndexFunc(a.Allowance, func(l api.Allowed) bool { return l.Key == string(key) })]
}
