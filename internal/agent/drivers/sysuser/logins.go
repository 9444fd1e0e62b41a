package sysuser

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/asuser"
	"victualler/internal/agent/daemon"
	"victualler/internal/agent/processes"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/logins"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// Logins makes the sign-ins for file transfer: the account's own user gets its group, password and
// keys; further logins are users of the same number, so that all files belong to the account, each
// with a directory of root's in which its folder is mounted.
//
// The folder is opened step by step, without following links, and what was opened is mounted: a
// customer can replace it at any moment, and shows nothing but their own.
type Logins struct{ Users *Driver }

// Name implements agent.Resource.
func (*Logins) Name() string { return "logins" }

// Concerns implements agent.Resource.
func (*Logins) Concerns(m manifest.Manifest) bool { return m.HasHome() }

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
		drifts = append(drifts, agentlink.Drift{Part: d.Name(), Subject: "login " + login,
			Detail: language.New(format, args...).Encode()})
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
		if text, err := keysOf(l); err != nil || text != render.AuthorizedKeys(l).Content {
			drift(l.Name, "has other keys than it should")
		}
		if !own && !mounted(m, l) {
			// Where there is nothing to show, that is no difference but a warning.
			if fd, err := open(m, l); err == nil {
				unix.Close(fd)
				drift(l.Name, "does not show %s", folderWords(l))
			}
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

// ownHash is what shadow(5) holds for the account's own sign-in.
func ownHash(m manifest.Manifest) string {
	for _, l := range m.Logins {
		if l.Name == m.SignInName {
			return hashOf(l)
		}
	}
	return noPassword
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
func (d *Logins) Ensure(ctx context.Context, m manifest.Manifest, _ bool) (language.Text, error) {
	there, err := d.found(m)
	if err != nil {
		return language.Text{}, err
	}
	for _, name := range there {
		if !slices.ContainsFunc(m.Logins, func(l logins.Login) bool { return l.Name == name }) {
			if err := d.remove(ctx, name); err != nil {
				return language.Text{}, err
			}
		}
	}
	for _, l := range m.Logins {
		if err := d.ensure(ctx, m, l); err != nil {
			return language.Text{}, fmt.Errorf("login %s: %w", l.Name, err)
		}
	}
	if n := len(m.Logins); n > 3 {
		return language.New("%s and %d more", m.Logins[0].Name, n-1), nil
	}
	var names []string
	for _, l := range m.Logins {
		names = append(names, l.Name)
	}
	return language.New("%s", strings.Join(names, ", ")), nil
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
	text, err := keysOf(l)
	if err != nil {
		return err
	}
	if before != "" && (text != keys.Content || before != hashOf(l)) {
		// Whoever got in by what lets nobody in any more goes.
		defer endSessions(m.UID(), l.Name)
	}
	if err := writeKeys(keys, text); err != nil {
		return err
	}
	if l.Name == m.SignInName || mounted(m, l) {
		return nil
	}
	if l.Folder != "" {
		// What keeps the folder from being made keeps it from being opened, too.
		_ = asuser.Do(ctx, m.UID(), asuser.Work{Home: m.HomePath(), Directories: []string{l.Folder}})
	}
	var theirs *folderError
	if err := mount(m, l); err != nil && !errors.As(err, &theirs) {
		return err
	}
	return nil
}

// Warnings implements agent.Warner: it tells of logins whose folder cannot be shown.
func (d *Logins) Warnings(m manifest.Manifest) []agentlink.Warning {
	var list []agentlink.Warning
	for _, l := range m.Logins {
		if l.Name == m.SignInName || l.Folder == "" {
			continue
		}
		fd, err := open(m, l)
		if err == nil {
			unix.Close(fd)
			continue
		}
		var theirs *folderError
		if errors.As(err, &theirs) {
			list = append(list, agentlink.Warning{Part: "login", Subject: l.Name, Path: l.Folder, Code: theirs.code})
		}
	}
	return list
}

// keysOf is what is written of a login's keys; without keys, there is no file.
func keysOf(l logins.Login) (string, error) {
	text, err := os.ReadFile(render.AuthorizedKeys(l).Path)
	return string(text), gone(err)
}

func writeKeys(keys render.File, now string) error {
	switch {
	case keys.Content == now:
		return nil
	case keys.Content == "":
		return gone(os.Remove(keys.Path))
	}
	if err := os.MkdirAll(render.KeyDir, 0o755); err != nil {
		return err
	}
	return wholefile.Write(keys.Path, []byte(keys.Content), keys.Mode, "")
}

// users makes the user of a login, and gives it its group and password.
func (d *Logins) users(ctx context.Context, m manifest.Manifest, l logins.Login) error {
	group := groupFor(m, l.Name)
	found, err := lookUp(l.Name)
	if err != nil {
		return err
	}
	if found == nil || found.uid != m.UID() {
		return d.Users.add(ctx, newUser{name: l.Name, id: m.UID(), further: true, home: "/", shell: noShell,
			hash: hashOf(l), member: group})
	}
	in, err := memberOf(group, l.Name)
	if err != nil {
		return err
	}
	now, err := passwordOf(l.Name)
	if err != nil || in && now == hashOf(l) {
		return err
	}
	d.Users.mu.Lock()
	defer d.Users.mu.Unlock()
	if !in {
		if err := makeGroups(ctx); err != nil {
			return err
		}
		// --groups: of no other group of ours.
		if err := run(ctx, "usermod", "--groups", group, "--", l.Name); err != nil {
			return err
		}
	}
	if now == hashOf(l) {
		return nil
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

// endSessions ends the sessions of a login: those of sshd's processes that bear its name, “sshd:
// NAME@…”, and run as its user. A shell that somebody has is the account's own and goes with them.
func endSessions(uid int, login string) {
	for _, pid := range processes.Of(uid) {
		if strings.HasPrefix(daemon.Title(pid), "sshd: "+login+"@") {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// Boot implements agent.Booter: mounts do not outlive a start of the server.
func (d *Logins) Boot(_ context.Context, all iter.Seq[manifest.Manifest]) error {
	var errs []error
	for m := range all {
		for _, l := range m.Logins {
			if !m.HasHome() || l.Name == m.SignInName || mounted(m, l) {
				continue
			}
			var theirs *folderError
			if err := mount(m, l); err != nil && !errors.As(err, &theirs) {
				errs = append(errs, err)
			}
		}
	}
	return errors.Join(errs...)
}
