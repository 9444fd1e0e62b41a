package sysuser

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/asuser"
	"victualler/internal/agent/daemon"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/logins"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// Logins makes the sign-ins for file transfer: the account's own user gets its group, password and keys; further logins are users of the
// same number, so that all files belong to the account, each with a directory of root's in which its folder is mounted.
//
// The folder is opened step by step, without following links, and what was opened is mounted: a customer can replace it at any moment, and shows
// nothing but their own.
type Logins struct{ Users *Driver }

// Name implements agent.Resource.
func (*Logins) Name() string { return "logins" }

// found is what is there of an account's logins, by name.
func (d *Logins) found(m manifest.Manifest) ([]string, error) {
	all, err := passwd.withPrefix(m.SignInName + "-")
	if err != nil {
		return nil, err
	}
	var names []string
	for _, name := range all {
		if e, err := lookUp(name); err == nil && e != nil && e.uid == m.UID() {
			names = append(names, name)
		}
	}
	return names, nil
}

// Check implements agent.Resource.
func (d *Logins) Check(_ context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	var drifts []agentlink.Drift
	drift := func(login, format string, args ...any) {
		drifts = append(drifts, agentlink.Drift{Part: d.Name(), Subject: "login " + login, What: fmt.Sprintf(format, args...)})
	}
	there, err := d.found(m)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, l := range m.Logins {
		wanted[l.Name] = true
		own := l.Name == m.SignInName
		found, err := lookUp(l.Name)
		if err != nil {
			return nil, err
		}
		if found == nil || found.uid != m.UID() {
			drift(l.Name, "is missing")
			continue
		}
		if got, err := passwordOf(l.Name); err != nil || got != hashOf(l) {
			drift(l.Name, "has another password than it should")
		}
		if in, err := memberOf(groupFor(m, l.Name), l.Name); err != nil || !in {
			drift(l.Name, "is not in the group %s", groupFor(m, l.Name))
		}
		if text, err := os.ReadFile(render.AuthorizedKeys(l).Path); err != nil || string(text) != render.AuthorizedKeys(l).Content {
			drift(l.Name, "has other keys than it should")
		}
		if !own && !mounted(m, l) {
			drift(l.Name, "does not show %s", folderWords(l))
		}
	}
	for _, name := range there {
		if !wanted[name] {
			drift(name, "is still there")
		}
	}
	return drifts, nil
}

func folderWords(l logins.Login) string {
	if l.Folder == "" {
		return "the home"
	}
	return l.Folder
}

// groupFor is the group by which sshd knows what a login may do.
func groupFor(m manifest.Manifest, login string) string {
	switch {
	case login != m.SignInName:
		return render.LoginGroup
	case m.Shell:
		return render.ShellGroup
	}
	return render.HomeGroup
}

// noPassword has no password fit. Keys do, which they would not with “!” (sshd(8)).
const noPassword = "*"

// hashOf is what shadow(5) holds for a login.
func hashOf(l logins.Login) string {
	if l.Hash == "" {
		return noPassword
	}
	return l.Hash
}

func passwordOf(user string) (string, error) {
	fields, err := shadow.line(user)
	if err != nil || len(fields) < 2 {
		return "", err
	}
	return fields[1], nil
}

// makeGroups makes the groups by which sshd knows what a login may do.
func makeGroups(ctx context.Context) error {
	for _, name := range []string{render.HomeGroup, render.ShellGroup, render.LoginGroup} {
		there, err := hasGroup(name)
		if err != nil {
			return err
		}
		if !there {
			if err := run(ctx, "groupadd", "--system", "--", name); err != nil {
				return err
			}
		}
	}
	return nil
}

// Ensure implements agent.Resource.
func (d *Logins) Ensure(ctx context.Context, m manifest.Manifest) (string, error) {
	there, err := d.found(m)
	if err != nil {
		return "", err
	}
	for _, name := range there {
		if !slices.ContainsFunc(m.Logins, func(l logins.Login) bool { return l.Name == name }) {
			if err := d.remove(ctx, name); err != nil {
				return "", err
			}
		}
	}
	for _, l := range m.Logins {
		if err := d.ensure(ctx, m, l); err != nil {
			return "", fmt.Errorf("login %s: %w", l.Name, err)
		}
	}
	if n := len(m.Logins); n > 3 {
		return fmt.Sprintf("%s and %d more", m.Logins[0].Name, n-1), nil
	}
	var names []string
	for _, l := range m.Logins {
		names = append(names, l.Name)
	}
	return strings.Join(names, ", "), nil
}

func (d *Logins) ensure(ctx context.Context, m manifest.Manifest, l logins.Login) error {
	before, err := passwordOf(l.Name)
	if err != nil {
		return err
	}
	if err := d.users(ctx, m, l); err != nil {
		return err
	}
	keys := render.AuthorizedKeys(l)
	text, err := os.ReadFile(keys.Path)
	if known := err == nil && before != "" && (string(text) != keys.Content || before != hashOf(l)); known {
		// Whoever got in by what lets nobody in any more goes.
		defer endSessions(m.UID(), l.Name)
	}
	if err != nil || string(text) != keys.Content {
		if err := os.MkdirAll(render.KeyDir, 0o755); err != nil {
			return err
		}
		if err := wholefile.Write(keys.Path, []byte(keys.Content), keys.Mode, ""); err != nil {
			return err
		}
	}
	if l.Name == m.SignInName || mounted(m, l) {
		return nil
	}
	if l.Folder != "" {
		if err := asuser.Do(ctx, m.UID(), asuser.Work{Home: m.HomePath(), Directories: []string{l.Folder}}); err != nil {
			return err
		}
	}
	return mount(m, l)
}

// users makes the user of a login, and gives it its group and password.
func (d *Logins) users(ctx context.Context, m manifest.Manifest, l logins.Login) error {
	d.Users.mu.Lock()
	defer d.Users.mu.Unlock()
	if err := makeGroups(ctx); err != nil {
		return err
	}
	group := groupFor(m, l.Name)
	found, err := lookUp(l.Name)
	if err != nil {
		return err
	}
	if found != nil && found.uid != m.UID() {
		return fmt.Errorf("there is a user of that name with the number %d already, who is not this account's", found.uid)
	}
	if found == nil {
		id := strconv.Itoa(m.UID())
		if err := run(ctx, "useradd", "--non-unique", "--uid", id, "--gid", id, "--no-create-home", "--no-log-init", "--home-dir", "/", "--shell", noShell,
			"--groups", group, "--password", noPassword, "--", l.Name); err != nil {
			return err
		}
	}
	if in, err := memberOf(group, l.Name); err != nil {
		return err
	} else if !in {
		// -G: of no other group of ours.
		if err := run(ctx, "usermod", "--groups", group, "--", l.Name); err != nil {
			return err
		}
	}
	if now, err := passwordOf(l.Name); err != nil || now == hashOf(l) {
		return err
	}
	// By standard input: other users see a command's arguments.
	cmd := exec.CommandContext(ctx, "chpasswd", "--encrypted")
	cmd.Stdin = strings.NewReader(l.Name + ":" + hashOf(l) + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("chpasswd: %w: %s", err, out)
	}
	return nil
}

// Remove implements agent.Resource.
func (d *Logins) Remove(ctx context.Context, m manifest.Manifest) error {
	there, err := d.found(m)
	if err != nil {
		return err
	}
	for _, name := range there {
		if err := d.remove(ctx, name); err != nil {
			return err
		}
	}
	if e, err := lookUp(m.SignInName); err != nil || e == nil || e.uid != m.UID() {
		return err
	}
	return gone(os.Remove(filepath.Join(render.KeyDir, m.SignInName)))
}

func (d *Logins) remove(ctx context.Context, name string) error {
	if err := gone(os.Remove(filepath.Join(render.KeyDir, name))); err != nil {
		return err
	}
	if err := unmount(name); err != nil {
		return err
	}
	if e, err := lookUp(name); err == nil && e != nil {
		defer endSessions(e.uid, name)
	}
	d.Users.mu.Lock()
	defer d.Users.mu.Unlock()
	// The processes of the account's other sign-ins have the same number: userdel must not mind.
	return run(ctx, "userdel", "--force", "--", name)
}

// endSessions ends the sessions of a login: those of sshd's processes that bear its name, “sshd: NAME@…”, and run as its user. A shell that
// somebody has is the account's own and goes with them.
func endSessions(uid int, login string) {
	for _, pid := range processes(uid) {
		if strings.HasPrefix(daemon.Title(pid), "sshd: "+login+"@") {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// Boot implements agent.Keeper: mounts do not outlive a start of the server.
func (d *Logins) Boot(_ context.Context, all []manifest.Manifest) error {
	var errs []error
	for _, m := range all {
		for _, l := range m.Logins {
			if m.Here() && l.Name != m.SignInName && !mounted(m, l) {
				errs = append(errs, mount(m, l))
			}
		}
	}
	return errors.Join(errs...)
}

// mountPoint is where a login finds its folder.
func mountPoint(login string) string {
	return filepath.Join(render.LoginDir, login, render.LoginFolder)
}

// open opens a login's folder without following any link, and makes sure that it is the account's.
func open(m manifest.Manifest, l logins.Login) (int, error) {
	home, err := unix.Open(m.HomePath(), unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, fmt.Errorf("open %s: %w", m.HomePath(), err)
	}
	if l.Folder == "" {
		return home, nil
	}
	defer unix.Close(home)
	fd, err := unix.Openat2(home, l.Folder, &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV})
	if err != nil {
		return -1, fmt.Errorf("%s cannot be opened as a folder of the account's: %w", l.Folder, err)
	}
	var s unix.Stat_t
	if err := unix.Fstat(fd, &s); err != nil || int(s.Uid) != m.UID() {
		unix.Close(fd)
		return -1, fmt.Errorf("%s does not belong to the account", l.Folder)
	}
	return fd, nil
}

// mounted reports whether a login's folder is where it finds it.
func mounted(m manifest.Manifest, l logins.Login) bool {
	fd, err := open(m, l)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var folder, there unix.Stat_t
	if unix.Fstat(fd, &folder) != nil || unix.Lstat(mountPoint(l.Name), &there) != nil {
		return false
	}
	return folder.Dev == there.Dev && folder.Ino == there.Ino
}

// mount shows a login its folder.
func mount(m manifest.Manifest, l logins.Login) error {
	if err := unmount(l.Name); err != nil {
		return err
	}
	if err := os.MkdirAll(render.LoginDir, 0o755); err != nil {
		return err
	}
	// The way through here leads past the home's own door: it is open to the account's group alone, too.
	above := filepath.Dir(mountPoint(l.Name))
	if err := os.Mkdir(above, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := errors.Join(os.Chown(above, 0, m.UID()), os.Chmod(above, 0o750)); err != nil {
		return err
	}
	if err := os.Mkdir(mountPoint(l.Name), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	fd, err := open(m, l)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	tree, err := unix.OpenTree(fd, "", unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_EMPTY_PATH)
	if err != nil {
		return fmt.Errorf("take hold of %s: %w", folderWords(l), err)
	}
	defer unix.Close(tree)
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV}
	if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &attr); err != nil {
		return fmt.Errorf("mount attributes of %s: %w", folderWords(l), err)
	}
	if err := unix.MoveMount(tree, "", unix.AT_FDCWD, mountPoint(l.Name), unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return fmt.Errorf("mount %s: %w", folderWords(l), err)
	}
	return nil
}

// unmount takes a login's directory away. What is mounted goes first: nothing below it is touched.
func unmount(login string) error {
	for {
		err := unix.Unmount(mountPoint(login), unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW)
		if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOENT) {
			break
		}
		if err != nil {
			return fmt.Errorf("unmount %s: %w", mountPoint(login), err)
		}
	}
	return errors.Join(gone(os.Remove(mountPoint(login))), gone(os.Remove(filepath.Dir(mountPoint(login)))))
}

// gone takes it for done if there was nothing.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// withPrefix lists the names that begin with a prefix.
func (t *table) withPrefix(prefix string) ([]string, error) {
	if _, err := t.line(""); err != nil {
		return nil, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	var names []string
	for name := range t.lines {
		if strings.HasPrefix(name, prefix) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// memberOf reports whether a user is listed as a member of a group.
func memberOf(name, user string) (bool, error) {
	fields, err := group.line(name)
	if err != nil || len(fields) != 4 {
		return false, err
	}
	group.mu.Lock()
	defer group.mu.Unlock()
	set, known := group.members[name]
	if !known {
		set = map[string]bool{}
		for _, member := range strings.Split(fields[3], ",") {
			set[member] = true
		}
		group.members[name] = set
	}
	return set[user], nil
}
