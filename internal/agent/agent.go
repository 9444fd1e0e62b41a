// Package agent makes a server match the manifests it is given.
//
// An apply writes its intention to disk, makes the account's resources, has its
// configuration tested and swapped together with that of other accounts
// (commit.go), asks the programs from outside whether they serve it, and only
// then writes the receipt. Killed anywhere, it repeats the intention at the next
// start. An apply that fails puts back what was in force before.
package agent

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"victualler/internal/agent/staging"
	"victualler/internal/agent/visits"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/actions"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
)

// Config is what an agent works with.
type Config struct {
	// StateDir keeps manifests, the journal and the agent's certificate.
	StateDir string
	// Resources and Programs are the drivers, in the order in which an account
	// is made of them.
	Resources []Resource
	Programs  []Program
	Contents  []Content
	Meter     Meter
	// Confiner is nil on a server that runs nothing for accounts.
	Confiner Confiner
	// Challenger answers authorities.
	Challenger Challenger
	// Mailer is nil on a server that has no programs for mail.
	Mailer Mailer
	// Visitor is nil on a server that has no engines of databases.
	Visitor Visitor
	// Databases is nil on a server that has no engine of databases.
	Databases DatabaseMeter
	// Visits tells which sites are visited much; nil where there are none.
	Visits *visits.Counter
	// VisitsRound is how often it is worked out which sites those are.
	VisitsRound time.Duration
	// Address is the server's own, at which its web server answers.
	Address netip.Addr
	// Homes is the directory of homes.
	Homes string
	Log   *slog.Logger
}

// Agent is the engine. Make one with [New].
type Agent struct {
	Config
	state     *state
	committer *committer
	// slots are for those who work on accounts: hundreds of applies may be on their way, and their
	// stacks and connections would fill the agent's memory.
	slots chan struct{}

	mu    sync.Mutex
	locks map[string]*sync.RWMutex
	busy  map[busyWith]bool
}

// longestPart is how long an apply may work on an account's resources, and then again at looking
// from outside, before it is undone. The commit between the two has a limit of its own, which is
// longer where a server is full.
const longestPart = 100 * time.Second

// worksAtOnce is how many applies are worked on at the same time;
// others wait, or have their commit.
const worksAtOnce = 32

// verifyStep is the name of the last step of every apply.
const verifyStep = "verify"

// New opens the state. Call [Agent.Run] next.
func New(c Config) (*Agent, error) {
	s, err := openState(c.StateDir)
	if err != nil {
		return nil, fmt.Errorf("state: %w", err)
	}
	return &Agent{Config: c, state: s, committer: newCommitter(c.Programs, s.server),
		slots: make(chan struct{}, worksAtOnce), locks: map[string]*sync.RWMutex{},
		busy: map[busyWith]bool{}}, nil
}

// Run puts the programs' shared files in place, repeats what a killed agent had
// begun, and goes on committing until the context ends.
func (a *Agent) Run(ctx context.Context) error {
	begun, err := a.state.begun()
	if err != nil {
		return err
	}
	if len(begun) > 0 {
		a.committer.dirty = true
	}
	go a.committer.run(ctx)
	if err := a.committer.submit(&change{report: func(string, language.Text) {}}); err != nil {
		a.Log.Warn("shared configuration is not in place; every apply tries again", "reason", err)
	}
	a.Log.Info("repeat what was cut off", "accounts", len(begun))
	for _, r := range a.Resources {
		a.boot(ctx, r.Name(), r)
	}
	for _, c := range a.Contents {
		a.boot(ctx, c.Name(), c)
	}
	a.reapply(ctx, slices.Values(begun))
	if a.Visits != nil {
		go a.followVisits(ctx)
	}
	// A new program may render differently. That is no drift: it writes anew
	// what the old one wrote, while it serves.
	renewed, err := a.state.newProgram()
	if err != nil {
		return err
	}
	if renewed {
		all, _ := a.state.count()
		a.Log.Info("apply everything anew: the program is another", "accounts", all)
		go a.reapply(ctx, a.state.all())
	}
	return nil
}

// boot has a part make anew what has not outlived the server's start.
func (a *Agent) boot(ctx context.Context, name string, part any) {
	b, is := part.(Booter)
	if !is {
		return
	}
	if err := b.Boot(ctx, a.state.all()); err != nil {
		a.Log.Warn("not all is as before the server was started; a sweep tells what is missing", "part", name,
			"reason", err)
	}
}

// reapply applies manifests that were applied, or begun, before.
func (a *Agent) reapply(ctx context.Context, all iter.Seq[manifest.Manifest]) {
	var group sync.WaitGroup
	slots := make(chan struct{}, 64)
	for m := range all {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			if r := a.Apply(ctx, m, func(agentlink.Step) {}); r.Failure != nil &&
				r.Failure.Code != agentlink.FailedStale {
				a.Log.Warn("repeated apply failed", "account", m.SignInName, "reason", r.Failure.Message)
			}
		})
	}
	group.Wait()
}

// ApplyServer makes the server hold what m says for all accounts together. If a program refuses it,
// what was before is in force.
func (a *Agent) ApplyServer(m manifest.Server) error {
	if err := m.Validate(); err != nil {
		return err
	}
	defer a.lock("")()
	before := a.state.server()
	if err := a.state.saveServer(m); err != nil {
		return err
	}
	err := a.committer.submit(&change{report: func(string, language.Text) {}})
	if err != nil {
		return errors.Join(err, a.state.saveServer(before))
	}
	return nil
}

// lock makes applies of one account wait for each other.
func (a *Agent) lock(name string) (unlock func()) {
	l := a.mutex(name)
	l.Lock()
	return l.Unlock
}

// mutex is the one of applies under that name.
func (a *Agent) mutex(name string) *sync.RWMutex {
	a.mu.Lock()
	defer a.mu.Unlock()
	l, known := a.locks[name]
	if !known {
		l = &sync.RWMutex{}
		a.locks[name] = l
	}
	return l
}

// Apply makes the server match m, tells each step, and returns the receipt.
func (a *Agent) Apply(ctx context.Context, m manifest.Manifest, tell func(agentlink.Step)) agentlink.Receipt {
	receipt := agentlink.Receipt{AccountID: m.AccountID, Revision: m.Revision, Verified: []string{}}
	refuse := func(code, step string, err error) agentlink.Receipt {
		receipt.Failure = &agentlink.Failure{Code: code, Step: step, Message: err.Error()}
		receipt.At = time.Now().UTC()
		return receipt
	}
	if err := m.Validate(); err != nil {
		return refuse(agentlink.FailedForged, "check", err)
	}
	over := a.committer.announce()
	defer over()
	defer a.lock(m.SignInName)()
	m = a.withVisits(m)
	last := a.state.last(m.SignInName)
	if err := admit(m, last); err != nil {
		return refuse(agentlink.FailedStale, "check", err)
	}
	if err := a.state.begin(m); err != nil {
		return refuse(agentlink.FailedStep, "check", fmt.Errorf("write the journal: %w", err))
	}
	// From here on the work is finished or undone, even if the caller hangs up.
	ctx = context.WithoutCancel(ctx)
	a.slots <- struct{}{}
	defer func() { <-a.slots }()
	w := &work{agent: a, tell: tell, over: over}
	changed, verified, err := w.make(ctx, m, last)
	if err != nil && (w.step == rawProgram || w.step == verifyStep) && hasRaw(m) && known(m, last) {
		// What a customer has written for nginx keeps nothing else from being done: where it is
		// refused, or keeps the agent itself from being answered, it is left out.
		plain := withoutRaw(m, err)
		if c, v, again := w.make(ctx, plain, last); again == nil {
			m, changed, verified, err = plain, c, v, nil
		}
	}
	if err == nil {
		err = a.state.end(m)
	}
	if err != nil {
		step := w.step
		tell(agentlink.Step{Name: step, State: agentlink.StepFailed, Detail: err.Error()})
		if undone := a.undo(ctx, m, last); undone != nil {
			a.Log.Error("could not put back what was before", "account", m.SignInName, "reason", undone)
			err = fmt.Errorf("%w (and what was before could not be put back: %w)", err, undone)
		}
		return refuse(agentlink.FailedStep, step, err)
	}
	receipt.Changed, receipt.At = changed, time.Now().UTC()
	for _, seen := range verified {
		receipt.Verified = append(receipt.Verified, seen.String())
	}
	receipt.Warnings = a.warnings(m)
	return receipt
}

// known reports whether the account was on this server before.
func known(m manifest.Manifest, last *manifest.Manifest) bool {
	return last != nil && last.HasHome() && last.AccountID == m.AccountID
}

// warnings lists what does not work of an account by its owner's doing.
func (a *Agent) warnings(m manifest.Manifest) []agentlink.Warning {
	if !m.HasHome() {
		return nil
	}
	var list []agentlink.Warning
	for _, r := range a.Resources {
		if w, is := r.(Warner); is {
			list = append(list, w.Warnings(m)...)
		}
	}
	return append(list, rawRefused(m)...)
}

// admit refuses what is older than what is in force.
func admit(m manifest.Manifest, last *manifest.Manifest) error {
	switch {
	case last == nil:
		return nil
	case last.AccountID == m.AccountID && m.Revision < last.Revision:
		return fmt.Errorf("revision %d is older than revision %d, which is in force", m.Revision, last.Revision)
	case last.AccountID != m.AccountID && last.Wanted == manifest.Present:
		return fmt.Errorf("the sign-in name %s belongs to account %d on this server", m.SignInName, last.AccountID)
	case m.AccountID < last.AccountID:
		return fmt.Errorf("the sign-in name %s has been account %d's since", m.SignInName, last.AccountID)
	}
	return nil
}

// undo puts the last manifest back in force; an account that was not there goes.
func (a *Agent) undo(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) error {
	w := &work{agent: a, tell: func(agentlink.Step) {}, over: func() {}}
	if last != nil && last.Wanted == manifest.Present && last.AccountID == m.AccountID {
		if _, _, err := w.make(ctx, *last, last); err != nil {
			return err
		}
		return a.state.abandon(m.SignInName)
	}
	if m.Wanted == manifest.Absent {
		return nil // the intention stays: a removal is repeated, never undone
	}
	m.Wanted, m.Sites, m.Zones, m.Logins, m.Mail, m.Databases = manifest.Absent, nil, nil, nil, nil, nil
	if _, _, err := w.make(ctx, m, nil); err != nil {
		return err
	}
	return a.state.abandon(m.SignInName)
}

// work is one apply on its way.
type work struct {
	agent *Agent
	tell  func(agentlink.Step)
	// over takes back the announcement to the committer.
	over func()
	// step is the one being worked on.
	step string
}

func (w *work) begin(step string) {
	w.step = step
	w.tell(agentlink.Step{Name: step, State: agentlink.StepRunning})
}

func (w *work) done(detail language.Text) {
	w.tell(agentlink.Step{Name: w.step, State: agentlink.StepDone, Detail: detail.Encode()})
}

func (w *work) make(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) (changed bool,
	verified []language.Text, err error) {
	if m.Wanted == manifest.Absent {
		return w.remove(ctx, m, last)
	}
	return w.ensure(ctx, m, last)
}

// ensure: resources, then configuration, contents, then the look from outside.
func (w *work) ensure(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) (changed bool,
	verified []language.Text, err error) {
	making, cancel := context.WithTimeout(ctx, longestPart)
	defer cancel()
	for _, r := range w.agent.Resources {
		if !r.Concerns(m) {
			continue
		}
		w.begin(r.Name())
		before, err := r.Check(making, m)
		if err != nil {
			return false, nil, err
		}
		detail, err := r.Ensure(making, m, known(m, last))
		if err != nil {
			return false, nil, err
		}
		changed = changed || len(before) > 0
		w.done(detail)
	}
	configured, err := w.configure(m, last)
	if err != nil {
		return false, nil, err
	}
	ctx, cancel = context.WithTimeout(ctx, longestPart)
	defer cancel()
	filled, err := w.fill(ctx, m, last)
	if err != nil {
		return false, nil, err
	}
	gone, err := w.removeResources(ctx, m) // they have been here, perhaps
	if err != nil {
		return false, nil, err
	}
	w.begin(verifyStep)
	for _, p := range w.agent.Programs {
		seen, err := p.Verify(ctx, m)
		if err != nil {
			return false, nil, err
		}
		if !seen.IsZero() {
			verified = append(verified, seen)
		}
	}
	for _, r := range w.agent.Resources {
		if t, is := r.(Tidier); is && m.HasHome() {
			if err := t.Tidy(ctx, m); err != nil {
				return false, nil, err
			}
		}
	}
	if err := w.forget(ctx, m, last); err != nil {
		return false, nil, err
	}
	w.step = verifyStep
	w.done(language.Join(verified, "; "))
	return changed || configured || filled || gone, verified, nil
}

// remove: configuration first, so that nothing names what goes; then
// resources, last made first; then a look for whatever might be left.
func (w *work) remove(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) (changed bool,
	verified []language.Text, err error) {
	configured, err := w.configure(m, last)
	if err != nil {
		return false, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, longestPart)
	defer cancel()
	filled, err := w.fill(ctx, m, last)
	if err == nil {
		err = w.forget(ctx, m, last)
	}
	if err != nil {
		return false, nil, err
	}
	gone, err := w.removeResources(ctx, m)
	if err != nil {
		return false, nil, err
	}
	changed = configured || filled || gone
	w.begin(verifyStep)
	for _, r := range w.agent.Resources {
		left, err := r.Check(ctx, m)
		if err != nil {
			return false, nil, err
		}
		if len(left) > 0 {
			return false, nil, fmt.Errorf("%s %s", left[0].Subject, language.Decode(left[0].Detail))
		}
		if last == nil || r.Concerns(*last) {
			verified = append(verified, language.New("no %s", actions.StepTitle(r.Name())))
		}
	}
	different, err := w.agent.committer.differences(m, nil)
	if err != nil {
		return false, nil, err
	}
	for _, p := range w.agent.Programs {
		if left := different[p]; len(left) > 0 {
			return false, nil, fmt.Errorf("%s is still there", left[0].Path)
		}
		if last == nil || last.Wanted != manifest.Present {
			continue
		}
		seen, err := p.VerifyGone(ctx, *last)
		if err != nil {
			return false, nil, err
		}
		if !seen.IsZero() {
			verified = append(verified, seen)
		}
	}
	w.done(language.Join(verified, "; "))
	return changed, verified, nil
}

// removeResources takes away what there is of resources that m does not concern, last made first.
// Only what is there is a step.
func (w *work) removeResources(ctx context.Context, m manifest.Manifest) (changed bool, err error) {
	for _, r := range slices.Backward(w.agent.Resources) {
		if r.Concerns(m) {
			continue
		}
		before, err := r.Check(ctx, m)
		if err != nil {
			w.step = r.Name()
			return false, err
		}
		if len(before) > 0 {
			w.begin(r.Name())
		}
		if err := r.Remove(ctx, m); err != nil { // also where there seems to be nothing: it may know of more
			w.step = r.Name()
			return false, err
		}
		if len(before) > 0 {
			changed = true
			w.done(language.New("removed"))
		}
	}
	return changed, nil
}

// fill has programs hold what only they can keep.
func (w *work) fill(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) (changed bool, err error) {
	for _, c := range w.agent.Contents {
		if !c.Concerns(m) && !(last != nil && c.Concerns(*last)) {
			continue
		}
		w.begin(c.Name())
		before, err := c.Check(ctx, m)
		if err != nil {
			return false, err
		}
		detail, err := c.Ensure(ctx, m)
		if err != nil {
			return false, err
		}
		changed = changed || len(before) > 0
		w.done(detail)
	}
	return changed, nil
}

// forget has programs drop for good what is no longer wanted. It comes last: what has been dropped,
// no apply that is undone brings back.
func (w *work) forget(ctx context.Context, m manifest.Manifest, last *manifest.Manifest) error {
	for _, c := range w.agent.Contents {
		before := m // of an account that has never been in force here, whatever its apply has left
		if last != nil {
			before = *last
		}
		if !c.Concerns(before) {
			continue
		}
		if err := c.Forget(ctx, m, before); err != nil {
			w.step = c.Name()
			return err
		}
	}
	return nil
}

// configure has the account's files committed together with others'.
func (w *work) configure(m manifest.Manifest, last *manifest.Manifest) (changed bool, err error) {
	told := map[string]bool{}
	for _, p := range w.agent.Programs {
		// What has nothing to do with the account here is no step of it.
		if len(p.Files(m)) > 0 || last != nil && len(p.Files(*last)) > 0 || m.Wanted == manifest.Absent && last == nil {
			told[p.Name()] = true
			w.begin(p.Name())
		}
	}
	ch := &change{
		find: func(there owned) (map[Program][]staging.Change, error) {
			return w.agent.committer.differences(m, there)
		},
		report: func(program string, detail language.Text) {
			if told[program] {
				w.tell(agentlink.Step{Name: program, State: agentlink.StepDone, Detail: detail.Encode()})
			}
		},
	}
	w.over()
	<-w.agent.slots // who waits for a commit does not work
	err = w.agent.committer.submit(ch)
	w.agent.slots <- struct{}{}
	var named *programError
	if errors.As(err, &named) {
		w.step = named.program
	}
	return len(ch.files) > 0, err
}

// programError tells which program refused.
type programError struct {
	program string
	err     error
}

func (e *programError) Error() string { return e.err.Error() }
func (e *programError) Unwrap() error { return e.err }
