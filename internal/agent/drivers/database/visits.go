package database

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
)

// visitor signs in as a user of a database.
type visitor struct {
	// name and password are what the engine is told.
	name, password string
	database       string
	// at is which visitor it is, for [visits].
	at   string
	user databases.User
}

// visits are the visitors that there are. One that nobody uses any more stays for a while, as
// people look at one page after the other.
type visits struct {
	mu   sync.Mutex
	list map[string]*visit

	// namesMu is held for moments only, mu as long as an engine takes.
	namesMu sync.Mutex
	// names are those that visitors sign in with, by the user in whose name they come.
	names map[string][]string
	// stale are users of MariaDB whom an apply has changed: their second password is gone.
	stale map[string]bool
	// going is how many questions and transfers are going on.
	going map[any]int
}

// namesOf are the names under which somebody visits in the name of users.
func (v *visits) namesOf(users []string) []string {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	var list []string
	for _, u := range users {
		list = append(list, v.names[u]...)
	}
	return list
}

// userOf is in whose name somebody visits who signs in with a name.
func (v *visits) userOf(name string) string {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	for user, names := range v.names {
		if slices.Contains(names, name) {
			return user
		}
	}
	return name
}

// change writes down that a user has been changed, and changed reports it, once.
func (v *visits) change(user string) {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	if len(v.names[user]) > 0 {
		v.stale[user] = true
	}
}

func (v *visits) changed(user string) bool {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	was := v.stale[user]
	delete(v.stale, user)
	return was
}

func (v *visits) name(one visitor, there bool) {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	list := slices.DeleteFunc(v.names[one.user.Name], func(name string) bool { return name == one.name })
	if there {
		list = append(list, one.name)
	}
	if v.names[one.user.Name] = list; len(list) == 0 {
		delete(v.names, one.user.Name)
		delete(v.stale, one.user.Name)
	}
}

type visit struct {
	visitor
	// using is how many use it; idle removes it when nobody does.
	using int
	idle  *time.Timer
}

const (
	// idleVisit is how long a visitor stays that nobody uses.
	idleVisit = 20 * time.Second
	// longestVisit is how long an import or export may take.
	longestVisit = 12 * time.Hour
	// busyFor is how long a visit waits for an apply that is going on.
	busyFor = 30 * time.Second
)

// found is what a visit is to.
type found struct {
	user   databases.UserWithVerifier
	growth databases.Growth
}

// find looks up what a visit is to.
//
// Errors: the account has no such database or user here; the user may do nothing with it, or cannot
// sign in.
func (d *Databases) find(v agentlink.DatabaseVisit) (found, error) {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	a, is := d.accounts[v.Account]
	at := slices.IndexFunc(d.engines, func(e *known) bool { return e.kind() == v.Engine })
	if !is || a.wanted == nil || at < 0 {
		return found{}, errors.New("the account has no databases on this server")
	}
	growth := d.engines[at].over[v.Account].state
	wanted := a.wanted.In(v.Engine, growth)
	n := slices.IndexFunc(wanted.Users, func(u databases.UserWithVerifier) bool { return u.Name == v.User })
	switch {
	case !slices.ContainsFunc(wanted.Databases, func(one databases.Database) bool { return one.Name == v.Database }):
		return found{}, fmt.Errorf("there is no database %s on this server", v.Database)
	case n < 0 || wanted.Users[n].Levels[v.Database] == "":
		return found{}, fmt.Errorf("%s may do nothing with %s", v.User, v.Database)
	case wanted.Suspended || growth == databases.Closed || wanted.Users[n].Verifier == "":
		return found{}, fmt.Errorf("nobody can sign in as %s now", v.User)
	}
	return found{wanted.Users[n], growth}, nil
}

// enter lets somebody work with a database as one of its users; leave it afterwards.
//
// Errors: those of find; what the engine says.
func (d *Databases) enter(ctx context.Context, v agentlink.DatabaseVisit) (*known, visitor, error) {
	to, err := d.find(v)
	if err != nil {
		return nil, visitor{}, err
	}
	used := d.inUse()
	at := slices.IndexFunc(used, func(e *known) bool { return e.kind() == v.Engine })
	if at < 0 {
		return nil, visitor{}, fmt.Errorf("%s is not in use on this server", v.Engine.Title())
	}
	e := used[at]
	key := fmt.Sprint(v.Engine, " ", v.User, " ", v.Database, " ", to.growth, " ", to.user.Levels[v.Database])
	if v.Engine == databases.MariaDB {
		key = fmt.Sprint(v.Engine, " ", v.User) // its second password is good for all databases
	}
	d.visits.mu.Lock()
	defer d.visits.mu.Unlock()
	there := d.visits.list[key]
	if there == nil || d.visits.changed(v.User) {
		one := visitor{name: v.User, password: rand.Text(), at: key, user: to.user.User}
		if there != nil {
			one = there.visitor // it has only to be let in once more
		}
		if err := d.letIn(ctx, e, &one, v); err != nil {
			d.visits.change(v.User) // if it is there, it has still to be let in
			return nil, visitor{}, err
		}
		if there == nil {
			there = &visit{visitor: one}
			d.visits.list[key] = there
			d.visits.name(one, true)
		}
	}
	if there.idle != nil {
		there.idle.Stop()
		there.idle = nil
	}
	there.using++
	out := there.visitor
	out.database = v.Database
	return e, out, nil
}

// letIn makes a visitor known to the engine, when no apply is going on.
func (d *Databases) letIn(ctx context.Context, e *known, one *visitor, v agentlink.DatabaseVisit) error {
	for end := time.Now().Add(busyFor); !d.mu.TryLock(); time.Sleep(10 * time.Millisecond) {
		if ctx.Err() != nil || time.Now().After(end) {
			return errors.New("the databases of this server are being changed; try again in a minute")
		}
	}
	defer d.mu.Unlock()
	to, err := d.find(v) // as it is now: another password must not be undone
	if err != nil {
		return err
	}
	return e.letIn(ctx, one, to.user, v.Database, to.growth)
}

// leave ends what [Databases.enter] began.
func (d *Databases) leave(e *known, one visitor) {
	d.visits.mu.Lock()
	defer d.visits.mu.Unlock()
	there := d.visits.list[one.at]
	if there == nil {
		return
	}
	if there.using--; there.using > 0 {
		return
	}
	there.idle = time.AfterFunc(idleVisit, func() { d.remove(e, one.at) })
}

// remove removes a visitor that nobody uses.
func (d *Databases) remove(e *known, key string) {
	d.visits.mu.Lock()
	defer d.visits.mu.Unlock()
	there := d.visits.list[key]
	if there == nil || there.using > 0 {
		return
	}
	if !d.mu.TryLock() { // nobody is to wait for this
		there.idle = time.AfterFunc(idleVisit, func() { d.remove(e, key) })
		return
	}
	defer d.mu.Unlock()
	delete(d.visits.list, key)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := e.putOut(ctx, there.visitor); err != nil {
		d.log.Warn("visitor not removed", "engine", e.kind(), "user", there.name, "reason", err)
	}
	d.visits.name(there.visitor, false)
	d.forget(e)
}

// clean removes what was left behind when the agent or the engine was killed: visitors, and what is
// known of databases and users that are gone.
func (d *Databases) clean(ctx context.Context, e *known) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return errors.Join(e.putOutAll(ctx), e.tidy(ctx))
}

// verifierOf is what an engine checks a visitor's password with.
func verifierOf(kind databases.Engine, password string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	return databases.Verifier(kind, password, salt)
}
