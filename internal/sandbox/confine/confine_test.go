package confine_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/sandbox/confine"
)

func TestMain(m *testing.M) {
	confine.Hook()
	os.Exit(m.Run())
}

const uid = 1_000_042

// run runs a script in a sandbox of a home of its own and returns what it prints.
func run(t *testing.T, script string) string {
	t.Helper()
	if os.Geteuid() != 0 || exec.Command("unshare", "--mount", "--pid", "--ipc", "--fork", "true").Run() != nil {
		t.Skip("needs root and namespaces")
	}
	home, err := os.MkdirTemp("/home", "sandboxtest")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(home) })
	require.NoError(t, os.Chown(home, 0, uid))
	require.NoError(t, os.Chmod(home, 0o750))
	require.NoError(t, os.Mkdir(filepath.Join(home, "tmp"), 0o700))
	require.NoError(t, os.Chown(filepath.Join(home, "tmp"), uid, uid))
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	defer out.Close()
	null, err := os.Open(os.DevNull)
	require.NoError(t, err)
	defer null.Close()
	admitted := 0
	p, err := confine.Start(confine.Spec{Account: "bakery", UID: uid, Home: home, Argv: []string{"sh", "-c", script},
		Env: confine.Environment("bakery", home)}, confine.Files{Stdin: null, Stdout: out, Stderr: out},
		func(pid int) error { admitted = pid; return nil })
	require.NoError(t, err)
	_, err = p.Wait()
	require.NoError(t, err)
	assert.Equal(t, p.Pid, admitted)
	text, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	return strings.TrimSpace(strings.ReplaceAll(string(text), home, "HOME"))
}

func TestWhoAndWhere(t *testing.T) {
	out := run(t, `id -u; id -g; id -G; pwd; echo $HOME; ls /home | wc -l; ls /proc | grep -c '^[0-9]'
		grep -E 'CapEff|CapPrm|CapBnd|CapAmb|NoNewPrivs|Seccomp:' /proc/self/status | tr -d '\t'; cat /etc/passwd | wc -l
		ulimit -c; ulimit -n`)
	assert.Equal(t, `1000042
1000042
1000042
HOME
HOME
1
3
CapPrm:0000000000000000
CapEff:0000000000000000
CapBnd:0000000000000000
CapAmb:0000000000000000
NoNewPrivs:1
Seccomp:2
4
0
1024`, out)
}

// What an account has no business with is not there, whatever its rights are outside.
func TestNotThere(t *testing.T) {
	for _, path := range []string{"/etc/shadow", "/etc/nginx", "/etc/ssh", "/etc/victualler", "/root/*", "/var/log/*",
		"/var/lib/victualler-agent", "/run/victualler", "/run/victualler-[!m]*",
		"/run/victualler-mail/pid", "/run/*.pid", "/sys/*", "/dev/sda", "/dev/loop*", "/dev/mem",
		"/dev/kmsg", "/srv/*", "/etc/cron*", "/mnt/*", "/var/spool"} {
		assert.NotContains(t, run(t, "echo "+path+`; ls -d `+path+` 2>/dev/null && echo IS THERE`), "IS THERE", path)
	}
}

func TestReadOnly(t *testing.T) {
	out := run(t, `for d in / /usr /etc /bin /dev /dev/pts /run /var /var/cache /home /lib; do
		touch $d/x 2>/dev/null && echo wrote to $d; done
		(echo 1 > /etc/hosts) 2>/dev/null && echo wrote to a file
		mount -o remount,rw / 2>/dev/null && echo remounted
		for d in /tmp /var/tmp /dev/shm $HOME/tmp; do touch $d/y || echo cannot write to $d; done
		ls /var/tmp; ls $HOME/tmp`)
	assert.Equal(t, "y\ny", out, "temporary files are the home's")
}

// System calls that are refused, each tried.
func TestRefusedCalls(t *testing.T) {
	const script = `
use strict; no warnings;
open(my $dir, "<", $ENV{HOME}) or die;
for my $request (0x5000940e, 0x50009401, 0x5000940f, 0x50009418, 0x50009417, 0x5000943f, 0x401c5820, 0x40086602, 0x5412) {
	my $buffer = "x" x 4096; $! = 0;
	my $got = ioctl($dir, $request, $buffer);
	print sprintf("%x let through\n", $request) if $got; print sprintf("%x: %s\n", $request, $!) if $! != 1;
}
# unshare, setns, bpf, perf_event_open, userfaultfd, io_uring_setup, keyctl, clone with a user namespace, mount
for my $call ([272, 0x10000000], [308, 3, 0], [321, 0, 0, 0], [298, 0, 0, 0], [323, 0], [425, 1, 0], [250, 0, 0],
	[56, 0x10000000 | 17, 0, 0, 0, 0], [165, 0, 0, 0, 0, 0], [0x40000000 | 39], [435, 0, 0]) {
	$! = 0; my ($n, @with) = @$call; my $got = syscall($n, @with);
	print "call $$call[0] let through\n" if $got != -1;
	print "call $$call[0]: $!\n" if $! != 1 && $! != 38;
}
# sockets: unix, inet, inet6 and routes; not others, nor several paths for one, nor lists of connections
for my $f ([1, 1, 0, 1], [2, 1, 0, 1], [10, 1, 0, 1], [2, 1, 262, 0], [10, 1, 262, 0], [16, 3, 0, 1], [16, 3, 4, 0], [16, 3, 12, 0], [17, 3, 0, 0], [38, 5, 0, 0], [40, 1, 0, 0]) {
	my $got = socket(my $s, $$f[0], $$f[1], $$f[2]) ? 1 : 0;
	print "socket @$f: $!\n" if $got != $$f[3];
}
print "end\n";`
	assert.Equal(t, "end", run(t, "perl -e '"+script+"'"))
}

// A home that its owner has bent keeps nobody from being confined in it.
func TestBentHome(t *testing.T) {
	home, err := os.MkdirTemp("/home", "sandboxtest")
	if err != nil {
		t.Skip(err)
	}
	defer os.RemoveAll(home)
	require.NoError(t, os.Chown(home, 0, uid))
	require.NoError(t, os.Symlink("/etc", filepath.Join(home, "tmp")))
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	r, w, err := os.Pipe()
	require.NoError(t, err)
	start := func(id int) *os.Process {
		p, err := confine.Start(confine.Spec{Account: "bakery", UID: id, Home: home,
			Argv: []string{"sh", "-c", "touch /tmp/x && echo wrote; stat -f -c %T /tmp; ls /tmp"}},
			confine.Files{Stdin: r,
				Stdout: w, Stderr: w}, func(int) error { return nil })
		require.NoError(t, err)
		return p
	}
	_, err = start(uid).Wait()
	require.NoError(t, err)
	_, err = start(uid + 1).Wait()
	require.NoError(t, err)
	w.Close()
	var out strings.Builder
	buffer := make([]byte, 4096)
	for n, err := r.Read(buffer); err == nil; n, err = r.Read(buffer) {
		out.Write(buffer[:n])
	}
	assert.Contains(t, out.String(), "wrote\ntmpfs\nx\n", "a small /tmp of its own in the place of the link")
	assert.Contains(t, out.String(), "belongs to group 1000042, not to the account's", "another's home")
}
