// Package jobs carries out what no request waits for: calls to outside systems, such as
// sources, which may be slow, fail, or be cut off, and long computations. A job is sent in the transaction of the change it
// belongs to, rides on River, and is carried out at least once, by any service.
// It therefore has to be harmless to repeat. Until it counts as done the same job is
// not sent a second time: what it has to find has to be there when it is first sent, or
// somebody has to send it again by the clock, as sweeps do.
package jobs

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivertype"
	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// Real time of jobs: a call that takes longer than most, or a computation that takes
// longer than Longest, is cut off; one whose service died is taken up again by it when it
// is back, or by another service after that time and a little more.
const (
	most    = 2 * time.Minute
	Longest = 30 * time.Minute
	rescue  = most + 30*time.Second
	rest    = 30 * time.Second // the longest between two tries
)

// Queues of their own have long computations, of which each service does a few at once, and what may send or fetch much.
const computing, transfers = "computing", "transfers"

// Job is something to be done about one thing.
type Job struct {
	What string `json:"what"` // who does it, such as "server"
	ID   string `json:"id"`   // of the thing
}

// Kind implements river.JobArgs.
func (Job) Kind() string { return "call" }

// KindAliases implements river.JobArgsWithKindAliases: what jobs were called before.
func (Job) KindAliases() []string { return []string{"errand"} }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (Job) InsertOpts() river.InsertOpts { return once() }

func once() river.InsertOpts {
	return river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled,
	}}}
}

// Doer carries a job out. After an error it is tried again, later and later.
type Doer func(ctx context.Context, id string) error

// Jobs sends them and has them done.
type Jobs struct {
	store  *store.Store
	client *river.Client[*sql.Tx]
	doers  map[string]Doer
	queues map[string]string // of doers, those that do not share the usual queue
	name   string
}

// Config is how jobs are carried out.
type Config struct {
	// Name tells this service from others over the same database, and is the same after
	// a restart.
	Name string
	// Computing is how many computations this service does at once; default 1.
	Computing int
}

// unknownFor is for how long a job of a kind that this service does not know is left for a newer one.
const unknownFor = 7 * 24 * time.Hour

type worker struct {
	river.WorkerDefaults[Job]
	e *Jobs
}

// Timeout implements river.Worker.
func (w worker) Timeout(job *river.Job[Job]) time.Duration {
	if w.e.queues[job.Args.What] == computing {
		return Longest
	}
	return most
}

// Work implements river.Worker.
func (w worker) Work(ctx context.Context, job *river.Job[Job]) error {
	do := w.e.doers[job.Args.What]
	if do == nil {
		// It is for a newer service: this one leaves it alone, unless nobody has done it for long.
		if time.Since(job.CreatedAt) > unknownFor {
			return river.JobCancel(fmt.Errorf("nobody does jobs of kind %q", job.Args.What))
		}
		return river.JobSnooze(rest)
	}
	if err := do(ctx, job.Args.ID); err != nil {
		// It rests rather than fails: there is no number of tries after which a server may
		// be forgotten. Who did it has said what went wrong.
		var before struct {
			Snoozes int `json:"snoozes"`
		}
		_ = json.Unmarshal(job.Metadata, &before)
		return river.JobSnooze(min(rest, time.Duration(before.Snoozes+1)*time.Second))
	}
	return nil
}

// New makes it, over River's tables, which the store has brought up to date.
func New(s *store.Store, c Config, log *slog.Logger) (*Jobs, error) {
	e := &Jobs{store: s, doers: map[string]Doer{}, queues: map[string]string{}, name: c.Name}
	db, err := s.DB.DB()
	if err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, worker{e: e})
	e.client, err = river.NewClient(riverdatabasesql.New(db), &river.Config{
		ID: c.Name, Logger: slog.New(quiet{log.Handler()}), Workers: workers, JobTimeout: most, RescueStuckJobsAfter: rescue,
		CompletedJobRetentionPeriod: 10 * time.Minute, FetchPollInterval: 200 * time.Millisecond, FetchCooldown: 50 * time.Millisecond,
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 16}, computing: {MaxWorkers: max(1, c.Computing)}, transfers: {MaxWorkers: 16}},
	})
	return e, err
}

// quiet lets through what is worse than a failed try: those the doers log themselves.
type quiet struct{ slog.Handler }

// Enabled implements slog.Handler.
func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelError && q.Handler.Enabled(ctx, level)
}

// On says who does a kind of job; before Start.
func (e *Jobs) On(what string, do Doer) { e.doers[what] = do }

// OnLong is On for a kind that computes, and may take up to Longest. Of all such kinds
// together no more are done at once than the config says, so that calls are never behind
// them.
func (e *Jobs) OnLong(what string, do Doer) { e.doers[what], e.queues[what] = do, computing }

// OnSlow is On for a kind that may send or fetch much, so that nothing else, such as a server that is to be stopped, waits
// behind it.
func (e *Jobs) OnSlow(what string, do Doer) { e.doers[what], e.queues[what] = do, transfers }

// Start begins to carry jobs out. What this service was doing when it died
// before is done again at once.
func (e *Jobs) Start(ctx context.Context) error {
	if err := freeOwn(e.store.WithContext(ctx), e.name); err != nil {
		return err
	}
	return e.client.Start(ctx)
}

// Stop waits until what is under way is done or ctx ends, and cuts it off then.
func (e *Jobs) Stop(ctx context.Context) error { return e.client.StopAndCancel(ctx) }

// Send sends a job in a transaction: it is carried out only if that is committed.
func (e *Jobs) Send(ctx context.Context, tx *gorm.DB, what, id string) error {
	under, ok := tx.Statement.ConnPool.(*sql.Tx)
	if !ok {
		return errors.New("a job is sent within a transaction only")
	}
	options := once()
	if queue := e.queues[what]; queue != "" {
		options.Queue = queue
	}
	_, err := e.client.InsertTx(ctx, under, Job{what, id}, &options)
	return err
}
