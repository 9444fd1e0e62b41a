// Package phpfpm drives PHP's process manager: one pool for each account.
package phpfpm

import (
	"context"
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// Driver drives Debian's php-fpm of one version.
type Driver struct {
	// Server is the server that is rendered for.
	Server render.Server
	// Scratch is a directory for staged files.
	Scratch string

	reloads atomic.Int64
}

// Installed lists the PHP versions with a process manager, newest first.
func Installed() []string {
	dirs, _ := filepath.Glob("/etc/php/*/fpm/pool.d")
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

// New returns the driver.
func New(server render.Server, scratch string) *Driver {
	return &Driver{Server: server, Scratch: scratch}
}

// Name implements agent.Program. The newest version has the plain name:
// it serves every site that names none.
func (d *Driver) Name() string {
	if d.Server.Newest {
		return "php-fpm"
	}
	return "php-fpm " + d.Server.PHP
}

// Base implements agent.Program.
func (d *Driver) Base(manifest.Server) []render.File { return render.PHPFPMBase(d.Server) }

// Files implements agent.Program.
func (d *Driver) Files(m manifest.Manifest) []render.File { return render.PHPFPM(m, d.Server) }

// AccountFiles implements agent.Program.
func (d *Driver) AccountFiles() ([]string, error) {
	return daemon.FilesLike("/etc/php/"+d.Server.PHP+"/fpm/pool.d/account-*.conf", "/etc/php/"+d.Server.PHP+
		"/fpm/conf.d/account-*.ini")
}

// Owner implements agent.Program.
func (*Driver) Owner(path string) string { return render.PHPFPMOwner(path) }

// Test implements agent.Program.
func (d *Driver) Test(ctx context.Context, staged []staging.Change) error {
	out, err := staging.Run(ctx, d.Scratch, staged, "php-fpm"+d.Server.PHP, "-t")
	if err != nil {
		return fmt.Errorf("PHP-FPM refuses its configuration: %s", strings.TrimSpace(out))
	}
	return nil
}

func (d *Driver) pidFile() string { return "/run/php/php" + d.Server.PHP + "-fpm.pid" }

// reloadLimit is how long a reload may take: running requests have the time of
// process_control_timeout to finish, and every pool costs a millisecond or two.
const reloadLimit = time.Minute

// Reload implements agent.Program: SIGUSR2 lets requests finish and keeps the
// sockets (php-fpm(8)). The process then becomes the program anew, and a second
// signal before that has its handlers would end it: so this waits until it has.
func (d *Driver) Reload(ctx context.Context) error {
	before := d.image()
	pid, err := daemon.Signal(ctx, d.pidFile(), syscall.SIGUSR2)
	if err != nil {
		return fmt.Errorf("PHP-FPM %w", err)
	}
	d.reloads.Add(1)
	for end := time.Now().Add(reloadLimit); time.Now().Before(end); {
		if now := daemon.Image(pid); now == "" || now != before && daemon.Catches(pid, syscall.SIGUSR2) {
			break // anew; or ended, and whoever starts it again starts it with the new files
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
	return nil // whether the pools are there is seen from outside
}

// image identifies the program as it runs before a reload.
func (d *Driver) image() string {
	pid, err := daemon.PID(d.pidFile())
	if err != nil {
		return ""
	}
	return daemon.Image(pid)
}

// Verify implements agent.Program: through the web server, as a visitor's
// request would come, it asks the account's pool for a worker's answer.
func (d *Driver) Verify(ctx context.Context, m manifest.Manifest) (string, error) {
	address := d.Server.Addresses[0].String() + ":80"
	seen := ""
	for _, version := range render.PHPPools(m, d.Server) {
		at := slices.IndexFunc(m.Sites, func(s manifest.Site) bool { return render.PHPVersion(s) == version })
		if at < 0 {
			continue // there is no name under which to ask
		}
		want := render.PHPFPMFingerprint(m, d.Server, version)
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			answer, err := daemon.Get(ctx, address, m.Sites[at].Domain.String(), render.CheckPath)
			if err != nil {
				return err
			}
			if answer.Status != 200 || answer.Body != want {
				return fmt.Errorf("the account's PHP %s does not answer from the new configuration (status %d)",
					d.Server.PHP, answer.Status)
			}
			return nil
		})
		if err != nil {
			return "", err
		}
		seen = "PHP " + d.Server.PHP + " answers as user " + m.SignInName
	}
	return seen, nil
}

// VerifyGone implements agent.Program: nobody listens on the pool's socket.
func (d *Driver) VerifyGone(ctx context.Context, last manifest.Manifest) (string, error) {
	seen := ""
	for _, version := range render.PHPPools(last, d.Server) {
		socket := render.PHPSocket(last, version)
		err := daemon.WaitFor(ctx, func(context.Context) error {
			if conn, err := net.Dial("unix", socket); err == nil {
				conn.Close()
				return fmt.Errorf("PHP-FPM still listens on %s", socket)
			}
			return nil
		})
		if err != nil {
			return "", err
		}
		seen = "nobody listens on " + socket
	}
	return seen, nil
}

// Status implements agent.Program.
func (d *Driver) Status(context.Context) agentlink.ProgramStatus {
	return agentlink.ProgramStatus{Name: d.Name(), Version: d.Server.PHP, Running: daemon.Running(d.pidFile()),
		Reloads: d.reloads.Load()}
}
