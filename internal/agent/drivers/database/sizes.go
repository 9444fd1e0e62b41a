package database

import (
	"context"
	"iter"
	"maps"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/manifest"
)

// round is how often databases are measured: what is over a limit is stopped, and what is under it
// again let go on, within two rounds.
const round = 10 * time.Second

// account is what is known of an account for measuring it.
type account struct {
	signIn string
	wanted *manifest.Databases
}

// has reports whether the account has a database or a user in an engine.
func (a account) has(kind databases.Engine) bool {
	return manifest.Manifest{Wanted: manifest.Present, Databases: a.wanted}.HasDatabases(kind)
}

// Boot implements agent.Booter: it learns what accounts have.
func (d *Databases) Boot(_ context.Context, all iter.Seq[manifest.Manifest]) error {
	for m := range all {
		d.remember(m)
	}
	return nil
}

// remember keeps what an account has and how much it may hold.
func (d *Databases) remember(m manifest.Manifest) {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	if slices.ContainsFunc(databases.Engines, m.HasDatabases) {
		d.accounts[m.AccountID] = account{m.SignInName, m.Databases}
	} else {
		delete(d.accounts, m.AccountID)
		d.imports.forgetAll(m.AccountID)
	}
}

// Run measures databases and keeps them within their limits until the context ends.
func (d *Databases) Run(ctx context.Context) {
	for _, e := range d.engines {
		go d.watchSlow(ctx, e)
	}
	clean, saved := map[databases.Engine]bool{}, time.Now()
	for {
		for _, e := range d.inUse() {
			if err := e.ready(ctx); err != nil {
				clean[e.kind()] = false
				continue // it is being started, or its state says that it does not run
			}
			if !clean[e.kind()] {
				err := d.clean(ctx, e)
				if clean[e.kind()] = err == nil; err != nil && ctx.Err() == nil {
					d.log.Warn("what was left behind is not removed", "engine", e.kind(), "reason", err)
				}
			}
			shrunk, err := d.measure(ctx, e)
			if err == nil && shrunk {
				_, err = d.measure(ctx, e)
			}
			if err != nil && ctx.Err() == nil {
				d.log.Warn("databases not measured", "engine", e.kind(), "reason", err)
			}
		}
		if time.Since(saved) > slowRound {
			saved = time.Now()
			if err := d.slow.save(d.names()); err != nil {
				d.log.Warn("slow statements are not written down", "reason", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(round):
		}
	}
}

// measure measures the databases of an engine and applies limits that are passed, or no longer are.
// It reports whether something was given back to the disk, so that it is worth measuring again.
func (d *Databases) measure(ctx context.Context, e *known) (shrunk bool, err error) {
	begun := time.Now()
	sizes, err := e.sizes(ctx)
	if err != nil {
		return false, err
	}
	took := time.Since(begun)
	growths, err := e.growths(ctx)
	if err != nil {
		return false, err
	}
	d.knownMu.Lock()
	e.measured, e.over = sizes, growths
	e.round = agentlink.MeasuredEngine{Engine: e.kind(), At: time.Now(), Took: took, Databases: len(sizes)}
	accounts := maps.Clone(d.accounts)
	all := map[databases.Engine]map[string]int64{}
	for _, one := range d.engines {
		all[one.kind()] = one.measured
	}
	d.knownMu.Unlock()
	for number, a := range accounts {
		var here, everywhere int64
		for _, one := range a.wanted.Databases {
			everywhere += all[one.Engine][one.Name]
			if one.Engine == e.kind() {
				here += sizes[one.Name]
			}
		}
		before := growths[number]
		next := databases.NextGrowth(before.state, before.size, here, everywhere, a.wanted.SizeLimit)
		if next == databases.Free && before.state == databases.Free {
			continue
		}
		some, err := d.limit(ctx, e, number, before, growth{next, here})
		if err != nil {
			d.log.Warn("limit of databases not kept", "account", a.signIn, "reason", err)
		}
		shrunk = shrunk || some
	}
	return shrunk, nil
}

// limit brings an account's users to what its growth leaves them. While it is over, what was
// deleted is given back to the disk, so that it comes under the limit again.
func (d *Databases) limit(ctx context.Context, e *known, number int64, before, now growth) (shrunk bool, err error) {
	if now.state != before.state {
		if before.state != databases.Free && now.state != databases.Free {
			now.size = before.size
		}
		if err := d.setGrowth(ctx, e, number, now); err != nil {
			return false, err
		}
	}
	if now.state == databases.Free {
		return false, nil
	}
	d.knownMu.Lock()
	a := d.accounts[number]
	d.knownMu.Unlock()
	if a.wanted == nil {
		return false, nil
	}
	for _, one := range a.wanted.Databases {
		if one.Engine != e.kind() {
			continue
		}
		some, err := e.shrink(ctx, one.Name)
		if err != nil {
			return shrunk, err
		}
		shrunk = shrunk || some
	}
	return shrunk, nil
}

// setGrowth writes down how far an account is over its limit, and brings its users to it. No apply
// of the account comes between the two.
func (d *Databases) setGrowth(ctx context.Context, e *known, number int64, now growth) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.knownMu.Lock()
	a, known := d.accounts[number]
	d.knownMu.Unlock()
	if !known { // it has gone meanwhile
		return nil
	}
	if err := e.saveGrowth(ctx, number, now); err != nil {
		return err
	}
	_, err := d.bring(ctx, e, number, a.wanted.In(e.kind(), now.state),
		func(one databases.Difference) bool { return !one.Drops })
	return err
}

// onDisk is how much of the disk the files in a directory take, in bytes: looking at them costs an
// engine nothing, whatever they hold.
func onDisk(dir string) (int64, error) {
	d, err := os.Open(dir)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return 0, err
	}
	var size int64
	for _, name := range names {
		var s unix.Stat_t
		if unix.Fstatat(int(d.Fd()), name, &s, unix.AT_SYMLINK_NOFOLLOW) == nil { // it may have gone meanwhile
			size += s.Blocks * 512
		}
	}
	return size, nil
}

// Measured implements agent.DatabaseMeter.
func (d *Databases) Measured() []agentlink.MeasuredEngine {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	var list []agentlink.MeasuredEngine
	for _, e := range d.engines {
		if !e.round.At.IsZero() {
			list = append(list, e.round)
		}
	}
	return list
}

// Sizes returns how much the databases of an account hold, as they were measured last, and whether
// they may grow.
func (d *Databases) Sizes(m manifest.Manifest) []agentlink.DatabaseSize {
	if m.Databases == nil {
		return nil
	}
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	var list []agentlink.DatabaseSize
	for _, e := range d.engines {
		for _, one := range m.Databases.Databases {
			if size, is := e.measured[one.Name]; is && one.Engine == e.kind() {
				list = append(list, agentlink.DatabaseSize{Engine: one.Engine, Name: one.Name, Size: size,
					Growth: e.over[m.AccountID].state})
			}
		}
	}
	return list
}
