// Package queue holds the frames of all runs and trials: it grants leases on them to agents
// and farms, takes frames in, and keeps every try. It knows no plans and no money. The rule
// is core/dispatch's; what crews are booked for, and seats, are bookings' and licences'.
//
// What it guarantees: a frame is leased to at most one agent at a time, and is done
// exactly once, when its checked picture is stored. Whatever dies, a lease that is not
// renewed ends, and its frame waits again. An answer that comes after that carries an
// old fence number and changes nothing.
//
//	blocked → waiting, once the frames that it needs are done
//	waiting → rendering → done
//	   ↑          ↓
//	   └── failed try, lost agent, given back        → failed (after Tries)
package queue

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/licences"
	"rotanex.example/service/pictures"
	"rotanex.example/service/store"
	"rotanex.example/service/turn"
)

// Real time of leases: LeaseLife is how long one lasts without being renewed,
// Beat how often agents renew.
const (
	LeaseLife   = 15 * time.Second
	Beat        = 3 * time.Second
	straysEvery = 30 // sweeps to a look for what no start would come to any more
)

// State of a frame.
type State string

// States of frames.
const (
	Waiting   State = "waiting"
	Blocked   State = "blocked" // waits for the frames of others; it is told as one that waits
	Rendering State = "rendering"
	Done      State = "done"
	Failed    State = "failed"
)

// Queue looks after frames and their leases.
type Queue struct {
	store    *store.Store
	clock    clock.Clock
	feed     *events.Feed
	pictures *pictures.Pictures
	files    framefiles.Files
	log      *slog.Logger
	crowds   *bookings.Crowds
	sweeps   atomic.Int64

	// Ended is called after a try of a frame has ended: with its run and shot, and whether
	// the run is a trial.
	Ended func(ctx context.Context, run uuid.UUID, shot string, trial bool) error
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, p *pictures.Pictures, log *slog.Logger) *Queue {
	return &Queue{store: s, clock: c, feed: f, pictures: p, files: framefiles.Files{Store: s, Pictures: p}, log: log, crowds: bookings.NewCrowds(), Ended: func(context.Context, uuid.UUID, string, bool) error { return nil }}
}

// Sweep does what time brings about: leases that were not renewed end, and seats that
// nobody keeps are free. Any number of services may do so at once.
//
// With lenient set leases are left alone, but for those of agents that were dead before: after the service or the
// database was away, agents first get the time to renew what they could not.
func (q *Queue) Sweep(ctx context.Context, lenient bool) error {
	tx := q.store.WithContext(ctx)
	freed, err := licences.ReturnUnused(tx, q.clock.WallNow(), turn.Of(tx, q.clock, q.crowds, "").Known)
	if freed {
		q.feed.Wake(events.Work)
	}
	return errors.Join(q.expire(ctx, lenient), err)
}

// Look begins a look at what the rule says of frames as they stand, without leasing any.
func (q *Queue) Look(tx *gorm.DB) *turn.Look { return turn.NewLook(tx, q.clock, q.crowds) }
