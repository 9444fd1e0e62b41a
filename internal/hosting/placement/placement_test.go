package placement

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

func good(label string, accounts, free int64) Server {
	return Server{Label: label, Open: true, Joined: true, Reachable: true, Web: true, Accounts: accounts,
		DiskTotal: 100 * plans.GiB, DiskFree: free * plans.GiB}
}

func TestChoose(t *testing.T) {
	for name, c := range map[string]struct {
		servers []Server
		want    string
		reason  string
	}{
		"most room": {[]Server{good("skua", 1, 50), good("fulmar", 9, 80)}, "fulmar",
			"80% of its disk is free; next is skua with 50%"},
		"fewest accounts": {[]Server{good("skua", 5, 50), good("fulmar", 3, 50)}, "fulmar",
			"fulmar holds fewer accounts: 3, not 5"},
		"by name":  {[]Server{good("skua", 5, 50), good("fulmar", 5, 50)}, "fulmar", "comes first by name"},
		"only one": {[]Server{good("skua", 5, 50)}, "skua", "only server"},
	} {
		t.Run(name, func(t *testing.T) {
			choice, err := Choose(c.servers)
			require.NoError(t, err)
			assert.Equal(t, c.want, choice.Label)
			assert.Contains(t, choice.Reason.String(), c.reason)
		})
	}
}

func TestRefusedServers(t *testing.T) {
	for kind, spoil := range map[refusal.Kind]func(*Server){
		refusal.ServerClosed:      func(s *Server) { s.Open = false },
		refusal.ServerUnreachable: func(s *Server) { s.Reachable = false },
		refusal.ServerFull:        func(s *Server) { s.DiskFree = Reserve - 1 },
	} {
		s := good("skua", 1, 50)
		spoil(&s)
		assert.True(t, refusal.Is(Check(s), kind), kind)
		choice, err := Choose([]Server{s, good("fulmar", 1, 1)})
		require.NoError(t, err)
		assert.Equal(t, "fulmar", choice.Label)
		_, err = Choose([]Server{s})
		assert.True(t, refusal.Is(err, refusal.NoServer))
		assert.ErrorContains(t, err, "skua")
	}
	_, err := Choose(nil)
	assert.ErrorContains(t, err, "no server has been joined")
	notWeb := good("petrel", 0, 90)
	notWeb.Web = false
	assert.Error(t, Check(notWeb))
	notJoined := good("petrel", 0, 90)
	notJoined.Joined = false
	assert.ErrorContains(t, Check(notJoined), "has not joined yet")
}
