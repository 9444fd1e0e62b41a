package agent_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"io/fs"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/logins"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// connect signs in at a server's sshd.
func connect(s *lab.Server, user string, how ...ssh.AuthMethod) (*ssh.Client, error) {
	config := &ssh.ClientConfig{User: user, Auth: how, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
		Timeout: 5 * time.Second}
	return ssh.Dial("tcp", net.JoinHostPort(s.Address.String(), "22"), config)
}

// transfer signs in for file transfer.
func transfer(t *testing.T, s *lab.Server, user string, how ssh.AuthMethod) *sftp.Client {
	t.Helper()
	var conn *ssh.Client
	labtest.Eventually(t, func() bool { // sshd begins anew when it reads its configuration
		var err error
		conn, err = connect(s, user, how)
		return err == nil
	}, user+" cannot sign in")
	t.Cleanup(func() { conn.Close() })
	files, err := sftp.NewClient(conn)
	require.NoError(t, err, user)
	return files
}

func put(c *sftp.Client, path, content string) error {
	f, err := c.Create(path)
	if err != nil {
		return err
	}
	_, err = f.Write([]byte(content))
	return firstOf(err, f.Close())
}

func fetch(c *sftp.Client, path string) (string, error) {
	f, err := c.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	return string(text), err
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func TestFileTransfer(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "sftp", lab.ServerOptions{HomeSize: 256 << 20})
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	sshKey, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	key, err := logins.ParseKey(string(ssh.MarshalAuthorizedKey(sshKey)))
	require.NoError(t, err)
	hash, err := bcrypt.GenerateFromPassword([]byte("quiet-lantern-44"), 6)
	require.NoError(t, err)
	password, byKey := ssh.Password("quiet-lantern-44"), ssh.PublicKeys(signer)

	ferries, bakery := account(t, 1, "ferries", "ferries.example"), account(t, 2, "bakery", "bakery.example")
	ferries.Logins = []logins.Login{{Name: "ferries", Keys: []string{key.Line}},
		{Name: "ferries-anna", Folder: "sites/ferries.example", Hash: string(hash)},
		{Name: "ferries-whole", Keys: []string{key.Line}}}
	bakery.Logins = []logins.Login{{Name: "bakery", Hash: string(hash)}}
	apply := func(m *manifest.Manifest) agentlink.Receipt {
		t.Helper()
		m.Revision++
		r, err := c.Apply(ctx, *m, func(agentlink.Step) {})
		require.NoError(t, err)
		require.Nil(t, r.Failure, "%+v", r.Failure)
		return r
	}
	apply(&ferries)
	apply(&bakery)
	r := apply(&ferries)
	assert.False(t, r.Changed, "the same again changes nothing")

	t.Run("the own sign-in sees its home, and nothing above", func(t *testing.T) {
		own := transfer(t, s, "ferries", byKey)
		require.NoError(t, put(own, "/sites/ferries.example/hello.txt", "hello"))
		out, err := s.Exec(ctx, "stat", "-c", "%U %G %a", "/home/ferries/sites/ferries.example/hello.txt")
		require.NoError(t, err)
		assert.Equal(t, "ferries ferries 644\n", out)
		for _, path := range []string{"/etc/passwd", "/home", "/../etc/passwd", "/sites/../../bakery"} {
			_, err := own.Stat(path)
			assert.ErrorIs(t, err, fs.ErrNotExist, path)
		}
		assert.Error(t, put(own, "/new-at-the-top", "x"), "the home itself is root's")
		assert.Error(t, own.RemoveDirectory("/sites"))
		assert.Error(t, own.Chown("/sites/ferries.example/hello.txt", 0, 0))
		require.NoError(t, own.Symlink("/home/bakery/sites", "/sites/ferries.example/theirs"))
		_, err = own.ReadDir("/sites/ferries.example/theirs")
		assert.Error(t, err, "a link leads nowhere within the chroot")
		_, err = connect(s, "ferries", password)
		assert.Error(t, err, "it has no password")
	})

	t.Run("no shell, no command, no forwarding", func(t *testing.T) {
		conn, err := connect(s, "ferries", byKey)
		require.NoError(t, err)
		defer conn.Close()
		session, err := conn.NewSession()
		require.NoError(t, err)
		assert.Error(t, session.RequestPty("xterm", 24, 80, nil))
		out, _ := session.Output("id")
		assert.NotContains(t, string(out), "uid=", "whatever is asked for, file transfer is what runs")
		_, err = conn.Dial("tcp", "127.0.0.1:22")
		assert.Error(t, err)
		_, err = conn.Listen("tcp", "127.0.0.1:0")
		assert.Error(t, err)
	})

	t.Run("a further login sees its folder only, and its files are the account's", func(t *testing.T) {
		anna := transfer(t, s, "ferries-anna", password)
		where, err := anna.Getwd()
		require.NoError(t, err)
		assert.Equal(t, "/files", where)
		text, err := fetch(anna, "/files/hello.txt")
		require.NoError(t, err)
		assert.Equal(t, "hello", text)
		require.NoError(t, put(anna, "/files/by-anna.txt", "a"))
		out, err := s.Exec(ctx, "stat", "-c", "%u", "/home/ferries/sites/ferries.example/by-anna.txt")
		require.NoError(t, err)
		assert.Equal(t, "1000001\n", out)
		assert.Error(t, put(anna, "/outside", "x"))
		_, err = anna.Stat("/files/../../home")
		assert.Error(t, err)
		whole := transfer(t, s, "ferries-whole", byKey)
		_, err = fetch(whole, "/files/sites/ferries.example/by-anna.txt")
		assert.NoError(t, err)
	})

	t.Run("accounts do not reach each other", func(t *testing.T) {
		theirs := transfer(t, s, "bakery", password)
		require.NoError(t, put(theirs, "/sites/bakery.example/secret.txt", "s"))
		// As their users, beside the chroot, too.
		for user, attempts := range map[string][]string{"ferries": {"cat /home/bakery/sites/bakery.example/secret.txt",
			"ls /home/bakery", "echo x > /home/bakery/sites/x", "touch /home/bakery/sites/bakery.example/x"},
			"bakery": {"cat /srv/victualler/ferries-whole/files/sites/ferries.example/hello.txt",
				"cat /srv/victualler/ferries-anna/files/hello.txt", "ls /srv/victualler/ferries-anna"}} {
			for _, attempt := range attempts {
				_, err := s.Exec(ctx, "setpriv", "--reuid="+user, "--regid="+user, "--init-groups", "sh", "-c", attempt)
				assert.Error(t, err, attempt)
			}
		}
	})

	t.Run("a folder that is swapped for a link shows nothing else", func(t *testing.T) {
		ferries.Logins = append(ferries.Logins, logins.Login{Name: "ferries-bob", Folder: "sites/bob",
			Hash: string(hash)})
		_, err := s.Exec(ctx, "setpriv", "--reuid=ferries", "--regid=ferries", "--clear-groups", "ln", "-s", "/etc",
			"/home/ferries/sites/bob")
		require.NoError(t, err)
		ferries.Revision++
		r, err := c.Apply(ctx, ferries, func(agentlink.Step) {})
		require.NoError(t, err)
		require.Nil(t, r.Failure)
		assert.Contains(t, codes(r.Warnings), "login ferries-bob link")
		_, err = s.Exec(ctx, "sh", "-c", "test ! -e /srv/victualler/ferries-bob/files/passwd")
		require.NoError(t, err)
		_, err = s.Exec(ctx, "rm", "/home/ferries/sites/bob")
		require.NoError(t, err)
		apply(&ferries)
		bob := transfer(t, s, "ferries-bob", password)
		require.NoError(t, put(bob, "/files/x", "x"))
		ferries.Logins = ferries.Logins[:3]
		anna := transfer(t, s, "ferries-anna", password)
		apply(&ferries)
		labtest.Eventually(t, func() bool {
			_, err := bob.ReadDir("/")
			return err != nil
		}, "a session that is open ends with its login")
		_, err = anna.ReadDir("/")
		assert.NoError(t, err, "those of others go on")
		_, err = connect(s, "ferries-bob", password)
		assert.Error(t, err, "a login that is taken away lets nobody in")
		_, err = s.Exec(ctx, "cat", "/home/ferries/sites/bob/x")
		assert.NoError(t, err, "its files stay")
	})

	t.Run("what is changed by hand is drift", func(t *testing.T) {
		_, err := s.Exec(ctx, "sh", "-ec", "echo 'ssh-ed25519 AAAA evil' >> /etc/ssh/victualler/ferries; usermod -p "+
			"'x' ferries-anna; umount /srv/victualler/ferries-whole/files; gpasswd -d ferries victualler-home")
		require.NoError(t, err)
		var words []string
		for _, d := range drift(t, c) {
			words = append(words, d.Subject+" "+d.Detail)
		}
		all := strings.Join(words, "; ")
		for _, want := range []string{"login ferries has other keys", "login ferries-anna has another password",
			"login ferries-whole does not show the home", "login ferries is not in the group"} {
			assert.Contains(t, all, want)
		}
		apply(&ferries)
		transfer(t, s, "ferries-anna", password)
		assert.Empty(t, drift(t, c))
	})

	t.Run("a shell, while the feature is on", func(t *testing.T) {
		ferries.Shell = true
		apply(&ferries)
		conn, err := connect(s, "ferries", byKey)
		require.NoError(t, err)
		defer conn.Close()
		session, err := conn.NewSession()
		require.NoError(t, err)
		out, err := session.Output("id -un; cat /home/bakery/sites/bakery.example/secret.txt || echo no")
		require.NoError(t, err)
		assert.Equal(t, "ferries\nno\n", string(out))
		ferries.Shell = false
		apply(&ferries)
		again, err := connect(s, "ferries", byKey)
		require.NoError(t, err)
		defer again.Close()
		session, err = again.NewSession()
		require.NoError(t, err)
		out, _ = session.Output("id -un")
		assert.NotContains(t, string(out), "ferries")
	})

	t.Run("after a start of the server, folders are there again", func(t *testing.T) {
		s.Kill()
		require.NoError(t, s.Start(ctx))
		labtest.Eventually(t, func() bool { _, err := c.Status(ctx); return err == nil })
		anna := transfer(t, s, "ferries-anna", password)
		_, err := fetch(anna, "/files/hello.txt")
		assert.NoError(t, err)
	})

	t.Run("all of it goes with the account", func(t *testing.T) {
		ferries.Wanted, ferries.Sites, ferries.Logins = manifest.Absent, nil, nil
		apply(&ferries)
		out, err := s.Exec(ctx, "sh", "-c", "getent passwd | grep ferries; getent group | grep ferries; ls "+
			"/etc/ssh/victualler /srv/victualler | grep ferries; grep ferries /proc/mounts; ls -d /home/ferries "+
			"2>/dev/null; true")
		require.NoError(t, err)
		assert.Empty(t, out)
	})
}
