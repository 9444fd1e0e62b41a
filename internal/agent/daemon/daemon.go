// Package daemon holds what drivers of programs have in common: asking a
// running program by its process file and over HTTP, which works the same with
// and without a service supervisor.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Signal sends a signal to the process whose number is in pidFile.
func Signal(pidFile string, signal syscall.Signal) error {
	pid, err := pidOf(pidFile)
	if err != nil {
		return err
	}
	return syscall.Kill(pid, signal)
}

// Running reports whether the process whose number is in pidFile is there.
func Running(pidFile string) bool {
	pid, err := pidOf(pidFile)
	return err == nil && syscall.Kill(pid, 0) == nil
}

func pidOf(pidFile string) (int, error) {
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

// FilesLike lists the paths a pattern matches, sorted.
func FilesLike(pattern string) ([]string, error) {
	found, err := filepath.Glob(pattern)
	sort.Strings(found)
	return found, err
}

// Answer is what a site said.
type Answer struct {
	Status int
	Body   string
}

// Get asks address (host and port) for a path under a name, once.
func Get(ctx context.Context, address, name, path string) (Answer, error) {
	transport := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
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
	return Answer{response.StatusCode, strings.TrimSpace(string(body))}, err
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
