package supervisor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/procfs"
	"victualler/internal/sandbox/confine"
)

// watch waits for a file; oneShot has it wait once, until it is armed again.
func (s *Supervisor) watch(fd int, what any, events uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	op := unix.EPOLL_CTL_ADD
	if _, known := s.watched[fd]; known {
		op = unix.EPOLL_CTL_MOD
	}
	s.watched[fd] = what
	if err := unix.EpollCtl(s.poll, op, fd, &unix.EpollEvent{Events: events, Fd: int32(fd)}); err != nil {
		s.log.Error("cannot wait", "reason", err)
	}
}

func (s *Supervisor) unwatch(fd int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, known := s.watched[fd]; known {
		delete(s.watched, fd)
		_ = unix.EpollCtl(s.poll, unix.EPOLL_CTL_DEL, fd, nil)
	}
}

// arm waits for the next request to a slot.
func (s *Supervisor) arm(sl *slot) {
	if sl.fd >= 0 {
		s.watch(sl.fd, sl, unix.EPOLLIN|unix.EPOLLONESHOT)
	}
}

// loop handles requests that come and processes that end, until the context ends.
func (s *Supervisor) loop(ctx context.Context) error {
	events := make([]unix.EpollEvent, 64)
	for ctx.Err() == nil {
		n, err := unix.EpollWait(s.poll, events, 200)
		if err != nil && !errors.Is(err, unix.EINTR) {
			return err
		}
		for _, e := range events[:max(n, 0)] {
			s.mu.Lock()
			what := s.watched[int(e.Fd)]
			s.mu.Unlock()
			switch w := what.(type) {
			case *slot:
				go s.asked(w)
			case *instance:
				s.unwatch(w.pidfd)
				go s.hasEnded(w)
			}
		}
	}
	return nil
}

// asked starts what answers on a socket.
func (s *Supervisor) asked(sl *slot) {
	sl.account.mu.Lock()
	defer sl.account.mu.Unlock()
	if sl.fd < 0 || sl.current != nil || sl.account.def.Suspended || sl.account.slots[sl.php.Name] != sl {
		return
	}
	if wait := time.Until(sl.notBefore); wait > 0 {
		time.AfterFunc(wait, func() {
			sl.account.mu.Lock()
			defer sl.account.mu.Unlock()
			if sl.current == nil {
				s.arm(sl)
			}
		})
		return
	}
	i, err := s.startPHP(sl)
	if err != nil {
		s.log.Error("PHP cannot be started", "account", sl.account.def.Account, "reason", err)
		s.failed(sl, true)
		return
	}
	sl.current = i
}

// failed waits longer each time. Those who are waiting are turned away where it is of no use: a
// configuration that does not work, told by an exit with an error, or ends without end.
func (s *Supervisor) failed(sl *slot, hopeless bool) {
	sl.failures++
	if hopeless || sl.failures > 3 { // whoever was killed once or twice is started again at once
		sl.notBefore = time.Now().Add(min(longestPause, 10*time.Millisecond<<min(sl.failures, 10)))
	}
	if hopeless && sl.failures >= 2 || sl.failures >= 20 {
		for range 512 {
			waiting := []unix.PollFd{{Fd: int32(sl.fd), Events: unix.POLLIN}}
			if n, err := unix.Poll(waiting, 0); n != 1 || err != nil {
				break
			}
			conn, _, err := unix.Accept4(sl.fd, unix.SOCK_CLOEXEC)
			if err != nil {
				break
			}
			unix.Close(conn)
		}
	}
	s.arm(sl)
}

// startPHP starts the process manager of PHP for a slot.
func (s *Supervisor) startPHP(sl *slot) (*instance, error) {
	def, p := sl.account.def, sl.php
	errs, err := notepad()
	if err != nil {
		return nil, err
	}
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer null.Close()
	copied, err := unix.FcntlInt(uintptr(sl.fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	listening := os.NewFile(uintptr(copied), "socket")
	defer listening.Close()
	i, err := s.start(sl.account, sl, confine.Spec{
		Argv: []string{"php-fpm" + p.Version, "-F", "-y", p.Dir() + "/pool.conf", "-c",
			"/etc/php/" + p.Version + "/fpm/php.ini"},
		Env: append(confine.Environment(def.Account, def.Home()), "PHP_INI_SCAN_DIR=/etc/php/"+p.Version+
			"/fpm/conf.d:"+p.Dir(), fmt.Sprintf("FPM_SOCKETS=%s=%d", p.Socket, confine.FirstInherited)),
		Show: []string{p.Dir()},
	}, confine.Files{Stdin: null, Stdout: null, Stderr: errs, Inherited: []*os.File{listening}})
	if err != nil {
		errs.Close()
		return nil, err
	}
	i.said = errs
	return i, nil
}

// notepad is a file of one page in memory, on which a program may write why it does not start, and
// nobody more than that: the account's other processes can reach it.
func notepad() (*os.File, error) {
	fd, err := unix.MemfdCreate("said", unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "said")
	err = f.Truncate(4096)
	if err == nil {
		_, err = unix.FcntlInt(f.Fd(), unix.F_ADD_SEALS, unix.F_SEAL_GROW|unix.F_SEAL_SHRINK|unix.F_SEAL_SEAL)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// words reads what a program has said.
func (i *instance) words() string {
	if i.said == nil {
		return ""
	}
	text := make([]byte, 1000)
	n, _ := i.said.ReadAt(text, 0)
	return strings.TrimSpace(strings.Trim(string(text[:n]), "\x00"))
}

// start starts a program in a sandbox of the account. The account is locked.
func (s *Supervisor) start(a *account, sl *slot, spec confine.Spec, files confine.Files) (*instance, error) {
	def := a.def
	if def.Suspended || def.UID == 0 {
		return nil, fmt.Errorf("%s is suspended", def.Account)
	}
	spec.Account, spec.UID, spec.Home = def.Account, def.UID, def.Home()
	if s.tree == nil || len(s.tree.Missing()) > 0 {
		spec.Processes = def.Processes
	}
	process, err := confine.Start(spec, files, func(pid int) error {
		if s.tree == nil {
			return nil
		}
		if err := s.tree.Make(def.Account, limits(def)); err != nil {
			return err
		}
		return s.tree.Add(def.Account, pid)
	})
	if err != nil {
		return nil, err
	}
	pid := process.Pid
	process.Release() // it is waited for below, as those of earlier supervisors are
	pidfd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		unix.Kill(pid, unix.SIGKILL)
		unix.Wait4(pid, nil, 0, nil)
		return nil, err
	}
	now := time.Now()
	i := &instance{account: a, slot: sl, pid: pid, pidfd: pidfd, started: now, busy: now, ended: make(chan struct{})}
	a.instances[i] = true
	r := record{Account: def.Account, PID: pid, Start: procfs.StartTime(pid)}
	if sl != nil {
		r.Slot, r.Digest = sl.php.Name, sl.php.Digest
	}
	if text, err := json.Marshal(r); err == nil {
		err = errors.Join(os.WriteFile(i.record()+newSuffix, text, 0o600), os.Rename(i.record()+newSuffix, i.record()))
		if err != nil {
			s.log.Error("not noted for a later supervisor", "account", def.Account, "reason", err)
		}
	}
	s.watch(pidfd, i, unix.EPOLLIN)
	return i, nil
}

func (i *instance) record() string { return filepath.Join(instanceDir, strconv.Itoa(i.pid)) }

// hasEnded takes note that an instance has ended, and waits for the next request.
func (s *Supervisor) hasEnded(i *instance) {
	// An instance of an earlier supervisor is another's child now.
	for {
		_, err := unix.Wait4(i.pid, &i.status, 0, nil)
		if !errors.Is(err, unix.EINTR) {
			break
		}
	}
	unix.Close(i.pidfd)
	os.Remove(i.record())
	close(i.ended)
	i.account.mu.Lock()
	defer i.account.mu.Unlock()
	delete(i.account.instances, i)
	if i.said != nil {
		defer i.said.Close()
	}
	sl := i.slot
	if sl == nil || sl.current != i {
		return
	}
	sl.current = nil
	if time.Since(i.started) > young || i.status.Exited() && i.status.ExitStatus() == 0 {
		sl.failures = 0
		s.arm(sl)
		return
	}
	s.log.Warn("PHP has ended soon after its start", "account", i.account.def.Account, "php", sl.php.Name,
		"said", i.words())
	s.failed(sl, i.status.Exited())
}

// lookForIdle ends each PHP that has had nothing to do for a while.
func (s *Supervisor) lookForIdle(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for _, a := range s.all() {
			a.mu.Lock()
			for _, sl := range a.slots {
				i := sl.current
				if i == nil {
					continue
				}
				if busy(i.pid) {
					i.busy = time.Now()
				} else if time.Since(i.busy) > idleAfter {
					i.signal(unix.SIGQUIT)
					sl.current = nil
					s.arm(sl)
				}
			}
			a.mu.Unlock()
		}
	}
}

// busy reports whether a PHP has workers, or whatever else has been started from it: it is the
// first of its PID namespace, and all that lose their parents become its children.
func busy(pid int) bool {
	children, err := procfs.Children(pid)
	return err != nil || len(children) > 0
}
