package usecase

import (
	"sync"
)

// Coalescer lets one worker at a time be at something. Whoever comes meanwhile leaves it to that
// one, which looks once more when it is done: so what comes together is done together. What a
// process leaves undone is found by [Service.Resume].
type Coalescer struct {
	mu sync.Mutex
	// once more, by number, of those at which somebody is.
	repeat map[int64]bool
}

// Begin reports whether the caller is the one to do it.
func (t *Coalescer) Begin(number int64) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, taken := t.repeat[number]; taken {
		t.repeat[number] = true
		return false
	}
	if t.repeat == nil {
		t.repeat = map[int64]bool{}
	}
	t.repeat[number] = false
	return true
}

// Continue reports whether somebody has come meanwhile; if not, the turn is over.
func (t *Coalescer) Continue(number int64) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.repeat[number] {
		t.repeat[number] = false
		return true
	}
	delete(t.repeat, number)
	return false
}

// End gives the turn back, whoever has come.
func (t *Coalescer) End(number int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.repeat, number)
}
