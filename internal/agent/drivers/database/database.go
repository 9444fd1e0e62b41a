// Package database drives MariaDB and PostgreSQL: their configuration, which all accounts share,
// and the databases and users of accounts, which are statements in the running engines. What an
// engine has is read from its catalogue and compared with what is wanted (package
// hosting/databases), so that whatever somebody has changed by hand is found.
//
// Each engine keeps a table of the agent's own beside the accounts' databases, which says what was
// made for which account: nothing else is ever changed or dropped, whatever its name is.
package database

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
)

// engine is a running MariaDB or PostgreSQL.
type engine interface {
	// kind is which of the two.
	kind() databases.Engine
	// ready returns an error unless the engine answers, and the agent's tables are there.
	ready(ctx context.Context) error
	// held returns the accounts that the engine has anything of.
	held(ctx context.Context) (map[int64]bool, error)
	// tidy forgets what was made for accounts and is not there any more.
	tidy(ctx context.Context) error
	// differences compares what there is of an account with what is wanted.
	differences(ctx context.Context, account int64, wanted databases.Account) ([]databases.Difference, error)
	// whole reads the catalogue of all accounts, and returns what compares with it.
	whole(ctx context.Context) (compare, error)
	// run writes down what is about to be made for the account, and executes a difference's
	// statements.
	run(ctx context.Context, account int64, d databases.Difference) error
	// disconnect ends the connections of users.
	disconnect(ctx context.Context, users []string) error
	// sizes returns how much every database of an account holds on disk, in bytes.
	sizes(ctx context.Context) (map[string]int64, error)
	// shrink gives back to the disk what has been deleted from a database, and reports whether
	// there was anything.
	shrink(ctx context.Context, database string) (bool, error)
	// growths returns the accounts that are over their limit.
	growths(ctx context.Context) (map[int64]growth, error)
	// saveGrowth writes down how far an account is over its limit.
	saveGrowth(ctx context.Context, account int64, g growth) error

	// letIn lets a visitor sign in as a user, and completes it; putOut ends that, putOutAll that of
	// all that an agent of before has left.
	letIn(ctx context.Context, one *visitor, user databases.UserWithVerifier, database string, g databases.Growth) error
	putOut(ctx context.Context, one visitor) error
	putOutAll(ctx context.Context) error
	// look answers a question about a visitor's database; one that the engine refuses is [refused].
	look(ctx context.Context, one visitor, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error)
	// running tells what has been executed for so long at least, in a database or, if that is
	// empty, in all; stop stops one of these.
	running(ctx context.Context, database string, longer time.Duration) ([]execution, error)
	stop(ctx context.Context, id int64) error
	// dump is the engine's own program that writes a database's contents to its standard output.
	dump(one visitor, tables []string) (name string, args, env []string)
	// load begins an import.
	load(ctx context.Context, one visitor) (loader, error)
}

// compare is differences with a catalogue that was read before.
type compare func(account int64, wanted databases.Account) ([]databases.Difference, error)

// growth is whether an account's databases may grow.
type growth struct {
	state databases.Growth
	// size is how much they held when it was stopped.
	size int64
}

// known is an engine with what is known of it.
type known struct {
	engine
	program *program
	// holds are the accounts that it has something of, as at heldAt.
	holds  map[int64]bool
	heldAt time.Time
	// silentAt is when it did not answer last.
	silentAt time.Time
	// seen compares with its catalogue as at seenAt.
	seen   compare
	seenAt time.Time
	// measured are the sizes of databases, and over the accounts that were over their limit, when
	// they were looked at last.
	measured map[string]int64
	over     map[int64]growth
	// round is the measurement of these.
	round agentlink.MeasuredEngine
}

// Databases are the databases and users of accounts in the engines of this server. Make one with
// [New].
type Databases struct {
	engines []*known
	log     *slog.Logger

	// mu is held by whoever changes what engines have: one apply or measurement at a time.
	mu sync.Mutex

	// knownMu is of what is known: accounts, and of engines.
	knownMu sync.Mutex
	// accounts are those with databases here.
	accounts map[int64]account

	visits visits
	// working are imports and exports that may go on at the same time.
	working chan struct{}
	imports *imports
	slow    *slowLog
}

// New returns the databases of the engines whose drivers are given; either may be nil. Files that
// are imported are in dir until they have been, and beside it is what is known of slow statements.
func New(log *slog.Logger, dir string, mariadb *MariaDB, postgresql *PostgreSQL) *Databases {
	d := &Databases{log: log, accounts: map[int64]account{}, visits: visits{list: map[string]*visit{},
		names: map[string][]string{},
		going: map[any]int{}, stale: map[string]bool{}},
		working: make(chan struct{}, mostTransfers), imports: newImports(dir), slow: openSlowLog(dir + "-slow.json")}
	if mariadb != nil {
		d.engines = append(d.engines, &known{engine: &mariaDBEngine{}, program: &mariadb.program})
	}
	if postgresql != nil {
		d.engines = append(d.engines, &known{program: &postgresql.program,
			engine: &postgreSQLEngine{counted: map[string]counted{}, rewritten: map[string]map[uint32]int64{}}})
	}
	return d
}

// heldFor is how long it is remembered of which accounts engines have something: a sweep asks for
// each account, of which many have no database.
const heldFor = time.Second

// held reports whether an engine has anything of an account. Of an engine that does not answer,
// what is known counts: it keeps nobody waiting who has nothing there.
func (d *Databases) held(ctx context.Context, e *known, account int64) (bool, error) {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	if time.Since(e.heldAt) <= heldFor {
		return e.holds[account], nil
	}
	has := e.holds[account] || d.accounts[account].has(e.kind())
	if !has && time.Since(e.silentAt) < silentFor {
		return false, nil
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	holds, err := e.engine.held(ctx)
	if err != nil {
		if e.silentAt = time.Now(); !has {
			err = nil
		}
		return has, err
	}
	e.holds, e.heldAt = holds, time.Now()
	return holds[account], nil
}

const (
	// patience is how long an engine may take to say which accounts it has.
	patience = 3 * time.Second
	// silentFor is how long one that has not answered is not asked again for the sake of those who
	// have nothing there.
	silentFor = 10 * time.Second
)

// forget has the engine asked anew for what it has.
func (d *Databases) forget(e *known) {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	e.heldAt, e.seenAt = time.Time{}, time.Time{}
}

// seenFor is how long a catalogue that was read counts as what there is: a sweep compares one
// account after the other, and reading all of them costs hardly more than reading one.
const seenFor = 300 * time.Millisecond

// see returns what compares with the catalogue, which has been read just now, and which accounts
// are over their limit.
func (d *Databases) see(ctx context.Context, e *known) (compare, map[int64]growth, error) {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	if time.Since(e.seenAt) > seenFor {
		seen, err := e.whole(ctx)
		if err != nil {
			return nil, nil, err
		}
		over, err := e.growths(ctx)
		if err != nil {
			return nil, nil, err
		}
		e.seen, e.over, e.seenAt = seen, over, time.Now()
	}
	return e.seen, e.over, nil
}

// Name implements agent.Content.
func (*Databases) Name() string { return "databases" }

// Concerns implements agent.Content.
func (d *Databases) Concerns(m manifest.Manifest) bool {
	return slices.ContainsFunc(databases.Engines, m.HasDatabases) || d.anyHeld(m.AccountID)
}

// anyHeld reports whether some engine that answers has anything of an account: an apply that failed
// may have left it, without any manifest in force that has it.
func (d *Databases) anyHeld(account int64) bool {
	return slices.ContainsFunc(d.inUse(), func(e *known) bool {
		held, _ := d.held(context.Background(), e, account)
		return held
	})
}

// inUse lists the engines that this server runs as a server of databases.
func (d *Databases) inUse() []*known {
	return slices.DeleteFunc(slices.Clone(d.engines), func(e *known) bool { return !e.program.used.Load() })
}

// missing returns an error if m wants something of an engine that is not here.
func (d *Databases) missing(m manifest.Manifest) error {
	for _, kind := range databases.Engines {
		if m.HasDatabases(kind) && !slices.ContainsFunc(d.inUse(), func(e *known) bool { return e.kind() == kind }) {
			return fmt.Errorf("%s is not installed on this server, or the server has not been told yet that it keeps "+
				"databases", kind.Title())
		}
	}
	return nil
}

// each calls f for every engine that has, or is to have, something of the account.
func (d *Databases) each(ctx context.Context, m manifest.Manifest, f func(*known) error) error {
	if err := d.missing(m); err != nil {
		return err
	}
	for _, e := range d.inUse() {
		held, err := m.HasDatabases(e.kind()), error(nil)
		if !held {
			held, err = d.held(ctx, e, m.AccountID)
		}
		if err == nil && held {
			err = f(e)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", e.kind().Title(), err)
		}
	}
	return nil
}

// wantedIn is what an engine is to hold for an account; nothing for one that is not to be here.
func wantedIn(m manifest.Manifest, e *known, growths map[int64]growth) databases.Account {
	if m.Wanted != manifest.Present {
		return databases.Account{}
	}
	return m.Databases.In(e.kind(), growths[m.AccountID].state)
}

// Check implements agent.Content: the diff of a drift is the statements that put it right.
func (d *Databases) Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	var drifts []agentlink.Drift
	err := d.each(ctx, m, func(e *known) error {
		seen, growths, err := d.see(ctx, e)
		if err != nil {
			return err
		}
		list, err := seen(m.AccountID, wantedIn(m, e, growths))
		for _, one := range list {
			drifts = append(drifts, agentlink.Drift{Part: d.Name(), Subject: e.kind().Title() + " " + one.Subject,
				Detail: one.Detail.Encode(), Diff: one.Text()})
		}
		return err
	})
	return drifts, err
}

// Ensure implements agent.Content. Databases that are no longer wanted stay until
// [Databases.Forget].
func (d *Databases) Ensure(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	changed, err := d.apply(ctx, m, func(one databases.Difference) bool { return !one.Drops })
	switch {
	case err != nil:
		return language.Text{}, err
	case !slices.ContainsFunc(databases.Engines, m.HasDatabases):
		return language.New("removed"), nil
	case changed == 0:
		return language.New("as they should be"), nil
	}
	return language.New("%d put right", changed), nil
}

// Forget implements agent.Content: databases that are no longer wanted are dropped.
func (d *Databases) Forget(ctx context.Context, m, _ manifest.Manifest) error {
	_, err := d.apply(ctx, m, func(databases.Difference) bool { return true })
	return err
}

// apply executes what differs and is chosen, and tells how many differences those were.
func (d *Databases) apply(ctx context.Context, m manifest.Manifest, chosen func(databases.Difference) bool) (int,
	error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.remember(m)
	changed := 0
	err := d.each(ctx, m, func(e *known) error {
		growths, err := e.growths(ctx)
		if err != nil {
			return err
		}
		n, err := d.bring(ctx, e, m.AccountID, wantedIn(m, e, growths), chosen)
		changed += n
		return err
	})
	return changed, err
}

// bring has an engine hold what is wanted of an account, as far as it is chosen.
func (d *Databases) bring(ctx context.Context, e *known, account int64, wanted databases.Account,
	chosen func(databases.Difference) bool) (int, error) {
	defer d.forget(e)
	list, err := e.differences(ctx, account, wanted)
	if err != nil {
		return 0, err
	}
	changed := 0
	var ends []string
	for _, one := range list {
		if !chosen(one) {
			continue
		}
		if err := e.run(ctx, account, one); err != nil {
			return changed, errors.Join(err, e.disconnect(ctx, ends))
		}
		if user, at, is := strings.Cut(one.Subject, "@"); is && at == "localhost" && e.kind() == databases.MariaDB {
			d.visits.change(user)
		}
		ends = append(ends, one.Ends...)
		changed++
	}
	if len(ends) > 0 {
		return changed, e.disconnect(ctx, append(ends, d.visits.namesOf(ends)...))
	}
	return changed, nil
}
