// Command victualler-sandbox runs on every server with the role web and starts everything that runs
// for accounts, each in its account's sandbox.
//
//	victualler-sandbox run                      supervise (under a supervisor of services, as root)
//	victualler-sandbox enter ACCOUNT [COMMAND]  run a command, or a shell, in an account's sandbox
//	victualler-sandbox status                   what the kernel offers, and what runs
//	victualler-sandbox session                  called by PAM for sessions of accounts
//	victualler-sandbox sendmail [-t] [ADDRESS]  send the message at its input, from within a sandbox
//
// Under the name victualler-shell it is the login shell of accounts, and under the name sendmail,
// in a sandbox, that command.
package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/mailflow/submit"
	"victualler/internal/sandbox"
	"victualler/internal/sandbox/confine"
	"victualler/internal/sandbox/definition"
	"victualler/internal/sandbox/supervisor"
	"victualler/internal/version"
)

func main() {
	confine.Hook()
	if filepath.Base(strings.TrimPrefix(os.Args[0], "-")) == filepath.Base(definition.Shell) {
		os.Exit(shell(os.Args))
	}
	if filepath.Base(os.Args[0]) == "sendmail" {
		os.Exit(sendmail(os.Args[1:]))
	}
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "victualler-sandbox:", err)
		os.Exit(1)
	}
}

var errUsage = errors.New("say run, enter ACCOUNT [COMMAND …], status or version")

func run(args []string) error {
	if len(args) == 0 {
		return errUsage
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	switch {
	case args[0] == "run" && len(args) == 1:
		debug.SetMemoryLimit(4 << 20) // it only holds sockets
		if err := linkShell(); err != nil {
			return err
		}
		return supervisor.Keep(ctx, false, log)
	case args[0] == supervisor.KeepArg && len(args) == 1:
		debug.SetMemoryLimit(4 << 20)
		return supervisor.Keep(ctx, true, log)
	case args[0] == supervisor.SuperviseArg && len(args) == 1:
		debug.SetMemoryLimit(12 << 20) // a soft bound: the server's memory is for its sites
		s, err := supervisor.New(log)
		if err != nil {
			return err
		}
		return s.Run(ctx)
	case args[0] == "enter" && len(args) > 1:
		argv := args[2:]
		if len(argv) == 0 {
			argv = []string{"-bash"}
		}
		os.Exit(enter(sandbox.Entry{Account: args[1], Argv: argv, Env: os.Environ()}))
	case args[0] == "sendmail":
		os.Exit(sendmail(args[1:]))
	case args[0] == "session" && len(args) == 1:
		return session(ctx)
	case args[0] == "status" && len(args) == 1:
		return status(ctx)
	case args[0] == "version":
		fmt.Println(version.Version)
		return nil
	}
	return errUsage
}

// sendmail hands a message to the mail server, as the command of that name does everywhere.
func sendmail(args []string) int {
	request, err := submit.Parse(args)
	answer := submit.Answer{Exit: submit.Usage}
	if err == nil {
		answer = submit.Send(request, os.Stdin)
	} else {
		answer.Error = err.Error()
	}
	if answer.Error != "" {
		fmt.Fprintln(os.Stderr, "sendmail:", answer.Error)
	}
	return answer.Exit
}

// linkShell makes the name under which this program is a login shell.
func linkShell() error {
	own, err := os.Executable()
	if err != nil {
		return err
	}
	if there, err := os.Readlink(definition.Shell); err == nil && there == own {
		return nil
	}
	if err := os.Remove(definition.Shell); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Symlink(own, definition.Shell)
}

// shell is the login shell: it has the shell, or the command that was
// asked for, run in the sandbox. What it reads of the environment is
// the kernel's and sshd's; nothing of the home is read.
func shell(args []string) int {
	// When sshd's process goes, the session goes, and with it all that it has started.
	runtime.LockOSThread()
	if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(syscall.SIGKILL), 0, 0, 0); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 255
	}
	argv := []string{"-bash"}
	switch {
	case len(args) == 3 && args[1] == "-c":
		argv = []string{"bash", "-c", args[2]}
	case len(args) > 1:
		fmt.Fprintln(os.Stderr, "this shell takes -c COMMAND, or nothing")
		return 2
	}
	return enter(sandbox.Entry{Argv: argv, Env: os.Environ()})
}

func enter(e sandbox.Entry) int {
	ended, err := sandbox.Enter(e)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 255
	}
	if ended.Error != "" {
		fmt.Fprintln(os.Stderr, ended.Error)
	}
	return ended.Status
}

// session puts a session of an account into its account's group. PAM calls it as root from the
// process that will be the session's parent (pam_exec(8)); users of no account are left alone.
func session(ctx context.Context) error {
	if kind := os.Getenv("PAM_TYPE"); kind != "open_session" {
		return nil
	}
	found, err := user.Lookup(os.Getenv("PAM_USER"))
	if err != nil {
		return nil // not in our tables, so none of ours
	}
	uid, err := strconv.Atoi(found.Uid)
	if err != nil || uid < definition.FirstUID {
		return nil
	}
	_, err = sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskAdmit, UID: uid, PID: os.Getppid()})
	return err
}

func status(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	health, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskHealth})
	if err != nil {
		return err
	}
	loads, err := sandbox.Ask(ctx, sandbox.Question{Ask: sandbox.AskLoads})
	if err != nil {
		return err
	}
	fmt.Printf("%s, %d sandboxes are running\n", health.Health.Layout, health.Health.Running)
	for _, m := range health.Health.Missing {
		fmt.Println("not kept:", m)
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	for name, l := range loads.Loads {
		if l.Processes > 0 {
			fmt.Fprintf(w, "%s\t%d processes\t%d MB\t%s of processor time\n", name, l.Processes, l.Memory>>20,
				l.CPU.Round(time.Millisecond))
		}
	}
	return w.Flush()
}
