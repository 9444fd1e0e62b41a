// Package e2e is what the tests of a whole installation share, which drive it from
// outside: the service on loopback through its API, its client and its console,
// with real servers in the lab. The tests are in the packages below, by what they
// are about. Each of these has an installation of its own, so that they run side by
// side; within one, each test works on names of its own and leaves nothing behind.
package e2e

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"victualler/demo"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/installation"
	"victualler/internal/lab/labtest"
)

// Main is what a package's TestMain calls.
func Main(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		fmt.Println("skipped: all of this is on the lab's real programs (make test)")
		return
	}
	labtest.Main(m)
}

// Inst is the installation of the package under test, once [Shared] has started it.
var Inst *installation.Installation

// Standby has [Shared] start a second PostgreSQL, which follows the first.
var Standby bool

// Mail has two of the servers take mail.
var Mail bool

// Databases has two of the servers keep databases: skua, and petrel, which has no sites then.
var Databases bool

// Demo has [Shared] start what `make demo` does, with its servers and the Tern Island scenario.
var Demo bool

var startOnce sync.Once

// Shared is the installation that the tests of a package share: three servers, of which petrel is
// closed for new accounts and, with fulmar, a name server; the plans harbour, nothing and no-room;
// and the customer Tern Ferries. The first test that asks for it starts it.
func Shared(t *testing.T) *installation.Installation {
	t.Helper()
	startOnce.Do(func() { start(t) })
	require.NotNil(t, Inst, "the installation did not start")
	ForgetSignInFailures(t) // all tests come from one address: what one does is not held against the next
	return Inst
}

func start(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "victualler-e2e-")
	require.NoError(t, err)
	programs := filepath.Join(dir, "bin")
	require.NoError(t, os.Mkdir(programs, 0o755))
	for _, name := range append(slices.Collect(maps.Values(lab.OwnPrograms)), "victuallerd") {
		require.NoError(t, os.Symlink(labtest.Program(t, name), filepath.Join(programs, name)))
	}
	o := installation.Options{Dir: dir, Programs: programs,
		Lab: labtest.Options(t, "e2e", ""), Servers: []lab.ServerOptions{{Name: "skua", Host: 21},
			{Name: "petrel", Host: 23, HomeSize: 256 << 20}, {Name: "fulmar", Host: 22}},
		Roles: map[string][]string{"petrel": {"web", "dns"}, "fulmar": {"web", "dns"}},
		Say:   func(s string) { t.Log(s) }, Settings: []string{"fsync=off"}, Standby: Standby}
	if Mail {
		o.Roles["skua"], o.Roles["fulmar"] = []string{"web", "mail"}, []string{"web", "dns", "mail"}
	}
	if Databases {
		o.Roles["skua"], o.Roles["petrel"] = []string{"web", "database"}, []string{"dns", "database"}
	}
	if Demo {
		o.Roles["skua"], o.Roles["fulmar"] = []string{"web", "mail", "database"}, []string{"web", "dns", "mail"}
		o.Roles["petrel"] = []string{"dns"}
		o.Servers[0].HomeSize, o.Servers[2].HomeSize = 8<<30, 4<<30
	}
	i, err := installation.Start(ctx, o)
	require.NoError(t, err)
	labtest.Cleanups = append(labtest.Cleanups, func() {
		if err := i.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		os.RemoveAll(dir)
	})
	if Demo {
		loadDemo(t, i)
		Inst = i
		return
	}
	for _, p := range []api.NewPlan{
		{Name: "harbour", Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB), plans.Domains: plans.Of(5),
			plans.PHPWorkers: plans.Of(3)}},
		{Name: "nothing", Limits: plans.Limits{plans.Disk: plans.Of(100 * plans.MiB)}},
		{Name: "no-room", Limits: plans.Limits{plans.Domains: plans.Of(1)}},
	} {
		require.NoError(t, i.Client.Post(ctx, "/plans", p, nil))
	}
	require.NoError(t, i.Client.Post(ctx, "/customers", api.NewCustomer{Name: "Tern Ferries"}, nil))
	closed := false
	require.NoError(t, i.Client.Do(ctx, client.Call{Method: http.MethodPatch, Path: "/servers/petrel",
		Body: api.ServerChange{Open: &closed}}, nil))
	Inst = i
}

// loadDemo loads the Tern Island scenario.
func loadDemo(t *testing.T, i *installation.Installation) {
	t.Helper()
	passwords := map[string]string{"operator": i.Password}
	for _, person := range []string{"mara", "guillemot", "keeper", "tresen"} {
		passwords[person] = Password
	}
	require.NoError(t, demo.Load(context.Background(), i.Client, demo.Places{Console: i.Address(), Mail: i.Outside.SMTP,
		PublicDNS: i.PublicDNS.HTTP, Directory: i.Authority.Directory(), Root: i.Authority.Root(),
		Authority: i.Authority.Control}, passwords, func(s string) { t.Log(s) }))
	exec := func(ctx context.Context, server string, argv ...string) (string, error) {
		return i.Servers[server].Exec(ctx, argv...)
	}
	require.NoError(t, demo.Visit(context.Background(), i.Client, exec))
}
