package supervisor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/sandbox"
	"victualler/internal/sandbox/confine"
	"victualler/internal/version"
)

// listenUnix makes a listening socket for requests.
func listenUnix(path, kind string, mode fs.FileMode) (*net.UnixListener, error) {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	l, err := net.ListenUnix(kind, &net.UnixAddr{Name: path, Net: kind})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	return l, os.Chmod(path, mode)
}

// meetKeepers exchanges with each keeper that comes what is held. When the last one ends, a
// substitute is started at once.
func (s *Supervisor) meetKeepers(l *net.UnixListener, leave func()) {
	for {
		conn, err := l.AcceptUnix()
		if err != nil {
			return
		}
		go func() {
			left := s.meet(conn)
			s.mu.Lock()
			_, was := s.keepers[conn]
			delete(s.keepers, conn)
			alone := was && len(s.keepers) == 0
			s.mu.Unlock()
			conn.Close()
			switch {
			case left:
				leave()
			case alone:
				s.substitute()
			}
		}()
	}
}

// meet exchanges with a keeper until it ends; left says that it has told this supervisor to leave.
func (s *Supervisor) meet(conn *net.UnixConn) (left bool) {
	for {
		m, f, err := receive(conn)
		if err != nil {
			return false
		}
		switch m.Kind {
		case "hold":
			if f == nil {
				continue
			}
			if fd, err := unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 0); err == nil {
				s.keepFound(m.Name, fd)
			}
			f.Close()
		case "ready":
			s.become(conn)
			if m.Held > 0 {
				s.wasHanded.Store(true)
			}
		case "leave":
			return true
		}
	}
}

// keepFound keeps a socket until somebody asks for it; one that is there already is closed.
func (s *Supervisor) keepFound(name string, fd int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, is := s.found[name]; is || s.opened[name] {
		unix.Close(fd)
		return
	}
	s.found[name] = fd
}

// substitute starts a keeper in the place of one that has ended.
func (s *Supervisor) substitute() {
	cmd := own(KeepArg)
	if err := cmd.Start(); err != nil {
		s.log.Error("no substitute for the keeper", "reason", err)
		return
	}
	go cmd.Wait()
}

// become makes a connection a keeper's, and tells it everything that is held.
func (s *Supervisor) become(conn *net.UnixConn) {
	s.mu.Lock()
	s.keepers[conn] = true
	s.mu.Unlock()
	for _, a := range s.all() {
		a.mu.Lock()
		for _, sl := range a.slots {
			if sl.fd >= 0 {
				sendSocket(conn, message{Kind: "hold", Name: sl.php.Name}, sl.fd)
			}
		}
		a.mu.Unlock()
	}
	_ = send(conn, message{Kind: "ready", Version: version.Version}, nil)
}

// tellKeepers tells the keepers that there are; a new one is told everything.
func (s *Supervisor) tellKeepers(m message, fd int) {
	s.mu.Lock()
	conns := slices.Collect(maps.Keys(s.keepers))
	s.mu.Unlock()
	for _, conn := range conns {
		sendSocket(conn, m, fd)
	}
}

func sendSocket(conn *net.UnixConn, m message, fd int) {
	text, err := json.Marshal(m)
	if err != nil {
		return
	}
	var rights []byte
	if fd >= 0 {
		rights = unix.UnixRights(fd)
	}
	_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
	_, _, _ = conn.WriteMsgUnix(text, rights, nil)
}

// serveControl answers root at the control socket and users at the door.
func (s *Supervisor) serveControl(ctx context.Context) error {
	control, err := listenUnix(sandbox.ControlSocket, "unix", 0o600)
	if err != nil {
		return err
	}
	door, err := listenUnix(sandbox.Door, "unixpacket", 0o666)
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { control.Close(); door.Close() })
	accept := func(l *net.UnixListener, serve func(*net.UnixConn)) {
		for {
			conn, err := l.AcceptUnix()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}
	go accept(control, s.control)
	go accept(door, s.door)
	return nil
}

func (s *Supervisor) control(conn *net.UnixConn) {
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	var q sandbox.Question
	if err := json.NewDecoder(conn).Decode(&q); err != nil {
		return
	}
	var a sandbox.Answer
	switch q.Ask {
	case sandbox.AskReload:
		if err := s.Reload(); err != nil {
			a.Error = err.Error()
		}
	case sandbox.AskState:
		state := s.State(q.Account)
		a.State = &state
	case sandbox.AskHealth:
		health := s.Health()
		a.Health = &health
	case sandbox.AskLoads:
		a.Loads = s.Loads()
	case sandbox.AskAdmit:
		if err := s.admit(q.UID, q.PID); err != nil {
			a.Error = err.Error()
		}
	default:
		a.Error = "unknown question " + q.Ask
	}
	_ = json.NewEncoder(conn).Encode(a)
}

// byUID finds the account with a user's number.
func (s *Supervisor) byUID(uid int) *account {
	for _, a := range s.all() {
		a.mu.Lock()
		is := a.def.UID == uid
		a.mu.Unlock()
		if is {
			return a
		}
	}
	return nil
}

// admit puts a session that sshd has let in into its account's group.
func (s *Supervisor) admit(uid, pid int) error {
	a := s.byUID(uid)
	if a == nil {
		return fmt.Errorf("there is no account with the user number %d", uid)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.def.Suspended {
		return fmt.Errorf("%s is suspended", a.def.Account)
	}
	if s.tree == nil {
		return nil
	}
	if err := s.tree.Make(a.def.Account, limits(a.def)); err != nil {
		return err
	}
	return s.tree.Add(a.def.Account, pid)
}

// passedOn are the variables that a session may bring along, and prefixes of such.
var passedOn = []string{"TERM=", "LANG=", "LC_", "TZ=", "COLORTERM=", "SSH_CONNECTION=", "SSH_CLIENT=", "COLUMNS=",
	"LINES="}

// door lets a user into the sandbox of their account: what came with the request becomes the
// standard input and outputs of a shell, or of a command.
func (s *Supervisor) door(conn *net.UnixConn) {
	refuse := func(err error) {
		text, _ := json.Marshal(sandbox.Ended{Error: err.Error(), Status: 255})
		_, _ = conn.Write(text)
	}
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	uid, err := peer(conn)
	if err != nil {
		refuse(err)
		return
	}
	text, files, err := receiveFiles(conn, 3)
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	if err != nil {
		return
	}
	var e sandbox.Entry
	if err := json.Unmarshal(text, &e); err != nil || len(files) != 3 || len(e.Argv) == 0 {
		refuse(errors.New("not understood"))
		return
	}
	a := s.byUID(uid)
	if uid == 0 { // root enters anybody's
		a = s.account(e.Account)
	}
	if a == nil {
		refuse(errors.New("there is no account for this user here"))
		return
	}
	i, err := s.enter(a, e, files, uid == 0)
	if err != nil {
		refuse(err)
		return
	}
	// When the other end goes, so does what it has started.
	_ = conn.SetReadDeadline(time.Time{})
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		_, _ = conn.Read(make([]byte, 1))
	}()
	select {
	case <-i.ended:
	case <-gone:
		i.signal(unix.SIGHUP)
		select {
		case <-i.ended:
		case <-time.After(2 * time.Second):
			i.signal(unix.SIGKILL)
			<-i.ended
		}
	}
	ended := sandbox.Ended{Status: i.status.ExitStatus()}
	if i.status.Signaled() {
		ended.Status = 128 + int(i.status.Signal())
		ended.Error = fmt.Sprintf("ended by signal %d (%s)", i.status.Signal(), syscall.Signal(i.status.Signal()))
	}
	text, _ = json.Marshal(ended)
	_, _ = conn.Write(text)
}

func (s *Supervisor) enter(a *account, e sandbox.Entry, files []*os.File, operator bool) (*instance, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case a.def.Suspended:
		return nil, fmt.Errorf("%s is suspended", a.def.Account)
	case !a.def.Shell && !operator:
		return nil, fmt.Errorf("%s has no shell", a.def.Account)
	}
	env := confine.Environment(a.def.Account, a.def.Home())
	for _, variable := range e.Env {
		if slices.ContainsFunc(passedOn, func(p string) bool { return strings.HasPrefix(variable, p) }) {
			env = append(env, variable)
		}
	}
	return s.start(a, nil, confine.Spec{Argv: e.Argv, Env: env, Terminal: e.Terminal},
		confine.Files{Stdin: files[0], Stdout: files[1], Stderr: files[2]})
}

// peer returns the user at the other end, as the kernel knows it (unix(7), SO_PEERCRED).
func peer(conn *net.UnixConn) (int, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return -1, err
	}
	var cred *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		cred, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil || failed != nil {
		return -1, errors.Join(err, failed)
	}
	return int(cred.Uid), nil
}
