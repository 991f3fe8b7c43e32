// Package agents is how agents and the service talk: an agent asks for frames with a
// long poll, renews what it holds with heartbeats, and hands in pictures and results. Who
// gets which frame, and what a late answer changes, is package queue's.
package agents

import (
	"context"
	"log/slog"
	"time"

	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/gather"
	"rotanex.example/service/hosts"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/samples"
	"rotanex.example/service/store"
	"rotanex.example/service/turn"
)

// Config is what Agents works with.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Queue    *queue.Queue
	Pictures *pictures.Pictures
	Samples  *samples.Samples
	Hosts    *hosts.Hosts
	Log      *slog.Logger
}

// Agents talks with them.
type Agents struct {
	Config
	inputs wantedInputs
	beats  *gather.Gather[queue.Holding, heard]
}

// New makes it.
func New(c Config) *Agents {
	a := &Agents{Config: c}
	a.beats = gather.New(together, beatsAtOnce, hearing, a.hear)
	return a
}

// look is how often a waiting agent's question is asked again without a wake-up, and lookIdle where nothing is booked on its host.
const (
	look     = 4 * time.Second
	lookIdle = 20 * time.Second
)

// silence is for how long an agent that waits for frames may say nothing.
const silence = 2*queue.Beat + 2*time.Second

// silent reports whether an agent that asked at a time has been silent since for too long.
func (a *Agents) silent(ctx context.Context, host string, asked time.Time) (bool, error) {
	now := a.Clock.WallNow()
	if now.Sub(asked) < silence {
		return false, nil
	}
	heard, err := hosts.HeardAt(a.Store.WithContext(ctx), host)
	return now.Sub(heard) >= silence, err
}

// lease waits until there are frames for the host, the agent's patience ends or the
// request does.
func (a *Agents) lease(ctx context.Context, of queue.Holding, patience time.Duration) ([]turn.Lease, error) {
	asked := a.Clock.WallNow()
	until := asked.Add(patience)
	for {
		all, own := a.Feed.Wait(events.Work), a.Feed.Wait(events.WorkOf(of.Host))
		// Whoever asked may be gone, or stand still, with its question still open: the frame that it lost is not for it.
		if silent, err := a.silent(ctx, of.Host, asked); err != nil || silent {
			return nil, err
		}
		granted, err := a.Queue.Grant(ctx, of)
		left := until.Sub(a.Clock.WallNow())
		if err != nil || len(granted.Leases) > 0 || left <= 0 {
			return granted.Leases, err
		}
		if left = min(left, look); granted.Idle {
			left = min(until.Sub(a.Clock.WallNow()), lookIdle)
		}
		if !granted.Next.IsZero() {
			left = min(left, max(0, a.Clock.Real(granted.Next.Sub(a.Clock.Now())))+time.Millisecond)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-all:
		case <-own:
		case <-a.Clock.After(left):
		}
	}
}
