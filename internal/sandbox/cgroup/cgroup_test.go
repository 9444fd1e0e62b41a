package cgroup

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLayouts(t *testing.T) {
	const hybrid = `30 24 0:26 / /sys/fs/cgroup ro,nosuid - tmpfs tmpfs ro
31 30 0:27 / /sys/fs/cgroup/unified rw - cgroup2 cgroup2 rw
32 30 0:28 / /sys/fs/cgroup/pids rw - cgroup cgroup rw,pids
33 30 0:29 / /sys/fs/cgroup/cpu,cpuacct rw - cgroup cgroup rw,cpu,cpuacct
34 30 0:30 /process/a /sys/fs/cgroup/memory rw - cgroup cgroup rw,memory
`
	got := find(hybrid, "9:name=systemd:/\n8:pids:/system.slice/s\n7:cpu,cpuacct:/\n4:memory:/process/a/b\n0::/x\n")
	assert.Equal(t, map[string]string{"pids": "/sys/fs/cgroup/pids/system.slice/s", "cpu": "/sys/fs/cgroup/cpu,cpuacct",
		"cpuacct": "/sys/fs/cgroup/cpu,cpuacct", "memory": "/sys/fs/cgroup/memory/b"}, got.v1)
	assert.Equal(t, "/sys/fs/cgroup/unified/x", got.v2)
	assert.Equal(t, "cgroup v1 and v2", got.Layout())

	const unified = "31 30 0:27 / /sys/fs/cgroup rw - cgroup2 cgroup2 rw\n"
	for _, group := range []string{"/system.slice/sandbox.service", "/system.slice/sandbox.service/supervisor"} {
		got = find(unified, "0::"+group+"\n")
		assert.Equal(t, "/sys/fs/cgroup/system.slice/sandbox.service", got.v2)
		assert.Equal(t, "cgroup v2", got.Layout())
	}
	assert.Equal(t, []string{"pids", "memory", "cpu"}, got.Missing())
}

// A tree of version 2 with its controllers, as plain files: what is written where.
func TestVersion2(t *testing.T) {
	dir := t.TempDir()
	file := func(name, content string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
	}
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(text)
	}
	file("cgroup.controllers", "cpuset cpu io memory pids\n")
	file("cgroup.procs", "17\n")
	file("cgroup.subtree_control", "")
	file("supervisor/cgroup.procs", "")
	file("accounts/cgroup.subtree_control", "")
	for _, name := range []string{"pids.max", "memory.max", "memory.high", "memory.swap.max", "memory.oom.group",
		"cpu.max", "cgroup.procs"} {
		file("accounts/bakery/"+name, "")
	}
	tree := &Tree{v1: map[string]string{}, v2: dir, mount: dir, has: map[string]bool{}}
	require.NoError(t, tree.prepare("accounts"))
	assert.Empty(t, tree.Missing())
	assert.Equal(t, "17", read("supervisor/cgroup.procs"), "whoever makes groups is in a group without any")
	processes, memory, cpu := int64(50), int64(100<<20), int64(150)
	require.NoError(t, tree.Make("bakery", Limits{&processes, &memory, &cpu}))
	assert.Equal(t, "50", read("accounts/bakery/pids.max"))
	assert.Equal(t, "104857600", read("accounts/bakery/memory.max"))
	assert.Equal(t, "94371840", read("accounts/bakery/memory.high"))
	assert.Equal(t, "30000 20000", read("accounts/bakery/cpu.max"))
	require.NoError(t, tree.Add("bakery", 99))
	assert.Equal(t, "99", read("accounts/bakery/cgroup.procs"))

	file("accounts/bakery/pids.current", "7\n")
	file("accounts/bakery/pids.events", "max 3\n")
	file("accounts/bakery/memory.current", "5000\n")
	file("accounts/bakery/memory.stat", "anon 10\ninactive_file 1000\n")
	file("accounts/bakery/memory.events", "low 0\noom 2\noom_kill 1\n")
	file("accounts/bakery/cpu.stat", "usage_usec 2000000\nthrottled_usec 500\n")
	usage, err := tree.Usage("bakery")
	require.NoError(t, err)
	assert.Equal(t, Usage{Processes: 7, Memory: 4000, CPU: 2 * time.Second, ProcessesRefused: 3, MemoryKills: 1,
		Throttled: 500 * time.Microsecond}, usage)
}

// The group of a service has processes: the accounts' are beside it.
func TestVersion2OfAService(t *testing.T) {
	dir := t.TempDir()
	for _, group := range []string{"", "victualler.slice", "victualler.slice/sandbox.service",
		"victualler.slice/accounts"} {
		for file, content := range map[string]string{"cgroup.controllers": "cpu memory pids", "cgroup.procs": "17",
			"cgroup.subtree_control": ""} {
			path := filepath.Join(dir, group, file)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
		}
	}
	tree := &Tree{v1: map[string]string{}, v2: filepath.Join(dir, "victualler.slice/sandbox.service"), mount: dir,
		has: map[string]bool{}}
	require.NoError(t, tree.prepare("accounts"))
	assert.Equal(t, filepath.Join(dir, "victualler.slice/accounts"), tree.v2)
	assert.Empty(t, tree.Missing())
	assert.NoDirExists(t, filepath.Join(dir, "victualler.slice/sandbox.service", leaf), "it stays where it is")
	again := &Tree{v1: map[string]string{}, v2: filepath.Join(dir, "victualler.slice/sandbox.service"), mount: dir,
		has: map[string]bool{}}
	require.NoError(t, again.prepare("accounts"), "one that comes after finds them")
}

// The kernel's own, in whatever layout this machine has.
func TestKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	tree, err := Open("victualler-test-" + strconv.Itoa(os.Getpid()))
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		names, _ := tree.Names()
		for _, name := range names {
			assert.NoError(t, tree.Kill(ctx, name))
			assert.Eventually(t, func() bool { return tree.Remove(name) == nil }, 10*time.Second, 20*time.Millisecond)
		}
		for _, dir := range tree.dirs("") {
			assert.NoError(t, os.Remove(dir))
		}
	})
	t.Log(tree.Layout(), "missing:", tree.Missing())
	if len(tree.Missing()) > 0 {
		t.Skip("not all controllers are here")
	}
	processes, memory, cpu := int64(30), int64(64<<20), int64(20)
	require.NoError(t, tree.Make("one", Limits{&processes, &memory, &cpu}))
	start := func(script string) {
		cmd := exec.Command("sh", "-c", "read go; "+script)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		require.NoError(t, tree.Add("one", cmd.Process.Pid))
		_, err = in.Write([]byte("\n"))
		require.NoError(t, err)
		go cmd.Wait()
	}
	usage := func() Usage {
		u, err := tree.Usage("one")
		require.NoError(t, err)
		return u
	}
	wait := func(done func() bool) {
		t.Helper()
		require.Eventually(t, done, 20*time.Second, 20*time.Millisecond)
	}
	tells := func(script string) string {
		cmd := exec.Command("bash", "-c", "read go; "+script)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		var out bytes.Buffer
		cmd.Stderr = &out
		require.NoError(t, cmd.Start())
		require.NoError(t, tree.Add("one", cmd.Process.Pid))
		_, err = in.Write([]byte("\n"))
		require.NoError(t, err)
		_ = cmd.Wait() // there is nobody to connect to
		return out.String()
	}
	connects := func(to string) string { return tells("echo > /dev/tcp/" + to) }
	assert.Contains(t, connects("127.0.0.1/25"), "refused")
	for range 2 {
		require.NoError(t, tree.RefusePort(25))
	}
	for _, to := range []string{"127.0.0.1/25", "::1/25", "::ffff:127.0.0.1/25"} {
		assert.Contains(t, connects(to), "Operation not permitted", to)
	}
	// What is sent with the connection asks for it (RFC 7413).
	assert.Contains(t, tells(`perl -MSocket -e 'socket(my $s, AF_INET, SOCK_STREAM, 0);
		send($s, "x", 0x20000000, sockaddr_in(25, inet_aton("127.0.0.1"))) or die $!'`), "Operation not permitted")
	for _, to := range []string{"127.0.0.1/24", "127.0.0.1/6400", "::1/281"} {
		assert.Contains(t, connects(to), "refused", to)
	}

	start(`exec perl -e 'fork while 1'`)
	wait(func() bool { return usage().ProcessesRefused > 10 })
	assert.LessOrEqual(t, usage().Processes, processes)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	require.NoError(t, tree.Kill(ctx, "one"), "however fast they make new ones")
	left, err := tree.PIDs("one")
	require.NoError(t, err)
	assert.Empty(t, left)
	wait(func() bool { return usage().Processes == 0 }) // until those that ended are heard of

	start(`x=$(head -c 200000000 /dev/zero | tr '\0' x); sleep 100`)
	wait(func() bool { return usage().MemoryKills > 0 })
	require.NoError(t, tree.Kill(ctx, "one"))
	require.NoError(t, tree.Limit("one", Limits{&processes, &memory, &cpu}))
	start(`while :; do :; done`)
	wait(func() bool { return usage().Throttled > 100*time.Millisecond })
	var share float64
	for range 5 { // what a busy machine counts in one second may be off
		before, began := usage().CPU, time.Now()
		time.Sleep(time.Second)
		share = float64(usage().CPU-before) / float64(time.Since(began))
		if share > 0.1 && share < 0.3 {
			break
		}
	}
	assert.InDelta(t, 0.2, share, 0.15, "a fifth of a processor")
	require.NoError(t, tree.Kill(ctx, "one"))
	names, err := tree.Names()
	require.NoError(t, err)
	assert.Equal(t, "one", strings.Join(names, ","))
	wait(func() bool { return tree.Remove("one") == nil })
	require.NoError(t, tree.Remove("one"), "once more is no error")

	// Where there is no cgroup.kill, freezing keeps them from making others.
	old := *tree
	old.v2 = ""
	require.NoError(t, old.Make("two", Limits{}))
	cmd := exec.Command("sleep", "100")
	require.NoError(t, cmd.Start())
	require.NoError(t, old.Add("two", cmd.Process.Pid))
	go cmd.Wait()
	require.NoError(t, old.Kill(ctx, "two"))
	wait(func() bool { return old.Remove("two") == nil })
}
