// Package runs carries plans out: it begins runs with their frames, bookings, servers
// and jobs, changes, pauses and closes them, and says how they stand and what they cost.
// Frames are leased and taken in by package queue.
package runs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/replan"
	"rotanex.example/providers"
	"rotanex.example/service/accounts"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Kinds of runs.
const (
	KindRun   = "run"
	KindTrial = "trial"
)

// Run is the record of one.
type Run struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Kind      string
	PlanID    *uuid.UUID
	Request   []byte
	State     states.Run
	Tries     int
	CreatedAt time.Time
	EndedAt   *time.Time

	Cap          *string // what servers, farms and seats may cost at most
	AcceptProofs bool    // of farms, by check alone
	Priority     dispatch.Priority
	Policy       replan.Policy // how far it is planned anew by itself
	Deadline     *time.Time    // where it was moved since it was planned
	Chained      bool          // some of its shots need the frames of others
	Alerted      int           // the share of the cap that was passed last, in percent
}

// Ended implements settled.Run.
func (r Run) Ended() (uuid.UUID, *time.Time) { return r.ID, r.EndedAt }

// Shot is a shot as it was when the run began.
type Shot struct {
	RunID uuid.UUID  `gorm:"primaryKey"`
	Shot  string     `gorm:"primaryKey"`
	Spec  shots.Spec `gorm:"serializer:json"`

	Package []providers.PackageFile `gorm:"serializer:json"` // its files as they were then
}

// TableName is GORM's hook.
func (Shot) TableName() string { return "run_shots" }

// Config is what runs need of the service. All of it is wanted.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Queue    *queue.Queue // of which runs are begun and ended
	Standing *standing.Standing
	Accounts *accounts.Accounts
	Sources  *sources.Sources
	Log      *slog.Logger
	Policy   replan.Policy // of runs that are begun without one; default replan.Auto
}

// Runs looks after them.
type Runs struct {
	store    *store.Store
	clock    clock.Clock
	feed     *events.Feed
	queue    *queue.Queue
	standing *standing.Standing
	accounts *accounts.Accounts
	sources  *sources.Sources
	log      *slog.Logger
	policy   replan.Policy
	shown    *shown

	// TrialFrameDone is called after a frame of a trial is done, if set.
	TrialFrameDone func(ctx context.Context, run uuid.UUID) error
}

// New makes it.
func New(c Config) *Runs {
	out := &Runs{shown: newShown(c.Store, c.Clock), store: c.Store, clock: c.Clock, feed: c.Feed, queue: c.Queue, standing: c.Standing, accounts: c.Accounts, sources: c.Sources, log: c.Log, policy: cmp.Or(c.Policy, replan.Auto)}
	c.Queue.Ended = out.tryEnded
	return out
}

// Fresh has runs shown with what was changed until now.
func (q *Runs) Fresh() { q.shown.Fresh() }

// Settle writes down what a run is shown as, if it is over with its meters closed.
func (q *Runs) Settle(ctx context.Context, id uuid.UUID) error {
	_, err := q.shownAs(ctx, id)
	return err
}

func kindOf(kind string) events.Kind {
	if kind == KindTrial {
		return events.Trial
	}
	return events.Run
}

// Find finds a run.
func (q *Runs) Find(ctx context.Context, id uuid.UUID) (Run, error) {
	var run Run
	err := q.store.WithContext(ctx).Take(&run, "id = ? AND kind IN ('run', 'trial')", id).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", id))
	}
	return run, err
}

// change changes a run under its lock and tells of it, with what do says was the cause.
func (q *Runs) change(ctx context.Context, id uuid.UUID, do func(tx *gorm.DB, run *Run) (cause string, err error)) error {
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		run, err := lock(tx, id)
		if err == nil && run.ID == uuid.Nil {
			err = httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", id))
		}
		if err != nil {
			return err
		}
		cause, err := do(tx, &run)
		if err != nil {
			return err
		}
		return q.feed.Write(tx, events.Event{Kind: kindOf(run.Kind), Run: id.String(), State: string(run.State), Cause: cause})
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// SetState pauses, resumes or cancels a run. To resume one is to let every crew have its
// frames again, also those that got no more of them: whoever resumes has fixed what was
// wrong. One that is incomplete tries its failed frames again, as if they had not failed.
// Paused and cancelled runs grant no leases; what is being rendered for a cancelled one is
// given up.
func (q *Runs) SetState(ctx context.Context, id uuid.UUID, state states.Run) error {
	return q.change(ctx, id, func(tx *gorm.DB, run *Run) (string, error) {
		was := run.State
		run.State = state
		var ended *time.Time
		var err error
		switch {
		case was == state:
			return "", nil
		case was == states.RunIncomplete && state == states.RunRunning:
			err = queue.TryAgain(tx, id)
		case !was.Open():
			err = httpapi.Conflict(fmt.Sprintf("the run is %s, which is final; a new plan of its shots keeps the frames that are done", was))
		case state == states.RunRunning:
			err = bookings.Reopen(tx, id)
		case state == states.RunCancelled:
			now := q.clock.Now()
			ended = &now
			err = errors.Join(queue.Revoke(tx, id, now), bookings.SetOpen(tx, false, id))
		}
		if err != nil {
			return "", err
		}
		return "", setState(tx, id, state, ended)
	})
}

// SetPriority lets a run come before others on its hosts, or after them, from its crews'
// next frames on; or at once: what less urgent runs render in its way is given back.
func (q *Runs) SetPriority(ctx context.Context, id uuid.UUID, p dispatch.Priority, atOnce bool) error {
	return q.change(ctx, id, func(tx *gorm.DB, run *Run) (string, error) {
		if run.Kind != KindRun || !run.State.Open() {
			return "", httpapi.Conflict(fmt.Sprintf("run %s is %s: nothing of it is left to come first", id.String()[:8], run.State))
		}
		err := setPriority(tx, id, p)
		if err == nil && atOnce {
			_, err = q.queue.MakeRoom(tx, id)
		}
		return "priority " + p.String(), err
	})
}

// SetPolicy says how far a run is planned anew by itself.
func (q *Runs) SetPolicy(ctx context.Context, id uuid.UUID, p replan.Policy) error {
	return q.change(ctx, id, func(tx *gorm.DB, run *Run) (string, error) {
		if run.Kind != KindRun || !run.State.Open() {
			return "", httpapi.Conflict(fmt.Sprintf("run %s is %s: nothing of it is left to plan", id.String()[:8], run.State))
		}
		return "policy " + string(p), setPolicy(tx, id, p)
	})
}

// SetDeadline moves the deadline of all shots of a run.
func (q *Runs) SetDeadline(ctx context.Context, id uuid.UUID, by time.Time) error {
	return q.change(ctx, id, func(tx *gorm.DB, run *Run) (string, error) {
		switch now := q.clock.Now(); {
		case run.Kind != KindRun || !run.State.Open():
			return "", httpapi.Conflict(fmt.Sprintf("run %s is %s: it has no deadline to move any more", id.String()[:8], run.State))
		case run.Priority == dispatch.Backlog:
			return "", httpapi.Conflict(fmt.Sprintf("run %s is of the backlog, which has no deadline; rotanex runs priority %s normal first", id.String()[:8], id.String()[:8]))
		case !by.After(now):
			return "", httpapi.BadField("/deadline", by.UTC().Format(time.RFC3339), fmt.Sprintf("is past: it is %s now", now.UTC().Format(time.RFC3339)))
		}
		return "deadline " + by.UTC().Format(time.RFC3339), setDeadline(tx, id, by)
	})
}

// Running lists the runs that carry plans out now.
func (q *Runs) Running(ctx context.Context) (out []Run, err error) {
	return out, q.store.WithContext(ctx).Where("kind = ? AND state = ?", KindRun, states.RunRunning).Order("created_at, id").Find(&out).Error
}

// GoesBy is the plan that a run goes by now.
func (q *Runs) GoesBy(ctx context.Context, run Run) (uuid.UUID, error) {
	plan, found, err := latestPlan(q.store.WithContext(ctx), run.ID)
	if err != nil || found {
		return plan, err
	}
	return *run.PlanID, nil
}
