// Package supervisor starts what runs for accounts, each in its account's sandbox, and ends it.
//
// It holds the sockets on which accounts' PHP is asked, and starts a process manager of PHP with
// the first request that comes to one; when nothing has been asked of it for a while, it is ended,
// and an account at rest costs a socket. It survives the agent, and what it started survives it.
package supervisor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/procfs"
	"victualler/internal/sandbox"
	"victualler/internal/sandbox/cgroup"
	"victualler/internal/sandbox/confine"
	"victualler/internal/sandbox/definition"
)

const (
	runDir      = sandbox.RunDir
	keepSocket  = runDir + "/keep"
	instanceDir = runDir + "/instances"

	// groupsName is the group that has a group for each account in it.
	groupsName = "victualler"
	// idleAfter is how long a PHP may go without requests before it is ended, and lookEvery how
	// often it is looked for such ones.
	idleAfter = 3 * time.Minute
	lookEvery = 10 * time.Second
	// young is an age at which whatever ends has not worked at all.
	young = 2 * time.Second
	// longestPause is the longest between two attempts to start what does not start.
	longestPause = 500 * time.Millisecond
	// handingOver is how long after its begin a supervisor waits for
	// keepers that hold what it needs.
	handingOver = 5 * time.Second
	// longestKill is how long processes may take to end: one that waits
	// for a disk ends when that answers.
	longestKill = 10 * time.Second
)

// Supervisor is the supervisor. Make one with [New].
type Supervisor struct {
	log     *slog.Logger
	tree    *cgroup.Tree // nil where there are no cgroups
	missing []string
	poll    int
	webGID  int

	mu       sync.Mutex
	accounts map[string]*account
	// watched is what waits for what, by file: *slot for a listening
	// socket, *instance for a process.
	watched map[int]any
	// found are sockets that the keeper has held and nobody has asked for yet.
	found map[string]int
	// opened are the names of sockets that are held.
	opened map[string]bool
	// begun is when this supervisor began.
	begun time.Time
	// keepers hold the sockets besides: one, or for a moment two.
	keepers map[*net.UnixConn]bool
	// wasHanded says that a keeper has brought sockets.
	wasHanded atomic.Bool
}

// account is an account with a definition.
type account struct {
	mu     sync.Mutex
	def    definition.Sandbox
	digest string
	stamp  stamp
	slots  map[string]*slot
	// instances is everything that runs.
	instances map[*instance]bool
}

// stamp tells whether a file is still the one that was read.
type stamp struct {
	inode uint64
	time  unix.Timespec
	size  int64
}

// slot is a listening socket, and what answers on it.
type slot struct {
	account *account
	php     definition.PHP
	fd      int
	current *instance
	// failures counts starts in a row that came to nothing; no other is made before notBefore.
	failures  int
	notBefore time.Time
}

// instance is what runs in a sandbox of its own: the first process of its PID namespace, with which
// all others in it end.
type instance struct {
	account *account
	slot    *slot // nil for shells and commands
	pid     int
	pidfd   int
	started time.Time
	busy    time.Time
	// said is what PHP wrote before it had a log; nil for others.
	said   *os.File
	ended  chan struct{}
	status unix.WaitStatus
}

// record is what is kept of an instance for a supervisor that comes after.
type record struct {
	Account string `json:"account"`
	Slot    string `json:"slot,omitempty"`
	Digest  string `json:"digest,omitempty"`
	PID     int    `json:"pid"`
	// Start tells the process from another that has its number (proc(5), stat).
	Start string `json:"start"`
}

// smtpPort is where mail servers take mail of each other (RFC 5321, section 4.5.4.2). From a
// server's own addresses they believe much: what sites send goes through victualler-mail, which
// knows whose it is.
const smtpPort = 25

// New prepares the supervisor: it finds out what the kernel offers.
func New(log *slog.Logger) (*Supervisor, error) {
	s := &Supervisor{log: log, accounts: map[string]*account{}, watched: map[int]any{}, found: map[string]int{},
		opened: map[string]bool{}, begun: time.Now(), keepers: map[*net.UnixConn]bool{}}
	for _, dir := range []struct {
		path string
		mode fs.FileMode
	}{{runDir, 0o711}, {instanceDir, 0o700}, {definition.SocketDir, 0o711},
		{definition.DefinitionDir, 0o755},
		{definition.PHPDir, 0o755}} {
		if err := os.MkdirAll(dir.path, dir.mode); err != nil {
			return nil, err
		}
		if err := os.Chmod(dir.path, dir.mode); err != nil {
			return nil, err
		}
	}
	web, err := user.LookupGroup("www-data")
	if err != nil {
		return nil, err
	}
	if s.webGID, err = strconv.Atoi(web.Gid); err != nil {
		return nil, err
	}
	if s.tree, err = cgroup.Open(groupsName); err != nil {
		s.tree = nil
		s.missing = append(s.missing, "limits of memory and processor time are not kept, and that of processes for "+
			"the user alone: "+err.Error())
	} else {
		for _, c := range s.tree.Missing() {
			s.missing = append(s.missing, map[string]string{
				"pids":   "the limit of processes is kept for the user, not for the sandbox: no cgroup controller pids",
				"memory": "the limit of memory is not kept: no cgroup controller memory",
				"cpu":    "the limit of processor time is not kept: no cgroup controller cpu",
			}[c])
		}
		if err := s.tree.RefusePort(smtpPort); err != nil {
			s.missing = append(s.missing, "sites can send mail past its limits, and as their neighbours: "+err.Error())
		}
	}
	try := exec.Command("/bin/true")
	try.SysProcAttr = &syscall.SysProcAttr{Cloneflags: confine.Namespaces}
	if err := try.Run(); err != nil {
		s.missing = append(s.missing, "nothing can run in a sandbox: no namespaces can be made: "+err.Error())
	}
	for _, m := range s.missing {
		log.Warn("this server cannot confine accounts as it should", "reason", m)
	}
	s.poll, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	return s, err
}

// Run supervises until the context ends, or the keeper tells it to leave. What runs goes on.
func (s *Supervisor) Run(ctx context.Context) error {
	ctx, leave := context.WithCancel(ctx)
	defer leave()
	alone, err := lock(ctx, superviseLock, 0)
	if err != nil {
		return fmt.Errorf("another supervisor is running: %w", err)
	}
	defer alone.Close()
	keeper, err := listenUnix(keepSocket, "unixpacket", 0o600)
	if err != nil {
		return err
	}
	// The keeper's sockets first: what it holds need not be made.
	go s.meetKeepers(keeper, leave)
	s.awaitKeeper()
	s.adopt()
	if err := s.Reload(); err != nil {
		s.log.Error("not all definitions are in force", "reason", err)
	}
	if err := s.serveControl(ctx); err != nil {
		return err
	}
	go s.lookForIdle(ctx)
	s.log.Info("supervising", "accounts", len(s.accounts))
	return s.loop(ctx)
}

// awaitKeeper waits until a keeper has said what it holds. One that holds nothing may be as new as
// this supervisor: another one may still come.
func (s *Supervisor) awaitKeeper() {
	for begun := time.Now(); time.Since(begun) < 2*time.Second; time.Sleep(time.Millisecond) {
		s.mu.Lock()
		met := len(s.keepers) > 0
		s.mu.Unlock()
		if s.wasHanded.Load() || met && time.Since(begun) > 300*time.Millisecond {
			return
		}
	}
}

// adopt finds what earlier supervisors have started.
func (s *Supervisor) adopt() {
	entries, err := os.ReadDir(instanceDir)
	if err != nil {
		return
	}
	for _, e := range entries {
		path := filepath.Join(instanceDir, e.Name())
		text, err := os.ReadFile(path)
		var r record
		if err != nil || json.Unmarshal(text, &r) != nil || procfs.StartTime(r.PID) != r.Start {
			os.Remove(path)
			continue
		}
		pidfd, err := unix.PidfdOpen(r.PID, 0)
		if err != nil || procfs.StartTime(r.PID) != r.Start {
			os.Remove(path)
			continue
		}
		a := s.accounts[r.Account]
		if a == nil {
			a = &account{slots: map[string]*slot{}, instances: map[*instance]bool{}}
			a.def.Account = r.Account
			s.accounts[r.Account] = a
		}
		i := &instance{account: a, pid: r.PID, pidfd: pidfd, started: time.Now().Add(-young), busy: time.Now(),
			ended: make(chan struct{})}
		a.instances[i] = true
		if r.Slot != "" {
			// It holds its socket, whoever else has lost it.
			if fd, err := unix.PidfdGetfd(pidfd, confine.FirstInherited, 0); err == nil {
				unix.CloseOnExec(fd)
				s.keepFound(r.Slot, fd)
			}
			// What is asked for now decides whether it may go on.
			i.slot = &slot{account: a, php: definition.PHP{Name: r.Slot, Digest: r.Digest}, fd: -1, current: i}
			if a.slots[r.Slot] == nil {
				a.slots[r.Slot] = i.slot
			}
		}
		s.watch(pidfd, i, unix.EPOLLIN)
	}
}

// Reload brings into force what the definitions on disk say.
func (s *Supervisor) Reload() error {
	entries, err := os.ReadDir(definition.DefinitionDir)
	if err != nil {
		return err
	}
	var errs []error
	there := map[string]bool{}
	for _, e := range entries {
		name, is := strings.CutSuffix(e.Name(), ".json")
		if !is || strings.HasPrefix(name, ".") {
			continue
		}
		there[name] = true
		if err := s.reloadOne(name); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
		}
	}
	s.mu.Lock()
	var gone []*account
	for name, a := range s.accounts {
		if !there[name] {
			gone = append(gone, a)
		}
	}
	s.mu.Unlock()
	for _, a := range gone {
		if err := s.remove(a); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", a.def.Account, err))
		}
	}
	if s.tree != nil { // groups of accounts that were here before the server's agent forgot them
		names, _ := s.tree.Names()
		for _, name := range names {
			if s.account(name) == nil {
				errs = append(errs, s.endGroup(name))
			}
		}
	}
	return errors.Join(errs...)
}

func (s *Supervisor) account(name string) *account {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.accounts[name]
}

func (s *Supervisor) reloadOne(name string) error {
	path := definition.Path(name)
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		return err
	}
	now := stamp{st.Ino, st.Mtim, st.Size}
	s.mu.Lock()
	a := s.accounts[name]
	if a == nil {
		a = &account{slots: map[string]*slot{}, instances: map[*instance]bool{}}
		a.def.Account = name
		s.accounts[name] = a
	}
	s.mu.Unlock()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.stamp == now {
		return nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var def definition.Sandbox
	if err := json.Unmarshal(text, &def); err != nil {
		return err
	}
	if err := def.Check(); err != nil {
		return err
	}
	if def.Account != name {
		return fmt.Errorf("it is the definition of %s", def.Account)
	}
	if err := s.follow(a, def); err != nil {
		return err
	}
	a.stamp, a.digest = now, definition.Digest(string(text))
	return nil
}

// follow brings a definition into force. The account is locked.
func (s *Supervisor) follow(a *account, def definition.Sandbox) error {
	a.def = def
	wanted := map[string]definition.PHP{}
	if !def.Suspended {
		for _, p := range def.PHP {
			wanted[p.Name] = p
		}
	}
	for name, sl := range a.slots {
		p, stays := wanted[name]
		switch {
		case !stays || sl.fd >= 0 && p.Socket != sl.php.Socket:
			s.closeSlot(sl)
			delete(a.slots, name)
		case p.Digest != sl.php.Digest || p.Version != sl.php.Version && sl.php.Version != "":
			// What runs may finish what it has begun; whoever comes now gets a new one.
			if sl.current != nil {
				sl.current.signal(unix.SIGQUIT)
				sl.current = nil
			}
			fallthrough
		default:
			sl.php, sl.failures, sl.notBefore = p, 0, time.Time{}
		}
	}
	for name, p := range wanted {
		sl := a.slots[name]
		if sl == nil {
			sl = &slot{account: a, php: p, fd: -1}
			a.slots[name] = sl
		}
		if sl.fd < 0 {
			if err := s.open(sl); err != nil {
				return err
			}
		}
		if sl.current == nil {
			s.arm(sl)
		}
	}
	if def.Suspended {
		return s.endAll(a)
	}
	if s.tree == nil {
		return nil
	}
	if _, err := s.tree.Usage(def.Account); err != nil {
		return nil // there is no group yet: the first that runs makes it
	}
	return s.tree.Limit(def.Account, limits(def))
}

// open listens for a slot, or takes the socket that the keeper has held for it.
func (s *Supervisor) open(sl *slot) error {
	path := sl.php.Socket
	fd, held := s.take(sl.php.Name)
	// If somebody listens there, a keeper holds it that has not come
	// yet: whoever waits there now would be lost with another socket in
	// its place. It is not asked often, as each question waits there.
	for n := 0; !held && time.Since(s.begun) < handingOver && (n%50 != 0 || isHeld(path)); n++ {
		time.Sleep(5 * time.Millisecond)
		fd, held = s.take(sl.php.Name)
	}
	if !held || !listens(path, fd) {
		var err error
		if fd, err = listen(path, s.webGID); err != nil {
			return err
		}
		if sl.current != nil { // it waits at a socket that nobody reaches any more
			sl.current.signal(unix.SIGQUIT)
			sl.current = nil
		}
	}
	s.mu.Lock()
	s.opened[sl.php.Name] = true
	s.mu.Unlock()
	s.tellKeepers(message{Kind: "hold", Name: sl.php.Name}, fd)
	sl.fd = fd
	return nil
}

// take takes a socket that was found.
func (s *Supervisor) take(name string) (fd int, held bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fd, held = s.found[name]
	delete(s.found, name)
	return fd, held
}

// isHeld reports whether somebody listens at a path.
func isHeld(path string) bool {
	conn, err := net.Dial("unix", path)
	if err == nil {
		conn.Close()
	}
	return err == nil
}

// listens reports whether whoever connects to a path reaches the socket.
func listens(path string, fd int) bool {
	var st unix.Stat_t
	if unix.Lstat(path, &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFSOCK {
		return false
	}
	name, err := unix.Getsockname(fd)
	if err != nil {
		return false
	}
	address, is := name.(*unix.SockaddrUnix)
	return is && strings.TrimSuffix(address.Name, newSuffix) == path
}

const newSuffix = ".new"

// listen makes a listening socket that takes its place as a whole. It blocks: those who inherit it
// could not wait at it otherwise.
func listen(path string, gid int) (int, error) {
	fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	made := path + newSuffix
	_ = os.Remove(made)
	if err := unix.Bind(fd, &unix.SockaddrUnix{Name: made}); err != nil {
		unix.Close(fd)
		return -1, fmt.Errorf("bind %s: %w", made, err)
	}
	err = errors.Join(os.Chown(made, 0, gid), os.Chmod(made, 0o660), unix.Listen(fd, 511))
	if err == nil {
		err = os.Rename(made, path)
	}
	if err != nil {
		unix.Close(fd)
		os.Remove(made)
		return -1, err
	}
	return fd, nil
}

// closeSlot ends what answers on a socket, and the socket.
func (s *Supervisor) closeSlot(sl *slot) {
	if sl.fd >= 0 {
		os.Remove(sl.php.Socket)
		s.mu.Lock()
		delete(s.opened, sl.php.Name)
		s.mu.Unlock()
		s.tellKeepers(message{Kind: "drop", Name: sl.php.Name}, -1)
		s.unwatch(sl.fd)
		unix.Close(sl.fd)
		sl.fd = -1
	}
	if sl.current != nil {
		sl.current.signal(unix.SIGKILL)
		sl.current = nil
	}
}

// remove ends everything of an account that has no definition any more.
func (s *Supervisor) remove(a *account) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.def.Suspended = true // whoever is just about to start something finds it so
	for name, sl := range a.slots {
		s.closeSlot(sl)
		delete(a.slots, name)
	}
	if err := s.endAll(a); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.accounts, a.def.Account)
	s.mu.Unlock()
	if s.tree == nil {
		return nil
	}
	return s.endGroup(a.def.Account)
}

// endAll ends everything that runs for an account, however fast it makes more.
func (s *Supervisor) endAll(a *account) error {
	for i := range a.instances {
		i.signal(unix.SIGKILL)
	}
	if s.tree == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), longestKill)
	defer cancel()
	return s.tree.Kill(ctx, a.def.Account)
}

// endGroup ends and removes a group. The kernel needs a moment until it is empty.
func (s *Supervisor) endGroup(name string) error {
	ctx, cancel := context.WithTimeout(context.Background(), longestKill)
	defer cancel()
	for {
		err := s.tree.Kill(ctx, name)
		if err == nil {
			if err = s.tree.Remove(name); err == nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (i *instance) signal(signal unix.Signal) {
	_ = unix.PidfdSendSignal(i.pidfd, signal, nil, 0) // it may have ended
}

// Health tells how well the server can confine.
func (s *Supervisor) Health() sandbox.Health {
	h := sandbox.Health{Layout: "no cgroups", Missing: append([]string{}, s.missing...)}
	if s.tree != nil {
		h.Layout = s.tree.Layout()
	}
	for _, a := range s.all() {
		a.mu.Lock()
		if len(a.instances) > 0 {
			h.Running++
		}
		a.mu.Unlock()
	}
	return h
}

func (s *Supervisor) all() []*account {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Values(s.accounts))
}

// State tells what is held of an account.
func (s *Supervisor) State(name string) sandbox.State {
	st := sandbox.State{Listening: []string{}}
	a := s.account(name)
	if a == nil {
		return st
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	st.Digest = a.digest
	for _, sl := range a.slots {
		if sl.fd >= 0 && listens(sl.php.Socket, sl.fd) {
			st.Listening = append(st.Listening, sl.php.Socket)
		}
	}
	slices.Sort(st.Listening)
	return st
}

// Loads measures what accounts use; those whose group has never been made are left out.
func (s *Supervisor) Loads() map[string]sandbox.Load {
	loads := map[string]sandbox.Load{}
	for _, a := range s.all() {
		a.mu.Lock()
		l := sandbox.Load{Instances: len(a.instances)}
		name := a.def.Account
		a.mu.Unlock()
		if s.tree != nil {
			usage, err := s.tree.Usage(name)
			if err != nil {
				continue
			}
			l.Usage = usage
		}
		loads[name] = l
	}
	return loads
}

// limits are those of an account's group.
func limits(d definition.Sandbox) cgroup.Limits {
	return cgroup.Limits{Processes: d.Processes, Memory: d.Memory, CPU: d.CPU}
}
