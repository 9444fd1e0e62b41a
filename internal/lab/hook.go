package lab

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"
)

// Names under which this package starts its own executable again.
const (
	serverInit = "victualler-lab-server"
	bindRun    = "victualler-lab-bind-run"
)

// Hook turns this process into a server's first process if the package started
// it for that; it then never returns. Call it first in main and in TestMain.
func Hook() {
	switch os.Args[0] {
	case serverInit:
		runInit()
	case bindRun:
		runBound()
	}
}

// starter starts children that must die with this process. Linux sends the
// parent-death signal when the starting *thread* ends, so all of them are
// started from one thread that never does.
var starter = func() chan func() {
	work := make(chan func())
	go func() {
		runtime.LockOSThread()
		for do := range work {
			do()
		}
	}()
	return work
}()

// StartBound starts cmd so that it is killed if this process dies.
func StartBound(cmd *exec.Cmd) error {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	done := make(chan error)
	starter <- func() { done <- cmd.Start() }
	return <-done
}

// End signals a process and waits until it has ended. One that has not after a while gets the last
// signal.
func End(p *os.Process, ended <-chan struct{}, signal, last syscall.Signal, after time.Duration) {
	p.Signal(signal)
	select {
	case <-ended:
	case <-time.After(after):
		p.Signal(last)
		<-ended
	}
}

// fail ends a child process of this package with a message for its log.
func fail(format string, args ...any) {
	fmt.Fprintf(os.Stderr, format+"\n", args...)
	os.Exit(1)
}
