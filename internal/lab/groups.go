package lab

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"victualler/internal/sandbox/cgroup"

	"golang.org/x/sys/unix"
)

// A machine has its own tree of cgroups; a server of the lab has a part of this machine's, below
// the group that the lab's process is in, and sees it as the whole.

// groupMounts lists where the machine has mounted cgroups, with the directory of this process's own
// group in each.
func groupMounts() (map[string]string, error) {
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, err
	}
	found := map[string]string{}
	for _, m := range cgroup.Mounts(string(mounts), string(own)) {
		if m.Own != "" {
			found[m.At] = m.Own
		}
	}
	return found, nil
}

// labGroup is the group of all servers of a lab, below this process's own.
func labGroup(bridge string) string { return "victualler-lab-" + bridge }

// makeGroups makes the server's groups and puts its first process into them. It returns where they
// are, by where the machine has mounted them. On a machine where that cannot be done, the server
// has none, and says so itself.
func (s *Server) makeGroups() (map[string]string, error) {
	mounts, err := groupMounts()
	if err != nil {
		return nil, err
	}
	made := map[string]string{}
	for mount, own := range mounts {
		dir := filepath.Join(own, labGroup(s.lab.state.Bridge), s.Name)
		if err := os.MkdirAll(dir, 0o755); err == nil {
			made[mount] = dir
		}
	}
	return made, nil
}

func joinGroups(groups map[string]string, pid int) error {
	for _, dir := range groups {
		if err := os.WriteFile(filepath.Join(dir, "cgroup.procs"), []byte(strconv.Itoa(pid)), 0); err != nil {
			return fmt.Errorf("put the server into %s: %w", dir, err)
		}
	}
	return nil
}

// removeGroups removes groups below that of a lab, or of one of its
// servers; what was in them has ended.
func removeGroups(bridge, server string) error {
	mounts, err := groupMounts()
	if err != nil {
		return err
	}
	var errs []error
	for _, own := range mounts {
		dir := filepath.Join(own, labGroup(bridge), server)
		if !within(5*time.Second, func() bool { err = removeGroup(dir); return err == nil }) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

func removeGroup(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.IsDir() {
			if err := removeGroup(filepath.Join(dir, e.Name())); err != nil {
				return err
			}
		}
	}
	return os.Remove(dir)
}

// mountGroups shows a server its groups where Debian has them.
func mountGroups(root string, groups map[string]string) error {
	if len(groups) == 0 {
		return nil
	}
	if err := unix.Mount("tmpfs", root+"/sys/fs/cgroup", "tmpfs", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC,
		"size=64k,mode=755"); err != nil {
		return err
	}
	if _, all := groups["/sys/fs/cgroup"]; all {
		return unix.Mount(groups["/sys/fs/cgroup"], root+"/sys/fs/cgroup", "", unix.MS_BIND, "")
	}
	for mount, dir := range groups {
		if err := os.MkdirAll(root+mount, 0o755); err != nil {
			return err
		}
		if err := unix.Mount(dir, root+mount, "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("show %s: %w", dir, err)
		}
	}
	return nil
}
