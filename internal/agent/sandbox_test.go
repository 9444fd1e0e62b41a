package agent_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/logins"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// customer is an account with code execution: what it asks is run by its site's PHP.
type customer struct {
	t *testing.T
	s *lab.Server
	c *agentlink.Client
	m manifest.Manifest
}

// runner is the script with which a customer runs commands.
const runner = `<?php ignore_user_abort(true); header("Content-Type: text/plain"); passthru($_GET["c"] . " 2>&1");`

func newCustomer(t *testing.T, s *lab.Server, c *agentlink.Client, m manifest.Manifest) *customer {
	t.Helper()
	applied(t, c, m)
	_, err := s.Exec(context.Background(), "sh", "-ec", `cd "$1"; rm -f index.html; cat > run.php; chown "$2": run.php`,
		"sh", "/home/"+m.SignInName+"/"+m.Sites[0].Root, m.SignInName)
	require.NoError(t, err)
	cmd := s.Command(context.Background(), "tee", "/home/"+m.SignInName+"/"+m.Sites[0].Root+"/run.php")
	cmd.Stdin = strings.NewReader(runner)
	require.NoError(t, cmd.Run())
	return &customer{t, s, c, m}
}

// run runs a command as the site's PHP does and returns what it prints.
func (c *customer) run(command string) string {
	c.t.Helper()
	out, err := c.s.Exec(context.Background(), "curl", "-s", "-G", "-m", "60", "-H",
		"Host: "+c.m.Sites[0].Domain.String(),
		"--data-urlencode", "c="+command, "http://"+c.s.Address.String()+"/run.php")
	require.NoError(c.t, err, out)
	return strings.TrimSpace(out)
}

// change applies the account with a change.
func (c *customer) change(change func(*manifest.Manifest)) agentlink.Receipt {
	c.t.Helper()
	change(&c.m)
	c.m.Revision++
	return applied(c.t, c.c, c.m)
}

// load is what runs for the account.
func (c *customer) load() agentlink.Load {
	c.t.Helper()
	sweep, err := c.c.Sweep(context.Background())
	require.NoError(c.t, err)
	for _, a := range sweep.Accounts {
		if a.SignInName == c.m.SignInName && a.Load != nil {
			return *a.Load
		}
	}
	return agentlink.Load{}
}

// processes lists what runs as the account's user, wherever.
func (c *customer) processes() string {
	out, _ := c.s.Exec(context.Background(), "pgrep", "-a", "-U", fmt.Sprint(c.m.UID()))
	return out
}

func limit(n int64) *int64 { return &n }

func TestSandbox(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "sand", lab.ServerOptions{HomeSize: 512 << 20})
	m := account(t, 1, "ferries", "ferries.example")
	m.Sandbox = manifest.Sandbox{Processes: limit(25), Memory: limit(128 << 20), CPU: limit(50)}
	ferries := newCustomer(t, s, c, m)
	bakery := newCustomer(t, s, c, account(t, 2, "bakery", "bakery.example"))
	assert.Empty(t, ferries.processes(), "an account at rest has no process")

	t.Run("it sees nothing of others", func(t *testing.T) {
		require.Equal(t, "bread", bakery.run(`echo secret-recipe > ~/sites/note; echo bread`))
		assert.Equal(t, "ferries", ferries.run("ls /home"))
		assert.NotContains(t, ferries.run("cat /etc/passwd; ps aux"), "bakery")
		assert.Equal(t, "6", ferries.run("ps aux | wc -l"),
			"its own alone: a heading, PHP's two, and this line's three")
		for _, path := range []string{"/etc/nginx", "/etc/victualler", "/var/log/victualler", "/run/victualler",
			"/run/victualler-sandbox", "/var/lib/victualler-agent", "/etc/shadow", "/home/bakery", "/sys/fs"} {
			out := ferries.run("ls " + path)
			if path == "/etc/victualler" {
				assert.Equal(t, "php", out)
				assert.Equal(t, "ferries", ferries.run("ls /etc/victualler/php"))
				continue
			}
			assert.Contains(t, out, "No such file", path)
		}
		assert.Equal(t, "CapEff:\t0000000000000000\nNoNewPrivs:\t1\nSeccomp:\t2",
			ferries.run("grep -E 'CapEff|NoNewPrivs|Seccomp:' /proc/self/status"))
		assert.Equal(t, "/tmp/x", ferries.run("touch /tmp/x; ls /tmp/x"))
		assert.Contains(t, bakery.run("ls /tmp/x"), "No such file", "each has a /tmp of its own")
		assert.Contains(t, ferries.run("ls ~/tmp"), "x", "which is in the home")
		assert.NotContains(t, ferries.run("php -r 1; find / -xdev -writable -not -path '/proc/*' 2>/dev/null"), "/etc")
	})

	t.Run("one cache of compiled scripts for each", func(t *testing.T) {
		require.Equal(t, "", bakery.run("true"))
		ferries.run(
			`echo '<?php echo implode(" ", array_keys(opcache_get_status()["scripts"])); opcache_reset();' > ~/sites/ferries.example/cache.php`)
		ferries.run("touch -d '1 minute ago' ~/sites/ferries.example/*") // what is new is not put there yet
		ferries.run("true")
		_, body := get(t, s, "ferries.example", "/cache.php")
		assert.Contains(t, body, "/home/ferries/")
		assert.NotContains(t, body, "bakery")
	})

	t.Run("it has the processes, memory and time that it may have", func(t *testing.T) {
		ferries.run(`setsid perl -e 'fork while 1' >/dev/null 2>&1 </dev/null &`)
		labtest.Eventually(t, func() bool { return ferries.load().ProcessesRefused > 5 })
		l := ferries.load()
		assert.LessOrEqual(t, l.Processes, int64(25))
		assert.Equal(t, "still here", bakery.run("echo still here"), "nobody else notices")
		ferries.change(func(m *manifest.Manifest) { m.Suspended = true })
		assert.Empty(t, ferries.processes(), "however fast they fork, nothing outlives the suspension")
		ferries.change(func(m *manifest.Manifest) { m.Suspended = false })
		assert.Equal(t, "back", ferries.run("echo back"))

		ferries.run(`perl -e '$x .= "x" x 1e6 while 1'`)
		assert.Positive(t, ferries.load().MemoryKills)
		assert.Equal(t, "back", ferries.run("echo back"))
		ferries.run(`timeout 2 perl -e '1 while 1'`)
		assert.Greater(t, ferries.load().Throttled, 500*time.Millisecond)

		ferries.change(func(m *manifest.Manifest) { m.Sandbox.Processes = limit(40) })
		// A child is called sleep when it has become it.
		assert.Equal(t, "30", ferries.run(`for n in $(seq 30); do sleep 20 & done
			for n in $(seq 50); do [ "$(pgrep -c sleep)" = 30 ] && break; done; pgrep -c sleep; pkill sleep`),
			"a higher limit counts at once")
	})

	t.Run("nothing outlives what it belongs to", func(t *testing.T) {
		ferries.run(`setsid sh -c 'while :; do sleep 0.1; done' >/dev/null 2>&1 </dev/null &`)
		require.Contains(t, ferries.processes(), "sleep")
		ferries.change(func(m *manifest.Manifest) { m.Suspended = true })
		assert.Empty(t, ferries.processes())
		status, _ := get(t, s, "ferries.example", "/run.php")
		assert.Equal(t, "503", status)
		ferries.change(func(m *manifest.Manifest) { m.Suspended = false })
	})

	t.Run("a subvolume cannot be made", func(t *testing.T) {
		assert.Contains(t, ferries.run(`perl -e 'open(D, "<", $ENV{HOME} . "/sites"); my $b = pack("q a4088", 0, "sub");
			print ioctl(D, 0x5000940e, $b) ? "made" : "refused: $!"'`), "refused: Operation not permitted")
	})

	t.Run("closing ends it", func(t *testing.T) {
		ferries.run(`setsid perl -e 'fork while 1' >/dev/null 2>&1 </dev/null &`)
		applied(t, c, closed(ferries.m))
		assert.Empty(t, ferries.processes())
		out, err := s.Exec(ctx, "sh", "-c",
			"ls /etc/victualler/sandboxes; ls /run/victualler/php | grep 1000001; find /sys/fs/cgroup -name ferries")
		require.NoError(t, err)
		assert.NotContains(t, out, "ferries")
		assert.NotContains(t, out, "1000001")
		assert.Equal(t, "still here", bakery.run("echo still here"))
	})
}

// Sessions of sshd are in the same sandbox, or within the same limits.
func TestSessions(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "sess", lab.ServerOptions{HomeSize: 256 << 20})
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	sshKey, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	key, err := logins.ParseKey(string(ssh.MarshalAuthorizedKey(sshKey)))
	require.NoError(t, err)
	byKey := ssh.PublicKeys(signer)
	m := account(t, 1, "ferries", "ferries.example")
	m.Logins, m.Shell = []logins.Login{{Name: "ferries", Keys: []string{key.Line}},
		{Name: "ferries-anna", Folder: "sites/ferries.example", Keys: []string{key.Line}}}, true
	m.Sandbox = manifest.Sandbox{Processes: limit(30)}
	ferries := newCustomer(t, s, c, m)
	newCustomer(t, s, c, account(t, 2, "bakery", "bakery.example"))

	var conn *ssh.Client
	labtest.Eventually(t, func() bool { conn, err = connect(s, "ferries", byKey); return err == nil })
	defer conn.Close()
	run := func(command string) (string, error) {
		session, err := conn.NewSession()
		require.NoError(t, err)
		defer session.Close()
		out, err := session.CombinedOutput(command)
		return strings.TrimSpace(string(out)), err
	}

	t.Run("a command", func(t *testing.T) {
		out, err := run(`id -un; pwd; ls /home; grep Seccomp: /proc/self/status; echo $$; cat`)
		require.NoError(t, err)
		assert.Equal(t, "ferries\n/home/ferries\nferries\nSeccomp:\t2\n1", out)
		_, err = run("exit 7")
		var status *ssh.ExitError
		require.ErrorAs(t, err, &status)
		assert.Equal(t, 7, status.ExitStatus())
		out, err = run(`perl -e 'for (1..100) { $n++ if defined(fork // undef) } print "x"' | wc -c`)
		require.NoError(t, err)
		assert.NotEmpty(t, out)
		assert.Positive(t, ferries.load().ProcessesRefused, "within the account's limit")
	})

	t.Run("what is in the home is not read outside of the sandbox", func(t *testing.T) {
		_, err := run(
			`printf 'echo outside > /tmp/ran-$$; ls /home/bakery\n' > ~/tmp/rc; cp ~/tmp/rc ~/sites/.bashrc; echo ok`)
		require.NoError(t, err)
		_, err = s.Exec(ctx, "sh", "-ec", "cp /home/ferries/tmp/rc /home/ferries/.bashrc; cp /home/ferries/tmp/rc "+
			"/home/ferries/.profile; printf 'LD_PRELOAD=/home/ferries/x.so\nBASH_ENV=/home/ferries/tmp/rc\n' > "+
			"/home/ferries/.pam_environment")
		require.NoError(t, err)
		_, err = run("true")
		require.NoError(t, err)
		_, err = s.Exec(ctx, "sh", "-c", "ls /tmp/ran-* /root/ran-* 2>/dev/null | grep .")
		require.Error(t, err)
	})

	t.Run("a shell on a terminal", func(t *testing.T) {
		session, err := conn.NewSession()
		require.NoError(t, err)
		defer session.Close()
		require.NoError(t, session.RequestPty("xterm", 24, 80, ssh.TerminalModes{ssh.ECHO: 0}))
		in, err := session.StdinPipe()
		require.NoError(t, err)
		out, err := session.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, session.Shell())
		_, err = io.WriteString(in, "stty size; echo $TERM $0; sleep 100\n")
		require.NoError(t, err)
		labtest.Eventually(t, func() bool { return strings.Contains(ferries.processes(), "sleep 100") })
		_, err = in.Write([]byte{3}) // Ctrl-C
		require.NoError(t, err)
		_, err = io.WriteString(in, "echo interrupted; exit 3\n")
		require.NoError(t, err)
		text, err := io.ReadAll(out)
		require.NoError(t, err)
		assert.Contains(t, string(text), "24 80")
		assert.Contains(t, string(text), "xterm -bash")
		assert.Contains(t, string(text), "interrupted")
		var status *ssh.ExitError
		require.ErrorAs(t, session.Wait(), &status)
		assert.Equal(t, 3, status.ExitStatus())
	})

	t.Run("a session that is cut off ends what it has started", func(t *testing.T) {
		other, err := connect(s, "ferries", byKey)
		require.NoError(t, err)
		session, err := other.NewSession()
		require.NoError(t, err)
		require.NoError(t, session.Start("setsid sleep 200 & sleep 201"))
		labtest.Eventually(t, func() bool { return strings.Contains(ferries.processes(), "sleep 201") })
		other.Close()
		labtest.Within(t, 10*time.Second, func() bool { return !strings.Contains(ferries.processes(), "sleep") })
	})

	t.Run("file transfer", func(t *testing.T) {
		for _, login := range []string{"ferries", "ferries-anna"} {
			files := transfer(t, s, login, byKey)
			require.NoError(t, put(files, map[string]string{"ferries": "/tmp/up", "ferries-anna": "/files/up"}[login],
				"up"), login)
			out, err := s.Exec(ctx, "sh", "-c", "for p in $(cat /sys/fs/cgroup/pids/victualler/ferries/cgroup.procs "+
				"/sys/fs/cgroup/victualler/ferries/cgroup.procs 2>/dev/null); do tr '\\0' ' ' < /proc/$p/cmdline; "+
				"echo; done")
			require.NoError(t, err)
			assert.Contains(t, out, "sshd: "+login, "is in the account's group")
		}
	})

	t.Run("suspension ends all sessions and lets none in", func(t *testing.T) {
		files := transfer(t, s, "ferries-anna", byKey)
		ferries.change(func(m *manifest.Manifest) { m.Suspended = true })
		labtest.Within(t, 5*time.Second, func() bool { return ferries.processes() == "" })
		_, err := files.ReadDir("/files")
		assert.Error(t, err)
		conn, err := connect(s, "ferries", byKey)
		if err == nil {
			session, err := conn.NewSession()
			if err == nil {
				out, err := session.CombinedOutput("echo inside")
				assert.NotContains(t, string(out), "inside")
				assert.Error(t, err)
			}
			conn.Close()
		}
		ferries.change(func(m *manifest.Manifest) { m.Suspended, m.Shell = false, false })
		conn, err = connect(s, "ferries", byKey)
		require.NoError(t, err)
		defer conn.Close()
		session, err := conn.NewSession()
		require.NoError(t, err)
		out, _ := session.CombinedOutput("echo inside")
		assert.NotContains(t, string(out), "inside", "no shell any more")
	})

	t.Run("root is let in whatever becomes of the supervisor", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", "mkdir -p /root/.ssh; cat > /root/.ssh/authorized_keys <<'K'\n"+key.Line+
			"\nK\nmv "+
			lab.SandboxPath+" /root/away")
		require.NoError(t, err)
		defer s.Exec(ctx, "mv", "/root/away", lab.SandboxPath)
		conn, err := connect(s, "root", byKey)
		require.NoError(t, err)
		defer conn.Close()
		session, err := conn.NewSession()
		require.NoError(t, err)
		out, err := session.CombinedOutput("id -u")
		require.NoError(t, err)
		assert.Equal(t, "0\n", string(out))
	})
}

// Where the kernel has no control groups, the server says what is not kept, and keeps the rest.
func TestWithoutControlGroups(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "nogr", lab.ServerOptions{HomeSize: 256 << 20})
	_, err := s.Exec(ctx, "sh", "-ec", "umount -l -R /sys/fs/cgroup; pkill -KILL -f '[v]ictualler-sandbox supervise'")
	require.NoError(t, err)
	labtest.Eventually(t, func() bool {
		status, err := c.Status(ctx)
		return err == nil && status.Sandboxes != nil && status.Sandboxes.Layout == "no cgroups" &&
			strings.Contains(strings.Join(status.Sandboxes.Missing, "; "), "/sys/fs/cgroup must be mounted")
	})
	m := account(t, 1, "ferries", "ferries.example")
	m.Sandbox = manifest.Sandbox{Processes: limit(25), Memory: limit(128 << 20)}
	ferries, bakery := newCustomer(t, s, c, m), newCustomer(t, s, c, account(t, 2, "bakery", "bakery.example"))
	assert.Equal(t, "ferries", ferries.run("ls /home"))
	ferries.run(`setsid perl -e 'fork while 1' >/dev/null 2>&1 </dev/null &`)
	labtest.Eventually(t, func() bool { return strings.Count(ferries.processes(), "perl") > 10 })
	assert.LessOrEqual(t, strings.Count(ferries.processes(), "\n"), 26, "processes are bounded for the user")
	assert.Equal(t, "still here", bakery.run("echo still here"))
	ferries.change(func(m *manifest.Manifest) { m.Suspended = true })
	labtest.Within(t, 5*time.Second, func() bool { return ferries.processes() == "" })
	applied(t, c, closed(ferries.m))
}
