// Package jobs runs the service's work in the background: what requests have
// started, and what comes round by itself. Queues and schedules are River's, in
// the same PostgreSQL as everything else; the work itself is in package service.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"victualler/internal/service"
	"victualler/internal/store"
)

// Jobs is the queue and its workers. Make one with [New].
type Jobs struct {
	client *river.Client[pgx.Tx]
}

// Queues: applies wait for servers, so many may wait at the same time;
// nothing else may wait behind them.
const (
	applyQueue  = "apply"
	serverQueue = "server"
	orderQueue  = "order"
	kitQueue    = "kit"
	fileQueue   = "file"
)

// timeout is how long one try of a job may take. A job that is still marked as running after it was
// left by a killed process. An apply may have to wait for the commits of many others on a server
// that is full of sites; whether its agent is still at it is told by the agent's signs of life.
const (
	timeout     = 2 * time.Minute
	longTimeout = 20 * time.Minute
)

// New makes the queue for a service and gives it to the service.
func New(s *store.Store, sv *service.Service, log *slog.Logger) (*Jobs, error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, long(func(ctx context.Context, j *river.Job[applyArgs]) error {
		return sv.Rollout.Apply(ctx, j.Args.AccountID)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[joinArgs]) error {
		done, err := sv.Fleet.TryJoin(ctx, j.Args.ServerID, j.Args.OperationID)
		if err == nil && !done {
			return river.JobSnooze(time.Second)
		}
		return err
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[sweepArgs]) error {
		err := sv.Rollout.Sweep(ctx, j.Args.ServerID, j.Args.OperationID, j.Args.Repair)
		if err != nil && j.Args.OperationID == 0 {
			log.Warn("sweep failed", "server", j.Args.ServerID, "reason", err)
			return river.JobCancel(err) // the next one comes round by itself
		}
		return err
	}))
	river.AddWorker(workers, long(func(ctx context.Context, j *river.Job[spreadArgs]) error {
		return sv.Rollout.RollOut(ctx, j.Args.OperationID)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[orderArgs]) error {
		again, err := sv.Certs.Order(ctx, j.Args.OrderID)
		if err == nil && again > 0 {
			return river.JobSnooze(again)
		}
		return err
	}))
	river.AddWorker(workers, long(func(ctx context.Context, j *river.Job[kitArgs]) error {
		again, err := sv.Kits.Work(ctx, j.Args.SiteKitID)
		if err == nil && again > 0 {
			return river.JobSnooze(again)
		}
		return err
	}))
	river.AddWorker(workers, long(func(ctx context.Context, j *river.Job[fileArgs]) error {
		again, err := sv.Databases.ReceiveImport(ctx, j.Args.AccountID, j.Args.Import)
		if err == nil && again > 0 {
			return river.JobSnooze(again)
		}
		return err
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[dueArgs]) error {
		return sv.Certs.OrderCertificates(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[proofArgs]) error {
		return sv.Domains.CheckProofs(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[renewalArgs]) error {
		return sv.Certs.CheckRenewals(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[noticeArgs]) error {
		return sv.Certs.NotifyExpiring(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[sendArgs]) error {
		return sv.Notify.SendMail(ctx, j.Args.MailID)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[forgottenArgs]) error {
		return sv.People.MailPasswordReset(ctx, j.Args.Name, j.Args.Address, j.Args.Request)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[endArgs]) error {
		return sv.Selling.EndExceptions(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[pollArgs]) error {
		return sv.Fleet.PollServers(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[resumeArgs]) error {
		return errors.Join(sv.Rollout.ResumeStalled(ctx), sv.Kits.Resume(ctx), sv.Databases.Resume(ctx))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[roundArgs]) error {
		return sv.Rollout.SweepServers(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[tidyArgs]) error {
		return errors.Join(sv.People.Tidy(ctx), sv.Mail.TidySessions(ctx))
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[keysArgs]) error {
		return sv.Mail.TurnSigningKeys(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[mailLogArgs]) error {
		return sv.Mail.CollectLogs(ctx)
	}))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[tidyLogArgs]) error {
		return sv.Mail.TidyLog(ctx)
	}))
	client, err := river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		Queues: map[string]river.QueueConfig{
			applyQueue:         {MaxWorkers: 192, FetchCooldown: 2 * time.Millisecond},
			serverQueue:        {MaxWorkers: 20},
			orderQueue:         {MaxWorkers: 64, FetchCooldown: 2 * time.Millisecond},
			kitQueue:           {MaxWorkers: 20, FetchCooldown: 2 * time.Millisecond},
			fileQueue:          {MaxWorkers: 10, FetchCooldown: 2 * time.Millisecond},
			river.QueueDefault: {MaxWorkers: 10},
		},
		FetchCooldown:               10 * time.Millisecond,
		JobTimeout:                  timeout,
		RescueStuckJobsAfter:        timeout + 30*time.Second,
		RetryPolicy:                 patience{},
		CompletedJobRetentionPeriod: time.Hour,
		CancelledJobRetentionPeriod: time.Hour,
		Workers:                     workers,
		Logger:                      slog.New(quiet{log.Handler()}),
		PeriodicJobs: []*river.PeriodicJob{
			every(10*time.Second, pollArgs{}),
			every(5*time.Second, resumeArgs{}),
			every(time.Minute, roundArgs{}),
			every(5*time.Second, dueArgs{}),
			every(10*time.Second, proofArgs{}),
			every(30*time.Second, renewalArgs{}),
			every(10*time.Minute, noticeArgs{}),
			every(30*time.Second, endArgs{}),
			every(time.Hour, tidyArgs{}),
			every(time.Hour, keysArgs{}),
			every(10*time.Second, mailLogArgs{}),
			every(time.Hour, tidyLogArgs{}),
		},
	})
	if err != nil {
		return nil, fmt.Errorf("job queue: %w", err)
	}
	j := &Jobs{client: client}
	sv.SetQueue(j)
	return j, nil
}

// Start works until the context ends.
func (j *Jobs) Start(ctx context.Context) error { return j.client.Start(ctx) }

// Stop lets running jobs end, at most until the context ends; then they are cut off.
func (j *Jobs) Stop(ctx context.Context) error { return j.client.StopAndCancel(ctx) }

// longWorker works on what may wait for others for long.
type longWorker[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	work func(context.Context, *river.Job[T]) error
}

func long[T river.JobArgs](work func(context.Context, *river.Job[T]) error) river.Worker[T] {
	return &longWorker[T]{work: work}
}

// Work implements river.Worker.
func (w *longWorker[T]) Work(ctx context.Context, j *river.Job[T]) error { return w.work(ctx, j) }

// Timeout implements river.Worker.
func (*longWorker[T]) Timeout(*river.Job[T]) time.Duration { return longTimeout }

type applyArgs struct {
	AccountID int64 `json:"account_id"`
}

func (applyArgs) Kind() string { return "apply" }

type joinArgs struct {
	ServerID    int64 `json:"server_id"`
	OperationID int64 `json:"operation_id"`
}

func (joinArgs) Kind() string { return "join" }

type sweepArgs struct {
	ServerID    int64 `json:"server_id"`
	OperationID int64 `json:"operation_id"`
	Repair      bool  `json:"repair"`
}

func (sweepArgs) Kind() string { return "sweep" }

type spreadArgs struct {
	OperationID int64 `json:"operation_id"`
}

func (spreadArgs) Kind() string { return "spread" }

type orderArgs struct {
	OrderID int64 `json:"order_id"`
}

func (orderArgs) Kind() string { return "order" }

type kitArgs struct {
	SiteKitID int64 `json:"site_kit_id"`
}

func (kitArgs) Kind() string { return "kit" }

type fileArgs struct {
	AccountID int64  `json:"account_id"`
	Import    string `json:"import"`
}

func (fileArgs) Kind() string { return "file" }

type dueArgs struct{}

func (dueArgs) Kind() string { return "due" }

type proofArgs struct{}

func (proofArgs) Kind() string { return "proof" }

type renewalArgs struct{}

func (renewalArgs) Kind() string { return "renewal" }

type noticeArgs struct{}

func (noticeArgs) Kind() string { return "notice" }

type sendArgs struct {
	MailID int64 `json:"mail_id"`
}

func (sendArgs) Kind() string { return "send" }

type forgottenArgs struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Request string `json:"request"`
}

func (forgottenArgs) Kind() string { return "forgotten" }

type endArgs struct{}

func (endArgs) Kind() string { return "end" }

type pollArgs struct{}

func (pollArgs) Kind() string { return "poll" }

type resumeArgs struct{}

func (resumeArgs) Kind() string { return "resume" }

type roundArgs struct{}

func (roundArgs) Kind() string { return "round" }

type tidyArgs struct{}

func (tidyArgs) Kind() string { return "tidy" }

type mailLogArgs struct{}

func (mailLogArgs) Kind() string { return "mail_log" }

type tidyLogArgs struct{}

func (tidyLogArgs) Kind() string { return "tidy_mail_log" }

type keysArgs struct{}

func (keysArgs) Kind() string { return "keys" }

// Apply implements usecase.Queue.
func (j *Jobs) Apply(ctx context.Context, tx store.Tx, accountID int64) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), applyArgs{accountID}, &river.InsertOpts{Queue: applyQueue,
		MaxAttempts: 500})
	return err
}

// Order implements usecase.Queue. One that waits for its turn is not queued twice: whoever takes up
// what was cut off cannot tell the two apart.
func (j *Jobs) Order(ctx context.Context, tx store.Tx, orderID int64) error {
	waits, err := tx.JobWaits(ctx, orderArgs{}.Kind(), orderArgs{orderID})
	if err != nil || waits {
		return err
	}
	_, err = j.client.InsertTx(ctx, tx.JobTx(), orderArgs{orderID}, &river.InsertOpts{Queue: orderQueue,
		MaxAttempts: 500})
	return err
}

// Kit implements usecase.Queue. One that waits for its turn is not queued twice.
func (j *Jobs) Kit(ctx context.Context, tx store.Tx, siteKitID int64) error {
	waits, err := tx.JobWaits(ctx, kitArgs{}.Kind(), kitArgs{siteKitID})
	if err != nil || waits {
		return err
	}
	_, err = j.client.InsertTx(ctx, tx.JobTx(), kitArgs{siteKitID}, &river.InsertOpts{Queue: kitQueue,
		MaxAttempts: 500})
	return err
}

// ReceiveImport implements usecase.Queue. One that waits for its turn is not queued twice.
func (j *Jobs) ReceiveImport(ctx context.Context, tx store.Tx, accountID int64, importID string) error {
	args := fileArgs{accountID, importID}
	waits, err := tx.JobWaits(ctx, args.Kind(), args)
	if err != nil || waits {
		return err
	}
	_, err = j.client.InsertTx(ctx, tx.JobTx(), args, &river.InsertOpts{Queue: fileQueue, MaxAttempts: 500})
	return err
}

// RollOut implements usecase.Queue.
func (j *Jobs) RollOut(ctx context.Context, tx store.Tx, operationID int64) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), spreadArgs{operationID}, &river.InsertOpts{Queue: serverQueue,
		MaxAttempts: 500})
	return err
}

// SendMail implements usecase.Queue.
func (j *Jobs) SendMail(ctx context.Context, tx store.Tx, mailID int64) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), sendArgs{mailID}, &river.InsertOpts{MaxAttempts: 20_000})
	return err
}

// MailPasswordReset implements usecase.Queue.
func (j *Jobs) MailPasswordReset(ctx context.Context, tx store.Tx, name, address, request string) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), forgottenArgs{name, address, request},
		&river.InsertOpts{MaxAttempts: 5})
	return err
}

// Join implements usecase.Queue.
func (j *Jobs) Join(ctx context.Context, tx store.Tx, serverID, operationID int64) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), joinArgs{serverID, operationID}, &river.InsertOpts{Queue: serverQueue,
		MaxAttempts: 500})
	return err
}

// Sweep implements usecase.Queue.
func (j *Jobs) Sweep(ctx context.Context, tx store.Tx, serverID, operationID int64, repair bool) error {
	_, err := j.client.InsertTx(ctx, tx.JobTx(), sweepArgs{serverID, operationID, repair},
		&river.InsertOpts{Queue: serverQueue, MaxAttempts: 500})
	return err
}

// every makes work that comes round; a round that finds the last one still
// waiting is left out.
func every(pause time.Duration, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(pause), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByPeriod: pause}}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

// patience tries again soon at first, then every 15 seconds.
type patience struct{}

// NextRetry implements river.ClientRetryPolicy.
func (patience) NextRetry(job *rivertype.JobRow) time.Time {
	return time.Now().Add(min(time.Second<<min(len(job.Errors), 4), 15*time.Second))
}

// quiet lets through what an operator of the service should see.
type quiet struct{ slog.Handler }

// Enabled implements slog.Handler.
func (q quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelError }
