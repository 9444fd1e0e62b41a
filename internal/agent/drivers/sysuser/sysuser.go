// Package sysuser drives system users: one user and one group for each account,
// with numbers that follow from the account's.
package sysuser

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"victualler/internal/agent/processes"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/sandbox/definition"
)

// The shells of accounts without the feature shell, and with it.
const (
	noShell   = "/usr/sbin/nologin"
	someShell = definition.Shell
)

func shellOf(m manifest.Manifest) string {
	if m.Shell {
		return someShell
	}
	return noShell
}

// Driver makes and removes users. The commands lock /etc/passwd and give up
// soon when it is locked, so one runs at a time. Many users are made at once.
type Driver struct {
	mu sync.Mutex

	queue   sync.Mutex
	waiting []waiting
}

// Name implements agent.Resource.
func (*Driver) Name() string { return "user" }

// Concerns implements agent.Resource.
func (*Driver) Concerns(m manifest.Manifest) bool { return m.HasHome() }

// Check implements agent.Resource.
func (d *Driver) Check(_ context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	found, err := lookUp(m.SignInName)
	if err != nil {
		return nil, err
	}
	differs := func(format string, args ...any) []agentlink.Drift {
		return []agentlink.Drift{{Part: d.Name(), Subject: "user " + m.SignInName,
			Detail: language.New(format, args...).Encode()}}
	}
	if !m.HasHome() {
		// A user with another number is somebody else's, not a trace of this account.
		if found != nil && found.uid == m.UID() {
			return differs("is still there"), nil
		}
		if pids := processes.Of(m.UID()); len(pids) > 0 {
			return differs("still runs processes %s", strings.Trim(fmt.Sprint(pids), "[]")), nil
		}
		if left := leftovers(m); len(left) > 0 {
			return differs("has left %s", strings.Join(left, ", ")), nil
		}
		return nil, nil
	}
	grouped, err := hasGroup(m.SignInName)
	if err != nil {
		return nil, err
	}
	switch {
	case found == nil:
		return differs("is missing"), nil
	case found.uid != m.UID():
		return differs("has the number %d, not %d: it is not this account's", found.uid, m.UID()), nil
	case found.gid != m.UID() || found.home != m.HomePath() || found.shell != shellOf(m):
		return differs("has group %d, home %s and shell %s, not %d, %s and %s", found.gid, found.home, found.shell,
			m.UID(), m.HomePath(), shellOf(m)), nil
	case !grouped:
		return differs("has no group of its name"), nil
	}
	return nil, nil
}

// Ensure implements agent.Resource.
func (d *Driver) Ensure(ctx context.Context, m manifest.Manifest, _ bool) (language.Text, error) {
	found, err := lookUp(m.SignInName)
	if err != nil {
		return language.Text{}, err
	}
	grouped, err := hasGroup(m.SignInName)
	if err != nil {
		return language.Text{}, err
	}
	named := language.New("%s (%d)", m.SignInName, m.UID())
	if found == nil || found.uid != m.UID() {
		return named, d.add(ctx, newUser{name: m.SignInName, id: m.UID(), home: m.HomePath(), shell: shellOf(m),
			hash: ownHash(m), member: groupFor(m, m.SignInName)})
	}
	if grouped && found.gid == m.UID() && found.home == m.HomePath() && found.shell == shellOf(m) {
		return language.New("%s is there", named), nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if !grouped {
		if err := run(ctx, "groupadd", "--gid", strconv.Itoa(m.UID()), "--", m.SignInName); err != nil {
			return language.Text{}, err
		}
	}
	return named, run(ctx, "usermod", "--gid", strconv.Itoa(m.UID()), "--home", m.HomePath(), "--shell", shellOf(m),
		"--", m.SignInName)
}

// Remove implements agent.Resource: it ends the user's processes first, and
// takes away what they have left outside of the home.
func (d *Driver) Remove(ctx context.Context, m manifest.Manifest) error {
	if err := processes.End(ctx, m.UID()); err != nil {
		return err
	}
	for _, path := range leftovers(m) {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	found, err := lookUp(m.SignInName)
	if err != nil {
		return err
	}
	if found != nil && found.uid != m.UID() {
		return nil
	}
	if found != nil {
		if err := run(ctx, "userdel", "--", m.SignInName); err != nil {
			return err
		}
	}
	if grouped, err := hasGroup(m.SignInName); err != nil || !grouped {
		return err
	}
	return run(ctx, "groupdel", "--", m.SignInName)
}

// spools are where programs keep what belongs to a user, under the user's name;
// shared are where every user may leave files.
var (
	spools = []string{"/var/spool/cron/crontabs", "/var/spool/cron/atjobs", "/var/mail"}
	shared = []string{"/tmp", "/var/tmp", "/dev/shm", "/run/lock"}
)

// leftovers lists what belongs to the account's user outside of the home: in
// spools by its name, in shared directories by its number.
func leftovers(m manifest.Manifest) []string {
	var left []string
	for _, dir := range spools {
		if ownedBy(filepath.Join(dir, m.SignInName), m.UID()) {
			left = append(left, filepath.Join(dir, m.SignInName))
		}
	}
	for _, dir := range shared {
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			if path := filepath.Join(dir, e.Name()); ownedBy(path, m.UID()) {
				left = append(left, path)
			}
		}
	}
	return left
}

func ownedBy(path string, uid int) bool {
	var s syscall.Stat_t
	return syscall.Lstat(path, &s) == nil && int(s.Uid) == uid
}

func run(ctx context.Context, name string, args ...string) error {
	if out, err := exec.CommandContext(ctx, name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, bytes.TrimSpace(out))
	}
	return nil
}
