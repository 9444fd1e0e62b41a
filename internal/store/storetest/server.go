package storetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a PostgreSQL on loopback that keeps nothing: what is
// written is not made sure of, and is gone in the end.
type Server struct {
	URL string
	dir string
	cmd *exec.Cmd
}

// StartServer starts one with Debian's programs, as the user "postgres"
// if this is root, who may not run it.
func StartServer() (*Server, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return nil, errors.New("PostgreSQL's server is not installed: apt-get install postgresql")
	}
	slices.Sort(found)
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "victualler-postgres-")
	if err != nil {
		return nil, err
	}
	s := &Server{dir: dir}
	attributes := &syscall.SysProcAttr{Pdeathsig: syscall.SIGQUIT}
	if os.Getuid() == 0 {
		owner, err := user.Lookup("postgres")
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(owner.Uid)
		gid, _ := strconv.Atoi(owner.Gid)
		if err := os.Chown(dir, uid, gid); err != nil {
			return nil, err
		}
		attributes.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	environment := []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8", "TZ=UTC"}
	var out bytes.Buffer
	initdb := exec.Command(bin+"/initdb", "-D", dir+"/data", "-U", "victualler", "--auth=trust", "-E", "UTF8",
		"--locale=C.UTF-8", "--no-sync", "--no-instructions")
	initdb.Dir, initdb.Env, initdb.SysProcAttr, initdb.Stdout, initdb.Stderr = dir, environment, attributes, &out, &out
	if err := initdb.Run(); err != nil {
		s.remove()
		return nil, fmt.Errorf("initdb: %w: %s", err, out.String())
	}
	// Others on this machine must not come in: it trusts whoever
	// reaches its socket, in a directory of ours.
	const port = "5432" // names the socket; nobody listens on it
	s.cmd = exec.Command(bin+"/postgres", "-D", dir+"/data", "-c", "listen_addresses=", "-k", dir, "-p", port,
		"-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off", "-c", "max_connections=500",
		"-c", "shared_buffers=64MB", "-c", "autovacuum=off")
	s.cmd.Dir, s.cmd.Env, s.cmd.SysProcAttr = dir, environment, attributes
	log, err := os.Create(dir + "/log")
	if err != nil {
		s.remove()
		return nil, err
	}
	defer log.Close()
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		s.remove()
		return nil, err
	}
	s.URL = fmt.Sprintf("postgres:///postgres?host=%s&port=%s&user=victualler", dir, port)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.URL)
		if err == nil {
			return s, conn.Close(ctx)
		}
		if ctx.Err() != nil {
			text, _ := os.ReadFile(log.Name())
			s.Stop()
			return nil, fmt.Errorf("PostgreSQL is not ready within 30 s: %w: %s", err, text)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Stop ends the server and removes its data.
func (s *Server) Stop() {
	s.cmd.Process.Signal(syscall.SIGQUIT)
	s.cmd.Wait()
	s.remove()
}

func (s *Server) remove() { os.RemoveAll(s.dir) }
