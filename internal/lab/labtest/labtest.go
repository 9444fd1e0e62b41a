// Package labtest runs labs in tests.
package labtest

import (
	"context"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/lab"
)

// Options returns options for a lab in dir, with the base tree built, and a
// network and a name that no other lab has; its name starts with name, at most 4 letters of it.
func Options(t testing.TB, name, dir string) lab.Options {
	t.Helper()
	if testing.Short() {
		t.Skip("on the lab's real programs: make test")
	}
	require.NoError(t, lab.CheckRights())
	ctx := context.Background()
	say := func(s string) { t.Log(s) }
	require.NoError(t, lab.InstallPackages(ctx, say, append(lab.MachinePackages, "e2fsprogs")...))
	base, err := lab.EnsureBase(ctx, lab.CacheDir(), say)
	require.NoError(t, err)
	subnet, err := lab.ReserveSubnet(ctx)
	require.NoError(t, err)
	unique := strings.ToLower(rand.Text()[:4])
	return lab.Options{Name: name[:min(len(name), 4)] + unique, Dir: dir, Base: base, Subnet: subnet}
}

// Lab starts an empty lab that ends with the test. Name is as in [lab.Options].
func Lab(t testing.TB, name string) *lab.Lab {
	t.Helper()
	l, err := lab.New(Options(t, name, t.TempDir()))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Stop()) })
	return l
}

// Server starts a server with an agent that waits to be joined. Of a
// test that fails, what the agent wrote is shown.
func Server(t testing.TB, l *lab.Lab, o lab.ServerOptions) *lab.Server {
	t.Helper()
	o.Files = map[string]string{}
	for path, name := range lab.OwnPrograms {
		o.Files[path] = Program(t, name)
	}
	o.Services = append(o.Services, lab.OwnServices(o)...)
	s, err := l.StartServer(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() {
		if t.Failed() {
			for _, service := range slices.Concat(lab.OwnServices(o), lab.BaseServices) {
				out, err := s.Exec(context.Background(), "tail", "-n", "40", "/var/log/lab/"+service.Name+".log")
				if out == "" {
					continue
				}
				t.Log("the log of "+service.Name+":", out, err)
			}
		}
	})
	return s
}

var builds sync.Map // name to func() (string, error)

// Program builds one of the project's programs, once per test process.
func Program(t testing.TB, name string) string {
	t.Helper()
	build, _ := builds.LoadOrStore(name, sync.OnceValues(func() (string, error) {
		dir, err := os.MkdirTemp("", "victualler-test-")
		if err != nil {
			return "", err
		}
		Cleanups = append(Cleanups, func() { os.RemoveAll(dir) })
		path := filepath.Join(dir, name)
		cmd := exec.Command("go", "build", "-o", path, "victualler/cmd/"+name)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		if err != nil {
			return "", &exec.Error{Name: "go build: " + strings.TrimSpace(string(out)), Err: err}
		}
		return path, nil
	}))
	path, err := build.(func() (string, error))()
	require.NoError(t, err)
	return path
}

// Cleanups are run by [Main] when all tests have ended.
var Cleanups []func()

// Main is what a package's TestMain calls.
func Main(m *testing.M) {
	lab.Hook()
	code := m.Run()
	for _, clean := range Cleanups {
		clean()
	}
	os.Exit(code)
}

// patience is what a machine may need whose disk is busy with others'
// work; what comes at all comes much sooner.
const patience = time.Minute

// Eventually waits for a condition. Tests that promise a time say [Within].
func Eventually(t testing.TB, done func() bool, message ...any) {
	t.Helper()
	Within(t, patience, done, message...)
}

// Within waits for a condition, at most for limit.
func Within(t testing.TB, limit time.Duration, done func() bool, message ...any) {
	t.Helper()
	for end := time.Now().Add(limit); !done(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			require.Fail(t, "not within "+limit.String(), message...)
		}
	}
}
