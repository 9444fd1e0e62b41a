// Package sysuser drives system users: one user and one group for each account,
// with numbers that follow from the account's.
package sysuser

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/manifest"
)

// The shells of accounts without the feature shell, and with it.
const (
	noShell   = "/usr/sbin/nologin"
	someShell = "/bin/bash"
)

func shellOf(m manifest.Manifest) string {
	if m.Shell {
		return someShell
	}
	return noShell
}

// Driver makes and removes users. The commands lock /etc/passwd and give up
// soon when it is locked, so one runs at a time.
type Driver struct{ mu sync.Mutex }

// Name implements agent.Resource.
func (*Driver) Name() string { return "user" }

// entry is a line of /etc/passwd (passwd(5)).
type entry struct {
	uid, gid    int
	home, shell string
}

func lookUp(name string) (*entry, error) {
	fields, err := passwd.line(name)
	if err != nil || len(fields) != 7 {
		return nil, err
	}
	uid, err1 := strconv.Atoi(fields[2])
	gid, err2 := strconv.Atoi(fields[3])
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("/etc/passwd: user %s: %w", name, err)
	}
	return &entry{uid, gid, fields[5], fields[6]}, nil
}

func hasGroup(name string) (bool, error) {
	fields, err := group.line(name)
	return fields != nil, err
}

// table is a file of lines that begin with a name and a colon. It is read again when it has been written: a sweep looks up thousands of names.
type table struct {
	path string

	mu    sync.Mutex
	read  os.FileInfo
	lines map[string]string
	// members are the last fields of lines as sets, made when they are first asked for.
	members map[string]map[string]bool
}

var (
	passwd = &table{path: "/etc/passwd"}
	group  = &table{path: "/etc/group"}
	shadow = &table{path: "/etc/shadow"}
)

// line returns the fields of a name's line; none for a name that is not there.
func (t *table) line(name string) ([]string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now, err := os.Stat(t.path)
	if err != nil {
		return nil, err
	}
	// Every change is a new file under the name (passwd(5), vipw(8)): its number differs as well as its time.
	if t.read == nil || !os.SameFile(t.read, now) || !t.read.ModTime().Equal(now.ModTime()) || t.read.Size() != now.Size() {
		text, err := os.ReadFile(t.path)
		if err != nil {
			return nil, err
		}
		lines := map[string]string{}
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSuffix(line, "\n")
			if name, _, found := strings.Cut(line, ":"); found {
				if _, twice := lines[name]; !twice {
					lines[name] = line
				}
			}
		}
		t.read, t.lines, t.members = now, lines, map[string]map[string]bool{}
	}
	line, there := t.lines[name]
	if !there {
		return nil, nil
	}
	return strings.Split(line, ":"), nil
}

// Check implements agent.Resource.
func (d *Driver) Check(_ context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	found, err := lookUp(m.SignInName)
	if err != nil {
		return nil, err
	}
	drift := func(format string, args ...any) []agentlink.Drift {
		return []agentlink.Drift{{Part: d.Name(), Subject: "user " + m.SignInName, What: fmt.Sprintf(format, args...)}}
	}
	if !m.Here() {
		// A user with another number is somebody else's, not a trace of this account.
		if found != nil && found.uid == m.UID() {
			return drift("is still there"), nil
		}
		if pids := processes(m.UID()); len(pids) > 0 {
			return drift("still runs processes %v", pids), nil
		}
		if left := leftovers(m); len(left) > 0 {
			return drift("has left %s", strings.Join(left, ", ")), nil
		}
		return nil, nil
	}
	switch {
	case found == nil:
		return drift("is missing"), nil
	case found.uid != m.UID():
		return drift("has the number %d, not %d: it is not this account's", found.uid, m.UID()), nil
	case found.gid != m.UID() || found.home != m.HomePath() || found.shell != shellOf(m):
		return drift("has group %d, home %s and shell %s, not %d, %s and %s", found.gid, found.home, found.shell, m.UID(), m.HomePath(), shellOf(m)), nil
	}
	return nil, nil
}

// Ensure implements agent.Resource.
func (d *Driver) Ensure(ctx context.Context, m manifest.Manifest) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	name, uid := m.SignInName, strconv.Itoa(m.UID())
	found, err := lookUp(name)
	if err != nil {
		return "", err
	}
	if found != nil && found.uid != m.UID() {
		return "", fmt.Errorf("a user %s with the number %d is on the server already and is not this account's; choose another sign-in name, or remove that user", name, found.uid)
	}
	grouped, err := hasGroup(name)
	if err != nil {
		return "", err
	}
	if !grouped {
		if err := run(ctx, "groupadd", "--gid", uid, "--", name); err != nil {
			return "", err
		}
	}
	attributes := []string{"--gid", uid, "--home-dir", m.HomePath(), "--shell", shellOf(m)}
	switch {
	case found == nil:
		if err := makeGroups(ctx); err != nil {
			return "", err
		}
		args := append([]string{"--uid", uid, "--no-create-home", "--no-log-init", "--password", noPassword, "--groups", groupFor(m, m.SignInName)}, attributes...)
		if err := run(ctx, "useradd", append(args, "--", name)...); err != nil {
			return "", err
		}
	case found.gid != m.UID() || found.home != m.HomePath() || found.shell != shellOf(m):
		attributes[2] = "--home" // usermod's word for useradd's --home-dir
		if err := run(ctx, "usermod", append(attributes, "--", name)...); err != nil {
			return "", err
		}
	default:
		return fmt.Sprintf("%s (%s) is there", name, uid), nil
	}
	return fmt.Sprintf("%s (%s)", name, uid), nil
}

// Remove implements agent.Resource: it ends the user's processes first, and
// takes away what they have left outside of the home.
func (d *Driver) Remove(ctx context.Context, m manifest.Manifest) error {
	if err := endProcesses(ctx, m.UID()); err != nil {
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

func endProcesses(ctx context.Context, uid int) error {
	for end := time.Now().Add(10 * time.Second); ; {
		pids := processes(uid)
		if len(pids) == 0 {
			return nil
		}
		for _, pid := range pids {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(end) {
			return fmt.Errorf("processes %v of user %d do not end", pids, uid)
		}
	}
}

// processes lists the processes whose real user is uid.
func processes(uid int) []int {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	var found []int
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		// The directory's owner would not do: it is root for processes that have
		// changed their user (proc(5)).
		status, err := os.ReadFile("/proc/" + name + "/status")
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(status)) {
			if uids, is := strings.CutPrefix(line, "Uid:"); is {
				if fields := strings.Fields(uids); len(fields) == 4 && fields[0] == strconv.Itoa(uid) {
					found = append(found, pid)
				}
				break
			}
		}
	}
	return found
}

func run(ctx context.Context, name string, args ...string) error {
	if out, err := exec.CommandContext(ctx, name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, bytes.TrimSpace(out))
	}
	return nil
}
