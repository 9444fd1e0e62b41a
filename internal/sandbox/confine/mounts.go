package confine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"victualler/internal/mailflow/submit"
)

// newRoot is where the tree of a sandbox is built.
const newRoot = "/run/victualler-sandbox/root"

// system is what of the server's own files a sandbox shows, read-only.
var system = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32"}

// settings is what it shows of /etc: what programs read to work at all, and nothing that tells of
// other accounts or of how the server is set up.
var settings = []string{
	"alternatives", "bash.bashrc", "bash_completion.d", "ca-certificates", "ca-certificates.conf",
	"debian_version", "fonts", "gai.conf", "ghostscript", "gitconfig", "host.conf", "hostname", "hosts",
	"ImageMagick-6", "inputrc", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "localtime", "locale.alias",
	"magic", "magic.mime", "mailcap", "mime.types", "nanorc", "networks", "nsswitch.conf", "os-release",
	"perl", "php", "profile", "profile.d", "protocols", "python3", "resolv.conf", "rpc", "screenrc",
	"services", "ssl", "terminfo", "timezone", "vim", "wgetrc", "xattr.conf",
}

// devices are the harmless ones.
var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

// databaseSockets are the directories in which the engines of databases wait for programs of the
// same server. Directories, as an engine that is started anew makes another socket.
var databaseSockets = []string{"/run/mysqld", "/run/postgresql"}

// build makes the tree that the sandbox shows and makes it this process's root. It runs as root in
// a mount namespace of its own.
func build(s Spec) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("make mounts private: %w", err)
	}
	if err := os.MkdirAll(newRoot, 0o700); err != nil {
		return err
	}
	b := &builder{root: newRoot}
	b.tmpfs("/", "size=4m,mode=755", 0)
	for _, path := range system {
		b.show(path, unix.MOUNT_ATTR_RDONLY|unix.MOUNT_ATTR_NODEV|unix.MOUNT_ATTR_NOSUID)
	}
	for _, entry := range settings {
		b.show("/etc/"+entry, unix.MOUNT_ATTR_RDONLY|unix.MOUNT_ATTR_NODEV|unix.MOUNT_ATTR_NOSUID)
	}
	b.file("/etc/passwd", fmt.Sprintf("root:x:0:0:root:/root:/usr/sbin/nologin\n"+
		"www-data:x:33:33:www-data:/var/www:/usr/sbin/nologin\n"+
		"nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"+
		"%s:x:%d:%d::%s:/bin/bash\n", s.Account, s.UID, s.UID, s.Home))
	b.file("/etc/group", fmt.Sprintf("root:x:0:\nwww-data:x:33:\nnogroup:x:65534:\n%s:x:%d:\n", s.Account, s.UID))
	b.mail()
	for _, dir := range databaseSockets {
		b.show(dir, unix.MOUNT_ATTR_RDONLY|unix.MOUNT_ATTR_NODEV|unix.MOUNT_ATTR_NOSUID)
	}
	for _, path := range s.Show {
		b.show(path, unix.MOUNT_ATTR_RDONLY|unix.MOUNT_ATTR_NODEV|unix.MOUNT_ATTR_NOSUID)
	}
	for _, dir := range []string{"/run/lock", "/var/lib/php", "/var/cache", "/var/log", "/var/tmp", "/tmp", "/proc",
		"/sys",
		"/root", "/srv", "/opt", "/mnt"} {
		b.dir(dir)
	}
	b.link("/var/run", "/run")
	b.link("/var/lock", "/run/lock")
	b.home(s)
	b.devices(s)
	if b.err != nil {
		return b.err
	}
	// In the sandbox's own numbers: others' processes have none there.
	if err := unix.Mount("proc", newRoot+"/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fmt.Errorf("mount /proc: %w", err)
	}
	return enter()
}

// enter makes the new tree the root and lets the server's go.
func enter() error {
	if err := os.Chdir(newRoot); err != nil {
		return err
	}
	// With both the same, the old root comes to lie over the new one (pivot_root(2)).
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("pivot_root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return fmt.Errorf("let the server's tree go: %w", err)
	}
	if err := os.Chdir("/"); err != nil {
		return err
	}
	return unix.Mount("", "/", "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV, "")
}

// builder makes the tree; after the first error it does nothing.
type builder struct {
	root string
	err  error
}

func (b *builder) do(what string, f func() error) {
	if b.err != nil {
		return
	}
	if err := f(); err != nil {
		b.err = fmt.Errorf("%s: %w", what, err)
	}
}

func (b *builder) in(path string) string { return filepath.Join(b.root, path) }

func (b *builder) dir(path string) {
	b.do("make "+path, func() error { return os.MkdirAll(b.in(path), 0o755) })
}

func (b *builder) link(path, target string) {
	b.do("link "+path, func() error { return os.Symlink(target, b.in(path)) })
}

func (b *builder) file(path, content string) {
	b.do("write "+path, func() error { return os.WriteFile(b.in(path), []byte(content), 0o444) })
}

func (b *builder) tmpfs(path, options string, flags uintptr) {
	b.dir(path)
	b.do("mount "+path, func() error {
		return unix.Mount("tmpfs", b.in(path), "tmpfs", flags|unix.MS_NOSUID|unix.MS_NODEV, options)
	})
}

// show shows a path of the server at the same place; what is not there is left out.
func (b *builder) show(path string, attributes uint64) {
	b.do("show "+path, func() error {
		info, err := os.Lstat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(b.in(path)), 0o755); err != nil {
				return err
			}
			absolute := target
			if !filepath.IsAbs(target) {
				absolute = filepath.Join(filepath.Dir(path), target)
			}
			if strings.HasPrefix(absolute, "/usr/") {
				return os.Symlink(target, b.in(path))
			}
			// It leads to what is not shown, as resolv.conf may: what it says is copied.
			text, err := os.ReadFile(path)
			if err != nil || len(text) > 64<<10 {
				return nil
			}
			return os.WriteFile(b.in(path), text, 0o444)
		}
		fd, err := unix.Open(path, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		return b.attach(fd, path, info.IsDir(), attributes)
	})
}

// attach mounts what is open at a place.
func (b *builder) attach(fd int, place string, isDir bool, attributes uint64) error {
	tree, err := unix.OpenTree(fd, "", unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_EMPTY_PATH)
	if err != nil {
		return err
	}
	defer unix.Close(tree)
	attr := unix.MountAttr{Attr_set: attributes}
	if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &attr); err != nil {
		return err
	}
	if isDir {
		err = os.MkdirAll(b.in(place), 0o755)
	} else if err = os.MkdirAll(filepath.Dir(b.in(place)), 0o755); err == nil {
		err = os.WriteFile(b.in(place), nil, 0o444)
	}
	if err != nil {
		return err
	}
	return unix.MoveMount(tree, "", unix.AT_FDCWD, b.in(place), unix.MOVE_MOUNT_F_EMPTY_PATH)
}

// mail shows where messages are handed over, and what does that under the name by which everybody's
// programs know it.
func (b *builder) mail() {
	const attributes = unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NODEV | unix.MOUNT_ATTR_NOSUID
	b.do("make "+submit.Dir, func() error {
		// Who listens there may come later, and come again.
		if err := os.MkdirAll(filepath.Dir(submit.Dir), 0o755); err != nil {
			return err
		}
		return os.MkdirAll(submit.Dir, 0o711)
	})
	b.show(submit.Dir, attributes)
	b.do("show "+submit.Program, func() error {
		if info, err := os.Lstat(submit.Program); err != nil || !info.Mode().IsRegular() {
			return nil // no mail server is installed, and no such command
		}
		own, err := os.Executable()
		if err != nil {
			return err
		}
		tree, err := unix.OpenTree(unix.AT_FDCWD, own, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
		if err != nil {
			return err
		}
		defer unix.Close(tree)
		if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &unix.MountAttr{Attr_set: attributes}); err != nil {
			return err
		}
		return unix.MoveMount(tree, "", unix.AT_FDCWD, b.in(submit.Program), unix.MOVE_MOUNT_F_EMPTY_PATH)
	})
}

// home shows the home, and its tmp where programs put what is temporary, so that it counts.
func (b *builder) home(s Spec) {
	const attributes = unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV
	b.dir("/home")
	b.do("show "+s.Home, func() error {
		fd, err := unix.Open(s.Home, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		var found unix.Stat_t
		if err := unix.Fstat(fd, &found); err != nil {
			return err
		}
		if int(found.Gid) != s.UID {
			return fmt.Errorf("belongs to group %d, not to the account's", found.Gid)
		}
		if err := b.attach(fd, s.Home, true, attributes); err != nil {
			return err
		}
		tmp, err := unix.Openat2(fd, "tmp", &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
			Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV})
		if err != nil {
			return nil // its owner's doing: below, there is a small one instead
		}
		defer unix.Close(tmp)
		for _, place := range []string{"/tmp", "/var/tmp"} {
			if err := b.attach(tmp, place, true, attributes); err != nil {
				return err
			}
		}
		return nil
	})
	b.do("mount /tmp", func() error {
		for _, place := range []string{"/tmp", "/var/tmp"} {
			var there, root unix.Stat_t
			if err := errors.Join(unix.Stat(b.in(place), &there), unix.Stat(b.root, &root)); err != nil {
				return err
			}
			if there.Dev != root.Dev {
				continue
			}
			if err := unix.Mount("tmpfs", b.in(place), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV,
				fmt.Sprintf("size=16m,mode=700,uid=%d,gid=%d", s.UID, s.UID)); err != nil {
				return err
			}
		}
		return nil
	})
}

// devices makes /dev, with terminals of the sandbox's own.
func (b *builder) devices(s Spec) {
	b.tmpfs("/dev", "size=64k,mode=755", unix.MS_NOEXEC)
	for _, device := range devices {
		b.show("/dev/"+device, unix.MOUNT_ATTR_NOSUID|unix.MOUNT_ATTR_NOEXEC)
	}
	b.tmpfs("/dev/shm", fmt.Sprintf("size=64m,mode=700,uid=%d,gid=%d", s.UID, s.UID), unix.MS_NOEXEC)
	b.dir("/dev/pts")
	b.do("mount /dev/pts", func() error {
		return unix.Mount("devpts", b.in("/dev/pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC,
			"newinstance,ptmxmode=0666,mode=620")
	})
	for path, target := range map[string]string{"ptmx": "pts/ptmx", "fd": "/proc/self/fd", "stdin": "fd/0",
		"stdout": "fd/1", "stderr": "fd/2"} {
		b.link("/dev/"+path, target)
	}
}
