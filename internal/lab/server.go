package lab

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// ServerOptions describe a server.
type ServerOptions struct {
	// Name is its host name, and its directory's.
	Name string
	// Host is the last octet of its address.
	Host byte
	// HomeSize is the size of the file system of the homes in bytes; it takes room on the machine
	// only as it fills. Default 4 GiB, least 128 MiB. It counts at the first start.
	HomeSize int64
	// PlainHome has the homes on ext4, where no disk limit is kept.
	PlainHome bool
	// Files are copied into the server before it starts: path there, path here.
	Files map[string]string
	// Services are started after those of [BaseServices], in order.
	Services []Service
	// AgentFlags are for the server's agent.
	AgentFlags []string
}

// BaseServices are the programs every server runs.
var BaseServices = []Service{
	{Name: "nginx", Argv: []string{"nginx", "-g", "daemon off;"}, Keep: true},
	{Name: "knot", Argv: []string{"sh", "-c",
		"mkdir -p /run/knot && chown knot:knot /run/knot && exec knotd -c /etc/knot/knot.conf"}, Keep: true},
	// Without a configuration of ours they are of no use: a server that becomes a mail server gets
	// one.
	{Name: "dovecot", Argv: awaiting("/etc/dovecot/dovecot.conf", "dovecot", "-F"), Keep: true},
	{Name: "postfix", Argv: awaiting("/etc/postfix/main.cf", "sh", "-c",
		"/usr/lib/postfix/configure-instance.sh - && exec postfix start-fg"), Keep: true},
	{Name: "redis", Argv: awaiting("/etc/redis/redis.conf", "sh", "-c", "mkdir -p /run/redis && "+
		"chown redis:redis /run/redis && exec "+
		"setpriv --reuid redis --regid redis --init-groups redis-server /etc/redis/redis.conf"), Keep: true},
	{Name: "rspamd", Argv: awaiting("/etc/rspamd/rspamd.conf", "sh", "-c", "mkdir -p /run/rspamd && "+
		"chown _rspamd:_rspamd /run/rspamd && exec "+
		"setpriv --reuid _rspamd --regid _rspamd --init-groups rspamd -c /etc/rspamd/rspamd.conf -f"), Keep: true},
	{Name: "mariadb", Argv: awaiting("/etc/mysql/mariadb.conf.d/90-victualler.cnf", "sh", "-c",
		"install -d -o mysql -g mysql /run/mysqld && exec mariadbd --user=mysql"), Keep: true},
	{Name: "postgresql", Argv: awaiting("/etc/postgresql/15/main/conf.d/90-victualler.conf", "sh", "-c",
		"install -d -o postgres -g postgres -m 2775 /run/postgresql && exec "+
			"setpriv --reuid postgres --regid postgres --init-groups /usr/lib/postgresql/15/bin/postgres "+
			"-D /var/lib/postgresql/15/main -c config_file=/etc/postgresql/15/main/postgresql.conf"), Keep: true},
	{Name: "sshd", Argv: []string{"sh", "-c", "mkdir -p /run/sshd && exec /usr/sbin/sshd -D"}, Keep: true},
}

// awaiting runs a program once its configuration is the agent's.
func awaiting(config string, argv ...string) []string {
	return append([]string{"sh", "-c", `until grep -qs victualler "$0"; do sleep 1; done; exec "$@"`, config}, argv...)
}

// Server is a running server.
type Server struct {
	Name    string
	Address netip.Addr

	lab     *Lab
	options ServerOptions
	dir     string
	veth    string
	cmd     *exec.Cmd
	done    chan struct{}
}

// StartServer starts a server, a new one or one whose directory is there from
// before. It returns when its programs have been started.
func (l *Lab) StartServer(ctx context.Context, o ServerOptions) (*Server, error) {
	s := &Server{Name: o.Name, Address: l.host(o.Host), lab: l, options: o, dir: filepath.Join(l.options.Dir, o.Name),
		veth: l.state.Bridge + "-" + strconv.Itoa(int(o.Host))}
	if err := s.prepare(); err != nil {
		return nil, fmt.Errorf("server %s: %w", o.Name, err)
	}
	if err := s.Start(ctx); err != nil {
		return nil, fmt.Errorf("server %s: %w", o.Name, err)
	}
	l.mu.Lock()
	l.servers = append(l.servers, s)
	l.mu.Unlock()
	return s, nil
}

// prepare makes the home file system and copies files.
func (s *Server) prepare() error {
	if err := os.MkdirAll(filepath.Join(s.dir, "upper"), 0o755); err != nil {
		return err
	}
	image := filepath.Join(s.dir, "home.img")
	if _, err := os.Stat(image); errors.Is(err, fs.ErrNotExist) {
		size := s.options.HomeSize
		if size == 0 {
			size = 4 << 30
		}
		making := image + ".making"
		if err := os.WriteFile(making, nil, 0o600); err != nil {
			return err
		}
		if err := os.Truncate(making, size); err != nil {
			return err
		}
		mkfs := exec.Command("mkfs.btrfs", "-q", "-m", "single", making)
		if s.options.PlainHome {
			mkfs = exec.Command("mkfs.ext4", "-q", making)
		}
		if out, err := mkfs.CombinedOutput(); err != nil {
			return fmt.Errorf("make home file system: %w: %s", err, out)
		}
		if err := os.Rename(making, image); err != nil {
			return err
		}
	}
	for there, here := range s.options.Files {
		if err := copyFile(here, filepath.Join(s.dir, "upper", there)); err != nil {
			return err
		}
	}
	return nil
}

// Start runs a stopped or killed server again.
func (s *Server) Start(ctx context.Context) error {
	config := initConfig{Name: s.Name, Base: s.lab.options.Base, Dir: s.dir, Address: s.Address.String() + "/24",
		Address6: Address6(s.Address).String() + "/64",
		Gateway:  s.lab.Gateway().String(), PlainHome: s.options.PlainHome, Interface: "eth0",
		Services: append(append([]Service(nil), BaseServices...), s.options.Services...)}
	if free := interfaceName(s.veth); free != nil {
		return free
	}
	groups, err := s.makeGroups()
	if err != nil {
		return err
	}
	config.Groups = groups
	stdin, feed := io.Pipe()
	log, err := os.OpenFile(filepath.Join(s.dir, "init.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := &exec.Cmd{Path: "/proc/self/exe", Args: []string{serverInit},
		Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"},
		Dir: "/", Stdin: stdin, Stderr: log,
		SysProcAttr: &syscall.SysProcAttr{
			Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET |
				syscall.CLONE_NEWUTS | syscall.CLONE_NEWIPC,
			Setsid: true,
		}}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := StartBound(cmd); err != nil {
		return fmt.Errorf("start: %w", err)
	}
	s.cmd, s.done = cmd, make(chan struct{})
	up := make(chan error, 1)
	go func() {
		line, err := bufio.NewReader(stdout).ReadString('\n')
		if err != nil || line != "up\n" {
			up <- fmt.Errorf("its first process ended; see %s", log.Name())
		}
		up <- nil
	}()
	err = func() error {
		if err := s.lab.remember(cmd.Process.Pid, "server "+s.Name); err != nil {
			return err
		}
		if err := joinGroups(groups, cmd.Process.Pid); err != nil {
			return err
		}
		encoder := json.NewEncoder(feed)
		if err := encoder.Encode(config); err != nil {
			return err
		}
		pid := strconv.Itoa(cmd.Process.Pid)
		for _, args := range [][]string{
			{"link", "add", s.veth, "type", "veth", "peer", "name", "eth0", "address",
				hardwareAddress(s.Address).String(), "netns", pid},
			{"link", "set", s.veth, "master", s.lab.state.Bridge},
			{"link", "set", s.veth, "up"},
		} {
			if err := ip(args...); err != nil {
				return err
			}
		}
		if err := encoder.Encode(true); err != nil {
			return err
		}
		select {
		case err := <-up:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(30 * time.Second):
			return fmt.Errorf("not up within 30 s; see %s", log.Name())
		}
	}()
	go func() {
		cmd.Process.Wait()
		feed.Close()
		close(s.done)
	}()
	if err != nil {
		s.Kill()
	}
	return err
}

// interfaceName waits until an interface of a server killed just now is gone:
// the kernel takes network namespaces apart after their last process.
func interfaceName(name string) error {
	if !within(5*time.Second, func() bool { _, err := os.Stat("/sys/class/net/" + name); return err != nil }) {
		return ip("link", "delete", name)
	}
	return nil
}

// Ended returns a channel that is closed when the server has ended, since it was last started.
func (s *Server) Ended() <-chan struct{} { return s.done }

// Kill ends everything on the server at once, as a power cut would.
func (s *Server) Kill() { s.end(syscall.SIGKILL) }

// Stop lets the server's programs end by themselves first.
func (s *Server) Stop() { s.end(syscall.SIGTERM) }

func (s *Server) end(signal syscall.Signal) {
	if s.cmd == nil {
		return
	}
	End(s.cmd.Process, s.done, signal, syscall.SIGKILL, 8*time.Second)
	_ = removeGroups(s.lab.state.Bridge, s.Name) // what is left, the lab removes
}

// Cut takes the server off the network; with on, it is put back.
func (s *Server) Cut(on bool) error {
	state := "down"
	if on {
		state = "up"
	}
	return ip("link", "set", s.veth, state)
}

// Command prepares a command to be run on the server.
func (s *Server) Command(ctx context.Context, argv ...string) *exec.Cmd {
	args := append([]string{"--target", strconv.Itoa(s.cmd.Process.Pid), "--mount", "--uts", "--ipc", "--net", "--pid",
		"--"}, argv...)
	cmd := exec.CommandContext(ctx, "nsenter", args...)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root",
		"LANG=C.UTF-8"}
	return cmd
}

// Exec runs a command on the server as root and returns what it prints, errors included.
func (s *Server) Exec(ctx context.Context, argv ...string) (string, error) {
	var out bytes.Buffer
	cmd := s.Command(ctx, argv...)
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if err != nil {
		err = fmt.Errorf("%s on %s: %w: %s", argv[0], s.Name, err, strings.TrimSpace(out.String()))
	}
	return out.String(), err
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	os.Remove(to) // a program that runs cannot be written to
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, info.Mode().Perm())
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		out.Close()
		return err
	}
	return out.Close()
}

// Where a server's own programs are.
const (
	AgentPath   = "/usr/local/sbin/victualler-agent"
	SandboxPath = "/usr/local/sbin/victualler-sandbox"
	MailPath    = "/usr/local/sbin/victualler-mail"
)

// OwnPrograms are our own programs that a server runs: path there, name of the command here.
var OwnPrograms = map[string]string{AgentPath: "victualler-agent", SandboxPath: "victualler-sandbox",
	MailPath: "victualler-mail"}

// OwnServices run them on a server with those options. The agent waits to be joined. Their programs
// are Files of [ServerOptions].
func OwnServices(o ServerOptions) []Service {
	return []Service{
		{Name: "sandbox", Argv: []string{SandboxPath, "run"}, Keep: true},
		{Name: "mail", Argv: []string{MailPath, "run"}, Keep: true},
		{Name: "agent", Argv: slices.Concat([]string{AgentPath}, o.AgentFlags, []string{"run"}), Keep: true},
	}
}
