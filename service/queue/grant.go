package queue

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/turn"
)

// Held is a lease as its agent knows it.
type Held struct {
	Lease, Fence int64
	Progress     float64 // of the frame, 0 to 1
}

// Holding is what a host's agent holds.
type Holding struct {
	Host   string
	Boot   uuid.UUID
	Held   []Held
	Starts bool // it renders several frames in one start
}

// Granted is what a host is given.
type Granted struct {
	Leases []turn.Lease
	Next   time.Time // when, by time alone, a crew may take what it may not now, or zero
	Idle   bool      // nothing is booked there: it need not ask before something is
}

// Grant leases what the host's free crews can take, and returns it with what the host
// holds without knowing: leases whose answer got lost on the way. All granting for one
// host goes one after another, under the lock of its row.
func (q *Queue) Grant(ctx context.Context, of Holding) (out Granted, err error) {
	if out.Idle, err = bookings.Idle(q.store.WithContext(ctx), of.Host, of.Boot); err != nil || out.Idle {
		return out, err
	}
	err = q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		g := &granting{Turn: turn.Of(tx, q.clock, q.crowds, of.Host), q: q, tx: tx, boot: of.Boot, starts: of.Starts}
		boot, aside, err := g.Lock()
		if err == nil && (boot == nil || *boot != of.Boot) {
			err = httpapi.Conflict("another agent reported for this host since; report its stock again")
		}
		if err != nil {
			return err
		}
		if err != nil {
			return err
		}
		unknown, err := g.current(of.Held)
		if err != nil || aside != "" {
			out.Leases = unknown
			return err
		}
		if err := g.Read(); err != nil {
			return err
		}
		if err := g.choose(); err != nil {
			return err
		}
		out.Leases, out.Next = append(unknown, g.granted...), g.Host.Next()
		return nil
	})
	if err == nil && len(out.Leases) > 0 {
		q.feed.Wake(events.Changes)
	}
	return out, err
}

// granting is one host's turn in which it is given what it may take. It is the queue that the rule asks.
type granting struct {
	*turn.Turn
	q       *Queue
	tx      *gorm.DB
	boot    uuid.UUID
	granted []turn.Lease
	starts  bool // see Holding
}

// current looks at the leases that the host has: those of an agent that ran
// before this one are lost, those that this agent does not know are returned.
func (g *granting) current(known []Held) ([]turn.Lease, error) {
	own, err := g.Rendering()
	if err != nil {
		return nil, err
	}
	lost := func(l turn.Rendering) bool { return l.Boot != g.boot }
	if slices.ContainsFunc(own, lost) {
		stale, err := leases(g.tx, "host = $1 AND boot <> $2 ORDER BY id FOR UPDATE", g.Host.Name, g.boot)
		if err != nil {
			return nil, err
		}
		for _, l := range stale {
			if err := g.q.lose(g.tx, l, "the agent was started again"); err != nil {
				return nil, err
			}
		}
		own = slices.DeleteFunc(own, lost)
	}
	g.InUse(own)
	unknown := []turn.Lease{}
	for _, l := range own {
		if !slices.ContainsFunc(known, func(h Held) bool { return h.Lease == l.Lease.Lease && h.Fence == l.Fence }) {
			unknown = append(unknown, l.Lease)
		}
	}
	return unknown, nil
}

// choose lets the host's crews take frames. For one that has nothing left to do others give up what they hold and have not begun.
func (g *granting) choose() error {
	err := g.Host.Choose(g, g.Now)
	for i, v := range g.Host.Verdicts {
		if err != nil || v.Reason != dispatch.NothingWaits {
			continue
		}
		shifted, err := g.q.shift(g.tx, g.Now, g.Rows[g.Host.Crews[i]])
		if err != nil {
			return err
		}
		if shifted > 0 {
			g.ForgetAll()
			return g.Host.Choose(g, g.Now)
		}
	}
	return err
}

// Take implements dispatch.Queue: it leases the first frames of a kind that nobody else
// is about to lease.
func (g *granting) Take(c *dispatch.Crew, k *dispatch.Kind) (int, error) {
	b := g.Rows[c]
	g.Forget(b.Run, c.Shot)
	n, err := g.q.crowds.InStart(g.tx, g.Wall, g.Now, g.starts, b, k)
	if err != nil {
		return 0, err
	}
	all, err := g.claim(b, k, n)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	if err := bookings.Took(g.tx, c.ID, len(all)); err != nil {
		return 0, err
	}
	if c.Licence != "" {
		if err := licences.Take(g.tx, c.Licence, g.Host.Name, b.Run, g.Now, g.Wall.Add(licences.SeatLife)); err != nil {
			return 0, err
		}
	}
	for _, l := range all {
		g.granted = append(g.granted, l.Lease)
		if err := g.q.feed.Write(g.tx, events.Event{
			Kind: events.Frame, At: g.Now, Run: l.Run.String(), Shot: l.Shot, Frame: l.Frame, Host: g.Host.Name, Crew: l.Crew, State: string(Rendering),
		}); err != nil {
			return 0, err
		}
	}
	return len(all), nil
}
