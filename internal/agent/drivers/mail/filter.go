package mail

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"strings"
	"syscall"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/mailflow/definition"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// FilterInstalled reports whether this server has what a spam filter is made of: rspamd, and Redis
// for what it learns.
func FilterInstalled() bool {
	for _, program := range []string{"rspamd", "redis-server"} {
		if _, err := exec.LookPath(program); err != nil {
			return false
		}
	}
	return true
}

// filterPart is what Redis and rspamd have in common: no account has anything of its own with them,
// and mail goes on without.
type filterPart struct{ program }

// Filter is rspamd, which victualler-mail asks what a message is.
type Filter struct{ filterPart }

// Memory is Redis, where rspamd keeps what it has learnt.
type Memory struct{ filterPart }

// NewMemory returns the driver of Redis.
func NewMemory(scratch string) *Memory {
	d := &Memory{filterPart{program{name: "redis", unit: "redis-server", pidFile: "/run/redis/victualler.pid",
		scratch: scratch, base: render.MemoryBase,
		// It reads its configuration when it starts; its supervisor starts it again.
		reload: []string{"redis-cli", "-s", render.MemorySocket, "shutdown"}}}}
	d.ask = func(ctx context.Context, _ string) error {
		conn, err := (&net.Dialer{}).DialContext(ctx, "unix", render.MemorySocket)
		if err != nil {
			return err
		}
		return conn.Close()
	}
	d.version = wordAfter("v=", "redis-server", "--version")
	return d
}

// NewFilter returns the driver of rspamd, and makes what it needs: its sockets lie where
// victualler-mail alone can reach them.
func NewFilter(scratch string) (*Filter, error) {
	own, err := user.Lookup("_rspamd")
	if err != nil {
		return nil, err
	}
	uid, _, err := numbersOf(own)
	if err != nil {
		return nil, err
	}
	_, asking, err := flowNumbers(context.Background())
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(definition.FilterDir, 0o750); err != nil {
		return nil, err
	}
	if err := errors.Join(os.Chown(definition.FilterDir, uid, asking), os.Chmod(definition.FilterDir,
		0o750)); err != nil {
		return nil, err
	}
	if out, err := exec.Command("usermod", "--append", "--groups", "redis", "_rspamd").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("let rspamd speak to Redis: %w: %s", err, out)
	}
	d := &Filter{filterPart{program{name: "rspamd", unit: "rspamd", pid: mainProcess, scratch: scratch,
		base: render.FilterBase, test: []string{"rspamadm", "configtest", "-c", render.FilterConfig}}}}
	d.again = func(context.Context) error {
		pid, err := mainProcess()
		if err != nil {
			return err
		}
		return syscall.Kill(pid, syscall.SIGHUP)
	}
	asker := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", definition.FilterDir+"/"+definition.JudgeSocket)
		}}}
	d.ask = func(ctx context.Context, _ string) error {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://judge/ping", nil)
		if err != nil {
			return err
		}
		answer, err := asker.Do(request)
		if err != nil {
			return err
		}
		return answer.Body.Close()
	}
	d.version = wordAfter("", "rspamd", "--version")
	return d, nil
}

// mainProcess is the number of rspamd's first process, by the name that it gives itself: it writes
// no file when it runs under a supervisor.
func mainProcess() (int, error) {
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return 0, err
	}
	own, err := user.Lookup("_rspamd")
	if err != nil {
		return 0, err
	}
	for _, p := range processes {
		pid, err := strconv.Atoi(p.Name())
		if err != nil {
			continue
		}
		title, err := os.ReadFile("/proc/" + p.Name() + "/cmdline")
		info, statErr := os.Stat("/proc/" + p.Name())
		if err != nil || statErr != nil || !strings.HasPrefix(string(title), "rspamd: main process") {
			continue
		}
		// A site may call its own processes what it likes.
		if fmt.Sprint(info.Sys().(*syscall.Stat_t).Uid) == own.Uid {
			return pid, nil
		}
	}
	return 0, errors.New("rspamd is not running")
}

// wordAfter finds the version in what a program says of itself: the first number that follows a
// word's beginning.
func wordAfter(beginning string, command ...string) string {
	out, err := exec.Command(command[0], command[1:]...).Output()
	if err != nil {
		return ""
	}
	for word := range strings.FieldsSeq(string(out)) {
		if rest, is := strings.CutPrefix(word, beginning); is && rest != "" && rest[0] >= '0' && rest[0] <= '9' {
			return rest
		}
	}
	return ""
}

// Verify implements agent.Program: mail is taken without a filter, too.
func (*filterPart) Verify(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// VerifyGone implements agent.Program.
func (*filterPart) VerifyGone(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// Reload implements agent.Program. It does not wait: rspamd takes some seconds to begin, in which
// mail is not judged.
func (d *filterPart) Reload(ctx context.Context) error {
	if d.server.Load() == nil {
		return nil
	}
	return d.begin(ctx)
}

// Status implements agent.Program: a filter that runs and does not answer is none.
func (d *filterPart) Status(ctx context.Context) agentlink.ProgramStatus {
	status := d.program.Status(ctx)
	if status.Running {
		status.Running = d.ask(ctx, "") == nil
	}
	return status
}
