package lab

import (
	"context"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	Hook()
	os.Exit(m.Run())
}

// newLab starts an empty lab for one test.
func newLab(t *testing.T, name string) *Lab {
	t.Helper()
	require.NoError(t, CheckRights())
	ctx := context.Background()
	require.NoError(t, InstallPackages(ctx, func(s string) { t.Log(s) }, MachinePackages...))
	base, err := EnsureBase(ctx, CacheDir(), func(s string) { t.Log(s) })
	require.NoError(t, err)
	subnet, err := FreeSubnet(ctx)
	require.NoError(t, err)
	l, err := New(Options{Name: name, Dir: t.TempDir(), Base: base, Subnet: subnet})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Stop()) })
	return l
}

func TestServer(t *testing.T) {
	ctx := context.Background()
	loops := loopDevices(t)
	l := newLab(t, "labt")
	s, err := l.StartServer(ctx, ServerOptions{Name: "skua", Host: 21, HomeSize: 256 << 20})
	require.NoError(t, err)

	t.Run("is a machine of its own", func(t *testing.T) {
		out, err := s.Exec(ctx, "hostname")
		require.NoError(t, err)
		assert.Equal(t, "skua\n", out)
		_, err = s.Exec(ctx, "useradd", "--no-create-home", "onlyhere")
		require.NoError(t, err)
		assert.Error(t, exec.Command("id", "onlyhere").Run(), "the user must not be on the machine")
		out, err = s.Exec(ctx, "ps", "-e", "-o", "comm=")
		require.NoError(t, err)
		for _, program := range []string{"nginx", "php-fpm8.2", "sshd"} {
			assert.Contains(t, out, program)
		}
	})

	t.Run("answers on the lab's network, cut off and back", func(t *testing.T) {
		ping := func() error {
			conn, err := net.DialTimeout("tcp", s.Address.String()+":22", time.Second)
			if err == nil {
				conn.Close()
			}
			return err
		}
		require.True(t, within(5*time.Second, func() bool { return ping() == nil }))
		require.NoError(t, s.Cut(false))
		assert.Error(t, ping())
		require.NoError(t, s.Cut(true))
		assert.True(t, within(5*time.Second, func() bool { return ping() == nil }))
	})

	t.Run("a quota limit stops a write", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", "btrfs subvolume create /home/q && btrfs qgroup limit 20M /home/q")
		require.NoError(t, err)
		out, err := s.Exec(ctx, "sh", "-c", "dd if=/dev/urandom of=/home/q/f bs=1M count=40 && sync -f /home/q")
		require.Error(t, err)
		assert.Contains(t, out, "Disk quota exceeded")
	})

	t.Run("starts again with its data", func(t *testing.T) {
		s.Kill()
		require.NoError(t, s.Start(ctx))
		_, err := s.Exec(ctx, "id", "onlyhere")
		assert.NoError(t, err)
		_, err = s.Exec(ctx, "test", "-f", "/home/q/f")
		assert.NoError(t, err)
	})

	t.Run("leaves nothing", func(t *testing.T) {
		bridge := l.state.Bridge
		require.NoError(t, l.Stop())
		_, err := os.Stat("/sys/class/net/" + bridge)
		assert.ErrorIs(t, err, os.ErrNotExist)
		assert.True(t, within(5*time.Second, func() bool { return loopDevices(t) == loops }), "loop devices left")
		mounts, err := os.ReadFile("/proc/self/mounts")
		require.NoError(t, err)
		assert.NotContains(t, string(mounts), l.options.Dir)
	})
}

func TestCleanUpAfterKilledLab(t *testing.T) {
	l := newLab(t, "labk")
	s, err := l.StartServer(context.Background(), ServerOptions{Name: "skua", Host: 21, HomeSize: 128 << 20})
	require.NoError(t, err)
	// What a SIGKILL leaves: the state file and the bridge, perhaps processes.
	l.lock.Close()
	again, err := New(l.options)
	require.NoError(t, err)
	assert.Empty(t, startTime(s.cmd.Process.Pid), "the first process must be gone")
	require.NoError(t, again.Stop())
}

func loopDevices(t *testing.T) string {
	t.Helper()
	out, err := exec.Command("losetup", "--list", "--noheadings", "--output", "NAME,BACK-FILE").Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}
