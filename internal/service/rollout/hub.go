package rollout

import (
	"strconv"
	"sync"

	"victualler/internal/service/usecase"
)

// hub wakes those who watch an operation. It carries no data: who is woken
// reads the operation again, so nothing is lost when a message is.
type hub struct {
	mu       sync.Mutex
	watchers map[int64]map[chan struct{}]bool
}

func newHub() *hub { return &hub{watchers: map[int64]map[chan struct{}]bool{}} }

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
		}
	}
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
