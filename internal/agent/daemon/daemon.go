// Package daemon holds what drivers of programs have in common: asking a
// running program by its process file and over HTTP, which works the same with
// and without a service supervisor.
package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// startLimit is how long a program that has just ended may take to be started
// again by its supervisor.
const startLimit = 5 * time.Second

// Signal sends a signal to the process whose number is in pidFile, and returns
// the number. It waits for a program that is just being started: a signal that
// comes before the program has its handlers would end it.
func Signal(ctx context.Context, pidFile string, signal syscall.Signal) (int, error) {
	for end := time.Now().Add(startLimit); ; {
		pid, err := PID(pidFile)
		if err == nil && Catches(pid, signal) {
			return pid, syscall.Kill(pid, signal)
		}
		if err == nil {
			err = errors.New("is not running")
		}
		if time.Now().After(end) {
			return 0, err
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Begin has a program take over its configuration: by reload while it runs, and else by being
// started, where systemd is there to do it. Another supervisor starts it by itself.
func Begin(ctx context.Context, unit string, running bool, reload func(context.Context) error) error {
	if running {
		return reload(ctx)
	}
	if !HasSystemd() {
		return nil
	}
	return Restart(ctx, unit)
}

// HasSystemd reports whether systemd looks after this server's programs (sd_booted(3)).
func HasSystemd() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil
}

// Restart has systemd start a unit, anew if it runs.
func Restart(ctx context.Context, unit string) error {
	if out, err := exec.CommandContext(ctx, "systemctl", "restart", unit).CombinedOutput(); err != nil {
		return fmt.Errorf("start %s: %w: %s", unit, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Catches reports whether a process is there and has a handler for a signal (SigCgt in proc(5)).
func Catches(pid int, signal syscall.Signal) bool {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return false
	}
	_, rest, _ := strings.Cut(string(status), "SigCgt:")
	mask, _, _ := strings.Cut(strings.TrimSpace(rest), "\n")
	bits, err := strconv.ParseUint(mask, 16, 64)
	return err == nil && bits&(1<<(signal-1)) != 0
}

// Image identifies the program that a process runs: it changes when the process
// becomes a program anew (execve(2)), because addresses are chosen at random each time.
func Image(pid int) string {
	auxiliary, err := os.ReadFile(fmt.Sprintf("/proc/%d/auxv", pid))
	if err != nil {
		return ""
	}
	return string(auxiliary)
}

// Running reports whether the process whose number is in pidFile is there.
func Running(pidFile string) bool {
	pid, err := PID(pidFile)
	return err == nil && syscall.Kill(pid, 0) == nil
}

// PID reads the number of the process from its file.
func PID(pidFile string) (int, error) {
	text, err := os.ReadFile(pidFile)
	if err != nil {
		return 0, fmt.Errorf("is not running (%s)", strings.TrimPrefix(err.Error(), "open "))
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || pid <= 1 {
		return 0, fmt.Errorf("is not running (%s holds no process number)", pidFile)
	}
	return pid, nil
}

// Title is what a process calls itself; empty for one that is gone.
func Title(pid int) string {
	title, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil {
		return ""
	}
	return string(title)
}

// FilesLike lists the paths that match any of the patterns, sorted.
func FilesLike(patterns ...string) ([]string, error) {
	var found []string
	for _, pattern := range patterns {
		some, err := filepath.Glob(pattern)
		if err != nil {
			return nil, err
		}
		for _, path := range some {
			if !strings.HasPrefix(filepath.Base(path), ".") { // one that is being written
				found = append(found, path)
			}
		}
	}
	sort.Strings(found)
	return found, nil
}

// Answer is what a site said.
type Answer struct {
	Status int
	Header http.Header
	Body   string
}

// Get asks address (host and port) for a path under a name, once.
func Get(ctx context.Context, address, name, path string) (Answer, error) {
	transport := &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, network, address)
		}}
	client := http.Client{Transport: transport, Timeout: 5 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+name+path, nil)
	if err != nil {
		return Answer{}, err
	}
	response, err := client.Do(request)
	if err != nil {
		return Answer{}, err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	return Answer{response.StatusCode, response.Header, strings.TrimSpace(string(body))}, err
}

// Handshake shakes hands with address (host and port) under a name, once, and returns the
// certificate that was shown, whoever signed it.
func Handshake(ctx context.Context, address, name string) (certificate []byte, err error) {
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: 5 * time.Second}, Config: &tls.Config{ServerName: name,
		InsecureSkipVerify: true}}
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return conn.(*tls.Conn).ConnectionState().PeerCertificates[0].Raw, nil
}

// VerifyLimit is how long a reload may take to show.
const VerifyLimit = 15 * time.Second

// WaitFor asks until ask returns no error, at most for [VerifyLimit]; the last
// error is returned then.
func WaitFor(ctx context.Context, ask func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, VerifyLimit)
	defer cancel()
	pause := 5 * time.Millisecond
	for {
		err := ask(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			if errors.Is(err, context.DeadlineExceeded) {
				return errors.New("no answer in time")
			}
			return err
		case <-time.After(pause):
			pause = min(pause*3/2, 200*time.Millisecond)
		}
	}
}
