package queue

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/stock"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/licences"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
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

// Lease is an agent's claim on a frame, with what it takes to render it.
type Lease struct {
	Lease, Fence  int64
	Run           uuid.UUID
	Shot          string
	Frame         int
	Crew          string
	Devices       []string
	Backend       string
	MemoryMode    string // "", or the step of core/memory that it is rendered with
	Package       bool   // its files come as a package
	Scene         string
	Width, Height int
	Launcher      string
	Settings      map[string]string
	Start         int64 // what leases of one start have in common; 0: it has one for itself
}

// Granted is what a host is given.
type Granted struct {
	Leases []Lease
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
		g := &granting{q: q, tx: tx, host: dispatch.Host{Name: of.Host}, boot: of.Boot, starts: of.Starts, now: q.clock.Now(), kinds: map[bookings.ShotOf][]dispatch.Kind{}}
		aside, err := g.lockHost()
		if err != nil {
			return err
		}
		unknown, err := g.current(of.Held)
		if err != nil || aside != "" {
			out.Leases = unknown
			return err
		}
		if err := g.read(); err != nil {
			return err
		}
		if err := g.choose(); err != nil {
			return err
		}
		out.Leases, out.Next = append(unknown, g.granted...), g.host.Next()
		return nil
	})
	if err == nil && len(out.Leases) > 0 {
		q.feed.Wake(events.Changes)
	}
	return out, err
}

// granting is one host's turn, in one transaction. It is the queue that the rule asks.
type granting struct {
	q      *Queue
	tx     *gorm.DB
	host   dispatch.Host
	spec   stock.Host
	server bool // a rented one, which renders from packages
	desk   *hosts.Desk
	boot   uuid.UUID
	now    time.Time

	rows          map[*dispatch.Crew]*bookings.Crew
	kinds         map[bookings.ShotOf][]dispatch.Kind
	granted       []Lease
	starts, looks bool // see Holding; nothing is leased, it is only asked what would be
}

// held is a lease with what the rule needs to know of it.
type held struct {
	Lease
	memoryGB float64 // of the host, that its renderer needs
	boot     uuid.UUID
	begun    bool // see Frame
}

func (g *granting) scanLease(row store.Row) (l held, err error) {
	var spec shots.Spec
	var packaged bool
	err = row.Scan(&l.Lease.Lease, &l.Fence, &l.Run, &l.Shot, &l.Frame, &l.Crew, store.JSON(&l.Devices), &l.MemoryMode, store.JSON(&spec), &packaged, &l.boot, &l.Start, &l.begun)
	l.memoryGB = float64(spec.HostMemoryGB)
	l.Package = g.server && packaged
	l.Scene, l.Width, l.Height, l.Launcher, l.Settings = spec.Scene, spec.Width, spec.Height, spec.Launcher, spec.Settings
	if l.Settings == nil {
		l.Settings = map[string]string{}
	}
	if c, ok := g.spec.FindCrew(l.Crew); ok {
		l.Backend = hosts.Backend(c, spec.Backend)
	}
	return l, err
}

// current looks at the leases that the host has: those of an agent that ran
// before this one are lost, those that this agent does not know are returned.
func (g *granting) current(known []Held) ([]Lease, error) {
	own, err := g.rendering()
	if err != nil {
		return nil, err
	}
	if !g.looks && slices.ContainsFunc(own, func(l held) bool { return l.boot != g.boot }) {
		stale, err := leases(g.tx, "host = $1 AND boot <> $2 ORDER BY id FOR UPDATE", g.host.Name, g.boot)
		if err != nil {
			return nil, err
		}
		for _, l := range stale {
			if err := g.q.lose(g.tx, l, "the agent was started again"); err != nil {
				return nil, err
			}
		}
		own = slices.DeleteFunc(own, func(l held) bool { return l.boot != g.boot })
	}
	unknown := []Lease{}
	for _, l := range own {
		g.host.Busy = append(g.host.Busy, l.Devices...)
		if l.begun { // a start has one renderer
			g.host.UsedGB += l.memoryGB
		}
		if !slices.ContainsFunc(known, func(h Held) bool { return h.Lease == l.Lease.Lease && h.Fence == l.Fence }) {
			unknown = append(unknown, l.Lease)
		}
	}
	return unknown, nil
}

// read reads what the host is booked for.
func (g *granting) read() error {
	rows, err := bookings.OnHost(g.tx, g.q.clock.WallNow(), g.host.Name)
	g.rows = map[*dispatch.Crew]*bookings.Crew{}
	for _, c := range rows {
		g.rows[&c.Crew] = c
		if !g.looks && c.State != dispatch.InUse {
			c.State, c.Said = dispatch.Ready, "" // who asks is there, whenever it was last heard of
		}
	}
	g.host.Crews = bookings.Rule(rows)
	dispatch.Sort(g.host.Crews)
	return err
}

// choose lets the host's crews take frames. For one that has nothing left to do others give up what they hold and have not begun.
func (g *granting) choose() error {
	err := g.host.Choose(g, g.now)
	for i, v := range g.host.Verdicts {
		if err != nil || v.Reason != dispatch.NothingWaits {
			continue
		}
		shifted, err := g.q.shift(g.tx, g.now, g.rows[g.host.Crews[i]])
		if err != nil {
			return err
		}
		if shifted > 0 {
			clear(g.kinds)
			return g.host.Choose(g, g.now)
		}
	}
	return err
}

// Kinds implements dispatch.Queue.
func (g *granting) Kinds(c *dispatch.Crew) ([]dispatch.Kind, error) {
	return g.known(g.rows[c].Run, c.Shot)
}

// known reads what waits of a shot, once in a turn.
func (g *granting) known(run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	key := bookings.ShotOf{Run: run, Shot: shot}
	if known, ok := g.kinds[key]; ok {
		return known, nil
	}
	found, err := bookings.Kinds(g.tx, run, shot)
	g.kinds[key] = found
	return found, err
}

// Pool implements dispatch.Queue.
func (g *granting) Pool(c *dispatch.Crew) (dispatch.Pool, bool, error) {
	return licences.PoolFor(g.tx, g.host.Name, c.Licence, g.now, g.q.clock.WallNow(), !g.looks, g.known)
}

// Others implements dispatch.Queue.
func (g *granting) Others(c *dispatch.Crew) ([]*dispatch.Crew, int, error) {
	rows, n, err := g.q.crowds.Of(g.tx, g.q.clock.WallNow(), g.rows[c].Run, c.Shot)
	return bookings.Rule(rows), n, err
}

// Take implements dispatch.Queue: it leases the first frames of a kind that nobody else
// is about to lease.
func (g *granting) Take(c *dispatch.Crew, k *dispatch.Kind) (int, error) {
	b := g.rows[c]
	delete(g.kinds, bookings.ShotOf{Run: b.Run, Shot: c.Shot})
	if g.looks {
		return 1, nil
	}
	n, err := g.q.crowds.InStart(g.tx, g.q.clock.WallNow(), g.now, g.starts, b, k)
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
		if err := licences.Take(g.tx, c.Licence, g.host.Name, b.Run, g.now, g.q.clock.WallNow().Add(licences.SeatLife)); err != nil {
			return 0, err
		}
	}
	for _, l := range all {
		g.granted = append(g.granted, l.Lease)
		if err := g.q.feed.Write(g.tx, events.Event{
			Kind: events.Frame, At: g.now, Run: l.Run.String(), Shot: l.Shot, Frame: l.Frame, Host: g.host.Name, Crew: l.Crew, State: string(Rendering),
		}); err != nil {
			return 0, err
		}
	}
	return len(all), nil
}
