package database

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"time"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/selfsigned"
	"victualler/internal/agent/staging"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// program is what MariaDB and PostgreSQL have in common as programs of the agent.
type program struct {
	engine databases.Engine
	// user is who the engine runs as, unit its name with systemd.
	user, unit string
	// pidFile has the number of its process since it was started; config is the file of ours that
	// it reads when it starts.
	pidFile, config string
	// scratch is a directory for staged files.
	scratch string
	base    func(manifest.Server) []render.File
	// test is the command that reads the whole configuration.
	test []string
	// reload has the running engine take over certificates, and who may connect from where.
	reload func(context.Context) error
	// stop has it end, so that its supervisor starts it anew.
	stop func(context.Context) error
	// ask returns an error unless it answers.
	ask     func(context.Context) error
	version string

	used    atomic.Bool
	reloads atomic.Int64
}

// Name implements agent.Program.
func (d *program) Name() string { return string(d.engine) }

// Base implements agent.Program.
func (d *program) Base(s manifest.Server) []render.File {
	files := d.base(s)
	d.used.Store(len(files) > 0)
	return files
}

// Test implements agent.Program.
func (d *program) Test(ctx context.Context, staged []staging.Change) error {
	if !d.used.Load() {
		return nil
	}
	if err := d.ownCertificate(); err != nil {
		return err
	}
	out, err := staging.Run(ctx, d.scratch, staged, d.test...)
	if err != nil {
		return fmt.Errorf("%s refuses its configuration: %s", d.engine.Title(), lastLines(out))
	}
	return nil
}

// lastLines is the end of what a program has printed.
func lastLines(text string) string {
	const most = 1000
	if len(text) > most {
		text = text[len(text)-most:]
	}
	return text
}

// numbers are those of the engine's user and group.
func (d *program) numbers() (uid, gid int, err error) {
	u, err := user.Lookup(d.user)
	if err != nil {
		return 0, 0, err
	}
	uid, err = strconv.Atoi(u.Uid)
	gid, wrong := strconv.Atoi(u.Gid)
	return uid, gid, errors.Join(err, wrong)
}

// ownCertificate makes the certificate that the engine shows, where there is none.
func (d *program) ownCertificate() error {
	place := render.DatabaseCertificate(d.engine)
	if _, err := os.Stat(place); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	certificate, key, err := selfsigned.Make([]string{host}, time.Now(), 10*365*24*time.Hour)
	if err != nil {
		return err
	}
	uid, gid, err := d.numbers()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
		return err
	}
	secret := render.DatabaseKey(d.engine)
	return errors.Join(wholefile.Write(secret, key, 0o600, ""), os.Chown(secret, uid, gid),
		wholefile.Write(place, certificate, 0o644, ""))
}

// Reload implements agent.Program. Who connects is let in anew by it; settings need a start.
func (d *program) Reload(ctx context.Context) error {
	if !d.used.Load() {
		return nil
	}
	running := daemon.Running(d.pidFile)
	if running && d.settingsAreNewer() {
		if err := d.restart(ctx); err != nil {
			return fmt.Errorf("start %s anew: %w", d.engine.Title(), err)
		}
	} else if err := daemon.Begin(ctx, d.unit, running, d.reload); err != nil {
		return fmt.Errorf("%s: %w", d.engine.Title(), err)
	}
	d.reloads.Add(1)
	return d.wait(ctx)
}

// startLimit is how long an engine may take to answer: it looks through its files first.
const startLimit = 45 * time.Second

// wait waits until the engine answers.
func (d *program) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	for {
		err := daemon.WaitFor(ctx, d.ask)
		if err == nil || ctx.Err() != nil {
			return err
		}
	}
}

// settingsAreNewer reports whether its settings were changed since it was started.
func (d *program) settingsAreNewer() bool {
	started, err := os.Stat(d.pidFile)
	if err != nil {
		return false
	}
	changed, err := os.Stat(d.config)
	return err == nil && changed.ModTime().After(started.ModTime())
}

func (d *program) restart(ctx context.Context) error {
	if daemon.HasSystemd() {
		return daemon.Restart(ctx, d.unit)
	}
	before, err := daemon.PID(d.pidFile)
	if err != nil {
		return err
	}
	if err := d.stop(ctx); err != nil {
		return err
	}
	return daemon.WaitFor(ctx, func(context.Context) error {
		now, err := daemon.PID(d.pidFile)
		if err == nil && now == before {
			err = errors.New("has not ended yet")
		}
		return err
	})
}

// Verify implements agent.Program: what an account has is looked at by comparing the catalogue.
func (*program) Verify(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// VerifyGone implements agent.Program.
func (*program) VerifyGone(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// Status implements agent.Program.
func (d *program) Status(context.Context) agentlink.ProgramStatus {
	if !d.used.Load() {
		return agentlink.ProgramStatus{}
	}
	return agentlink.ProgramStatus{Name: d.Name(), Version: d.version, Running: daemon.Running(d.pidFile),
		Reloads: d.reloads.Load()}
}
