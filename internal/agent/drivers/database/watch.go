package database

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/databases/dumps"
)

// execution is a statement that is being executed.
type execution struct {
	agentlink.RunningStatement
	database string
	// number tells it from all others, also from later ones of the same connection.
	number string
}

const (
	// watchRound is how often it is looked at what is being executed: how long something took is
	// known as exactly as that.
	watchRound = 500 * time.Millisecond
	// slowRound is how often what is known of slow statements is written down.
	slowRound = time.Minute
)

// slowLog is what is known of slow statements.
type slowLog struct {
	file string
	mu   sync.Mutex
	log  databases.SlowLog
}

// openSlowLog reads what was written down; what cannot be read is nothing.
func openSlowLog(file string) *slowLog {
	l := &slowLog{file: file}
	if text, err := os.ReadFile(file); err == nil {
		_ = json.Unmarshal(text, &l.log)
	}
	return l
}

// save writes down what is known, without what is too old.
func (l *slowLog) save(names map[string]bool) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.log.Forget(time.Now(), func(database string) bool { return names[database] })
	text, err := json.Marshal(l.log)
	if err != nil {
		return err
	}
	return wholefile.Write(l.file, text, 0o600, "")
}

// watchSlow looks at what an engine executes, and keeps what was slow, until the context ends.
func (d *Databases) watchSlow(ctx context.Context, e *known) {
	ticker := time.NewTicker(watchRound)
	defer ticker.Stop()
	seen := map[string]execution{} // what was slow already when it was looked at last
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		now := map[string]execution{}
		if e.program.used.Load() {
			ask, cancel := context.WithTimeout(ctx, patience)
			list, _ := e.running(ask, "", databases.Slow) // one that does not answer executes nothing
			cancel()
			for _, one := range list {
				one.User = d.visits.userOf(one.User)
				now[one.number] = one
			}
		}
		for number, one := range seen {
			if _, is := now[number]; !is {
				d.slow.add(one)
			}
		}
		seen = now
	}
}

func (l *slowLog) add(one execution) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.log.Add(one.database, one.User, dumps.Shape([]byte(one.Statement)), time.Now(), one.For)
}

// names are those of the databases that accounts have here.
func (d *Databases) names() map[string]bool {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	names := map[string]bool{}
	for _, a := range d.accounts {
		for _, one := range a.wanted.Databases {
			names[one.Name] = true
		}
	}
	return names
}

// watch tells what is or was executed in a database, or stops it. Nobody signs in for that.
func (d *Databases) watch(ctx context.Context, q agentlink.DatabaseQuestion) (out agentlink.DatabaseAnswer, err error) {
	if _, err := d.find(q.DatabaseVisit); err != nil {
		return out, err
	}
	if q.Ask == agentlink.AskSlow {
		d.slow.mu.Lock()
		defer d.slow.mu.Unlock()
		out.Slow = d.slow.log.Of(q.Database)
		return out, nil
	}
	used := d.inUse()
	at := slices.IndexFunc(used, func(e *known) bool { return e.kind() == q.Engine })
	if at < 0 {
		return out, fmt.Errorf("%s is not in use on this server", q.Engine.Title())
	}
	list, err := used[at].running(ctx, q.Database, 0)
	if err != nil {
		return out, err
	}
	if q.Ask == agentlink.AskStop {
		if !slices.ContainsFunc(list, func(one execution) bool { return one.ID == q.ID }) {
			return out, errors.New("it is no longer running")
		}
		return out, used[at].stop(ctx, q.ID)
	}
	for _, one := range list {
		one.User = d.visits.userOf(one.User)
		out.Running = append(out.Running, one.RunningStatement)
	}
	return out, nil
}
