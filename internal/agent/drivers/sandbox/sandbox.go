// Package sandbox drives the supervisor of sandboxes, in which everything runs that runs for an
// account: it writes the definitions of sandboxes and PHP's configuration, and has them followed.
package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
	"victualler/internal/sandbox"
	"victualler/internal/sandbox/definition"
	"victualler/internal/version"
)

// Driver drives the supervisor.
type Driver struct {
	// Server is the server that is rendered for.
	Server render.Server
	// Others tell what other programs do not keep of the bounds between accounts.
	Others []func() error

	reloads    atomic.Int64
	extensions extensions
}

// Installed lists the versions of PHP with a process manager, newest first.
func Installed() []string {
	dirs, _ := filepath.Glob("/etc/php/*/fpm")
	var versions []string
	for _, dir := range dirs {
		version := strings.Split(dir, "/")[3]
		if _, err := exec.LookPath("php-fpm" + version); err == nil {
			versions = append(versions, version)
		}
	}
	slices.SortFunc(versions, func(a, b string) int { return -compare(a, b) })
	return versions
}

// compare puts versions into the order of their numbers.
func compare(a, b string) int {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		x, _ := strconv.Atoi(as[i])
		y, _ := strconv.Atoi(bs[i])
		if x != y {
			return x - y
		}
	}
	return len(as) - len(bs)
}

// New returns the driver. What earlier versions have had Debian's own PHP read goes.
func New(server render.Server) *Driver {
	old, _ := filepath.Glob("/etc/php/*/fpm/pool.d/00-victualler.conf")
	for _, path := range old {
		_ = os.Remove(path)
	}
	return &Driver{Server: server}
}

// Name implements agent.Program.
func (*Driver) Name() string { return "sandbox" }

// Base implements agent.Program.
func (d *Driver) Base(manifest.Server) []render.File { return render.PHPBase(d.Server) }

// Files implements agent.Program.
func (d *Driver) Files(m manifest.Manifest) []render.File { return render.Sandbox(m, d.Server) }

// AccountFiles implements agent.Program. Those of earlier versions lie in PHP's own directories.
func (*Driver) AccountFiles() ([]string, error) {
	return daemon.FilesLike(definition.DefinitionDir+"/*.json", definition.PHPDir+"/*/*",
		"/etc/php/*/fpm/pool.d/account-*.conf", "/etc/php/*/fpm/conf.d/account-*.ini")
}

// Owner implements agent.Program.
func (*Driver) Owner(path string) string { return render.SandboxOwner(path) }

// Test implements agent.Program: it reads definitions as the supervisor will. What PHP reads is
// rendered from settings of known kinds; were it wrong, one account's PHP alone would not start.
func (*Driver) Test(_ context.Context, staged []staging.Change) error {
	for _, change := range staged {
		if change.File == nil || filepath.Dir(change.Path) != definition.DefinitionDir {
			continue
		}
		var box definition.Sandbox
		if err := json.Unmarshal([]byte(change.File.Content), &box); err != nil {
			return err
		}
		if err := box.Check(); err != nil {
			return err
		}
	}
	return nil
}

// Reload implements agent.Program. PHP starts anew where its
// configuration is another, and nowhere else.
func (d *Driver) Reload(ctx context.Context) error {
	if _, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskReload}); err != nil {
		return err
	}
	d.reloads.Add(1)
	dirs, err := filepath.Glob(definition.PHPDir + "/*")
	for _, dir := range dirs {
		_ = os.Remove(dir) // only those go that are empty
	}
	return err
}

// Verify implements agent.Program: the supervisor follows this very definition, and listens. PHP is
// not started for it: an account at rest costs nothing.
func (d *Driver) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if !m.HasHome() {
		return language.Text{}, nil
	}
	sockets := render.SandboxSockets(m, d.Server)
	err := daemon.WaitFor(ctx, func(ctx context.Context) error {
		state, err := d.state(ctx, m)
		switch {
		case err != nil:
			return err
		case state.Digest != render.SandboxDigest(m, d.Server):
			return errors.New("the supervisor of sandboxes does not follow the new definition")
		case !slices.Equal(state.Listening, sockets):
			return fmt.Errorf("the supervisor of sandboxes listens on %v, not on %v", state.Listening, sockets)
		}
		return nil
	})
	switch {
	case err != nil:
		return language.Text{}, err
	case m.Suspended:
		return language.New("nothing runs for %s", m.SignInName), nil
	case len(sockets) == 0:
		return language.New("a sandbox for %s", m.SignInName), nil
	}
	var versions []string
	for _, site := range m.PHPSites() {
		if v := render.PHPVersion(site); v != "" && !slices.Contains(versions, v) {
			versions = append(versions, v)
		} else if v == "" && !slices.Contains(versions, d.Server.PHP[0]) {
			versions = append(versions, d.Server.PHP[0])
		}
	}
	all := language.New("%s", versions[0])
	for _, v := range versions[1:] {
		all = language.New("%s and %s", all, v)
	}
	return language.New("the sandbox of %s waits for requests to PHP %s", m.SignInName, all), nil
}

func (*Driver) state(ctx context.Context, m manifest.Manifest) (sandbox.State, error) {
	a, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskState, Account: m.SignInName})
	if err != nil {
		return sandbox.State{}, err
	}
	return *a.State, nil
}

// VerifyGone implements agent.Program: nothing is held of the account.
func (d *Driver) VerifyGone(ctx context.Context, last manifest.Manifest) (language.Text, error) {
	if !last.HasHome() {
		return language.Text{}, nil
	}
	err := daemon.WaitFor(ctx, func(ctx context.Context) error {
		state, err := d.state(ctx, last)
		if err == nil && (state.Digest != "" || len(state.Listening) > 0) {
			err = errors.New("the supervisor of sandboxes still holds the account")
		}
		return err
	})
	if err != nil {
		return language.Text{}, err
	}
	return language.New("nothing runs or listens for %s", last.SignInName), nil
}

// Status implements agent.Program.
func (d *Driver) Status(ctx context.Context) agentlink.ProgramStatus {
	_, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskHealth})
	return agentlink.ProgramStatus{Name: d.Name(), Version: version.Version, Running: err == nil,
		Reloads: d.reloads.Load()}
}

// Sandboxes implements agent.Confiner.
func (d *Driver) Sandboxes(ctx context.Context) agentlink.Sandboxes {
	a, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskHealth})
	if err != nil {
		return agentlink.Sandboxes{Layout: "unknown", Missing: []string{err.Error()}, PHP: d.Server.PHP}
	}
	missing := a.Health.Missing
	for _, other := range d.Others {
		if err := other(); err != nil {
			missing = append(missing, err.Error())
		}
	}
	return agentlink.Sandboxes{Layout: a.Health.Layout, Missing: missing, Running: a.Health.Running, PHP: d.Server.PHP}
}

// Loads implements agent.Confiner.
func (*Driver) Loads(ctx context.Context) (map[string]agentlink.Load, error) {
	a, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskLoads})
	if err != nil {
		return nil, err
	}
	loads := map[string]agentlink.Load{}
	for name, l := range a.Loads {
		loads[name] = agentlink.Load{Processes: l.Processes, Memory: l.Memory, CPU: l.CPU,
			ProcessesRefused: l.ProcessesRefused, MemoryKills: l.MemoryKills, Throttled: l.Throttled}
	}
	return loads, nil
}
