package lab

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Service is a program that a server runs.
type Service struct {
	// Name names its log, /var/log/lab/NAME.log in the server.
	Name string
	Argv []string
	Env  []string
	// Keep starts the program again, after a short pause, when it ends.
	Keep bool
}

// initConfig is what a server's first process gets on its standard input. A
// second line then says that the network is there.
type initConfig struct {
	Name      string
	Base, Dir string
	Address   string // with prefix length
	Address6  string // with prefix length
	Gateway   string
	Interface string
	PlainHome bool
	// Groups are the server's cgroups, by where they are mounted.
	Groups   map[string]string
	Services []Service
}

// runInit is the first process of a server: it makes the tree, takes the place
// of the machine's, starts the programs in order, and reaps what ends.
func runInit() {
	decoder := json.NewDecoder(os.Stdin)
	var c initConfig
	if err := decoder.Decode(&c); err != nil {
		fail("read configuration: %v", err)
	}
	root := filepath.Join(c.Dir, "root")
	if err := mountTree(c, root); err != nil {
		fail("mount: %v", err)
	}
	if err := unix.Sethostname([]byte(c.Name)); err != nil {
		fail("host name: %v", err)
	}
	if err := enterTree(root); err != nil {
		fail("enter %s: %v", root, err)
	}
	var ready bool
	if err := decoder.Decode(&ready); err != nil {
		fail("wait for the network: %v", err)
	}
	if err := setUpNetwork(c); err != nil {
		fail("network: %v", err)
	}
	serve(c)
}

func mountTree(c initConfig, root string) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("make mounts private: %w", err)
	}
	upper, work := filepath.Join(c.Dir, "upper"), filepath.Join(c.Dir, "work")
	for _, dir := range []string{root, upper, work} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	options := fmt.Sprintf("lowerdir=%s,upperdir=%s,workdir=%s", c.Base, upper, work)
	if err := unix.Mount("overlay", root, "overlay", 0, options); err != nil {
		return fmt.Errorf("overlay %s: %w", options, err)
	}
	// mount(8) attaches the loop device so that it goes with the mount.
	image := filepath.Join(c.Dir, "home.img")
	if out, err := exec.Command("mount", "-o", "loop,noatime", image, root+"/home").CombinedOutput(); err != nil {
		return fmt.Errorf("mount home: %w: %s", err, out)
	}
	if !c.PlainHome {
		if out, err := exec.Command("btrfs", "quota", "enable", root+"/home").CombinedOutput(); err != nil {
			return fmt.Errorf("enable quota: %w: %s", err, out)
		}
	}
	mounts := []struct {
		fstype, dir, data string
		flags             uintptr
	}{
		{"proc", "/proc", "", unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC},
		{"sysfs", "/sys", "", unix.MS_RDONLY | unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC},
		{"tmpfs", "/run", "mode=755", unix.MS_NOSUID | unix.MS_NODEV},
		{"tmpfs", "/tmp", "mode=1777", unix.MS_NOSUID | unix.MS_NODEV},
		{"tmpfs", "/dev", "mode=755", unix.MS_NOSUID},
		{"devpts", "/dev/pts", "newinstance,ptmxmode=0666,mode=620", unix.MS_NOSUID | unix.MS_NOEXEC},
		{"tmpfs", "/var/lib/victualler-uploads", "size=256m", unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC},
		{"tmpfs", "/dev/shm", "mode=1777", unix.MS_NOSUID | unix.MS_NODEV},
	}
	for _, m := range mounts {
		dir := root + m.dir
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if err := unix.Mount(m.fstype, dir, m.fstype, m.flags, m.data); err != nil {
			return fmt.Errorf("%s on %s: %w", m.fstype, m.dir, err)
		}
	}
	if err := mountGroups(root, c.Groups); err != nil {
		return fmt.Errorf("cgroups: %w", err)
	}
	for name, minor := range map[string]uint32{"null": 3, "zero": 5, "full": 7, "random": 8, "urandom": 9} {
		if err := makeDevice(root+"/dev/"+name, 1, minor); err != nil {
			return err
		}
	}
	if err := makeDevice(root+"/dev/tty", 5, 0); err != nil {
		return err
	}
	for link, target := range map[string]string{"ptmx": "pts/ptmx", "fd": "/proc/self/fd", "stdin": "fd/0",
		"stdout": "fd/1", "stderr": "fd/2"} {
		if err := os.Symlink(target, root+"/dev/"+link); err != nil {
			return err
		}
	}
	return nil
}

func makeDevice(path string, major, minor uint32) error {
	if err := unix.Mknod(path, unix.S_IFCHR|0o666, int(unix.Mkdev(major, minor))); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	return os.Chmod(path, 0o666)
}

// enterTree makes root the root of this process and lets the machine's tree go.
func enterTree(root string) error {
	old := filepath.Join(root, ".old")
	if err := os.MkdirAll(old, 0o700); err != nil {
		return err
	}
	if err := unix.PivotRoot(root, old); err != nil {
		return err
	}
	if err := os.Chdir("/"); err != nil {
		return err
	}
	if err := unix.Unmount("/.old", unix.MNT_DETACH); err != nil {
		return err
	}
	return os.Remove("/.old")
}

func setUpNetwork(c initConfig) error {
	hosts := "127.0.0.1 localhost\n" + strings.SplitN(c.Address, "/", 2)[0] + " " + c.Name + "\n"
	if err := os.WriteFile("/etc/hosts", []byte(hosts), 0o644); err != nil {
		return err
	}
	// Whoever answers there answers for the public DNS.
	if err := os.WriteFile("/etc/resolv.conf", []byte("nameserver "+c.Gateway+"\n"), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile("/etc/hostname", []byte(c.Name+"\n"), 0o644); err != nil {
		return err
	}
	if _, err := net.InterfaceByName(c.Interface); err != nil {
		return err
	}
	for _, args := range [][]string{
		{"link", "set", "lo", "up"},
		{"address", "add", c.Address, "dev", c.Interface},
		{"address", "add", c.Address6, "dev", c.Interface, "nodad"},
		{"link", "set", c.Interface, "up"},
		{"route", "add", "default", "via", c.Gateway},
	} {
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
		}
	}
	return nil
}

// serve starts the programs and stays until it is told to end.
func serve(c initConfig) {
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, syscall.SIGINT)
	if err := os.MkdirAll("/var/log/lab", 0o755); err != nil {
		fail("logs: %v", err)
	}
	running := map[int]Service{}
	again := make(chan Service)
	start := func(s Service) {
		pid, err := startService(s)
		if err != nil {
			fmt.Fprintf(os.Stderr, "start %s: %v\n", s.Name, err)
			if s.Keep { // somebody may be replacing the program
				time.AfterFunc(2*time.Second, func() { again <- s })
			}
			return
		}
		running[pid] = s
	}
	for _, s := range c.Services {
		start(s)
	}
	fmt.Println("up")

	ended := make(chan int)
	go reap(ended)
	for {
		select {
		case pid := <-ended:
			if s, ours := running[pid]; ours {
				delete(running, pid)
				// What it has left running goes too, as with a supervisor that
				// knows a service's processes; or it could not start again.
				syscall.Kill(-pid, syscall.SIGKILL)
				if s.Keep {
					time.AfterFunc(200*time.Millisecond, func() { again <- s })
				}
			}
		case s := <-again:
			start(s)
		case <-stop:
			shutDown(ended)
		}
	}
}

// startService starts a program by hand: exec.Cmd would wait for the child,
// and only one place may wait in a first process.
func startService(s Service) (int, error) {
	log, err := os.OpenFile("/var/log/lab/"+s.Name+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return 0, err
	}
	defer log.Close()
	null, err := os.Open("/dev/null")
	if err != nil {
		return 0, err
	}
	defer null.Close()
	path, err := exec.LookPath(s.Argv[0])
	if err != nil {
		return 0, err
	}
	env := append([]string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root",
		"LANG=C.UTF-8"}, s.Env...)
	return syscall.ForkExec(path, s.Argv, &syscall.ProcAttr{
		Dir: "/", Env: env, Files: []uintptr{null.Fd(), log.Fd(), log.Fd()}, Sys: &syscall.SysProcAttr{Setsid: true},
	})
}

func reap(ended chan<- int) {
	for {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, 0, nil)
		switch {
		case err == nil:
			ended <- pid
		case errors.Is(err, unix.ECHILD):
			time.Sleep(20 * time.Millisecond) // nothing to wait for: only then is there no better sign
		}
	}
}

func shutDown(ended <-chan int) {
	syscall.Kill(-1, syscall.SIGTERM)
	deadline := time.After(3 * time.Second)
	for {
		select {
		case <-ended:
		case <-deadline:
			unix.Sync()
			os.Exit(0)
		case <-time.After(200 * time.Millisecond):
			if syscall.Kill(-1, 0) != nil { // nobody else is left
				unix.Sync()
				os.Exit(0)
			}
		}
	}
}

// boundConfig is what runBound gets in its environment.
type boundConfig struct {
	Dir      string
	UID, GID uint32
	Argv     []string
}

// boundDir is where runBound shows the directory; Debian has it, and empty.
const boundDir = "/mnt"

// runBound shows a directory at [boundDir] in a mount namespace of its own and
// becomes the program there, as another user. PostgreSQL will not run as root,
// and its user cannot reach a data directory below, say, /root.
func runBound() {
	runtime.LockOSThread() // the parent-death signal belongs to the thread that becomes the program
	var c boundConfig
	if err := json.NewDecoder(io.LimitReader(os.NewFile(3, "configuration"), 1<<20)).Decode(&c); err != nil {
		fail("read configuration: %v", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		fail("make mounts private: %v", err)
	}
	if err := unix.Mount(c.Dir, boundDir, "", unix.MS_BIND, ""); err != nil {
		fail("bind %s: %v", c.Dir, err)
	}
	if err := os.Chdir(boundDir); err != nil {
		fail("%v", err)
	}
	if err := errors.Join(syscall.Setgroups(nil), syscall.Setgid(int(c.GID)), syscall.Setuid(int(c.UID))); err != nil {
		fail("become user %d: %v", c.UID, err)
	}
	// Changing the user has cleared the parent-death signal.
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(syscall.SIGQUIT), 0, 0, 0); err != nil {
		fail("%v", err)
	}
	unix.CloseOnExec(3)
	fail("%s: %v", c.Argv[0], syscall.Exec(c.Argv[0], c.Argv, os.Environ()))
}
