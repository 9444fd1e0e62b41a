package browser

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ownNetwork is a network namespace in which a browser has nothing but loopback, on which it
// reaches the machine's own services at chosen addresses. A browser in the machine's namespace
// drops its requests whenever a lab sets its network up, as that is a change of network.
type ownNetwork struct {
	process   *os.Process
	listeners []net.Listener
}

// wrap has a command run in a namespace of its own.
func (n *ownNetwork) wrap(cmd *exec.Cmd) {
	run := []string{"unshare", "--net", "sh", "-c", `ip link set lo up; exec "$@"`, "sh", cmd.Path}
	path, err := exec.LookPath(run[0])
	if err != nil {
		cmd.Err = err
		return
	}
	cmd.Args = append(run, cmd.Args[1:]...)
	cmd.Path = path
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
}

// open has the browser that runs as a process reach services at
// addresses of the machine's loopback.
func (n *ownNetwork) open(process *os.Process, addresses []string) error {
	n.process = process
	for _, address := range addresses {
		l, err := n.listen(address)
		if err != nil {
			return fmt.Errorf("the browser's network: %w", err)
		}
		n.listeners = append(n.listeners, l)
		go forward(l, address)
	}
	return nil
}

func (n *ownNetwork) close() {
	for _, l := range n.listeners {
		l.Close()
	}
}

// listen listens in the browser's namespace. A socket stays in the namespace in which it was made.
func (n *ownNetwork) listen(address string) (l net.Listener, err error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		// The thread ends with the goroutine, as it is not unlocked: it is in the wrong namespace.
		runtime.LockOSThread()
		namespace, opened := os.Open(fmt.Sprintf("/proc/%d/ns/net", n.process.Pid))
		if err = opened; err != nil {
			return
		}
		defer namespace.Close()
		if err = unix.Setns(int(namespace.Fd()), unix.CLONE_NEWNET); err == nil {
			l, err = (&net.ListenConfig{}).Listen(context.Background(), "tcp", address)
		}
	}()
	<-done
	return l, err
}

// forward passes connections on to an address in the machine's namespace.
func forward(l net.Listener, address string) {
	for {
		from, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		go func() {
			defer from.Close()
			to, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer to.Close()
			go func() {
				io.Copy(to, from)
				to.(*net.TCPConn).CloseWrite()
			}()
			io.Copy(from, to)
		}()
	}
}
