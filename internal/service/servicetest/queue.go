package servicetest

import (
	"context"
	"sync"

	"github.com/stretchr/testify/require"

	"victualler/internal/service/people"
	"victualler/internal/store"
)

// Job is a piece of work that waits.
type Job struct {
	// Kind is the name of the method of usecase.Queue.
	Kind string
	// ID is the account, operation, order, message or server that it is about.
	ID int64
	// Operation is the one that ends with it, where it is told.
	Operation int64
	// Words are what else it was given.
	Words []string
}

// Queue remembers what waits. It forgets nothing that was put in it by a transaction that was
// rolled back: a preview must not put anything in it.
type Queue struct {
	mu   sync.Mutex
	jobs []Job
}

func (q *Queue) add(j Job) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.jobs = append(q.jobs, j)
	return nil
}

// Drain returns what waits, and forgets it.
func (q *Queue) Drain() []Job {
	q.mu.Lock()
	defer q.mu.Unlock()
	jobs := q.jobs
	q.jobs = nil
	return jobs
}

// Apply implements usecase.Queue.
func (q *Queue) Apply(_ context.Context, _ store.Tx, account int64) error {
	return q.add(Job{Kind: "Apply", ID: account})
}

// Join implements usecase.Queue.
func (q *Queue) Join(_ context.Context, _ store.Tx, server, operation int64) error {
	return q.add(Job{Kind: "Join", ID: server, Operation: operation})
}

// Order implements usecase.Queue.
func (q *Queue) Order(_ context.Context, _ store.Tx, order int64) error {
	return q.add(Job{Kind: "Order", ID: order})
}

// Kit implements usecase.Queue.
func (q *Queue) Kit(_ context.Context, _ store.Tx, siteKit int64) error {
	return q.add(Job{Kind: "Kit", ID: siteKit})
}

// ReceiveImport implements usecase.Queue.
func (q *Queue) ReceiveImport(_ context.Context, _ store.Tx, account int64, importID string) error {
	return q.add(Job{Kind: "ReceiveImport", ID: account, Words: []string{importID}})
}

// RollOut implements usecase.Queue.
func (q *Queue) RollOut(_ context.Context, _ store.Tx, operation int64) error {
	return q.add(Job{Kind: "RollOut", ID: operation, Operation: operation})
}

// SendMail implements usecase.Queue.
func (q *Queue) SendMail(_ context.Context, _ store.Tx, mail int64) error {
	return q.add(Job{Kind: "SendMail", ID: mail})
}

// MailPasswordReset implements usecase.Queue.
func (q *Queue) MailPasswordReset(_ context.Context, _ store.Tx, name, address, request string) error {
	return q.add(Job{Kind: "MailPasswordReset", Words: []string{name, address, request}})
}

// Sweep implements usecase.Queue.
func (q *Queue) Sweep(_ context.Context, _ store.Tx, server, operation int64, repair bool) error {
	kind := "Sweep"
	if repair {
		kind = "Repair"
	}
	return q.add(Job{Kind: kind, ID: server, Operation: operation})
}

// waits reports whether a job that wants to be done again is: a hundred times, as nobody else comes
// to its help.
func (b *Bench) waits(j Job) bool {
	if b.again == nil {
		b.again = map[int64]int{}
	}
	b.again[j.ID]++
	return b.again[j.ID] < 100
}

func eventsOf(account string) people.EventFilter { return people.EventFilter{Account: account} }

// Work does what is queued, and what that queues, but for mail and
// certificate orders, which need somebody to talk to. An apply that wants
// to be tried again is left: the test looks at what has become of it.
func (b *Bench) Work() {
	b.t.Helper()
	ctx := context.Background()
	for jobs := b.Queue.Drain(); len(jobs) > 0; jobs = b.Queue.Drain() {
		for _, j := range jobs {
			switch j.Kind {
			case "Apply":
				_ = b.Rollout.Apply(ctx, j.ID)
			case "RollOut":
				_ = b.Rollout.RollOut(ctx, j.ID)
			case "Kit":
				// It may wait for an apply that is behind it in the queue.
				again, err := b.Kits.Work(ctx, j.ID)
				require.NoError(b.t, err)
				if again > 0 && b.waits(j) {
					require.NoError(b.t, b.Queue.add(j))
				}
			case "ReceiveImport":
				_, err := b.Databases.ReceiveImport(ctx, j.ID, j.Words[0])
				require.NoError(b.t, err)
			case "Join":
				_, err := b.Fleet.TryJoin(ctx, j.ID, j.Operation)
				require.NoError(b.t, err)
			case "Sweep", "Repair":
				_ = b.Rollout.Sweep(ctx, j.ID, j.Operation, j.Kind == "Repair")
			case "MailPasswordReset":
				require.NoError(b.t, b.People.MailPasswordReset(ctx, j.Words[0], j.Words[1], j.Words[2]))
			}
		}
	}
}
