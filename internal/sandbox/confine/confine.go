// Package confine runs a program as an account and nothing more: in mount, PID
// and IPC namespaces of its own, which show the server's programs read-only and
// no home but the account's; as the account's user, without capabilities or
// ways to get any; with bounds of its own on what cgroups do not count.
//
// The child is this program again, under another name: as root it builds the tree, gives everything
// up, and becomes the program.
package confine

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// Spec is what is to run, and for whom.
type Spec struct {
	Account string   `json:"account"`
	UID     int      `json:"uid"`
	Home    string   `json:"home"`
	Argv    []string `json:"argv"`
	// Env is the whole environment.
	Env []string `json:"env"`
	// Show lists further paths of the server's that the program sees, read-only.
	Show []string `json:"show"`
	// Terminal makes the standard input the controlling terminal.
	Terminal bool `json:"terminal"`
	// Processes bounds the processes of the user where the kernel
	// cannot bound those of the sandbox.
	Processes *int64 `json:"processes"`
}

// Namespaces are those that a sandbox has of its own.
const Namespaces = syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC

const childName = "sandbox-child"

// Files are what the program gets: standard input, output and error, and what it inherits, from
// number [FirstInherited] on.
type Files struct {
	Stdin, Stdout, Stderr *os.File
	Inherited             []*os.File
}

// Start starts the program and returns its process. Before it does anything, admit is called with
// its number, to put it into its groups. The caller waits for the process.
func Start(s Spec, files Files, admit func(pid int) error) (*os.Process, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	defer write.Close()
	all := append([]*os.File{files.Stdin, files.Stdout, files.Stderr, read}, files.Inherited...)
	process, err := os.StartProcess("/proc/self/exe", []string{childName}, &os.ProcAttr{Dir: "/", Env: []string{},
		Files: all, Sys: &syscall.SysProcAttr{Cloneflags: Namespaces, Setsid: true}})
	if err != nil {
		return nil, err
	}
	if err = admit(process.Pid); err == nil {
		_, err = write.Write(text)
	}
	if err != nil {
		process.Kill()
		process.Wait()
		return nil, err
	}
	return process, nil
}

// Hook runs the child if this process is one. Call it first in main.
func Hook() {
	if os.Args[0] != childName || os.Getuid() != 0 {
		return
	}
	runtime.LockOSThread() // rights and filters belong to the thread that becomes the program
	err := become()
	fmt.Fprintln(os.Stderr, "sandbox:", err)
	os.Exit(126)
}

// specification is the number of the file from which the child reads what it is to be.
const specification = 3

// FirstInherited is the number of the first file that a program inherits.
const FirstInherited = 4

// become reads its specification and becomes the program.
func become() error {
	in := os.NewFile(specification, "specification")
	text, err := io.ReadAll(io.LimitReader(in, 1<<20))
	in.Close()
	if err != nil {
		return err
	}
	var s Spec
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("read specification: %w", err)
	}
	if s.UID < 1000 || len(s.Argv) == 0 {
		return errors.New("refused: not a specification for an account")
	}
	// Under pressure the kernel ends what belongs to accounts before what belongs to the server.
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("500"), 0)
	if s.Terminal {
		// It is the session's that let somebody in, and is taken from it.
		if err := unix.IoctlSetInt(0, unix.TIOCSCTTY, 1); err != nil {
			return fmt.Errorf("take over the terminal: %w", err)
		}
	}
	if err := build(s); err != nil {
		return err
	}
	if err := drop(s); err != nil {
		return err
	}
	if err := os.Chdir(s.Home); err != nil {
		if err := os.Chdir("/"); err != nil {
			return err
		}
	}
	syscall.Umask(0o022)
	path, err := lookUp(s.Argv[0])
	if err != nil {
		return err
	}
	if err := filterCalls(); err != nil {
		return fmt.Errorf("filter of system calls: %w", err)
	}
	return fmt.Errorf("%s: %w", s.Argv[0], syscall.Exec(path, s.Argv, s.Env))
}

// lookUp finds a program; a name such as -bash is that of a login shell.
func lookUp(name string) (string, error) {
	if name == "-bash" {
		return "/bin/bash", nil
	}
	os.Setenv("PATH", "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin")
	return exec.LookPath(name)
}

// limits are those that cgroups do not keep, for each process.
var limits = map[int]unix.Rlimit{
	unix.RLIMIT_CORE:       {Cur: 0, Max: 0},
	unix.RLIMIT_NOFILE:     {Cur: 1024, Max: 4096},
	unix.RLIMIT_MEMLOCK:    {Cur: 64 << 10, Max: 64 << 10},
	unix.RLIMIT_MSGQUEUE:   {Cur: 64 << 10, Max: 64 << 10},
	unix.RLIMIT_SIGPENDING: {Cur: 256, Max: 256},
	unix.RLIMIT_NICE:       {Cur: 0, Max: 0},
	unix.RLIMIT_RTPRIO:     {Cur: 0, Max: 0},
}

// drop gives up everything that makes root root, for good.
func drop(s Spec) error {
	if s.Processes != nil {
		limit := unix.Rlimit{Cur: uint64(*s.Processes), Max: uint64(*s.Processes)}
		if err := unix.Setrlimit(unix.RLIMIT_NPROC, &limit); err != nil {
			return err
		}
	}
	for which, limit := range limits {
		if err := unix.Setrlimit(which, &limit); err != nil {
			return fmt.Errorf("bound %d: %w", which, err)
		}
	}
	for c := 0; ; c++ {
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, uintptr(c), 0, 0, 0); errors.Is(err, unix.EINVAL) {
			break // there are no more
		} else if err != nil {
			return fmt.Errorf("capability %d: %w", c, err)
		}
	}
	if err := errors.Join(syscall.Setgroups([]int{}), syscall.Setgid(s.UID), syscall.Setuid(s.UID)); err != nil {
		return err
	}
	if os.Getuid() != s.UID || os.Geteuid() != s.UID || syscall.Setuid(0) == nil {
		return errors.New("is still root")
	}
	return nil
}

// Environment is what every program of an account begins with.
func Environment(account, home string) []string {
	return []string{"HOME=" + home, "USER=" + account, "LOGNAME=" + account, "SHELL=/bin/bash", "LANG=C.UTF-8",
		"PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=/tmp"}
}
