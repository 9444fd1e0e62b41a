package sandbox

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/agent/processes"
	"victualler/internal/sandbox/definition"
)

// extensions keeps what PHP of each version can do, as starting it takes longer than most of what
// asks.
type extensions struct {
	mu    sync.Mutex
	known map[string]loaded
}

// loaded are the extensions of a version, and when its configuration was changed last.
type loaded struct {
	changed time.Time
	names   []string
}

// longestList is how long PHP may take to list its extensions.
const longestList = 20 * time.Second

// PHPExtensions implements agent.Confiner.
func (d *Driver) PHPExtensions(ctx context.Context, version string) ([]string, error) {
	if version == "" && len(d.Server.PHP) > 0 {
		version = d.Server.PHP[0]
	}
	if !slices.Contains(d.Server.PHP, version) {
		return nil, fmt.Errorf("there is no PHP %s on this server", version)
	}
	d.extensions.mu.Lock()
	defer d.extensions.mu.Unlock()
	changed := configured(version)
	if l, is := d.extensions.known[version]; is && l.changed.Equal(changed) {
		return l.names, nil
	}
	command, err := list(ctx, "php"+version)
	if err != nil {
		return nil, err
	}
	manager, err := list(ctx, "php-fpm"+version)
	if err != nil {
		return nil, err
	}
	both := slices.DeleteFunc(command, func(name string) bool { return !slices.Contains(manager, name) })
	if d.extensions.known == nil {
		d.extensions.known = map[string]loaded{}
	}
	d.extensions.known[version] = loaded{changed, both}
	return both, nil
}

// configured is when the configuration of a version was changed last: a file, or which of them
// there are.
func configured(version string) (last time.Time) {
	for _, pattern := range []string{"conf.d", "conf.d/*", "php.ini"} {
		paths, _ := filepath.Glob("/etc/php/" + version + "/*/" + pattern)
		for _, path := range paths {
			if info, err := os.Stat(path); err == nil && info.ModTime().After(last) {
				last = info.ModTime()
			}
		}
	}
	return last
}

// list asks a program of PHP for its extensions. Their code is not run as root.
func list(ctx context.Context, program string) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, longestList)
	defer cancel()
	nobody, err := processes.Nobody()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, program, "-m")
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: nobody}
	text, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%s does not tell its extensions: %w", program, err)
	}
	var names []string
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		if line := strings.TrimSpace(lines.Text()); line != "" && !strings.HasPrefix(line, "[") {
			names = append(names, strings.ToLower(line))
		}
	}
	return names, nil
}

// WakePHP implements agent.Confiner: whatever connects has the supervisor start it.
func (*Driver) WakePHP(uid int, version string) {
	if conn, err := net.DialTimeout("unix", definition.SocketPath(uid, version), time.Second); err == nil {
		conn.Close()
	}
}
