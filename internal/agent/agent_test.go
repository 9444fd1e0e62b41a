package agent_test

import (
	"context"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agent/daemon"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// joined starts a server, joins its agent and returns the client for it.
func joined(t *testing.T, labName string, options lab.ServerOptions) (*lab.Server, *agentlink.Client) {
	t.Helper()
	ctx := context.Background()
	options.Name, options.Host = "skua", 21
	s := labtest.Server(t, labtest.Lab(t, labName), options)
	authority, err := agentlink.NewAuthority(time.Now())
	require.NoError(t, err)
	secret := agentlink.NewJoinSecret(authority.Certificate)
	address := net.JoinHostPort(s.Address.String(), fmt.Sprint(agentlink.DefaultPort))
	_, err = s.Exec(ctx, lab.AgentPath, "join", secret.String())
	require.NoError(t, err)

	other := agentlink.NewJoinSecret(authority.Certificate)
	stranger, err := agentlink.NewAuthority(time.Now())
	require.NoError(t, err)
	labtest.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	assert.Error(t, stranger.Enrol(ctx, address, secret, 1, time.Now()),
		"a service that the secret does not pin is refused")
	assert.ErrorIs(t, authority.Enrol(ctx, address, other, 1, time.Now()), agentlink.ErrWrongSecret)
	require.NoError(t, authority.Enrol(ctx, address, secret, 1, time.Now()))

	c := agentlink.NewDialer(authority, time.Now).Agent(1, address)
	labtest.Eventually(t, func() bool { _, err := c.Status(ctx); return err == nil })

	_, err = agentlink.NewDialer(stranger, time.Now).Agent(1, address).Status(ctx)
	assert.ErrorIs(t, err, agentlink.ErrUnreachable, "another installation's service is refused")
	_, err = agentlink.NewDialer(authority, time.Now).Agent(2, address).Status(ctx)
	assert.ErrorIs(t, err, agentlink.ErrUnreachable, "the agent of another server is not taken for this one")

	// A new certificate, as if made half a day later, takes the place of the old one at once.
	before, err := c.Status(ctx)
	require.NoError(t, err)
	require.Error(t, c.Renew(ctx, stranger, 1, time.Now()), "of another authority")
	require.Error(t, c.Renew(ctx, authority, 2, time.Now()), "for another server")
	require.NoError(t, c.Renew(ctx, authority, 1, time.Now().Add(12*time.Hour)))
	after, err := c.Status(ctx)
	require.NoError(t, err)
	assert.Greater(t, after.CertificateEnds.Sub(before.CertificateEnds), 11*time.Hour)
	return s, c
}

func account(t *testing.T, id int64, name, domain string) manifest.Manifest {
	t.Helper()
	d, _, err := names.ParseDomain(domain)
	require.NoError(t, err)
	limit := int64(50 << 20)
	return manifest.Manifest{AccountID: id, SignInName: name, Revision: 1, Wanted: manifest.Present,
		Home: manifest.Home{DiskLimit: &limit}, PHP: manifest.PHP{Workers: 3},
		Sites: []manifest.Site{{Domain: d, Root: manifest.RootFor(d), Starter: true}}}
}

func closed(m manifest.Manifest) manifest.Manifest {
	m.Revision++
	m.Wanted, m.Sites, m.Mail = manifest.Absent, nil, nil
	return m
}

func apply(t *testing.T, c *agentlink.Client, m manifest.Manifest) agentlink.Receipt {
	t.Helper()
	r, err := c.Apply(context.Background(), m, func(agentlink.Step) {})
	require.NoError(t, err)
	return r
}

func applied(t *testing.T, c *agentlink.Client, m manifest.Manifest) agentlink.Receipt {
	t.Helper()
	r := apply(t, c, m)
	require.Nil(t, r.Failure, "%+v", r.Failure)
	return r
}

// get asks a server for a page of a site; the second result is the body.
func get(t *testing.T, s *lab.Server, domain, path string) (string, string) {
	t.Helper()
	answer, err := daemon.Get(context.Background(), s.Address.String()+":80", domain, path)
	require.NoError(t, err)
	return fmt.Sprint(answer.Status), answer.Body
}

// drift is what a sweep finds, said in English.
func drift(t *testing.T, c *agentlink.Client) []agentlink.Drift {
	t.Helper()
	s, err := c.Sweep(context.Background())
	require.NoError(t, err)
	all := s.Strays
	for _, a := range s.Accounts {
		all = append(all, a.Drift...)
	}
	for i := range all {
		all[i].Detail = language.Decode(all[i].Detail).String()
	}
	return all
}

func TestAccountOnServer(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agta", lab.ServerOptions{})
	m := account(t, 17, "ternferries", "ternferries.example")

	preview, err := c.Preview(ctx, m)
	require.NoError(t, err)
	assert.Equal(t, []string{"user", "home", "certificates", "logins", "sandbox", "nginx", "verify"}, preview.Steps)
	assert.Len(t, preview.Changes, 7)
	assert.Contains(t, preview.Changes[6].Diff, "+    server_name ternferries.example www.ternferries.example;")
	_, err = s.Exec(ctx, "id", "ternferries")
	require.Error(t, err, "a preview makes nothing")

	r := applied(t, c, m)
	assert.True(t, r.Changed)
	assert.Len(t, r.Verified, 2)
	status, body := get(t, s, "www.ternferries.example", "/")
	assert.Equal(t, "200", status)
	assert.Contains(t, body, "<h1>ternferries.example</h1>")
	status, body = get(t, s, s.Address.String(), "/")
	assert.Equal(t, "404", status, "the bare address is nobody's site: %s", body)

	t.Run("PHP runs as the account's own user", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", `cat > /home/ternferries/sites/ternferries.example/who.php <<'P'
<?php echo posix_getpwuid(posix_geteuid())['name'], ' ', sys_get_temp_dir(), ' ', @file_get_contents('/etc/passwd') === false ? 'confined' : 'loose';
P
chown ternferries: /home/ternferries/sites/ternferries.example/who.php`)
		require.NoError(t, err)
		_, body := get(t, s, "ternferries.example", "/who.php")
		assert.Equal(t, "ternferries /home/ternferries/tmp confined", body)
	})

	t.Run("the disk limit stops the account's user", func(t *testing.T) {
		out, err := s.Exec(ctx, "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups",
			"sh", "-c", "dd if=/dev/urandom of=/home/ternferries/sites/big bs=1M count=80 conv=fsync; rc=$?; rm "+
				"/home/ternferries/sites/big; exit $rc")
		require.Error(t, err)
		assert.Contains(t, out, "Disk quota exceeded")
	})

	t.Run("nobody sees the agent's own pages", func(t *testing.T) {
		for _, path := range []string{"/.well-known/victualler", "/.git/config"} {
			status, _ := get(t, s, "ternferries.example", path)
			assert.Contains(t, []string{"403", "404"}, status, path)
		}
	})

	t.Run("applying again changes nothing", func(t *testing.T) {
		before, err := c.Status(ctx)
		require.NoError(t, err)
		assert.False(t, applied(t, c, m).Changed)
		after, err := c.Status(ctx)
		require.NoError(t, err)
		assert.Equal(t, before.Programs, after.Programs, "no reload")
		assert.Empty(t, drift(t, c))
	})

	t.Run("drift is found and put right", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", `sed -i 's/index index.php/index wrong.php/' /etc/nginx/victualler/accounts/ternferries.conf
			rm /etc/victualler/php/ternferries/pool.conf
			btrfs qgroup limit 1G 1/1000017 /home
			usermod --shell /bin/sh ternferries
			echo '# left over' > /etc/nginx/victualler/accounts/nobody.conf`)
		require.NoError(t, err)
		found := drift(t, c)
		require.Len(t, found, 5)
		texts := fmt.Sprint(found)
		assert.Contains(t, texts, "-    index wrong.php index.html;\n+    index index.php index.html;")
		for _, part := range []string{"/etc/victualler/php/ternferries/pool.conf is missing", "/bin/sh", "disk limit",
			"nobody.conf should not be there"} {
			assert.Contains(t, texts, part)
		}
		assert.True(t, applied(t, c, m).Changed)
		assert.Len(t, drift(t, c), 1, "only the stray file is left")
		_, err = s.Exec(ctx, "rm", "/etc/nginx/victualler/accounts/nobody.conf")
		require.NoError(t, err)
	})

	t.Run("an older revision is refused", func(t *testing.T) {
		newer := m
		newer.Revision = 5
		applied(t, c, newer)
		r := apply(t, c, m)
		require.NotNil(t, r.Failure)
		assert.Equal(t, agentlink.FailedStale, r.Failure.Code)
		m = newer
	})

	t.Run("another's user and home are not taken over", func(t *testing.T) {
		_, err := s.Exec(ctx, "useradd", "--no-create-home", "petra")
		require.NoError(t, err)
		r := apply(t, c, account(t, 18, "petra", "petra.example"))
		require.NotNil(t, r.Failure)
		assert.Contains(t, r.Failure.Message, "not this account's")
		_, err = s.Exec(ctx, "id", "petra")
		assert.NoError(t, err, "it is still there after the failed apply was undone")
		_, err = s.Exec(ctx, "mkdir", "/home/paula")
		require.NoError(t, err)
		_, err = s.Exec(ctx, "touch", "/home/paula/kept")
		require.NoError(t, err)
		r = apply(t, c, account(t, 19, "paula", "paula.example"))
		require.NotNil(t, r.Failure)
		_, err = s.Exec(ctx, "test", "-f", "/home/paula/kept")
		assert.NoError(t, err)
		_, err = s.Exec(ctx, "id", "paula")
		assert.Error(t, err, "the user made for it is gone again")
	})

	t.Run("shared files come back with an account's change", func(t *testing.T) {
		_, err := s.Exec(ctx, "rm", "-r", "/etc/nginx/victualler/parts", "/etc/nginx/conf.d/victualler.conf",
			"/etc/php/8.2/fpm/conf.d/90-victualler.ini")
		require.NoError(t, err)
		m.Revision++
		m.PHP.Workers++
		applied(t, c, m)
		status, _ := get(t, s, "ternferries.example", "/")
		assert.Equal(t, "200", status)
		assert.Empty(t, drift(t, c))
	})

	t.Run("links cannot lead root astray", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", `cd /home/ternferries && mkdir /srv/other && rm -r sites/ternferries.example &&
			setpriv --reuid=ternferries --regid=ternferries --clear-groups ln -s /srv/other sites/ternferries.example`)
		require.NoError(t, err)
		apply(t, c, m)
		out, err := s.Exec(ctx, "ls", "-A", "/srv/other")
		require.NoError(t, err)
		assert.Empty(t, out)
		_, err = s.Exec(ctx, "sh", "-ec", "echo secret > /srv/other/index.html")
		require.NoError(t, err)
		status, body := get(t, s, "ternferries.example", "/index.html")
		assert.Equal(t, "404", status, "a link to what is not the account's is not followed")
		assert.NotContains(t, body, "secret")
		_, err = s.Exec(ctx, "rm", "/home/ternferries/sites/ternferries.example")
		require.NoError(t, err)
		applied(t, c, m)
	})

	t.Run("accounts cannot reach each other", func(t *testing.T) {
		applied(t, c, account(t, 20, "bakery", "bakery.example"))
		for _, command := range []string{"ls /home/ternferries",
			"cat /home/ternferries/sites/ternferries.example/index.html",
			"touch /home/ternferries/x", "test -w /run/victualler/php/1000017.sock"} {
			_, err := s.Exec(ctx, append([]string{"setpriv", "--reuid=bakery", "--regid=bakery", "--clear-groups"},
				strings.Fields(command)...)...)
			assert.Error(t, err, command)
		}
	})

	t.Run("closing leaves nothing", func(t *testing.T) {
		_, err := s.Exec(ctx, "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups",
			"sh", "-c", "setsid sleep 600 >/dev/null 2>&1 </dev/null &")
		require.NoError(t, err)
		// What a user can leave outside of the home.
		_, err = s.Exec(ctx, "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups",
			"sh", "-ec", "echo '* * * * * true' | crontab - && mkdir -p /tmp/mine/deep && touch /var/tmp/mine "+
				"/tmp/mine/deep/file && ln -s /etc /tmp/link")
		require.NoError(t, err)
		// btrfs lets every user make subvolumes, which are no plain directories to delete.
		_, err = s.Exec(ctx, "setpriv", "--reuid=ternferries", "--regid=ternferries", "--clear-groups",
			"sh", "-ec", "cd /home/ternferries/sites && btrfs subvolume create 'one two' && btrfs subvolume create "+
				"'one two/three' && touch 'one two/three/file'")
		require.NoError(t, err)
		r := applied(t, c, closed(m))
		assert.Len(t, r.Verified, 6)
		for _, trace := range []string{"id ternferries", "getent group ternferries", "ls -d /home/ternferries",
			"pgrep -U 1000017",
			"ls /run/victualler/php/1000017.sock", "ls /var/spool/cron/crontabs/ternferries", "ls -d /tmp/mine",
			"ls /tmp/link", "ls /var/tmp/mine", "grep -rl ternferries /etc/nginx /etc/php /etc/victualler"} {
			out, err := s.Exec(ctx, strings.Fields(trace)...)
			assert.Error(t, err, "%s: %s", trace, out)
		}
		_, err = s.Exec(ctx, "test", "-d", "/etc/nginx")
		assert.NoError(t, err, "a link is taken away, not what it leads to")
		status, _ := get(t, s, "ternferries.example", "/")
		assert.Equal(t, "421", status)
		assert.False(t, applied(t, c, closed(m)).Changed)
		assert.Empty(t, drift(t, c))
	})
}

func TestGroupCommit(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agtg", lab.ServerOptions{})
	reloads := func() int64 {
		status, err := c.Status(ctx)
		require.NoError(t, err)
		return status.Programs[1].Reloads
	}
	all := func(first, n int) []agentlink.Receipt {
		receipts := make([]agentlink.Receipt, n)
		var group sync.WaitGroup
		for i := range n {
			group.Go(func() {
				name := fmt.Sprintf("acct%d", first+i)
				receipts[i] = apply(t, c, account(t, int64(first+i), name, name+".example"))
			})
		}
		group.Wait()
		return receipts
	}

	before := reloads()
	for _, r := range all(100, 30) {
		assert.Nil(t, r.Failure)
	}
	assert.Less(t, reloads()-before, int64(15), "reloads are shared")

	t.Run("users are made together, beside others who make some", func(t *testing.T) {
		var others sync.WaitGroup
		others.Go(func() {
			_, err := s.Exec(ctx, "sh", "-ec", "for n in $(seq 20); do useradd --no-create-home other$n; done")
			assert.NoError(t, err)
		})
		for _, r := range all(150, 20) {
			assert.Nil(t, r.Failure, "%+v", r.Failure)
		}
		others.Wait()
		for n := range 20 {
			user := fmt.Sprintf("acct%d", 150+n)
			out, err := s.Exec(ctx, "id", user)
			require.NoError(t, err)
			number := fmt.Sprint(1000000 + 150 + n)
			assert.Contains(t, out, "uid="+number+"("+user+") gid="+number+"("+user+") groups="+number+"("+user+"),")
			assert.Contains(t, out, "(victualler-home)")
			_, err = s.Exec(ctx, "id", fmt.Sprintf("other%d", n+1))
			assert.NoError(t, err, "nobody's change is lost")
		}
		out, err := s.Exec(ctx, "sh", "-ec", "pwck -q -r | grep -v 'directory .* does not exist' || true; grpck -r; "+
			"stat -c '%a %U:%G' /etc/passwd /etc/shadow /etc/group /etc/gshadow")
		require.NoError(t, err)
		assert.Equal(t, "644 root:root\n640 root:shadow\n644 root:root\n640 root:shadow\n", out,
			"the tables are in order")
	})

	t.Run("numbers and names that others have", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", "useradd --no-create-home --uid 1000180 squatter; groupadd --gid 1000181 "+
			"squatters; groupadd --gid 5555 acct182")
		require.NoError(t, err)
		for i, said := range []string{"is the user squatter's", "is the group squatters's",
			"a group acct182 with the number 5555", ""} {
			r := all(180+i, 1)[0]
			if said == "" {
				assert.Nil(t, r.Failure)
				continue
			}
			require.NotNil(t, r.Failure)
			assert.Contains(t, r.Failure.Message, said)
		}
	})

	t.Run("only the culprit fails", func(t *testing.T) {
		// A file where the pool's should go and cannot: the account's own trouble.
		_, err := s.Exec(ctx, "sh", "-ec", "useradd --no-create-home acct205")
		require.NoError(t, err)
		for i, r := range all(200, 10) {
			if i == 5 {
				assert.NotNil(t, r.Failure)
			} else {
				assert.Nil(t, r.Failure, "%+v", r.Failure)
			}
		}
	})

	t.Run("a broken raw file", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec",
			"echo 'server { listen 80; broken_directive on; }' > /etc/nginx/conf.d/raw.conf")
		require.NoError(t, err)
		for _, r := range all(300, 3) {
			require.NotNil(t, r.Failure)
			assert.Equal(t, "nginx", r.Failure.Step)
			assert.Contains(t, r.Failure.Message,
				`unknown directive "broken_directive" in /etc/nginx/conf.d/raw.conf:1`)
			assert.Contains(t, r.Failure.Message, "broken before this change")
		}
		status, _ := get(t, s, "acct100.example", "/")
		assert.Equal(t, "200", status, "other sites stay up")
		_, err = s.Exec(ctx, "id", "acct300")
		assert.Error(t, err, "the failed opening is undone")
		_, err = s.Exec(ctx, "rm", "/etc/nginx/conf.d/raw.conf")
		require.NoError(t, err)
		for _, r := range all(300, 3) {
			assert.Nil(t, r.Failure, "%+v", r.Failure)
		}
	})
}

// Changes in quick succession: each is followed, and what runs for others goes on untouched.
func TestManyReloads(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agtr", lab.ServerOptions{})
	first := account(t, 1, "first", "first.example")
	applied(t, c, first)
	_, err := s.Exec(ctx, "sh", "-ec", `cd /home/first/sites/first.example; rm -f index.html
		echo '<?php echo getmypid(), "/", file_get_contents("/proc/1/stat");' > index.php; chown first: index.php`)
	require.NoError(t, err)
	master := func() string {
		out, err := s.Exec(ctx, "pgrep", "-f", "php-fpm: master process .*/php/first/")
		require.NoError(t, err)
		return out
	}
	status, _ := get(t, s, "first.example", "/")
	require.Equal(t, "200", status)
	before := master()
	m := account(t, 2, "second", "second.example")
	for n := range 60 {
		m.Revision, m.PHP.Workers = int64(n+1), n%7+1
		applied(t, c, m)
	}
	status, _ = get(t, s, "first.example", "/")
	assert.Equal(t, "200", status)
	assert.Equal(t, before, master(), "another's PHP is not touched")

	t.Run("a program that has just ended is waited for", func(t *testing.T) {
		_, err := s.Exec(ctx, "pkill", "-KILL", "-f", "victualler-sandbox (run|supervise)")
		require.NoError(t, err)
		m.Revision++
		m.PHP.Workers++
		applied(t, c, m)
		assert.Equal(t, before, master(), "nor is it by the end of the supervisor")
	})
}

// Somebody has broken another account's file by hand: nginx cannot read the whole, although what
// has changed is right. The apply says so, with nginx's words, and undoes what it did.
func TestAnothersFileIsBroken(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agbr", lab.ServerOptions{})
	applied(t, c, account(t, 1, "first", "first.example"))
	_, err := s.Exec(ctx, "sh", "-c", "echo 'broken_directive on;' >> /etc/nginx/victualler/accounts/first.conf")
	require.NoError(t, err)
	m := account(t, 2, "second", "second.example")
	began := time.Now()
	r := apply(t, c, m)
	require.NotNil(t, r.Failure)
	assert.Equal(t, "nginx", r.Failure.Step)
	assert.Contains(t, r.Failure.Message,
		`unknown directive "broken_directive" in /etc/nginx/victualler/accounts/first.conf`)
	assert.Less(t, time.Since(began), 15*time.Second)
	status, _ := get(t, s, "first.example", "/")
	assert.Equal(t, "200", status, "what was in force still is")
	_, err = s.Exec(ctx, "test", "-e", "/etc/nginx/victualler/accounts/second.conf")
	assert.Error(t, err)
	first := account(t, 1, "first", "first.example")
	first.Revision++
	applied(t, c, first) // which puts its file right
	m.Revision++
	applied(t, c, m)
}

// A new program that renders differently writes anew what the old one wrote.
func TestNewProgram(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "agtn", lab.ServerOptions{})
	applied(t, c, account(t, 17, "ternferries", "ternferries.example"))
	// As if this program's predecessor had written another file and been replaced.
	_, err := s.Exec(ctx, "sh", "-ec", `sed -i 's/index index.php/index old.php/' /etc/nginx/victualler/accounts/ternferries.conf
		echo another > /var/lib/victualler-agent/program; pkill -KILL -x victualler-agen`)
	require.NoError(t, err)
	labtest.Eventually(t, func() bool {
		sweep, err := c.Sweep(ctx)
		return err == nil && len(sweep.Accounts) == 1 && len(sweep.Accounts[0].Drift) == 0
	})
	labtest.Eventually(t, func() bool {
		left, err := s.Exec(ctx, "ls", "/var/lib/victualler-agent/journal")
		return err == nil && left == ""
	})
	// The same program again changes nothing by itself.
	_, err = s.Exec(ctx, "sh", "-ec",
		`sed -i 's/index index.php/index old.php/' /etc/nginx/victualler/accounts/ternferries.conf; pkill -KILL -x victualler-agen`)
	require.NoError(t, err)
	labtest.Eventually(t, func() bool { _, err := c.Status(ctx); return err == nil })
	assert.Len(t, drift(t, c), 1)
}
