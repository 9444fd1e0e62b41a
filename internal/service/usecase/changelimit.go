package usecase

import (
	"context"
	"fmt"
	"sync"
)

// changeLimiter bounds how many changes each customer, reseller and operator has in progress at the
// same time; the others wait. Else somebody whose changes wait for each other would hold all
// connections to the database, and everybody else would wait, too.
type changeLimiter struct {
	most int

	mu    sync.Mutex
	slots map[string]*changeSlots
}

// changeSlots are those of one of them.
type changeSlots struct {
	taken chan struct{}
	// users are those that have a slot or wait for one.
	users int
}

// newChangeLimiter leaves half of a number of connections to others, whoever it is.
func newChangeLimiter(connections int) *changeLimiter {
	return &changeLimiter{most: max(connections/2, 1), slots: map[string]*changeSlots{}}
}

// acquire waits for a slot, which release gives back. An error is the context's.
func (l *changeLimiter) acquire(ctx context.Context, a Actor) (release func(), err error) {
	whose := slotKey(a)
	l.mu.Lock()
	s := l.slots[whose]
	if s == nil {
		s = &changeSlots{taken: make(chan struct{}, l.most)}
		l.slots[whose] = s
	}
	s.users++
	l.mu.Unlock()
	leave := func() {
		l.mu.Lock()
		if s.users--; s.users == 0 {
			delete(l.slots, whose)
		}
		l.mu.Unlock()
	}
	select {
	case s.taken <- struct{}{}:
		return func() { <-s.taken; leave() }, nil
	case <-ctx.Done():
		leave()
		return nil, ctx.Err()
	}
}

// slotKey tells whose slots an actor takes. People of one customer or
// reseller wait for each other in the records anyway.
func slotKey(a Actor) string {
	switch {
	case a.CustomerID != 0:
		return fmt.Sprint("customer ", a.CustomerID)
	case a.ResellerID != 0:
		return fmt.Sprint("reseller ", a.ResellerID)
	}
	return fmt.Sprint("person ", a.PersonID)
}
