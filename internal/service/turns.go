package service

import "sync"

// turns lets one worker at a time be at something. Whoever comes meanwhile leaves it to that one, which looks once more when it is done: so what comes together is done together.
// What a process leaves undone is found by [Service.Resume].
type turns struct {
	mu sync.Mutex
	// once more, by number, of those at which somebody is.
	again map[int64]bool
}

// take reports whether the caller is the one to do it.
func (t *turns) take(number int64) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, taken := t.again[number]; taken {
		t.again[number] = true
		return false
	}
	if t.again == nil {
		t.again = map[int64]bool{}
	}
	t.again[number] = false
	return true
}

// next reports whether somebody has come meanwhile; if not, the turn is over.
func (t *turns) next(number int64) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.again[number] {
		t.again[number] = false
		return true
	}
	delete(t.again, number)
	return false
}

// end gives the turn back, whoever has come.
func (t *turns) end(number int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.again, number)
}

// atOnce works on a list, on some of it at the same time.
func atOnce[T any](most int, list []T, do func(T)) {
	var group sync.WaitGroup
	places := make(chan struct{}, most)
	for _, one := range list {
		places <- struct{}{}
		group.Go(func() {
			defer func() { <-places }()
			do(one)
		})
	}
	group.Wait()
}
