// Package agents is how agents and the service talk: an agent asks for frames with a
// long poll, renews what it holds with heartbeats, and hands in pictures and results. Who
// gets which frame, and what a late answer changes, is package queue's.
package agents

import (
	"context"
	"time"

	"github.com/google/uuid"

	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/queue"
	"rotanex.example/service/samples"
	"rotanex.example/service/store"
)

// Agents talks with them.
type Agents struct {
	store   *store.Store
	clock   clock.Clock
	feed    *events.Feed
	queue   *queue.Queue
	samples *samples.Samples

	inputs wantedInputs
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, q *queue.Queue, m *samples.Samples) *Agents {
	return &Agents{store: s, clock: c, feed: f, queue: q, samples: m}
}

// look is how often a waiting agent's question is asked again without a wake-up.
const look = 4 * time.Second

// lease waits until there are frames for the host, the agent's patience ends or the
// request does.
func (a *Agents) lease(ctx context.Context, host string, boot uuid.UUID, held []queue.Held, patience time.Duration) ([]queue.Lease, error) {
	until := a.clock.WallNow().Add(patience)
	for {
		woken := a.feed.Wait(events.Work)
		leases, next, err := a.queue.Grant(ctx, host, boot, held)
		left := until.Sub(a.clock.WallNow())
		if err != nil || len(leases) > 0 || left <= 0 {
			return leases, err
		}
		left = min(left, look)
		if !next.IsZero() {
			left = min(left, max(0, a.clock.Real(next.Sub(a.clock.Now())))+time.Millisecond)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-woken:
		case <-a.clock.After(left):
		}
	}
}
