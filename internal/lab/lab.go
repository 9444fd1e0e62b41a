package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/procfs"
)

// Options describe a lab.
type Options struct {
	// Name tells labs on one machine apart: 1 to 8 lower-case letters and
	// digits. The bridge is called "v" and the name.
	Name string
	// Dir keeps the servers' own files and the state file.
	Dir string
	// Base is the base tree, from [EnsureBase].
	Base string
	// Subnet is the lab's network, an IPv4 /24 that the machine does not use.
	// The machine itself has its first address.
	Subnet netip.Prefix
}

// Lab is a bridge with servers on it. Make one with [New].
type Lab struct {
	options Options
	lock    *os.File

	mu      sync.Mutex
	servers []*Server
	state   state
}

// state is written to disk before anything that it names is made.
type state struct {
	Bridge    string    `json:"bridge"`
	Processes []process `json:"processes"`
}

// process names a process for good: numbers are used again, start times not.
type process struct {
	PID   int    `json:"pid"`
	Start string `json:"start"`
	What  string `json:"what"`
}

var labName = regexp.MustCompile(`^[a-z0-9]{1,8}$`)

// New cleans up what a killed lab of the same directory left, and makes the
// bridge. A lab that is running in that directory is an error.
func New(o Options) (*Lab, error) {
	if !labName.MatchString(o.Name) {
		return nil, fmt.Errorf("lab name %q: 1 to 8 lower-case letters and digits", o.Name)
	}
	if !o.Subnet.Addr().Is4() || o.Subnet.Bits() != 24 {
		return nil, fmt.Errorf("lab network %s: an IPv4 /24 is needed", o.Subnet)
	}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	l := &Lab{options: o}
	var err error
	if l.lock, err = tryLock(filepath.Join(o.Dir, "lock")); err != nil {
		return nil, fmt.Errorf("a lab is running in %s already: %w", o.Dir, err)
	}
	if err := l.clean(); err != nil {
		return nil, fmt.Errorf("clean up after an earlier lab: %w", err)
	}
	l.state = state{Bridge: "v" + o.Name}
	// A bridge that is there now is another lab's: nothing of it may be touched.
	if bridgeExists(l.state.Bridge) {
		l.lock.Close()
		return nil, fmt.Errorf("there is a network bridge %s already: a lab called %q runs elsewhere on this "+
			"machine; stop it, or remove what is left of it with “ip link delete %s”",
			l.state.Bridge, o.Name, l.state.Bridge)
	}
	if err := l.save(); err != nil {
		return nil, err
	}
	own := [][]string{
		// A bridge that listens who wants which multicast would drop the questions by which IPv6
		// finds neighbours (RFC 4861).
		{"link", "add", l.state.Bridge, "address", hardwareAddress(l.Gateway()).String(), "type", "bridge",
			"mcast_snooping", "0"},
	}
	for _, a := range append([]netip.Addr{l.Gateway()}, l.Places()...) {
		lasting := "forever"
		if a != l.Gateway() { // nothing is sent from the others that does not ask for it (RFC 6724, section 5, rule 3)
			lasting = "0"
		}
		own = append(own, []string{"address", "add", a.String() + "/24", "dev", l.state.Bridge},
			[]string{"address", "add", Address6(a).String() + "/64", "dev", l.state.Bridge, "nodad", "preferred_lft",
				lasting})
	}
	for _, args := range append(own, []string{"link", "set", l.state.Bridge, "up"}) {
		if err := ip(args...); err != nil {
			l.Stop()
			return nil, err
		}
	}
	return l, nil
}

// Gateway is the machine's own address in the lab.
func (l *Lab) Gateway() netip.Addr { return l.host(1) }

// Places are further addresses of the machine in the lab, for what
// looks at servers from several places.
func (l *Lab) Places() []netip.Addr { return []netip.Addr{l.host(2), l.host(3)} }

// Address6 is the IPv6 address that goes with an IPv4 address of a lab: unique local (RFC 4193),
// with the same numbers in it.
func Address6(a netip.Addr) netip.Addr {
	four := a.As4()
	return netip.MustParseAddr(fmt.Sprintf("fd%02d:%d:%d::%d", four[0], four[1], four[2], four[3]))
}

// hardwareAddress is the Ethernet address that goes with an address of a
// lab, a locally administered one. A server that was switched off and on
// has it again, as a machine has: with another one, its neighbours would
// send to the old one until they notice, which takes IPv6 some ten seconds.
func hardwareAddress(a netip.Addr) net.HardwareAddr {
	four := a.As4()
	return append(net.HardwareAddr{0x02, 0x00}, four[:]...)
}

func (l *Lab) host(n byte) netip.Addr {
	a := l.options.Subnet.Masked().Addr().As4()
	a[3] = n
	return netip.AddrFrom4(a)
}

// Stop ends all servers and removes the bridge.
func (l *Lab) Stop() error {
	l.mu.Lock()
	servers := append([]*Server(nil), l.servers...)
	l.mu.Unlock()
	var group sync.WaitGroup
	for _, s := range servers {
		group.Go(s.Stop)
	}
	group.Wait()
	err := l.clean()
	l.lock.Close()
	return err
}

// clean removes what the state file names, and only that.
func (l *Lab) clean() error {
	path := l.statePath()
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var left state
	if err := json.Unmarshal(text, &left); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	for _, p := range left.Processes {
		if err := p.end(); err != nil {
			return err
		}
	}
	if err := removeGroups(left.Bridge, ""); err != nil {
		return err
	}
	if bridgeExists(left.Bridge) {
		if err := ip("link", "delete", left.Bridge); err != nil {
			return err
		}
	}
	return os.Remove(path)
}

func bridgeExists(name string) bool {
	_, err := os.Stat("/sys/class/net/" + name)
	return err == nil
}

func (l *Lab) statePath() string { return filepath.Join(l.options.Dir, "state.json") }

func (l *Lab) save() error {
	text, err := json.MarshalIndent(l.state, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(l.statePath(), text, 0o600)
}

// remember writes a started process to the state file. Until then it dies with
// this process anyway.
func (l *Lab) remember(pid int, what string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	kept := l.state.Processes[:0]
	for _, p := range l.state.Processes {
		if p.What != what {
			kept = append(kept, p)
		}
	}
	l.state.Processes = append(kept, process{PID: pid, Start: procfs.StartTime(pid), What: what})
	return l.save()
}

func (p process) end() error {
	if p.Start == "" || procfs.StartTime(p.PID) != p.Start {
		return nil
	}
	syscall.Kill(p.PID, syscall.SIGKILL)
	if !within(5*time.Second, func() bool { return procfs.StartTime(p.PID) != p.Start }) {
		return fmt.Errorf("process %d (%s) does not end", p.PID, p.What)
	}
	return nil
}

func ip(args ...string) error {
	if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
		return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

func tryLock(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// within waits until done reports true, at most for limit.
func within(limit time.Duration, done func() bool) bool {
	for end := time.Now().Add(limit); ; time.Sleep(10 * time.Millisecond) {
		if done() {
			return true
		}
		if time.Now().After(end) {
			return false
		}
	}
}

// reserved keeps the locks of the networks that this process has reserved.
var reserved sync.Map

// ReserveSubnet finds a /24 below 10.78.0.0/15 that no interface of the machine uses and no other
// process has reserved, for labs that must not meet each other. It is this process's until it ends.
func ReserveSubnet(ctx context.Context) (netip.Prefix, error) {
	dir := filepath.Join(CacheDir(), "networks")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return netip.Prefix{}, err
	}
	for n := range 512 {
		prefix := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(78 + n/256), byte(n % 256), 0}), 24)
		lock, err := tryLock(filepath.Join(dir, prefix.Addr().String()))
		if err != nil {
			continue
		}
		out, err := exec.CommandContext(ctx, "ip", "-4", "-o", "address").Output()
		if err != nil {
			lock.Close()
			return netip.Prefix{}, err
		}
		if !strings.Contains(string(out), " "+strings.TrimSuffix(prefix.Addr().String(), "0")) {
			reserved.Store(prefix, lock)
			return prefix, nil
		}
		lock.Close()
	}
	return netip.Prefix{}, errors.New("no free network below 10.78.0.0/15")
}
