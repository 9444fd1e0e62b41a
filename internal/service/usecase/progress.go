package usecase

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Wake lets whoever waits on c look again; c has room for one.
func Wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Progress writes the steps of operations down as they happen, beside the work
// itself, which must not wait for the database. It also shows that the work is alive.
type Progress struct {
	service *Base
	ids     []int64

	mu      sync.Mutex
	order   []string // names of steps, in the order in which they are listed
	pending map[string]agentlink.Step
	text    *string

	wake    chan struct{}
	stop    chan struct{}
	stopped chan struct{}
	once    sync.Once
}

// heartbeat is how often work in progress shows that it is alive; work that
// has not for [stalledAfter] is taken up by another process.
const (
	heartbeat    = 5 * time.Second
	StalledAfter = 20 * time.Second
)

// Between two writes is a pause, as each costs the database as much as the work itself does with
// it: a part of the time that the work has taken by then, as who waits long looks less closely.
const (
	leastPause = 100 * time.Millisecond
	mostPause  = time.Second
	pausePart  = 3
)

// StartProgress begins to write down the steps of operations. The caller ends it with
// [Progress.Close].
func (s *Base) StartProgress(ids ...int64) *Progress {
	p := &Progress{service: s, ids: ids, pending: map[string]agentlink.Step{}, wake: make(chan struct{}, 1),
		stop: make(chan struct{}), stopped: make(chan struct{})}
	p.Note(language.Text{})
	go p.run()
	return p
}

// Step tells a step's state.
func (p *Progress) Step(step agentlink.Step) {
	p.mu.Lock()
	if !slices.Contains(p.order, step.Name) {
		p.order = append(p.order, step.Name)
	}
	p.pending[step.Name] = step
	p.mu.Unlock()
	Wake(p.wake)
}

// Expect tells steps in the order in which they come, before they do: else they are listed as they
// come, and those of work that is taken up again come first.
func (p *Progress) Expect(steps ...string) {
	p.mu.Lock()
	p.order = append(p.order, steps...)
	p.mu.Unlock()
}

// Note tells what the work waits for; an empty text, for nothing.
func (p *Progress) Note(text language.Text) {
	kept := text.Encode()
	p.mu.Lock()
	p.text = &kept
	p.mu.Unlock()
	Wake(p.wake)
}

// Close writes what is still to be written, and ends.
func (p *Progress) Close() {
	p.once.Do(func() { close(p.stop) })
	<-p.stopped
}

func (p *Progress) run() {
	defer close(p.stopped)
	begun := time.Now()
	written := map[string]agentlink.Step{}
	note := ""
	for {
		over := false
		select {
		case <-p.wake:
		case <-time.After(heartbeat):
		case <-p.stop:
			over = true
		}
		p.mu.Lock()
		var steps []agentlink.Step
		var positions []int32
		for i, name := range p.order {
			if step, begun := p.pending[name]; begun && written[name] != step {
				steps, positions = append(steps, step), append(positions, int32(i))
			}
		}
		if p.text != nil {
			note = *p.text
		}
		p.mu.Unlock()
		if err := p.write(note, steps, positions); err != nil {
			p.service.Log.Warn("progress not written", "operations", p.ids, "reason", err)
		} else {
			for _, step := range steps {
				written[step.Name] = step
			}
		}
		if over {
			return
		}
		select {
		case <-time.After(min(max(time.Since(begun)/pausePart, leastPause), mostPause)):
		case <-p.stop:
		}
	}
}

func (p *Progress) write(note string, steps []agentlink.Step, positions []int32) error {
	if len(p.ids) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return p.service.Store.InTx(ctx, func(tx store.Tx) error {
		// Progress may be lost in a crash: the work itself is what is made sure of.
		if err := tx.RelaxDurability(ctx); err != nil {
			return err
		}
		if err := tx.TouchOperations(ctx, db.TouchOperationsParams{Ids: p.ids, Note: note}); err != nil {
			return err
		}
		var rows []db.SaveStepsParams
		for i, step := range steps {
			rows = append(rows, db.SaveStepsParams{Ids: p.ids, Position: positions[i], Name: step.Name,
				State: string(step.State), Detail: step.Detail})
		}
		var errs []error
		tx.SaveSteps(ctx, rows).Exec(func(_ int, err error) { errs = append(errs, err) })
		if err := errors.Join(errs...); err != nil {
			return err
		}
		return tx.NotifyOperation(ctx, p.ids)
	})
}
