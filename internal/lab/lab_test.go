package lab_test

import (
	"context"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

func TestMain(m *testing.M) {
	labtest.Main(m)
}

func TestServer(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	l := start(t, "labt", dir)
	s, err := l.StartServer(ctx, lab.ServerOptions{Name: "skua", Host: 21, HomeSize: 256 << 20})
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
		for _, program := range []string{"nginx", "knotd", "sshd"} {
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
		labtest.Eventually(t, func() bool { return ping() == nil })
		require.NoError(t, s.Cut(false))
		assert.Error(t, ping())
		require.NoError(t, s.Cut(true))
		labtest.Eventually(t, func() bool { return ping() == nil })
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

	t.Run("starts again with its hardware address, which its neighbours know", func(t *testing.T) {
		// With another server there, the network stays up meanwhile and nothing is forgotten.
		_, err := l.StartServer(ctx, lab.ServerOptions{Name: "petrel", Host: 22, HomeSize: 256 << 20})
		require.NoError(t, err)
		addresses := []netip.Addr{s.Address, lab.Address6(s.Address)}
		answers := func(a netip.Addr) func() bool {
			return func() bool {
				conn, err := net.DialTimeout("tcp", netip.AddrPortFrom(a, 22).String(), 200*time.Millisecond)
				if err == nil {
					conn.Close()
				}
				return err == nil
			}
		}
		for _, a := range addresses {
			labtest.Eventually(t, answers(a))
		}
		s.Kill()
		require.NoError(t, s.Start(ctx))
		labtest.Eventually(t, func() bool {
			_, err := s.Exec(ctx, "bash", "-c", "echo > /dev/tcp/127.0.0.1/22")
			return err == nil
		})
		for _, a := range addresses {
			labtest.Within(t, 2*time.Second, answers(a), a)
		}
	})

	t.Run("leaves nothing", func(t *testing.T) {
		require.NoError(t, l.Stop())
		assert.False(t, bridge("vlabt"), "the bridge is left")
		labtest.Eventually(t, func() bool { return len(loopDevices(t, dir)) == 0 }, "loop devices left")
		mounts, err := os.ReadFile("/proc/self/mounts")
		require.NoError(t, err)
		assert.NotContains(t, string(mounts), dir)
	})
}

// A killed lab is cleaned up by the next one of the same directory. The killed
// one is this test in another process.
func TestCleanUpAfterKilledLab(t *testing.T) {
	if testing.Short() {
		t.Skip("on the lab's real programs: make test")
	}
	const asChild = "LAB_TEST_DIR"
	if dir := os.Getenv(asChild); dir != "" {
		l := start(t, "labk", dir)
		_, err := l.StartServer(context.Background(), lab.ServerOptions{Name: "skua", Host: 21, HomeSize: 128 << 20})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(dir+"/up", nil, 0o600))
		time.Sleep(time.Minute)
		return
	}
	dir := t.TempDir()
	child := exec.Command(os.Args[0], "-test.run=^TestCleanUpAfterKilledLab$")
	child.Env = append(os.Environ(), asChild+"="+dir)
	child.Stdout, child.Stderr = t.Output(), t.Output()
	t.Cleanup(func() { exec.Command("ip", "link", "delete", "vlabk").Run() }) // there only if this test fails
	require.NoError(t, child.Start())
	labtest.Eventually(t, func() bool { _, err := os.Stat(dir + "/up"); return err == nil })
	require.NotEmpty(t, loopDevices(t, dir), "the child's server must be up")
	require.NoError(t, child.Process.Kill())
	child.Wait()

	require.True(t, bridge("vlabk"))
	l := start(t, "labk", dir)
	labtest.Eventually(t, func() bool { return len(loopDevices(t, dir)) == 0 }, "the killed lab's loop device is left")
	require.NoError(t, l.Stop())
	assert.False(t, bridge("vlabk"))
}

// Two labs of one name: the second is refused and the first stays whole.
func TestNameTaken(t *testing.T) {
	first := start(t, "labx", t.TempDir())
	o := labtest.Options(t, "labx", t.TempDir())
	o.Name = "labx"
	_, err := lab.New(o)
	assert.ErrorContains(t, err, "there is a network bridge vlabx already")
	assert.True(t, bridge("vlabx"))
	require.NoError(t, first.Stop())
	second, err := lab.New(o)
	require.NoError(t, err)
	require.NoError(t, second.Stop())
}

func start(t *testing.T, name, dir string) *lab.Lab {
	t.Helper()
	o := labtest.Options(t, name, dir)
	o.Name = name // looked for below
	l, err := lab.New(o)
	require.NoError(t, err)
	return l
}

// loopDevices lists the files below a directory that loop devices show: others' labs have theirs.
func loopDevices(t *testing.T, dir string) (files []string) {
	t.Helper()
	out, err := exec.Command("losetup", "--list", "--noheadings", "--output", "BACK-FILE").Output()
	require.NoError(t, err)
	for file := range strings.Lines(string(out)) {
		if strings.HasPrefix(file, dir+"/") {
			files = append(files, file)
		}
	}
	return files
}

func bridge(name string) bool {
	_, err := os.Stat("/sys/class/net/" + name)
	return err == nil
}
