package lab

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Postgres is a PostgreSQL server on loopback with its data in one directory.
type Postgres struct {
	// URL reaches the database "victualler" as a user who owns it.
	URL string

	cmd  *exec.Cmd
	done chan struct{}
}

// StartPostgres starts Debian's PostgreSQL on a free port of loopback, with its
// data below dir, which is made and filled at the first start. It uses no
// cluster of the machine's own and dies with this process. Settings are added
// to its command line, such as "fsync=off".
func StartPostgres(ctx context.Context, dir string, settings ...string) (*Postgres, error) {
	bin, err := postgresBin()
	if err != nil {
		return nil, err
	}
	owner, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL's user: %w", err)
	}
	uid, _ := strconv.Atoi(owner.Uid)
	gid, _ := strconv.Atoi(owner.Gid)
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.Chown(dir, uid, gid); err != nil {
		return nil, err
	}
	bound := func(argv ...string) (*exec.Cmd, error) {
		return boundCommand(boundConfig{Dir: dir, UID: uint32(uid), GID: uint32(gid), Argv: argv})
	}
	if _, err := os.Stat(filepath.Join(dir, "data", "ready")); errors.Is(err, fs.ErrNotExist) {
		if err := initCluster(bin, dir, uid, gid, bound); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	argv := []string{bin + "/postgres", "-D", boundDir + "/data", "-c", "listen_addresses=127.0.0.1", "-c",
		"port=" + strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "max_connections=200"}
	for _, setting := range settings {
		argv = append(argv, "-c", setting)
	}
	cmd, err := bound(argv...)
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := StartBound(cmd); err != nil {
		return nil, err
	}
	p := &Postgres{cmd: cmd, done: make(chan struct{}),
		URL: fmt.Sprintf("postgres://victualler:%s@127.0.0.1:%d/postgres", strings.TrimSpace(string(password)), port)}
	go func() { cmd.Wait(); close(p.done) }()
	if err := p.waitReady(ctx, port); err != nil {
		p.Stop()
		return nil, fmt.Errorf("%w; see %s", err, log.Name())
	}
	return p, nil
}

func (p *Postgres) waitReady(ctx context.Context, port int) error {
	ready := func() bool {
		return exec.CommandContext(ctx, "pg_isready", "-q", "-h", "127.0.0.1", "-p", strconv.Itoa(port)).Run() == nil
	}
	for end := time.Now().Add(30 * time.Second); !ready(); {
		select {
		case <-p.done:
			return errors.New("PostgreSQL ended at its start")
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(end) {
			return errors.New("PostgreSQL not ready within 30 s")
		}
	}
	return nil
}

// Stop ends the server, letting it write its last checkpoint.
func (p *Postgres) Stop() {
	p.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-p.done:
	case <-time.After(15 * time.Second):
		p.cmd.Process.Signal(syscall.SIGQUIT)
		<-p.done
	}
}

// initCluster makes the data directory; a first attempt that was cut off is forgotten.
func initCluster(bin, dir string, uid, gid int, bound func(...string) (*exec.Cmd, error)) error {
	if err := os.RemoveAll(filepath.Join(dir, "data")); err != nil {
		return err
	}
	password := rand.Text()
	file := filepath.Join(dir, "password")
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	if err := os.Chown(file, uid, gid); err != nil {
		return err
	}
	cmd, err := bound(bin+"/initdb", "-D", boundDir+"/data", "-U", "victualler", "--pwfile="+boundDir+"/password",
		"--auth=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	if err != nil {
		return err
	}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := StartBound(cmd); err != nil {
		return err
	}
	if err := cmd.Wait(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, out.String())
	}
	return os.WriteFile(filepath.Join(dir, "data", "ready"), nil, 0o600)
}

func boundCommand(c boundConfig) (*exec.Cmd, error) {
	text, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	if _, err := write.Write(text); err != nil {
		return nil, err
	}
	write.Close()
	return &exec.Cmd{Path: "/proc/self/exe", Args: []string{bindRun}, Dir: "/", ExtraFiles: []*os.File{read},
		Env:         []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8", "TZ=UTC"},
		SysProcAttr: &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNS, Setsid: true}}, nil
}

func postgresBin() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL's server is not installed (Debian's package postgresql-15)")
	}
	sort.Strings(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// freePort finds a port of loopback that nobody listens on.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
