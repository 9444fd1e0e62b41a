package rollout

import (
	"maps"
	"slices"
	"strconv"
	"sync"

	"victualler/internal/service/usecase"
)

// hub wakes those who watch an operation, or all of them. Who is woken reads the operation again,
// so nothing is lost when a message is.
type hub struct {
	mu       sync.Mutex
	watchers map[int64]map[chan struct{}]bool
	// done are the steps of operations being watched that this process itself has seen end, before
	// they are in the records.
	done       map[int64]map[string]bool
	collectors map[*collector]bool
}

func newHub() *hub {
	return &hub{watchers: map[int64]map[chan struct{}]bool{}, done: map[int64]map[string]bool{},
		collectors: map[*collector]bool{}}
}

// collector gathers the numbers of operations that have changed, for somebody who looks now and
// then.
type collector struct {
	hub     *hub
	changed map[int64]bool
}

// mostCollected bounds what one collector gathers between two looks. What is beyond it is seen
// with a page's next look at its list.
const mostCollected = 1000

// collect begins to gather; stop ends it.
func (h *hub) collect() *collector {
	c := &collector{hub: h, changed: map[int64]bool{}}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.collectors[c] = true
	return c
}

func (c *collector) stop() {
	c.hub.mu.Lock()
	defer c.hub.mu.Unlock()
	delete(c.hub.collectors, c)
}

// drain returns what has been gathered since it was asked last.
func (c *collector) drain() []int64 {
	c.hub.mu.Lock()
	defer c.hub.mu.Unlock()
	ids := slices.Collect(maps.Keys(c.changed))
	clear(c.changed)
	return ids
}

// watch returns a channel that gets a value after each change.
func (h *hub) watch(operation int64) (changed <-chan struct{}, stop func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[operation] == nil {
		h.watchers[operation] = map[chan struct{}]bool{}
	}
	h.watchers[operation][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers[operation], c)
		if len(h.watchers[operation]) == 0 {
			delete(h.watchers, operation)
			delete(h.done, operation)
		}
	}
}

// stepDone tells those who watch these operations that a step has been done.
func (h *hub) stepDone(operations []int64, step string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range operations {
		if len(h.watchers[id]) == 0 {
			continue
		}
		if h.done[id] == nil {
			h.done[id] = map[string]bool{}
		}
		h.done[id][step] = true
		for c := range h.watchers[id] {
			usecase.Wake(c)
		}
	}
}

// isDone reports whether a step of an operation is known to have been done since somebody watches.
func (h *hub) isDone(operation int64, step string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.done[operation][step]
}

func (h *hub) notify(payload string) {
	operation, err := strconv.ParseInt(payload, 10, 64)
	if err != nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.watchers[operation] {
		usecase.Wake(c)
	}
	for c := range h.collectors {
		if len(c.changed) < mostCollected {
			c.changed[operation] = true
		}
	}
}

func (h *hub) wakeAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, watchers := range h.watchers {
		for c := range watchers {
			usecase.Wake(c)
		}
	}
}
