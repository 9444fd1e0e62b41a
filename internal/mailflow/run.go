package mailflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"victualler/internal/mailflow/definition"
	"victualler/internal/mailflow/submit"
)

// stateDir is where the program keeps what it counts.
const stateDir = "/var/lib/victualler-mail"

// ReadConfig reads the configuration.
func ReadConfig() (definition.Config, error) {
	c := definition.Config{}
	text, err := os.ReadFile(definition.ConfigFile)
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(text, &c); err != nil {
		return c, fmt.Errorf("%s: %w", definition.ConfigFile, err)
	}
	if c.Name == "" || len(c.ReturnKey) < 16 {
		return c, fmt.Errorf("%s: the name or the key is missing", definition.ConfigFile)
	}
	return c, nil
}

// Run serves until ctx ends; the configuration is read anew whenever reload tells. It is started as
// root, makes the directories that others must not write to, and gives up all rights before it
// reads what others have written.
func Run(ctx context.Context, reload <-chan os.Signal, log *slog.Logger) error {
	if err := await(ctx, log); err != nil {
		return err
	}
	listeners, err := prepare()
	if err != nil {
		return err
	}
	config, err := ReadConfig()
	if err != nil {
		return err
	}
	tables, err := OpenTables(definition.TableFile)
	if err != nil {
		return err
	}
	defer tables.Close()
	tally, err := OpenTally(filepath.Join(stateDir, "sent"), Hour)
	if err != nil {
		return err
	}
	defer tally.Close()
	replied, err := OpenTally(filepath.Join(stateDir, "replied"), replyPause)
	if err != nil {
		return err
	}
	defer replied.Close()
	f := &Flow{Tables: tables, Tally: tally, Replied: replied, Inject: Sendmail, Scratch: stateDir, Log: log}
	f.Configure(config)
	serving := make(chan error, len(listeners))
	for name, serve := range map[string]func(net.Listener) error{
		definition.PolicySocket: f.ServePolicy,
		definition.MilterSocket: f.ServeMilter, definition.ForwardSocket: f.ServeForwards,
		submit.Socket: f.ServeSites} {
		go func() { serving <- serve(listeners[name]) }()
	}
	log.Info("serving", "name", config.Name)
	for {
		select {
		case <-reload:
			if config, err := ReadConfig(); err != nil {
				log.Error("the configuration is not read anew", "error", err)
			} else {
				f.Configure(config)
			}
			continue
		case <-ctx.Done():
		case err = <-serving:
		}
		for _, l := range listeners {
			_ = l.Close() // the process ends
		}
		return err
	}
}

// await waits until the agent has made what the program needs: its user and what it reads.
func await(ctx context.Context, log *slog.Logger) error {
	for told := false; ; told = true {
		_, noUser := user.Lookup(definition.User)
		_, noConfig := os.Stat(definition.ConfigFile)
		_, noTables := os.Stat(definition.TableFile)
		if noUser == nil && noConfig == nil && noTables == nil {
			return nil
		}
		if !told {
			log.Info("waiting for the agent to make this a mail server")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// prepare makes directories and listeners as root, and becomes [definition.User].
func prepare() (map[string]net.Listener, error) {
	own, err := user.Lookup(definition.User)
	if err != nil {
		return nil, err
	}
	uid, gid, err := numbers(own.Uid, own.Gid)
	if err != nil {
		return nil, err
	}
	postfix, err := user.LookupGroup("postfix")
	if err != nil {
		return nil, err
	}
	asking, _, err := numbers(postfix.Gid, "0")
	if err != nil {
		return nil, err
	}
	for _, d := range []struct {
		path         string
		mode         os.FileMode
		owner, group int
	}{{stateDir, 0o700, uid, gid}, {filepath.Dir(definition.PIDFile), 0o755, 0, 0}, {submit.Dir, 0o711, 0, 0},
		{definition.SocketDir, 0o750, 0, asking}} {
		if err := os.MkdirAll(d.path, d.mode); err != nil {
			return nil, err
		}
		if err := errors.Join(os.Chown(d.path, d.owner, d.group), os.Chmod(d.path, d.mode)); err != nil {
			return nil, err
		}
	}
	listeners := map[string]net.Listener{}
	for name, path := range map[string]string{definition.PolicySocket: filepath.Join(definition.SocketDir,
		definition.PolicySocket),
		definition.MilterSocket: filepath.Join(definition.SocketDir, definition.MilterSocket),
		definition.ForwardSocket: filepath.Join(definition.SocketDir,
			definition.ForwardSocket), submit.Socket: submit.Socket} {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		l, err := net.Listen("unix", path)
		if err != nil {
			return nil, err
		}
		// Who may get here is said by the directory.
		if err := os.Chmod(path, 0o666); err != nil {
			return nil, err
		}
		listeners[name] = l
	}
	if err := os.WriteFile(definition.PIDFile, []byte(strconv.Itoa(os.Getpid())+"\n"), 0o644); err != nil {
		return nil, err
	}
	if err := syscall.Setgroups([]int{gid}); err != nil {
		return nil, err
	}
	return listeners, errors.Join(syscall.Setgid(gid), syscall.Setuid(uid))
}

func numbers(a, b string) (int, int, error) {
	first, err1 := strconv.Atoi(a)
	second, err2 := strconv.Atoi(b)
	return first, second, errors.Join(err1, err2)
}
