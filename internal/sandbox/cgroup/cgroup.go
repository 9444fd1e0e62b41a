// Package cgroup bounds, measures and ends groups of processes (cgroups(7)). It hides which layout
// the kernel has mounted: version 2 alone, as Debian 12 has it; or version 1 for the controllers,
// with or without a tree of version 2 beside it.
package cgroup

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Limits bound a group; nil is unlimited.
type Limits struct {
	// Processes is the most processes and threads.
	Processes *int64
	// Memory is the most memory in bytes.
	Memory *int64
	// CPU is the most processor time, in percent of one processor.
	CPU *int64
}

// Usage is what a group uses, and has met of its limits since it was made.
type Usage struct {
	Processes int64
	// Memory in bytes, without what the kernel would give back at once.
	Memory int64
	// CPU is the processor time used so far.
	CPU time.Duration
	// ProcessesRefused counts processes that could not be made because of the limit.
	ProcessesRefused int64
	// MemoryKills counts processes that the kernel ended because of the limit.
	MemoryKills int64
	// Throttled is how long the group has waited because of its limit of processor time.
	Throttled time.Duration
}

// Controllers are what limits need of the kernel.
var Controllers = []string{"pids", "memory", "cpu"}

// Tree is where this process makes groups.
type Tree struct {
	// v1 is the directory for groups of each controller of version 1.
	v1 map[string]string
	// v2 is that of version 2; empty without. Has lists the controllers that are available there.
	// Mount is where that tree is mounted.
	v2, mount string
	has       map[string]bool
}

// leaf holds the process that makes the groups where that is in the topmost one: in version 2, a
// group has processes or groups.
const leaf = "supervisor"

// Open finds the layout, and makes the directory called name for the groups, below the group that
// this process is in. It fails where no kind of group can be made.
func Open(name string) (*Tree, error) {
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, err
	}
	t := find(string(mounts), string(own))
	return t, t.prepare(name)
}

// Mount is a tree of groups that is mounted.
type Mount struct {
	// At is where it is mounted, and Own the directory in it of a process's own group; empty if the
	// mount does not show that.
	At, Own string
	// Controllers are those of version 1; none says that it is version 2.
	Controllers []string
}

// Mounts reads mountinfo and the groups of a process, as both are below /proc (proc(5)).
func Mounts(mountinfo, groups string) []Mount {
	in := map[string]string{} // controller of version 1, or "" for version 2, to the group
	for line := range strings.Lines(groups) {
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), ":", 3)
		if len(parts) != 3 {
			continue
		}
		for c := range strings.SplitSeq(parts[1], ",") {
			in[c] = parts[2]
		}
	}
	var list []Mount
	for line := range strings.Lines(mountinfo) {
		before, after, found := strings.Cut(line, " - ")
		fields, kind := strings.Fields(before), strings.Fields(after)
		if !found || len(fields) < 5 || len(kind) < 3 || kind[0] != "cgroup" && kind[0] != "cgroup2" {
			continue
		}
		m := Mount{At: fields[4]}
		group := in[""]
		if kind[0] == "cgroup" {
			m.Controllers = slices.DeleteFunc(strings.Split(kind[2], ","), func(c string) bool {
				return !slices.Contains(version1, c)
			})
			if len(m.Controllers) == 0 {
				continue
			}
			group = in[m.Controllers[0]]
		}
		// The mount may show only what is below a group: then paths begin there.
		if inside, err := filepath.Rel(fields[3], group); err == nil && !strings.HasPrefix(inside, "..") {
			m.Own = filepath.Join(m.At, inside)
		}
		list = append(list, m)
	}
	return list
}

// version1 are the controllers of version 1 that are of use here.
var version1 = []string{"pids", "memory", "cpu", "cpuacct", "freezer"}

// find finds where groups can be made. Where a mount does not show the own one, that is at its top.
func find(mounts, own string) *Tree {
	t := &Tree{v1: map[string]string{}, has: map[string]bool{}}
	for _, m := range Mounts(mounts, own) {
		dir := m.Own
		if dir == "" {
			dir = m.At
		}
		if len(m.Controllers) == 0 {
			t.v2, t.mount = strings.TrimSuffix(dir, "/"+leaf), m.At
		}
		for _, c := range m.Controllers {
			t.v1[c] = dir
		}
	}
	return t
}

// prepare makes the directory for the groups in each tree. What cannot be made is missing.
func (t *Tree) prepare(name string) error {
	var errs []error
	for c, dir := range t.v1 {
		t.v1[c] = filepath.Join(dir, name)
		if err := os.Mkdir(t.v1[c], 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			errs = append(errs, err)
			delete(t.v1, c)
		}
	}
	if t.v2 != "" {
		if err := t.prepareV2(name); err != nil {
			errs = append(errs, err)
			t.v2 = ""
		}
	}
	if t.v2 == "" && t.v1["freezer"] == "" {
		return fmt.Errorf("no cgroups can be made here; /sys/fs/cgroup must be mounted and writable: %w",
			errors.Join(errs...))
	}
	return nil
}

// prepareV2 makes the directory below the own group. Where version 2 has the controllers, it is
// beside the own group instead: that of a service has processes, and whoever starts the service
// again puts them there, which the kernel refuses if groups below have controllers.
func (t *Tree) prepareV2(name string) error {
	above := t.v2
	want, err := t.wanted(above)
	if err != nil {
		return err
	}
	if len(want) > 0 && above != t.mount {
		above = filepath.Dir(above)
		if want, err = t.wanted(above); err != nil {
			return err
		}
	}
	t.v2 = filepath.Join(above, name)
	if err := os.Mkdir(t.v2, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if len(want) == 0 {
		return nil
	}
	if above == t.mount {
		if err := moveDown(above); err != nil {
			return err
		}
	}
	for _, c := range want { // each by itself, so that one that is refused takes no other with it
		_ = write(above, "cgroup.subtree_control", "+"+c) // it may be so already, by who manages that group
		if write(t.v2, "cgroup.subtree_control", "+"+c) == nil {
			t.has[c] = true
		}
	}
	return nil
}

// wanted lists the controllers that a group of version 2 has and that are of use.
func (t *Tree) wanted(group string) ([]string, error) {
	text, err := os.ReadFile(filepath.Join(group, "cgroup.controllers"))
	var want []string
	for c := range strings.FieldsSeq(string(text)) {
		if slices.Contains(Controllers, c) && t.v1[c] == "" {
			want = append(want, c)
		}
	}
	return want, err
}

// moveDown moves the processes of a group into one below it.
func moveDown(group string) error {
	if err := os.Mkdir(filepath.Join(group, leaf), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	inside, err := pids(group)
	if err != nil {
		return err
	}
	for _, pid := range inside {
		err := write(filepath.Join(group, leaf), "cgroup.procs", strconv.Itoa(pid))
		if err != nil && !errors.Is(err, syscall.ESRCH) {
			return err
		}
	}
	return nil
}

// Layout tells in words what is mounted.
func (t *Tree) Layout() string {
	switch {
	case t.v2 != "" && len(t.v1) == 0:
		return "cgroup v2"
	case t.v2 != "":
		return "cgroup v1 and v2"
	}
	return "cgroup v1"
}

// Missing lists the controllers that there are not: limits of that kind are not kept.
func (t *Tree) Missing() []string {
	var list []string
	for _, c := range Controllers {
		if t.v1[c] == "" && !t.has[c] {
			list = append(list, c)
		}
	}
	return list
}

// dirs lists the directories of a group.
func (t *Tree) dirs(name string) []string {
	var list []string
	if t.v2 != "" {
		list = append(list, filepath.Join(t.v2, name))
	}
	for _, c := range version1 {
		if dir := t.v1[c]; dir != "" && !slices.Contains(list, filepath.Join(dir, name)) {
			list = append(list, filepath.Join(dir, name))
		}
	}
	return list
}

// Make makes a group, or takes the one that is there, and sets its limits.
func (t *Tree) Make(name string, l Limits) error {
	for _, dir := range t.dirs(name) {
		if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return t.Limit(name, l)
}

// period is the time over which processor time is shared out: short, so that whoever uses it up
// does so in short bursts, in which others wait.
const period = 20 * time.Millisecond

// Limit sets the limits of a group. Memory that is held is not taken away by a lower one: what
// would need more is refused or ended.
func (t *Tree) Limit(name string, l Limits) error {
	text := func(limit *int64, none string) string {
		if limit == nil {
			return none
		}
		return strconv.FormatInt(*limit, 10)
	}
	quota := func(none string) string {
		if l.CPU == nil {
			return none
		}
		return strconv.FormatInt(*l.CPU*int64(period/time.Microsecond)/100, 10)
	}
	var errs []error
	set := func(dir, file, value string) {
		if dir != "" {
			errs = append(errs, write(filepath.Join(dir, name), file, value))
		}
	}
	set(t.v1["pids"], "pids.max", text(l.Processes, "max"))
	if dir := t.v1["memory"]; dir != "" {
		set(dir, "memory.soft_limit_in_bytes", text(soft(l.Memory), "-1"))
		if err := write(filepath.Join(dir, name), "memory.limit_in_bytes", text(l.Memory, "-1")); err != nil {
			// Version 1 refuses a limit below what cannot be taken back: then it is what is held.
			held, _ := readInt(filepath.Join(dir, name), "memory.usage_in_bytes")
			set(dir, "memory.limit_in_bytes", strconv.FormatInt(held+(1<<20), 10))
		}
	}
	set(t.v1["cpu"], "cpu.cfs_period_us", strconv.FormatInt(int64(period/time.Microsecond), 10))
	set(t.v1["cpu"], "cpu.cfs_quota_us", quota("-1"))
	if t.has["pids"] {
		set(t.v2, "pids.max", text(l.Processes, "max"))
	}
	if t.has["memory"] {
		set(t.v2, "memory.high", text(soft(l.Memory), "max"))
		set(t.v2, "memory.max", text(l.Memory, "max"))
		set(t.v2, "memory.oom.group", "0")
		if err := write(filepath.Join(t.v2, name), "memory.swap.max", "0"); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err) // without the file, the kernel has no swap to count
		}
	}
	if t.has["cpu"] {
		set(t.v2, "cpu.max", quota("max")+" "+strconv.FormatInt(int64(period/time.Microsecond), 10))
	}
	return errors.Join(errs...)
}

// soft is where the kernel begins to take memory back: a little below the limit.
func soft(limit *int64) *int64 {
	if limit == nil {
		return nil
	}
	s := *limit - *limit/10
	return &s
}

// Add puts a process and all it makes from now on into a group.
func (t *Tree) Add(name string, pid int) error {
	for _, dir := range t.dirs(name) {
		if err := write(dir, "cgroup.procs", strconv.Itoa(pid)); err != nil {
			return err
		}
	}
	return nil
}

// PIDs lists the processes of a group; none if there is no such group.
func (t *Tree) PIDs(name string) ([]int, error) {
	found, err := pids(t.dirs(name)[0])
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return found, err
}

// Names lists the groups that there are.
func (t *Tree) Names() ([]string, error) {
	entries, err := os.ReadDir(filepath.Dir(t.dirs("x")[0]))
	if err != nil {
		return nil, err
	}
	var list []string
	for _, e := range entries {
		if e.IsDir() {
			list = append(list, e.Name())
		}
	}
	return list, nil
}

// Kill ends all processes of a group, however fast they make new ones.
// Its limit of processor time is lifted for that, until limits are set
// again: ending takes time, of which the group may have none left.
func (t *Tree) Kill(ctx context.Context, name string) error {
	if dir := t.v1["cpu"]; dir != "" {
		_ = write(filepath.Join(dir, name), "cpu.cfs_quota_us", "-1")
	} else if t.has["cpu"] {
		_ = write(filepath.Join(t.v2, name), "cpu.max", "max")
	}
	for {
		found, err := t.PIDs(name)
		if err != nil || len(found) == 0 {
			return err
		}
		if err := t.killOnce(name); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("processes %v of %s do not end: %w", found, name, ctx.Err())
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (t *Tree) killOnce(name string) error {
	if t.v2 != "" { // Linux 5.14
		err := write(filepath.Join(t.v2, name), "cgroup.kill", "1")
		if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	// A frozen process makes no others.
	if err := t.freeze(name, true); err != nil {
		return err
	}
	found, err := t.PIDs(name)
	for _, pid := range found {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	return errors.Join(err, t.freeze(name, false))
}

func (t *Tree) freeze(name string, frozen bool) error {
	if dir := t.v1["freezer"]; dir != "" {
		state := "THAWED"
		if frozen {
			state = "FROZEN"
		}
		return write(filepath.Join(dir, name), "freezer.state", state)
	}
	state := "0"
	if frozen {
		state = "1"
	}
	return write(filepath.Join(t.v2, name), "cgroup.freeze", state)
}

// Remove removes a group without processes. It is no error if there is none.
func (t *Tree) Remove(name string) error {
	var errs []error
	for _, dir := range t.dirs(name) {
		if err := syscall.Rmdir(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, fmt.Errorf("remove %s: %w", dir, err))
		}
	}
	return errors.Join(errs...)
}

// Usage measures a group.
func (t *Tree) Usage(name string) (Usage, error) {
	var u Usage
	in := func(dir string) string { return filepath.Join(dir, name) }
	found, err := pids(t.dirs(name)[0])
	if err != nil {
		return u, err
	}
	u.Processes = int64(len(found))
	switch {
	case t.v1["pids"] != "":
		u.Processes, _ = readInt(in(t.v1["pids"]), "pids.current")
		u.ProcessesRefused = readKey(in(t.v1["pids"]), "pids.events", "max")
	case t.has["pids"]:
		u.Processes, _ = readInt(in(t.v2), "pids.current")
		u.ProcessesRefused = readKey(in(t.v2), "pids.events", "max")
	}
	switch {
	case t.v1["memory"] != "":
		dir := in(t.v1["memory"])
		u.Memory, _ = readInt(dir, "memory.usage_in_bytes")
		u.Memory -= readKey(dir, "memory.stat", "total_inactive_file")
		u.MemoryKills = readKey(dir, "memory.oom_control", "oom_kill")
	case t.has["memory"]:
		u.Memory, _ = readInt(in(t.v2), "memory.current")
		u.Memory -= readKey(in(t.v2), "memory.stat", "inactive_file")
		u.MemoryKills = readKey(in(t.v2), "memory.events", "oom_kill")
	}
	u.Memory = max(0, u.Memory)
	switch {
	case t.v1["cpu"] != "":
		u.Throttled = time.Duration(readKey(in(t.v1["cpu"]), "cpu.stat", "throttled_time"))
	case t.has["cpu"]:
		u.Throttled = time.Duration(readKey(in(t.v2), "cpu.stat", "throttled_usec")) * time.Microsecond
	}
	switch {
	case t.v1["cpuacct"] != "":
		nanoseconds, _ := readInt(in(t.v1["cpuacct"]), "cpuacct.usage")
		u.CPU = time.Duration(nanoseconds)
	case t.v2 != "":
		u.CPU = time.Duration(readKey(in(t.v2), "cpu.stat", "usage_usec")) * time.Microsecond
	}
	return u, nil
}

func write(dir, file, value string) error {
	f, err := os.OpenFile(filepath.Join(dir, file), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteString(value)
	return err
}

func readInt(dir, file string) (int64, error) {
	text, err := os.ReadFile(filepath.Join(dir, file))
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
}

// readKey reads a number from a file of keys and values; 0 where there is none.
func readKey(dir, file, key string) int64 {
	f, err := os.Open(filepath.Join(dir, file))
	if err != nil {
		return 0
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if k, value, found := strings.Cut(lines.Text(), " "); found && k == key {
			n, _ := strconv.ParseInt(value, 10, 64)
			return n
		}
	}
	return 0
}

func pids(dir string) ([]int, error) {
	text, err := os.ReadFile(filepath.Join(dir, "cgroup.procs"))
	if err != nil {
		return nil, err
	}
	var list []int
	for line := range strings.FieldsSeq(string(text)) {
		// What is outside of this PID namespace has the number 0.
		if pid, err := strconv.Atoi(line); err == nil && pid > 0 {
			list = append(list, pid)
		}
	}
	return list, nil
}
