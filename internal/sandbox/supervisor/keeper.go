package supervisor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/version"
)

// The listening sockets of accounts are held by two processes, so that no single one
// that ends takes them with it: the supervisor, which works, and its keeper, which does
// nothing but hold them, start a supervisor where there is none, and hand it what it
// holds. A keeper that starts finds the supervisor that goes on without it and takes
// over what that one holds. Whichever of the two ends, the other one starts another at
// once: a substitute for the keeper holds until the server has started its own, and
// some time beside it. If the supervisor is of another version, it is told to leave,
// and one of the keeper's own takes its place: so an upgrade loses no request either.

// message goes between keeper and supervisor, with a socket where it says hold.
type message struct {
	// Kind is hold, drop, ready (all that is held has been said) or leave.
	Kind string `json:"kind"`
	Name string `json:"name,omitempty"`
	// Version is the supervisor's, and Held how many sockets a keeper has said, with ready.
	Version string `json:"version,omitempty"`
	Held    int    `json:"held,omitempty"`
}

// SuperviseArg is the argument with which the keeper starts the supervisor, and KeepArg the one
// with which the supervisor starts a substitute for a keeper that has ended.
const (
	SuperviseArg = "supervise"
	KeepArg      = "keep"
)

// The supervisor holds superviseLock, so that there is one at a time, and whoever starts
// supervisors startLock, so that they need not be told so. The keeper that the server itself has
// started holds mainLock: a substitute gives way to it.
const (
	superviseLock = runDir + "/supervise.lock"
	startLock     = runDir + "/start.lock"
	mainLock      = runDir + "/main.lock"
)

// Keep is the keeper. It returns when the context ends, or, for a substitute, when there is another
// one; the supervisor goes on.
func Keep(ctx context.Context, substitute bool, log *slog.Logger) error {
	if err := os.MkdirAll(runDir, 0o711); err != nil {
		return err
	}
	if !substitute {
		main, err := lock(ctx, mainLock, time.Minute)
		if err != nil {
			return err
		}
		defer main.Close()
	}
	ctx, giveWay := context.WithCancel(ctx)
	defer giveWay()
	if substitute {
		go func() {
			for ctx.Err() == nil {
				time.Sleep(time.Second)
				if !mainIsThere(ctx) {
					continue
				}
				time.Sleep(2 * time.Second) // until it surely holds what this one holds
				giveWay()
			}
		}()
	}
	k := keeper{substitute: substitute, held: map[string]*os.File{}, log: log}
	for pause := 10 * time.Millisecond; ctx.Err() == nil; {
		conn, err := k.meet(ctx)
		if err != nil {
			if ctx.Err() == nil {
				log.Error("no supervisor is met", "reason", err)
				time.Sleep(pause)
				pause = min(2*pause, time.Second)
			}
			continue
		}
		pause = 10 * time.Millisecond
		stop := context.AfterFunc(ctx, func() { conn.Close() })
		err = hold(conn, k.held)
		stop()
		conn.Close()
		if ctx.Err() == nil {
			log.Warn("the supervisor has ended", "reason", err, "sockets", len(k.held))
		}
	}
	return nil
}

// keeper is what a keeper has.
type keeper struct {
	substitute bool
	held       map[string]*os.File
	// starts is the lock of whoever starts supervisors; nil until it does.
	starts *os.File
	log    *slog.Logger
}

// mainIsThere reports whether the keeper runs that the server itself has started.
func mainIsThere(ctx context.Context) bool {
	f, err := lock(ctx, mainLock, 0)
	if err == nil {
		f.Close()
	}
	return err != nil
}

// lock takes a lock that lasts as long as the file is open, waiting for it at most so long.
func lock(ctx context.Context, path string, longest time.Duration) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(longest); ; {
		err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return f, nil
		}
		if !time.Now().Before(end) || ctx.Err() != nil {
			f.Close()
			return nil, err
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// meet connects to the supervisor that is running, or to a new one,
// which it starts if nobody else does.
func (k *keeper) meet(ctx context.Context) (*net.UnixConn, error) {
	var ended chan error
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && ctx.Err() == nil; {
		conn, err := net.DialUnix("unixpacket", nil, &net.UnixAddr{Name: keepSocket, Net: "unixpacket"})
		if err == nil {
			return conn, nil
		}
		if k.substitute && mainIsThere(ctx) { // which may be of a newer version
			if k.starts != nil {
				k.starts.Close()
				k.starts = nil
			}
		} else if k.starts == nil {
			k.starts, _ = lock(ctx, startLock, 0)
		}
		if k.starts != nil && ended == nil {
			if ended, err = k.start(); err != nil {
				return nil, err
			}
		}
		select {
		case err := <-ended: // never, while there is none
			return nil, fmt.Errorf("it ended: %w", errors.Join(err, errors.New("see above")))
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
	return nil, errors.Join(ctx.Err(), errors.New("it does not answer"))
}

// start starts a supervisor, which goes on when this process ends.
func (k *keeper) start() (ended chan error, err error) {
	cmd := own(SuperviseArg)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	k.log.Info("supervisor started", "pid", cmd.Process.Pid)
	ended = make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	return ended, nil
}

// own is this program with another task, in a session of its own.
func own(task string) *exec.Cmd {
	cmd := exec.Command("/proc/self/exe", task)
	cmd.Args[0] = "victualler-sandbox" // what lists of processes show
	cmd.Stdout, cmd.Stderr, cmd.Env = os.Stdout, os.Stderr, os.Environ()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return cmd
}

// hold hands the supervisor what is held, and keeps up with what it holds until it ends.
func hold(conn *net.UnixConn, held map[string]*os.File) error {
	for name, f := range held {
		if err := send(conn, message{Kind: "hold", Name: name}, f); err != nil {
			return err
		}
	}
	if err := send(conn, message{Kind: "ready", Held: len(held)}, nil); err != nil {
		return err
	}
	for {
		m, f, err := receive(conn)
		if err != nil {
			return err
		}
		if old := held[m.Name]; old != nil && (m.Kind == "hold" || m.Kind == "drop") {
			old.Close()
			delete(held, m.Name)
		}
		switch m.Kind {
		case "hold":
			held[m.Name] = f
		case "ready":
			if m.Version != version.Version {
				if err := send(conn, message{Kind: "leave"}, nil); err != nil {
					return err
				}
			}
		}
	}
}

func send(conn *net.UnixConn, m message, f *os.File) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	var rights []byte
	if f != nil {
		rights = unix.UnixRights(int(f.Fd()))
	}
	_, _, err = conn.WriteMsgUnix(text, rights, nil)
	return err
}

func receive(conn *net.UnixConn) (message, *os.File, error) {
	text, files, err := receiveFiles(conn, 1)
	if err != nil {
		return message{}, nil, err
	}
	var m message
	if err := json.Unmarshal(text, &m); err != nil {
		return message{}, nil, err
	}
	if len(files) == 0 {
		return m, nil, nil
	}
	return m, files[0], nil
}

// receiveFiles reads one message and the files that came with it, at most n.
func receiveFiles(conn *net.UnixConn, n int) ([]byte, []*os.File, error) {
	text, oob := make([]byte, 64<<10), make([]byte, unix.CmsgSpace(4*n))
	read, rights, _, _, err := conn.ReadMsgUnix(text, oob)
	if err != nil {
		return nil, nil, err
	}
	if read == 0 {
		return nil, nil, errors.New("the other end has closed")
	}
	var files []*os.File
	messages, err := unix.ParseSocketControlMessage(oob[:rights])
	if err != nil {
		return nil, nil, err
	}
	for _, m := range messages {
		fds, err := unix.ParseUnixRights(&m)
		if err != nil {
			continue
		}
		for _, fd := range fds {
			unix.CloseOnExec(fd)
			files = append(files, os.NewFile(uintptr(fd), "received"))
		}
	}
	return text[:read], files, nil
}
