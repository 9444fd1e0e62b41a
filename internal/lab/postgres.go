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
	"sync"
	"syscall"
	"time"
)

// Postgres is a PostgreSQL server on loopback with its data in one directory.
type Postgres struct {
	// URL reaches the database "victualler" as a user who owns it.
	URL string

	bin, dir string
	uid, gid int
	port     int
	settings []string

	mu   sync.Mutex
	cmd  *exec.Cmd
	done chan struct{}
}

// StartPostgres starts Debian's PostgreSQL on a free port of loopback, with its
// data below dir, which is made and filled at the first start. It uses no
// cluster of the machine's own and dies with this process. Settings are added
// to its command line, such as "fsync=off".
func StartPostgres(ctx context.Context, dir string, settings ...string) (*Postgres, error) {
	return startPostgres(ctx, dir, (*Postgres).initCluster, settings)
}

// StartStandby starts a PostgreSQL that follows another one (streaming replication) and is read
// only, until it is promoted. Its data below dir is copied at the first start.
func StartStandby(ctx context.Context, primary *Postgres, dir string, settings ...string) (*Postgres, error) {
	return startPostgres(ctx, dir, func(p *Postgres) error {
		password, err := os.ReadFile(filepath.Join(primary.dir, "password"))
		if err != nil {
			return err
		}
		if err := p.writeFile("password", string(password)); err != nil {
			return err
		}
		return p.run("pg_basebackup", "-d", primary.URL, "-D", boundDir+"/data", "-R", "-X", "stream", "-C", "-S",
			"standby", "-c", "fast", "--no-sync")
	}, settings)
}

func startPostgres(ctx context.Context, dir string, fill func(*Postgres) error, settings []string) (*Postgres, error) {
	p := &Postgres{settings: settings}
	var err error
	if p.bin, err = postgresBin(); err != nil {
		return nil, err
	}
	owner, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL's user: %w", err)
	}
	p.uid, _ = strconv.Atoi(owner.Uid)
	p.gid, _ = strconv.Atoi(owner.Gid)
	if p.dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(p.dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.Chown(p.dir, p.uid, p.gid); err != nil {
		return nil, err
	}
	ready := filepath.Join(p.dir, "ready")
	os.Rename(filepath.Join(p.dir, "data", "ready"), ready)       // where it was before
	if _, err := os.Stat(ready); errors.Is(err, fs.ErrNotExist) { // a first attempt that was cut off is forgotten
		if err := os.RemoveAll(filepath.Join(p.dir, "data")); err != nil {
			return nil, err
		}
		if err := fill(p); err != nil {
			return nil, err
		}
		if err := os.WriteFile(ready, nil, 0o600); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(filepath.Join(p.dir, "password"))
	if err != nil {
		return nil, err
	}
	if p.port, err = FreePort(); err != nil {
		return nil, err
	}
	p.URL = fmt.Sprintf("postgres://victualler:%s@127.0.0.1:%d/postgres", strings.TrimSpace(string(password)), p.port)
	return p, p.Start(ctx)
}

// Start starts a server that was stopped or has ended, at the same address.
func (p *Postgres) Start(ctx context.Context) error {
	argv := []string{p.bin + "/postgres", "-D", boundDir + "/data", "-c", "listen_addresses=127.0.0.1", "-c",
		"port=" + strconv.Itoa(p.port), "-c", "unix_socket_directories=", "-c", "max_connections=200"}
	for _, setting := range p.settings {
		argv = append(argv, "-c", setting)
	}
	cmd, err := p.bound(argv...)
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(p.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := StartBound(cmd); err != nil {
		return err
	}
	done := make(chan struct{})
	p.mu.Lock()
	p.cmd, p.done = cmd, done
	p.mu.Unlock()
	go func() { cmd.Wait(); close(done) }()
	if err := p.waitReady(ctx); err != nil {
		p.Stop()
		return fmt.Errorf("%w; see %s", err, log.Name())
	}
	return nil
}

// Ended is closed when the server has ended.
func (p *Postgres) Ended() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.done
}

// Kill ends the server as a machine's loss of power does.
func (p *Postgres) Kill() { p.end(syscall.SIGKILL) }

// Promote has a standby take over. It is read only no longer when Promote returns.
func (p *Postgres) Promote() error { return p.run("pg_ctl", "promote", "-w", "-D", boundDir+"/data") }

// bound prepares a command with the server's directory at [boundDir], as its user.
func (p *Postgres) bound(argv ...string) (*exec.Cmd, error) {
	return boundCommand(boundConfig{Dir: p.dir, UID: uint32(p.uid), GID: uint32(p.gid), Argv: argv})
}

// run runs one of PostgreSQL's programs.
func (p *Postgres) run(program string, args ...string) error {
	cmd, err := p.bound(append([]string{filepath.Join(p.bin, program)}, args...)...)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := StartBound(cmd); err != nil {
		return err
	}
	if err := cmd.Wait(); err != nil {
		return fmt.Errorf("%s: %w: %s", program, err, out.String())
	}
	return nil
}

// writeFile writes a file that the server's user reads.
func (p *Postgres) writeFile(name, text string) error {
	file := filepath.Join(p.dir, name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	return os.Chown(file, p.uid, p.gid)
}

func (p *Postgres) waitReady(ctx context.Context) error {
	ready := func() bool {
		return exec.CommandContext(ctx, "pg_isready", "-q", "-h", "127.0.0.1", "-p", strconv.Itoa(p.port)).Run() == nil
	}
	for end := time.Now().Add(30 * time.Second); !ready(); {
		select {
		case <-p.Ended():
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
func (p *Postgres) Stop() { p.end(syscall.SIGINT) }

func (p *Postgres) end(signal syscall.Signal) {
	p.mu.Lock()
	cmd, done := p.cmd, p.done
	p.mu.Unlock()
	End(cmd.Process, done, signal, syscall.SIGQUIT, 15*time.Second)
}

// initCluster makes the data directory.
func (p *Postgres) initCluster() error {
	if err := p.writeFile("password", rand.Text()+"\n"); err != nil {
		return err
	}
	return p.run("initdb", "-D", boundDir+"/data", "-U", "victualler", "--pwfile="+boundDir+"/password",
		"--auth=scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
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

// FreePort finds a port of loopback that nobody listens on.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
