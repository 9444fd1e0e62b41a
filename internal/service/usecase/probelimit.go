package usecase

import (
	"sync"
	"time"

	"golang.org/x/time/rate"

	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
)

// What somebody may have the service ask of other people's servers: so
// many questions in a row, then one in so long.
const (
	questionsInARow = 30
	questionEvery   = 10 * time.Second
)

// ProbeLimiter counts the questions to the world of each person, so that nobody uses the service to
// pester others. Each process counts for itself.
type ProbeLimiter struct {
	mu sync.Mutex
	of map[int64]*rate.Limiter
}

// Allow counts a question: a rehearsal, an order, a check of a zone.
// Operators are not bound: they look after everybody's.
func (o *ProbeLimiter) Allow(a Actor, now time.Time) error {
	if a.Role == rights.Operator {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == nil {
		o.of = map[int64]*rate.Limiter{}
	}
	if len(o.of) > 1000 {
		for person, l := range o.of {
			if l.TokensAt(now) >= questionsInARow {
				delete(o.of, person)
			}
		}
	}
	l := o.of[a.PersonID]
	if l == nil {
		l = rate.NewLimiter(rate.Every(questionEvery), questionsInARow)
		o.of[a.PersonID] = l
	}
	if l.AllowN(now, 1) {
		return nil
	}
	missing := 1 - l.TokensAt(now)
	r := refusal.New(refusal.TooManyTries,
		"too many questions to other people's servers in a row; ask again in some seconds")
	r.After = (time.Duration(missing * float64(questionEvery))).Round(time.Second) + time.Second
	return r
}
