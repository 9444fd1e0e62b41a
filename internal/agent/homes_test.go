package agent_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/logins"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// attacked is a server with two accounts, one of which is run by somebody who means the other ill.
type attacked struct {
	*lab.Server
	t          *testing.T
	agent      *agentlink.Client
	ours, bake manifest.Manifest
}

// attack starts the server.
func attack(t *testing.T, labName string) *attacked {
	t.Helper()
	s, c := joined(t, labName, lab.ServerOptions{HomeSize: 512 << 20})
	a := &attacked{Server: s, t: t, agent: c, ours: account(t, 17, "ternferries", "ternferries.example"),
		bake: account(t, 18, "bakery", "bakery.example")}
	applied(t, c, a.ours)
	applied(t, c, a.bake)
	a.root("echo loaves > /home/bakery/sites/bakery.example/loaves")
	return a
}

// root runs a command on the server; it must succeed.
func (a *attacked) root(command string) string {
	a.t.Helper()
	out, err := a.Exec(context.Background(), "sh", "-ec", command)
	require.NoError(a.t, err, "%s: %s", command, out)
	return strings.TrimSpace(out)
}

// code runs a command as the attacker's PHP would, in their home, whether or not it succeeds.
func (a *attacked) code(command string) string {
	out, _ := a.Exec(context.Background(), "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups",
		"sh", "-c", "chmod 755 /home/ternferries/sites; cd /home/ternferries/sites && { "+command+"\n}")
	return out
}

// next applies the attacker's account once more, changed.
func (a *attacked) next(change func(*manifest.Manifest)) agentlink.Receipt {
	a.t.Helper()
	a.ours.Revision++
	if change != nil {
		change(&a.ours)
	}
	return applied(a.t, a.agent, a.ours)
}

func (a *attacked) sweep() map[string]agentlink.AccountState {
	a.t.Helper()
	s, err := a.agent.Sweep(context.Background())
	require.NoError(a.t, err)
	all := map[string]agentlink.AccountState{}
	for _, state := range s.Accounts {
		all[state.SignInName] = state
	}
	return all
}

// Subvolumes are known by number: names with newlines, links and renames lead nobody to another's
// home, neither while the account is there nor when it is closed.
func TestSubvolumesOfCustomers(t *testing.T) {
	a := attack(t, "agsv")
	a.code(`btrfs subvolume create first
		btrfs subvolume create first/deeper
		btrfs subvolume create first/deeper/deepest
		btrfs subvolume create "$(printf 'x\nID 256 gen 1 top level 5 path bakery')"
		btrfs subvolume create "$(printf 'x path bakery')"
		btrfs subvolume create -- '-rf'
		mkdir plain && btrfs subvolume create plain/in && mv plain/in plain/renamed
		echo data > first/deeper/deepest/data
		btrfs subvolume snapshot first/deeper/deepest copy`)
	require.Equal(t, "8", a.root(`btrfs subvolume list /home | grep -c 'path ternferries/sites'`),
		"the attack does what it should")

	// While all of it is there, the account is changed, limited and suspended.
	limit := int64(30 << 20)
	a.next(func(m *manifest.Manifest) { m.Home.DiskLimit, m.Suspended = &limit, true })
	status, _ := get(t, a.Server, "ternferries.example", "/")
	assert.Equal(t, "503", status)

	// And closed, while a program goes on making subvolumes and files.
	a.code(
		`setsid sh -c 'n=0; while :; do n=$((n+1)); btrfs subvolume create "new$n"; touch "new$n/file"; mv "new$n" "$n"; done' >/dev/null 2>&1 </dev/null &`)
	applied(t, a.agent, closed(a.ours))
	assert.Equal(t, "loaves", a.root("cat /home/bakery/sites/bakery.example/loaves"))
	assert.Equal(t, "1", a.root(`btrfs subvolume list /home | wc -l`), "only the bakery's home is left")
	assert.Empty(t, a.root(`btrfs qgroup show --raw /home | grep '^1/1000017' || true`))
	assert.Equal(t, "0", a.root(`ps -eo uid= | grep -c 1000017 || true`))
}

// What an account has in several subvolumes counts together, and stops at its limit together.
func TestOneLimitForAllSubvolumes(t *testing.T) {
	a := attack(t, "agql")
	a.code(`btrfs subvolume create nested`)
	used := *a.sweep()["ternferries"].Usage // from here on, it is counted
	assert.Less(t, used.Bytes, int64(1<<20))
	a.code(`dd if=/dev/urandom of=nested/data bs=1M count=30; dd if=/dev/urandom of=data bs=1M count=60; sync`)
	used = *a.sweep()["ternferries"].Usage
	assert.InDelta(t, 50<<20, used.Bytes, 2<<20, "30 MB in one and what was left in the other")
	assert.Contains(t, codes(a.sweep()["ternferries"].Warnings), "home  full")

	// Full as it is, it is suspended, resumed, limited and closed.
	a.next(func(m *manifest.Manifest) { m.Suspended = true })
	less := int64(10 << 20)
	a.next(func(m *manifest.Manifest) { m.Suspended, m.Home.DiskLimit = false, &less })
	assert.Contains(t, a.code(`echo more > more`), "Disk quota exceeded")
	more := int64(70 << 20)
	a.next(func(m *manifest.Manifest) { m.Home.DiskLimit = &more })
	assert.Empty(t, a.code(`echo more > more`))
	applied(t, a.agent, closed(a.ours))
	assert.Equal(t, "loaves", a.root("cat /home/bakery/sites/bakery.example/loaves"))
}

// Files are counted, and nothing new can be written beyond their limit.
func TestFilesAreLimited(t *testing.T) {
	a := attack(t, "agfl")
	limit := int64(500)
	a.next(func(m *manifest.Manifest) { m.Home.FilesLimit = &limit })
	assert.Empty(t, a.code(`mkdir many && cd many && seq 1 400 | xargs touch`))
	state := a.sweep()["ternferries"]
	assert.InDelta(t, 410, *state.Usage.Files, 10)
	assert.Empty(t, state.Warnings)
	assert.Empty(t, a.code(`cd many && seq 401 600 | xargs touch; sync`))
	state = a.sweep()["ternferries"]
	assert.InDelta(t, 610, *state.Usage.Files, 10)
	assert.Contains(t, codes(state.Warnings), "home  too-many-files")
	assert.Empty(t, state.Drift, "that is no difference")
	assert.Contains(t, a.code(`seq 1 100000 > more`), "Disk quota exceeded")
	a.next(func(m *manifest.Manifest) { m.Suspended = true })
	a.next(func(m *manifest.Manifest) { m.Suspended = false })
	assert.Contains(t, a.code(`seq 1 100000 > more`), "Disk quota exceeded", "an apply does not lift it")
	a.code(`rm -rf many more; sync`)
	a.sweep()
	assert.Empty(t, a.code(`seq 1 100000 > more`))
}

// codes are warnings in short.
func codes(list []agentlink.Warning) []string {
	var short []string
	for _, w := range list {
		short = append(short, fmt.Sprintf("%s %s %s", w.Part, w.Subject, w.Code))
	}
	return short
}

// Whatever stands where a document root or a login's folder should be, the account is changed,
// suspended, resumed and closed; what does not work is told, and works again when it was mended.
func TestHomesNeverFailAnApply(t *testing.T) {
	a := attack(t, "aghw")
	root := "ternferries.example"
	office := logins.Login{Name: "ternferries-office", Folder: "sites/office"}
	a.next(func(m *manifest.Manifest) { m.Logins = append(m.Logins, office) })
	for name, c := range map[string]struct {
		put     string
		code    homes.Code
		applied bool
	}{
		"a file":             {"touch $1", homes.NotDirectory, true},
		"a pipe":             {"mkfifo $1", homes.NotDirectory, true},
		"a link in a circle": {"ln -s $1 $1", homes.LinkLoop, true},
		"a link to nothing":  {"ln -s nowhere/at/all $1", homes.Missing, false},
		"another's home":     {"ln -s /home/bakery/sites/bakery.example $1", homes.NotTheirs, false},
		"the whole system":   {"ln -s / $1", homes.NotTheirs, false},
		"a closed directory": {"mkdir $1 && chmod 700 $1", homes.Closed, false},
		"no permission":      {"chmod 000 .", homes.Missing, true},
		"no way there":       {"mkdir $1 && chmod 700 .", homes.Closed, false},
	} {
		a.code("rm -rf " + root + " office")
		a.code("set -- " + root + "; " + c.put)
		if c.code == homes.NotDirectory {
			a.code("touch office")
		}
		if c.applied {
			r := a.next(func(m *manifest.Manifest) { m.Suspended = true })
			status, body := get(t, a.Server, root, "/")
			assert.Equal(t, "503", status, name)
			assert.NotContains(t, body, "loaves", name)
			assert.Contains(t, codes(r.Warnings), "site "+root+" "+string(c.code), name)
			if c.code == homes.NotDirectory {
				assert.Contains(t, codes(r.Warnings), "login ternferries-office not-directory", name)
			}
			a.next(func(m *manifest.Manifest) { m.Suspended = false })
		}
		status, body := get(t, a.Server, root, "/loaves")
		assert.Contains(t, []string{"403", "404"}, status, name)
		assert.NotContains(t, body, "loaves", name)
		assert.Contains(t, codes(a.sweep()["ternferries"].Warnings), "site "+root+" "+string(c.code), name)
	}
	a.code("rm -rf * && mkdir " + root + " office")
	assert.Empty(t, a.sweep()["ternferries"].Warnings, "and all is well again")

	// A home that somebody has taken away as root is made anew; on a file system that takes no
	// changes, all but that is done. The agent has the sites' logs open for writing, which keeps
	// them from being mounted read-only.
	a.root("pkill -KILL -x victualler-agen; for n in $(seq 500); do mount -o remount,ro /home && exit; sleep 0.02; " +
		"done; exit 1")
	labtest.Eventually(t, func() bool { _, err := a.agent.Status(context.Background()); return err == nil })
	r := a.next(func(m *manifest.Manifest) { m.Suspended = true })
	assert.Contains(t, codes(r.Warnings), "home  read-only")
	status, _ := get(t, a.Server, root, "/")
	assert.Equal(t, "503", status)
	a.root("mount -o remount,rw /home && btrfs subvolume delete /home/ternferries")
	assert.Contains(t, codes(a.sweep()["ternferries"].Warnings), "home  missing")
	r = a.next(func(m *manifest.Manifest) { m.Suspended = false })
	assert.Empty(t, r.Warnings)
	status, _ = get(t, a.Server, root, "/")
	assert.Equal(t, "200", status)
	a.ours.Logins = nil
	applied(t, a.agent, closed(a.ours))
	assert.Equal(t, "loaves", a.root("cat /home/bakery/sites/bakery.example/loaves"))
}

// Homes of earlier versions, whose limit was on the home's own subvolume, are counted with all of
// the account's.
func TestHomesOfEarlierVersions(t *testing.T) {
	a := attack(t, "aghe")
	a.root(`cd /home && btrfs qgroup remove 0/$(btrfs inspect-internal rootid ternferries) 1/1000017 /home || true
		btrfs qgroup destroy 1/1000017 /home && btrfs qgroup limit 20M ternferries
		dd if=/dev/urandom of=ternferries/sites/data bs=1M count=8 && chown -R ternferries ternferries/sites && sync`)
	limit := int64(20 << 20)
	a.next(func(m *manifest.Manifest) { m.Home.DiskLimit = &limit })
	labtest.Eventually(t, func() bool { return a.sweep()["ternferries"].Usage.Bytes > 8<<20 }, "counted anew")
	assert.Empty(t, a.sweep()["ternferries"].Drift)
	assert.Contains(t, a.code(`dd if=/dev/urandom of=more bs=1M count=40`), "Disk quota exceeded")
}
