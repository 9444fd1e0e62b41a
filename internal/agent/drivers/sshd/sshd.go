// Package sshd drives OpenSSH's server, through which files are transferred. What it does for
// accounts follows from groups of users; the users are made by package sysuser.
package sshd

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/staging"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
	"victualler/internal/sandbox/definition"
)

const pidFile = "/run/sshd.pid"

// Driver drives Debian's OpenSSH.
type Driver struct {
	// Scratch is a directory for staged files.
	Scratch string

	reloads atomic.Int64
	version string
	// unbound is why sessions are not within their accounts' limits.
	unbound error
}

// Installed reports whether there is an OpenSSH server here.
func Installed() bool {
	_, err := os.Stat("/usr/sbin/sshd")
	return err == nil
}

// Sessions of accounts, for file transfer too, run in the group of their account, and so within its
// limits: PAM asks the supervisor of sandboxes. Others never get there, whatever becomes of it.
const (
	profile     = "/usr/share/pam-configs/victualler"
	profileText = `Name: Sessions of hosting accounts run within the limits of their account
Default: yes
Priority: 0
Session-Type: Additional
Session:
	[success=1 default=ignore]	pam_succeed_if.so quiet uid < %d
	required	pam_exec.so quiet %s session
`
	sessions = "/etc/pam.d/common-session"
)

// bindSessions puts the profile into PAM's configuration, by Debian's
// own means, if it is not there.
func bindSessions() error {
	text := fmt.Sprintf(profileText, definition.FirstUID, definition.Program)
	found, _ := os.ReadFile(profile)
	if string(found) == text && bound() {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(profile), 0o755); err != nil {
		return err
	}
	if err := wholefile.Write(profile, []byte(text), 0o644, ""); err != nil {
		return err
	}
	cmd := exec.Command("pam-auth-update", "--package", "--enable", "victualler")
	cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("pam-auth-update: %w: %s", err, out)
	}
	if !bound() {
		return fmt.Errorf("%s has been changed by hand: run “pam-auth-update --force”, or include the lines of %s",
			sessions, profile)
	}
	return nil
}

func bound() bool {
	text, err := os.ReadFile(sessions)
	return err == nil && strings.Contains(string(text), definition.Program+" session")
}

// Missing tells why sessions are not within their accounts' limits; nil where they are.
func (d *Driver) Missing() error {
	if d.unbound == nil || bound() {
		return nil
	}
	return fmt.Errorf("sessions of file transfer are not within their accounts' limits: %w", d.unbound)
}

// New returns the driver.
func New(scratch string) *Driver {
	d := &Driver{Scratch: scratch}
	d.unbound = bindSessions()
	if out, err := exec.Command("ssh", "-V").CombinedOutput(); err == nil {
		d.version, _, _ = strings.Cut(strings.TrimPrefix(string(out), "OpenSSH_"), " ")
	}
	return d
}

// Name implements agent.Program.
func (*Driver) Name() string { return "sshd" }

// Base implements agent.Program.
func (*Driver) Base(manifest.Server) []render.File { return render.SSHDBase() }

// Files implements agent.Program: an account has no configuration of its own.
func (*Driver) Files(manifest.Manifest) []render.File { return nil }

// AccountFiles implements agent.Program.
func (*Driver) AccountFiles() ([]string, error) { return nil, nil }

// Owner implements agent.Program.
func (*Driver) Owner(path string) string { return filepath.Base(path) }

// Test implements agent.Program.
func (d *Driver) Test(ctx context.Context, staged []staging.Change) error {
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // which a supervisor makes only when it starts sshd
		return err
	}
	out, err := staging.Run(ctx, d.Scratch, staged, "/usr/sbin/sshd", "-t")
	if err != nil {
		return fmt.Errorf("sshd refuses its configuration: %s", strings.TrimSpace(out))
	}
	return nil
}

// Reload implements agent.Program: SIGHUP has sshd read its
// configuration anew; sessions go on (sshd(8)).
func (d *Driver) Reload(ctx context.Context) error {
	if _, err := daemon.Signal(ctx, pidFile, syscall.SIGHUP); err != nil {
		return fmt.Errorf("sshd %w", err)
	}
	d.reloads.Add(1)
	return nil
}

// Verify implements agent.Program: nothing of an account is loaded.
func (*Driver) Verify(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// VerifyGone implements agent.Program.
func (*Driver) VerifyGone(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// Status implements agent.Program.
func (d *Driver) Status(context.Context) agentlink.ProgramStatus {
	return agentlink.ProgramStatus{Name: d.Name(), Version: d.version, Running: daemon.Running(pidFile),
		Reloads: d.reloads.Load()}
}
