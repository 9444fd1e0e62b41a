package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"victualler/internal/agent/staging"
	"victualler/internal/agent/wholefile"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// longestCommit is how long programs may take to test and reload for a group, and longestOfEach how
// much longer for each account of the server: nginx reads all of them in each reload, those of busy
// sites with their certificates, and the group may have to be halved.
const (
	longestCommit = time.Minute
	longestOfEach = 50 * time.Millisecond
)

// longestGather is the most that a commit waits for others.
const longestGather = 5 * time.Second

// A change is one account's configuration waiting for its commit.
type change struct {
	// find lists, by program, what is to be written or removed. It is asked when the commit begins,
	// for nothing else changes the files from then on, and told which files there are; nil where
	// only the files that all accounts share matter.
	find func(there owned) (map[Program][]staging.Change, error)
	// files are what was found.
	files map[Program][]staging.Change
	// done gets the outcome, once.
	done chan error
	// report reports what happened to one program.
	report func(program string, detail language.Text)
}

// committer does group commits: changes that wait at the same time share one
// test and one reload of each program. When the common test fails, the group is
// halved until the culprit stands alone; only its own operation fails.
type committer struct {
	programs []Program
	// shared returns what the server holds for all accounts together.
	shared func() manifest.Server
	// gather is the least time that a commit waits for changes that are being prepared.
	gather time.Duration
	// took is how long the last one took. A commit waits as long for others to join: on a server
	// that is full of sites, a reload costs seconds, for however many it is.
	took time.Duration

	mu        sync.Mutex
	waiting   []*change
	preparing int
	wake      chan struct{}
	// dirty makes the next commit reload even what does not change: set when a
	// killed agent may have written files and not reloaded.
	dirty bool
}

func newCommitter(programs []Program, shared func() manifest.Server) *committer {
	return &committer{programs: programs, shared: shared, gather: 100 * time.Millisecond, wake: make(chan struct{}, 1)}
}

// announce says that a change will come soon; the returned function takes the
// announcement back and must be called once.
func (c *committer) announce() (over func()) {
	c.count(1)
	return sync.OnceFunc(func() { c.count(-1) })
}

func (c *committer) count(n int) {
	c.mu.Lock()
	c.preparing += n
	c.mu.Unlock()
	c.nudge()
}

func (c *committer) nudge() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// submit hands in a change and waits for its outcome.
func (c *committer) submit(ch *change) error {
	ch.done = make(chan error, 1)
	c.mu.Lock()
	c.waiting = append(c.waiting, ch)
	c.mu.Unlock()
	c.nudge()
	return <-ch.done
}

// run commits until the context ends.
func (c *committer) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
		}
		if group := c.next(ctx); len(group) > 0 {
			c.commit(ctx, group)
			c.nudge()
		}
	}
}

// next takes all waiting changes, giving those in preparation a moment to join.
func (c *committer) next(ctx context.Context) []*change {
	deadline := time.After(min(max(c.gather, c.took), longestGather))
	for late := false; ; {
		c.mu.Lock()
		if late || len(c.waiting) == 0 || c.preparing == 0 {
			group := c.waiting
			c.waiting = nil
			c.mu.Unlock()
			return group
		}
		c.mu.Unlock()
		select {
		case <-c.wake:
		case <-deadline:
			late = true
		case <-ctx.Done():
			return nil
		}
	}
}

// commit tests, swaps and reloads for a group. Every change gets its outcome.
func (c *committer) commit(ctx context.Context, group []*change) {
	c.mu.Lock()
	dirty := c.dirty
	c.mu.Unlock()
	// Files that all accounts share are looked at each time, so that they come
	// back whoever took them away.
	base := c.baseDifferences()
	there, err := c.owned() // once for all of the group
	if err != nil {
		fail(group, err)
		return
	}
	ctx, cancel := context.WithTimeout(ctx, longestCommit+time.Duration(there.accounts())*longestOfEach)
	defer cancel()
	group = slices.DeleteFunc(group, func(ch *change) bool {
		if ch.find == nil {
			return false
		}
		var err error
		ch.files, err = ch.find(there)
		switch {
		case err != nil:
			ch.done <- err
		case len(ch.files) == 0 && len(base) == 0 && !dirty:
			// Nothing of it has to be tested, so nothing can be wrong with it,
			// whatever becomes of those it came with: an undo must not fail by their fault.
			for _, p := range c.programs {
				ch.report(p.Name(), language.New("as it should be"))
			}
			ch.done <- nil
		default:
			return false
		}
		return true
	})
	if len(base) > 0 {
		shared := &change{files: base, done: make(chan error, 1), report: func(string, language.Text) {}}
		group = append([]*change{shared}, group...)
	}
	if len(group) == 0 {
		return
	}
	start := time.Now()
	defer func() { c.took = time.Since(start) }()
	programs := c.touched(group)
	if dirty {
		programs = c.programs
	}
	if err := test(ctx, programs, group); err != nil {
		if len(base) > 0 {
			// A program that gets its first configuration had none that could be sound, and one
			// that refuses what all accounts share takes nothing of theirs either.
			if wrong := test(ctx, programs, group[:1]); wrong != nil {
				fail(group, fmt.Errorf("what the server is to have for all accounts is refused: %w", wrong))
				return
			}
		} else if before := test(ctx, programs, nil); before != nil {
			// It was broken before: none of these changes is to blame, and halving would only ask
			// the same question many times.
			fail(group, fmt.Errorf("the configuration on the server was broken before this change: %w", before))
			return
		}
		group = sift(ctx, programs, nil, group)
	}
	if len(group) == 0 {
		return
	}
	undo, err := swap(group)
	if err != nil {
		fail(group, errors.Join(err, undo()))
		return
	}
	if err := reload(ctx, programs); err != nil {
		// Others of them may run with the new files by now: the next commit has all read again.
		c.mu.Lock()
		c.dirty = true
		c.mu.Unlock()
		fail(group, errors.Join(err, undo()))
		return
	}
	detail := language.New("tested and reloaded in %d ms", time.Since(start).Milliseconds())
	if len(group) > 1 {
		detail = language.New("%s, shared by %d changes", detail, len(group))
	}
	for _, p := range c.programs {
		for _, ch := range group {
			if slices.Contains(programs, p) {
				ch.report(p.Name(), detail)
			} else {
				ch.report(p.Name(), language.New("as it should be"))
			}
		}
	}
	c.mu.Lock()
	c.dirty = c.dirty && !dirty
	c.mu.Unlock()
	for _, ch := range group {
		ch.done <- nil
	}
}

// sift returns accepted and those of group that pass the test together with
// it; the others get the program's refusal.
func sift(ctx context.Context, programs []Program, accepted, group []*change) []*change {
	err := test(ctx, programs, append(append([]*change(nil), accepted...), group...))
	switch {
	case err == nil:
		return append(accepted, group...)
	case len(group) == 1:
		fail(group, err)
		return accepted
	}
	half := len(group) / 2
	return sift(ctx, programs, sift(ctx, programs, accepted, group[:half]), group[half:])
}

// test asks programs about their configuration as it would be with the group's changes.
func test(ctx context.Context, programs []Program, group []*change) error {
	for _, p := range programs {
		var staged []staging.Change
		for _, ch := range group {
			staged = append(staged, ch.files[p]...)
		}
		if err := p.Test(ctx, staged); err != nil {
			return &programError{p.Name(), err}
		}
	}
	return nil
}

// reload has programs take over their configuration, all at the same time:
// some wait for what runs.
func reload(ctx context.Context, programs []Program) error {
	errs := make([]error, len(programs))
	var group sync.WaitGroup
	for i, p := range programs {
		group.Go(func() {
			if err := p.Reload(ctx); err != nil {
				errs[i] = &programError{p.Name(), err}
			}
		})
	}
	group.Wait()
	return errors.Join(errs...)
}

// touched lists the programs whose files the group changes.
func (c *committer) touched(group []*change) []Program {
	var touched []Program
	for _, p := range c.programs {
		if slices.ContainsFunc(group, func(ch *change) bool { return len(ch.files[p]) > 0 }) {
			touched = append(touched, p)
		}
	}
	return touched
}

// owned lists, by program and sign-in name, the files of accounts that are there.
type owned map[Program]map[string][]string

// accounts is how many accounts have files, of whatever program.
func (o owned) accounts() int {
	most := 0
	for _, files := range o {
		most = max(most, len(files))
	}
	return most
}

// owned looks which files there are.
func (c *committer) owned() (owned, error) {
	all := owned{}
	for _, p := range c.programs {
		paths, err := p.AccountFiles()
		if err != nil {
			return nil, err
		}
		all[p] = map[string][]string{}
		for _, path := range paths {
			name := p.Owner(path)
			all[p][name] = append(all[p][name], path)
		}
	}
	return all, nil
}

// differences lists, by program, the files of an account that are not as m wants them, and those it
// should not have. There may be nil: then it is looked which files there are.
func (c *committer) differences(m manifest.Manifest, there owned) (map[Program][]staging.Change, error) {
	if there == nil {
		var err error
		if there, err = c.owned(); err != nil {
			return nil, err
		}
	}
	different := map[Program][]staging.Change{}
	for _, p := range c.programs {
		wanted := map[string]bool{}
		for _, f := range p.Files(m) {
			wanted[f.Path] = true
			if ch := (staging.Change{Path: f.Path, File: &f}); differs(ch) {
				different[p] = append(different[p], ch)
			}
		}
		for _, path := range there[p][m.SignInName] {
			if !wanted[path] {
				different[p] = append(different[p], staging.Change{Path: path})
			}
		}
	}
	return different, nil
}

// baseDifferences lists, by program, the shared files that are not as they should be.
func (c *committer) baseDifferences() map[Program][]staging.Change {
	different := map[Program][]staging.Change{}
	for _, p := range c.programs {
		for _, f := range p.Base(c.shared()) {
			if ch := (staging.Change{Path: f.Path, File: &f}); differs(ch) {
				different[p] = append(different[p], ch)
			}
		}
	}
	return different
}

func differs(f staging.Change) bool {
	found, err := os.ReadFile(f.Path)
	if f.File == nil {
		return !errors.Is(err, fs.ErrNotExist)
	}
	return err != nil || string(found) != f.File.Content
}

// writesAtOnce is how many files are written at the same time: a file system brings what is to be
// safe at the same time to the disk together.
const writesAtOnce = 16

// swap puts the tested files in place, each one as a whole. The returned
// function puts back what was there.
func swap(group []*change) (undo func() error, err error) {
	var before, files []staging.Change
	undo = func() error {
		var errs []error
		for _, f := range slices.Backward(before) { // a file written twice gets back what it was first
			errs = append(errs, place(f))
		}
		return errors.Join(errs...)
	}
	at := map[string]int{}
	for _, ch := range group {
		for _, of := range ch.files {
			for _, f := range of {
				old := staging.Change{Path: f.Path}
				if found, err := os.ReadFile(f.Path); err == nil {
					old.File = &render.File{Path: f.Path, Content: string(found)}
					if old.File.Mode, old.File.Group, err = rightsOf(f.Path); err != nil {
						return undo, err
					}
				}
				before = append(before, old)
				if n, twice := at[f.Path]; twice { // what comes last counts
					files[n] = f
					continue
				}
				at[f.Path] = len(files)
				files = append(files, f)
			}
		}
	}
	errs := make([]error, len(files))
	var writing sync.WaitGroup
	slots := make(chan struct{}, writesAtOnce)
	for n, f := range files {
		slots <- struct{}{}
		writing.Go(func() {
			defer func() { <-slots }()
			errs[n] = place(f)
		})
	}
	writing.Wait()
	return undo, errors.Join(errs...)
}

// rightsOf returns a file's mode and group; the group is empty where it is root's.
func rightsOf(path string) (fs.FileMode, string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, "", err
	}
	gid := info.Sys().(*syscall.Stat_t).Gid
	if gid == 0 {
		return info.Mode().Perm(), "", nil
	}
	group, err := user.LookupGroupId(strconv.Itoa(int(gid)))
	if err != nil {
		return 0, "", err
	}
	return info.Mode().Perm(), group.Name, nil
}

// place writes or removes one file.
func place(f staging.Change) error {
	if f.File == nil {
		if err := os.Remove(f.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
		return err
	}
	return wholefile.Write(f.Path, []byte(f.File.Content), f.File.Mode, f.File.Group)
}

func fail(group []*change, err error) {
	for _, ch := range group {
		ch.done <- err
	}
}
