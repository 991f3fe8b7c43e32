package app

import (
	"context"
	"errors"
	"sync"
	"time"

	"rotanex.example/service/alerts"
	"rotanex.example/service/clock"
	"rotanex.example/service/flicker"
	"rotanex.example/service/loops"
	"rotanex.example/service/previews"
	"rotanex.example/service/queue"
	"rotanex.example/service/settled"
)

// tick is how often the service looks at what time brings about.
const tick = 500 * time.Millisecond

// work is what the service does by itself, each in a loop of its own. Any number of services may do so at once.
func (s *Service) work(wait *leniency) []loops.Work {
	all := []loops.Work{
		{Name: "leases", Every: tick, Within: 10 * time.Second, Do: func(ctx context.Context) error {
			now := s.clock.WallNow()
			err := errors.Join(s.farms.Renew(ctx), s.queue.Sweep(ctx, wait.lenient(now)))
			if err != nil {
				wait.failed(now)
			}
			return err
		}},
		{Name: "servers", Every: tick, Within: 30 * time.Second, Do: func(ctx context.Context) error {
			return s.rental.Sweep(ctx, wait.lenient(s.clock.WallNow()))
		}},
		{Name: "runs", Every: tick, Within: 30 * time.Second, Do: s.runs.Sweep},
		{Name: "farms", Every: tick, Within: 30 * time.Second, Do: s.farms.Sweep},
		{Name: "sweeps", Every: tick, Within: 30 * time.Second, Do: s.sweeps.Advance},
		{Name: "schedules", Every: 2 * time.Second, Within: 30 * time.Second, Do: s.schedule.Sweep},
		{Name: "what is to be told", Every: 2 * time.Second, Within: 30 * time.Second, Do: s.notify.Sweep},
		{Name: "money", Every: 5 * time.Second, Within: 30 * time.Second, Do: alerts.New(s.store, s.clock, s.feed, s.runs, s.accounts, s.config.Log).Sweep},
		{Name: "what runs came to", Every: time.Minute, Within: 50 * time.Second, Do: settled.NewSweeper(s.store, s.clock, s.runs.Settle, s.accounts.Settle).Sweep},
		{Name: "when runs ended", Every: time.Minute, Within: 50 * time.Second, Do: s.endings.Sweep},
		{Name: "previews", Every: previews.Every, Within: 30 * time.Second, Do: previews.New(s.store, s.pictures, s.config.Log).Sweep},
		{Name: "flicker", Every: flicker.Every, Within: time.Minute, Do: flicker.New(s.store, s.clock, s.pictures, s.accounts.Tallies(), s.config.Log).Sweep},
		{Name: "samples", Every: 10 * time.Minute, Within: 5 * time.Minute, Do: s.samples.Thin},
		{Name: "what is old", Every: 30 * time.Minute, Within: 10 * time.Minute, Do: s.storage.Sweep},
		{Name: "runs that were not begun", Every: 30 * time.Minute, Within: time.Minute, Do: s.removal.Sweep},
		{Name: "computations", Every: 10 * time.Minute, Within: 5 * time.Minute, Do: s.computations.Sweep},
	}
	if follows := s.config.following; follows != nil {
		all = append(all, loops.Work{Name: "clock", Every: time.Minute, Within: 10 * time.Second, Do: func(ctx context.Context) error { return follows.Ask(ctx, s.store.Now) }})
	}
	return all
}

// leniency is until when leases are left alone: after the service was away, or stood still, agents first get the time to
// renew what they could not.
type leniency struct {
	mu    sync.Mutex
	until time.Time // by the wall clock
	awake time.Time // by the machine's own, at the last sign of it
}

const (
	// breath is how often the service looks whether it stood still.
	breath = time.Second
	// still is for how long it has to be stopped for agents to be given time.
	still = 4 * time.Second
	// renewing is how long agents take to renew leases once they are answered again.
	renewing = 2 * queue.Beat
)

func newLeniency(now time.Time) *leniency {
	return &leniency{until: now.Add(queue.LeaseLife), awake: time.Now()}
}

// watch notices when the service was stopped, or its machine, until the context ends.
func (l *leniency) watch(ctx context.Context, clock clock.Clock) {
	breaths := time.NewTicker(breath)
	defer breaths.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-breaths.C:
			l.lenient(clock.WallNow())
			l.mu.Lock()
			l.awake = time.Now()
			l.mu.Unlock()
		}
	}
}

// lenient reports whether leases are left alone.
func (l *leniency) lenient(now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	// A stopped process is seen by the monotonic clock, a machine that slept by the wall clock.
	if at := time.Now(); at.Sub(l.awake) > still || at.Round(0).Sub(l.awake.Round(0)) > still {
		l.extend(now.Add(queue.LeaseLife))
	}
	return now.Before(l.until)
}

// failed gives agents time after a look at leases that failed: what the database did not answer, they could not renew
// either.
func (l *leniency) failed(now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.extend(now.Add(renewing))
}

func (l *leniency) extend(until time.Time) {
	if until.After(l.until) {
		l.until = until
	}
}
