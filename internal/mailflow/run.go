package mailflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	if c.Name != "" && len(c.ReturnKey) < 16 {
		return c, fmt.Errorf("%s: the key is missing", definition.ConfigFile)
	}
	return c, nil
}

// place is where the program is asked, and by what it answers there.
type place struct {
	network, address string
	serve            func(net.Listener) error
}

// places are those of the server: without mail, sites alone ask.
func (f *Flow) places() []place {
	list := []place{{"unix", submit.Socket, f.ServeSites}}
	if f.config.Load().Name == "" {
		return list
	}
	for name, serve := range map[string]func(net.Listener) error{definition.PolicySocket: f.ServePolicy,
		definition.MilterSocket: f.ServeMilter, definition.ForwardSocket: f.ServeForwards,
		definition.IncomingSocket: f.ServeIncoming} {
		list = append(list, place{"unix", filepath.Join(definition.SocketDir, name), serve})
	}
	return append(list, place{"unix", LessonSocket, f.ServeLessons},
		place{"unix", definition.ControlSocket, f.ServeControl},
		place{"tcp", ":" + strconv.Itoa(definition.LinkPort), f.ServeLink})
}

// Run serves until ctx ends; the configuration is read anew whenever reload tells. It is started as
// root, makes the directories that others must not write to, and gives up all rights before it
// reads what accounts have.
func Run(ctx context.Context, reload <-chan os.Signal, log *slog.Logger) error {
	if err := await(ctx, log); err != nil {
		return err
	}
	config, err := ReadConfig()
	if err != nil {
		return err
	}
	f := &Flow{SitesDir: definition.SitesDir, Inject: Sendmail, Scratch: stateDir, Log: log,
		Filter: NewJudge(definition.FilterDir)}
	f.Configure(config)
	places := f.places()
	listeners, err := prepare(places, config.Name != "")
	if err != nil {
		return err
	}
	if config.Name != "" {
		closeAll, err := f.open()
		if err != nil {
			return err
		}
		defer closeAll()
	}
	serving := make(chan error, len(places))
	for n, p := range places {
		go func() { serving <- p.serve(listeners[n]) }()
	}
	log.Info("serving", "name", config.Name)
	for {
		select {
		case <-reload:
			now, err := ReadConfig()
			switch {
			case err != nil:
				log.Error("the configuration is not read anew", "error", err)
			case (now.Name == "") != (config.Name == ""):
				return errors.New("this server has become a mail server, or is none any longer: begin anew")
			default:
				f.Configure(now)
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

// open opens what a mail server knows.
func (f *Flow) open() (closeAll func(), err error) {
	if f.Tables, err = OpenTables(definition.TableFile); err != nil {
		return nil, err
	}
	opened := []io.Closer{f.Tables}
	closeAll = func() {
		for _, one := range opened {
			_ = one.Close() // the process ends
		}
	}
	for _, t := range []struct {
		into  **Tally
		name  string
		since time.Duration
	}{{&f.Tally, "sent", Hour}, {&f.Replied, "replied", replyPause}, {&f.Left, "left", leaveMemory}} {
		if *t.into, err = OpenTally(filepath.Join(stateDir, t.name), t.since); err != nil {
			closeAll()
			return nil, err
		}
		opened = append(opened, *t.into)
	}
	return closeAll, f.tidyLists()
}

// await waits until the agent has made what the program needs: its user and what it reads.
func await(ctx context.Context, log *slog.Logger) error {
	for told := false; ; told = true {
		_, noUser := user.Lookup(definition.User)
		config, noConfig := ReadConfig()
		_, noTables := os.Stat(definition.TableFile)
		if noUser == nil && noConfig == nil && (noTables == nil || config.Name == "") {
			return nil
		}
		if !told {
			log.Info("waiting for the agent to say what this server is")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// prepare makes directories and listeners as root, and becomes [definition.User].
func prepare(places []place, mailServer bool) ([]net.Listener, error) {
	own, err := user.Lookup(definition.User)
	if err != nil {
		return nil, err
	}
	uid, gid, err := numbers(own.Uid, own.Gid)
	if err != nil {
		return nil, err
	}
	type directory struct {
		path         string
		mode         os.FileMode
		owner, group int
	}
	directories := []directory{{stateDir, 0o700, uid, gid}, {filepath.Dir(definition.PIDFile), 0o755, 0, 0},
		{submit.Dir, 0o711, 0, 0}}
	if mailServer {
		postfix, err := user.LookupGroup("postfix")
		if err != nil {
			return nil, err
		}
		asking, _, err := numbers(postfix.Gid, "0")
		if err != nil {
			return nil, err
		}
		directories = append(directories, directory{filepath.Dir(LessonSocket), 0o711, 0, 0},
			directory{filepath.Dir(definition.ControlSocket), 0o700, 0, 0},
			directory{definition.SocketDir, 0o750, 0, asking})
	}
	for _, d := range directories {
		if err := os.MkdirAll(d.path, d.mode); err != nil {
			return nil, err
		}
		if err := errors.Join(os.Chown(d.path, d.owner, d.group), os.Chmod(d.path, d.mode)); err != nil {
			return nil, err
		}
	}
	var listeners []net.Listener
	for _, p := range places {
		if p.network == "unix" {
			if err := os.Remove(p.address); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
		l, err := net.Listen(p.network, p.address)
		if err != nil {
			return nil, err
		}
		if p.network == "unix" {
			// Who may get here is said by the directory.
			if err := os.Chmod(p.address, 0o666); err != nil {
				return nil, err
			}
		}
		listeners = append(listeners, l)
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
