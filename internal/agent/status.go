package agent

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/agentlink"
	"victualler/internal/version"
)

// Status tells how the server is, read from the kernel (proc(5), statfs(2)).
func (a *Agent) Status(ctx context.Context) (agentlink.Status, error) {
	host, err := os.Hostname()
	if err != nil {
		return agentlink.Status{}, err
	}
	s := agentlink.Status{HostName: host, AgentVersion: version.Version, Now: time.Now().UTC(),
		Processors: runtime.NumCPU(), Quota: a.Meter.Quota()}
	if text, err := os.ReadFile("/proc/loadavg"); err == nil {
		fmt.Sscan(string(text), &s.Load)
	}
	if text, err := os.ReadFile("/proc/meminfo"); err == nil {
		s.MemoryTotal, s.MemoryFree = memory(string(text), "MemTotal:"), memory(string(text), "MemAvailable:")
	}
	var fs unix.Statfs_t
	if err := unix.Statfs("/home", &fs); err != nil {
		return s, fmt.Errorf("file system of the homes: %w", err)
	}
	s.DiskTotal, s.DiskFree = int64(fs.Blocks)*fs.Bsize, int64(fs.Bavail)*fs.Bsize
	_, home := a.state.count()
	s.Accounts = int64(home)
	if a.Databases != nil {
		s.Measured = a.Databases.Measured()
	}
	if a.Confiner != nil {
		sandboxes := a.Confiner.Sandboxes(ctx)
		s.Sandboxes = &sandboxes
	}
	for _, p := range a.Programs {
		if status := p.Status(ctx); status.Name != "" {
			s.Programs = append(s.Programs, status)
		}
	}
	return s, nil
}

// memory reads a line of /proc/meminfo, in bytes.
func memory(text, key string) int64 {
	_, rest, _ := strings.Cut(text, key)
	number, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
	kib, _ := strconv.ParseInt(number, 10, 64)
	return kib << 10
}
