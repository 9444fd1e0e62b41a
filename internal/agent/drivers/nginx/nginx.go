// Package nginx drives the web server.
package nginx

import (
	"bytes"
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/procfs"
	"victualler/internal/render"
)

const pidFile = "/run/nginx.pid"

// Driver drives Debian's nginx.
type Driver struct {
	// Server is the server that is rendered for.
	Server render.Server
	// Scratch is a directory for staged files.
	Scratch string

	reloads atomic.Int64
	version string
}

// New returns the driver.
func New(server render.Server, scratch string) *Driver {
	d := &Driver{Server: server, Scratch: scratch}
	if err := d.Missing(); err != nil {
		slog.Warn("a bound is not kept", "reason", err)
	}
	if err := logDir(); err != nil {
		slog.Warn("directory of the request log", "reason", err) // nginx says so, too, when it is to begin it
	}
	if out, err := exec.Command("nginx", "-v").CombinedOutput(); err == nil {
		_, d.version, _ = strings.Cut(strings.TrimSpace(string(out)), "nginx/")
	}
	return d
}

// Missing tells that what visitors send can fill the server's disk, if it can.
func (*Driver) Missing() error {
	var own, system unix.Stat_t
	if err := errors.Join(os.MkdirAll(render.UploadDir, 0o755), unix.Stat(render.UploadDir, &own),
		unix.Stat("/", &system)); err != nil {
		return err
	}
	if own.Dev == system.Dev {
		return fmt.Errorf("uploads of visitors can fill the system's disk: mount a file system of its own on %s",
			render.UploadDir)
	}
	return nil
}

// logDir makes the directory of the request log. It tells who visits whose site, and what they ask
// for: only root reads it, and the web server's workers, who begin each new log.
func logDir() error {
	group, err := user.LookupGroup(render.WebGroup)
	if err != nil {
		return err
	}
	gid, err := strconv.Atoi(group.Gid)
	if err != nil {
		return err
	}
	dir := filepath.Dir(render.RequestLog)
	return errors.Join(os.MkdirAll(dir, 0o750), os.Chown(dir, 0, gid), os.Chmod(dir, 0o750))
}

// Name implements agent.Program.
func (*Driver) Name() string { return "nginx" }

// Base implements agent.Program.
func (d *Driver) Base(m manifest.Server) []render.File { return render.NGINXBase(d.Server, m) }

// Files implements agent.Program.
func (d *Driver) Files(m manifest.Manifest) []render.File {
	return append(render.NGINX(m), render.NGINXCertificates(m, func(s manifest.Site) (chain, key string) {
		if s.Certificate != nil {
			return s.Certificate.Chain, string(s.Certificate.Key)
		}
		// The one that the server has made. There is none before the
		// account is: then it is not seen in a preview.
		text, err1 := os.ReadFile(render.CertificateFile(m, s))
		secret, err2 := os.ReadFile(render.KeyFile(m, s))
		if err1 != nil || err2 != nil {
			return "", ""
		}
		return string(text), string(secret)
	})...)
}

// accountDirs are where accounts have files.
var accountDirs = []string{render.NGINXAccountDir, render.NGINXCertificateDir}

// AccountFiles implements agent.Program.
func (*Driver) AccountFiles() ([]string, error) {
	return daemon.FilesLike(render.NGINXAccountDir+"/*.*", render.NGINXCertificateDir+"/*.*")
}

// Owner implements agent.Program.
func (*Driver) Owner(path string) string { return render.NGINXOwner(path) }

// Test implements agent.Program. Accounts cannot be in each other's way, as names are unique and
// each has its own blocks: what has changed is tested with the shared parts alone, however many
// others there are. If the shared parts have changed, all is tested.
func (d *Driver) Test(ctx context.Context, staged []staging.Change) error {
	var alone []string
	if !slices.ContainsFunc(staged, func(ch staging.Change) bool {
		return !slices.Contains(accountDirs, filepath.Dir(ch.Path))
	}) {
		alone = accountDirs
		staged = withParts(staged)
	}
	out, err := staging.RunAlone(ctx, d.Scratch, alone, staged, "nginx", "-t", "-q")
	if err != nil {
		return fmt.Errorf("nginx refuses its configuration: %s", strings.TrimSpace(out))
	}
	return nil
}

// withParts adds to staged tables of certificates the parts that they
// are made of, where these do not change.
func withParts(staged []staging.Change) []staging.Change {
	for _, ch := range slices.Clone(staged) {
		path := render.NGINXPartsBeside(ch.Path)
		if path == "" || slices.ContainsFunc(staged, func(o staging.Change) bool { return o.Path == path }) {
			continue
		}
		if text, err := os.ReadFile(path); err == nil { // most have none
			staged = append(staged, staging.Change{Path: path, File: &render.File{Path: path, Mode: 0o600,
				Content: string(text)}})
		}
	}
	return staged
}

// reloadLimit is how long a reload may take; old workers that still finish
// requests do not count. Every busy site costs some 2 ms of it, for its keys.
const reloadLimit = 2 * time.Minute

// slowReload is after how long, beside a time for each file, it is asked whether nginx can read its
// configuration at all.
const slowReload = time.Second

// Reload implements agent.Program: SIGHUP starts workers with the new
// configuration, and the old ones finish what they have (nginx's "control" page).
// For a moment both take new connections; this waits until the old ones no longer
// do, so that what is seen from outside after it is seen by everybody.
func (d *Driver) Reload(ctx context.Context) error {
	var old []int
	if pid, err := daemon.PID(pidFile); err == nil {
		old, _ = procfs.Children(pid)
	}
	if _, err := daemon.Signal(ctx, pidFile, syscall.SIGHUP); err != nil {
		return fmt.Errorf("nginx %w", err)
	}
	d.reloads.Add(1)
	files, _ := os.ReadDir(render.NGINXAccountDir)
	slow := slowReload + time.Duration(len(files))*8*time.Millisecond
	begun, asked := time.Now(), false
	for end := begun.Add(reloadLimit); slices.ContainsFunc(old, isServing) && time.Now().Before(end); {
		if !asked && time.Since(begun) > slow {
			// nginx keeps what it has if it cannot read what is there
			// as a whole, and does not say so.
			asked = true
			if out, err := staging.Run(ctx, d.Scratch, nil, "nginx", "-t", "-q"); err != nil {
				return fmt.Errorf("nginx refuses its configuration: %s", strings.TrimSpace(out))
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
	return nil // whether the new ones answer is seen from outside
}

// Reopen has nginx begin its logs anew, as they have been put aside.
func (*Driver) Reopen(ctx context.Context) error {
	_, err := daemon.Signal(ctx, pidFile, syscall.SIGUSR1)
	return err
}

// isServing reports whether a worker has not been told to end.
func isServing(worker int) bool {
	title := daemon.Title(worker)
	return strings.HasPrefix(title, "nginx: worker") && !strings.Contains(title, "shutting down")
}

// Verify implements agent.Program: it asks the server's own address for every
// site, by name, until the answer is of this very rendering.
func (d *Driver) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if len(d.Server.Addresses) == 0 {
		return language.Text{}, fmt.Errorf("nginx: the server has no address to ask")
	}
	address := d.Server.Addresses[0].String() + ":80"
	want := render.NGINXFingerprint(m)
	for _, site := range m.Sites {
		name := site.Domain.String()
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			answer, err := daemon.Get(ctx, address, name, render.CheckPath)
			if err != nil {
				return err
			}
			if answer.Header.Get(render.CheckHeader) != want {
				return fmt.Errorf("for %s, nginx on %s does not answer from the new configuration (status %d)", name,
					address, answer.Status)
			}
			return nil
		})
		if err != nil {
			return language.Text{}, err
		}
		if err := d.verifyTLS(ctx, m, site); err != nil {
			return language.Text{}, err
		}
	}
	if len(m.Sites) == 0 {
		return language.Text{}, nil
	}
	return language.New("nginx on %s answers for %s, with and without TLS", address, m.Sites[0].Domain.String()), nil
}

// verifyTLS shakes hands under the site's names and looks whether the
// certificate is the one that is to be used.
func (d *Driver) verifyTLS(ctx context.Context, m manifest.Manifest, site manifest.Site) error {
	text, err := os.ReadFile(render.CertificateFile(m, site))
	if err != nil {
		return err
	}
	wanted, _ := pem.Decode(text)
	if wanted == nil {
		return fmt.Errorf("%s holds no certificate", render.CertificateFile(m, site))
	}
	address := d.Server.Addresses[0].String() + ":443"
	for _, name := range site.Names() {
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			shown, err := daemon.Handshake(ctx, address, name)
			if err != nil {
				return fmt.Errorf("TLS handshake with %s under the name %s: %w", address, name, err)
			}
			if !bytes.Equal(shown, wanted.Bytes) {
				return fmt.Errorf("for %s, nginx on %s shows another certificate", name, address)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// VerifyGone implements agent.Program: a name may be another account's by now,
// so what counts is that the answer is not of this account's rendering.
func (d *Driver) VerifyGone(ctx context.Context, last manifest.Manifest) (language.Text, error) {
	if len(d.Server.Addresses) == 0 || len(last.Sites) == 0 {
		return language.Text{}, nil
	}
	address := d.Server.Addresses[0].String() + ":80"
	old := render.NGINXFingerprint(last)
	for _, site := range last.Sites {
		name := site.Domain.String()
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			answer, err := daemon.Get(ctx, address, name, render.CheckPath)
			if err != nil {
				return err
			}
			if answer.Header.Get(render.CheckHeader) == old {
				return fmt.Errorf("nginx on %s still answers for %s", address, name)
			}
			return nil
		})
		if err != nil {
			return language.Text{}, err
		}
	}
	return language.New("nginx on %s no longer answers for %s", address, last.Sites[0].Domain.String()), nil
}

// Status implements agent.Program.
func (d *Driver) Status(context.Context) agentlink.ProgramStatus {
	return agentlink.ProgramStatus{Name: d.Name(), Version: d.version, Running: daemon.Running(pidFile),
		Reloads: d.reloads.Load()}
}
