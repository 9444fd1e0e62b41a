package agent_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/names"
	"victualler/internal/lab"
	"victualler/internal/manifest"
)

// swapping is what a hostile customer runs in their home: whatever
// is at a path is now a directory, now a link out of the home or to
// another account, now a pipe, now a hard link, as fast as it goes.
const swapping = `cd "$1/sites" || exit 1
while :; do
	for what in 'mkdir -p p/deep; echo mine > p/deep/own' 'ln -s /etc p' 'ln -s /home/bakery/sites p' 'mkfifo p' 'ln -s ../../../../etc/nginx p' 'ln -s p p' 'touch p' 'mknod p c 1 5' 'ln /etc/victim/index.html p' 'mkdir p; ln -s /etc/victim p/inner'; do
		rm -rf p q 2>/dev/null; eval "$what" 2>/dev/null
		ln -s /etc q 2>/dev/null; ln -s /etc/victim q 2>/dev/null
	done
done`

// Every operation that touches a home, while what lies in it is swapped under the agent's hands:
// nothing outside of the home is made, changed or read. An operation may fail; the next one without
// the swapping puts all right.
func TestHostileHome(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agth", lab.ServerOptions{HomeSize: 1 << 30})
	m := account(t, 17, "ternferries", "ternferries.example")
	applied(t, c, m)
	applied(t, c, account(t, 18, "bakery", "bakery.example"))
	run := func(command string) string {
		t.Helper()
		out, err := s.Exec(ctx, "sh", "-ec", command)
		require.NoError(t, err, command)
		return strings.TrimSpace(out)
	}
	as := func(command string) {
		t.Helper()
		_, err := s.Exec(ctx, "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups", "sh", "-c",
			command, "sh", "/home/ternferries")
		require.NoError(t, err)
	}
	run("mkdir -p /etc/victim && echo secret > /etc/victim/index.html && echo loaves > " +
		"/home/bakery/sites/bakery.example/index.html && chown bakery: /home/bakery/sites/bakery.example/index.html")
	// What the account's own configuration is made of may change; all else may not.
	const outside = `find /etc /home/bakery /srv /root /var/lib /usr/local -xdev \( -path '*/victualler*' -o -path '*account-*' -o -name '*.lock' -o -path '/etc/passwd*' -o -path '/etc/group*' -o -path '/etc/*shadow*' \) -prune -o -type d -printf '%p %u %g %m\n' -o -printf '%p %u %g %m %s %T@\n' | sort`
	before := run(outside)
	require.Contains(t, before, "/etc/victim/index.html root root 644")
	require.Contains(t, before, "/home/bakery/sites/bakery.example/index.html")

	// setsid, so that it goes on while this test works; the number tells it apart.
	as("setsid sh -c '" + strings.ReplaceAll(swapping, "'", `'\''`) +
		`' swap "$1" >/dev/null 2>&1 </dev/null & echo $! > "$1/tmp/pid"`)
	d2, _, err := names.ParseDomain("second.example")
	require.NoError(t, err)
	outcomes := map[string]int{}
	for round, end := 0, time.Now().Add(12*time.Second); time.Now().Before(end); round++ {
		next := m
		next.Revision = m.Revision + int64(round) + 1
		second := manifest.Site{Domain: d2, Starter: true, Switches: m.Sites[0].Switches}
		switch round % 4 {
		case 0:
			second.Root = "sites/p"
		case 1:
			second.Root = "sites/p/deep/down"
		case 2: // the move renames whatever p is just now
			second.Root, second.MovedFrom, second.Starter = fmt.Sprintf("sites/moved%d", round), "sites/p", false
		case 3:
			second.Root, second.MovedFrom, second.Starter = "sites/q/inner", "sites/p/inner", false
		}
		next.Sites = []manifest.Site{m.Sites[0], second}
		r := apply(t, c, next)
		outcomes[fmt.Sprint(r.Failure == nil)]++
		_, err := c.Sweep(ctx)
		require.NoError(t, err)
		for _, path := range []string{"/q/index.html", "/p/index.html", "/index.html", "/inner/index.html", "/passwd",
			"/deep/own"} {
			_, body := get(t, s, "second.example", path)
			assert.NotContains(t, body, "secret", path)
			assert.NotContains(t, body, "loaves", path)
			assert.NotContains(t, body, "root:x:0", path)
		}
	}
	t.Logf("applies that were done: %v", outcomes)
	require.Greater(t, outcomes["true"]+outcomes["false"], 8)
	run(`pkill -KILL -U 1000017 || true`)
	assert.Equal(t, before, run(outside), "something outside of the home was made or changed")
	assert.Equal(t, "loaves", run("cat /home/bakery/sites/bakery.example/index.html"))

	// The home as it is left, with 1,000,000 files, names of every kind
	// and special files, is applied to, swept and removed.
	run("rm -rf /home/ternferries/sites/p /home/ternferries/sites/q")
	m.Revision += 1_000_000
	m.Home.DiskLimit = nil // names take room, too
	applied(t, c, m)
	as(`cd "$1/sites" && mkdir many && cd many && perl -e 'for (1 .. 1000000) { open my $f, q(>), $_ }' && touch "$(printf 'a\nb')" -- '-rf' "$(printf 'x\033[31m')" ' ' '$(id)' && mkfifo pipe && ln -s /etc/victim out`)
	m.Revision++
	m.Suspended = true
	applied(t, c, m)
	began := time.Now()
	swept, err := c.Sweep(ctx)
	require.NoError(t, err)
	t.Logf("home with 1,000,000 files swept in %s", time.Since(began).Round(time.Millisecond))
	require.NotEmpty(t, swept.Accounts)
	began = time.Now()
	final := closed(m)
	applied(t, c, final)
	t.Logf("home with 1,000,000 files removed in %s", time.Since(began).Round(time.Millisecond))
	assert.Equal(t, before, run(outside))
	_, err = s.Exec(ctx, "test", "-e", "/home/ternferries")
	assert.Error(t, err)
}
