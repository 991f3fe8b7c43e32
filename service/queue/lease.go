package queue

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// look is how often a waiting agent's question is asked again without a wake-up.
const look = 4 * time.Second

// Lease answers an agent with frames to render. It waits until there are some,
// the agent's patience ends or the request does.
func (q *Queue) Lease(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.LeaseRequest](r)
	leases := []api.Lease{}
	host := access.From(r.Context()).Host
	until := q.clock.WallNow().Add(time.Duration(float64(body.WaitS) * float64(time.Second)))
	for err == nil {
		woken := q.feed.Wait(events.Work)
		var next time.Time
		leases, next, err = q.grant(r.Context(), host, body.Boot, body.Held)
		left := until.Sub(q.clock.WallNow())
		if err != nil || len(leases) > 0 || left <= 0 {
			break
		}
		left = min(left, look)
		if !next.IsZero() {
			left = min(left, max(0, q.clock.Real(next.Sub(q.clock.Now())))+time.Millisecond)
		}
		select {
		case <-r.Context().Done():
			return
		case <-woken:
		case <-q.clock.After(left):
		}
	}
	if err == nil && len(leases) > 0 {
		q.feed.Wake(events.Changes)
	}
	httpapi.Answer(w, r, http.StatusOK, leases, err)
}

// grant leases what the host's free crews can take, and returns it with what the host
// holds without knowing: leases whose answer got lost on the way. Next is when, by time
// alone, a crew may take what it may not now, or zero. All granting for one host goes
// one after another, under the lock of its row.
func (q *Queue) grant(ctx context.Context, host string, boot uuid.UUID, held []api.Held) (out []api.Lease, next time.Time, err error) {
	out = []api.Lease{}
	err = q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		g := &granting{q: q, tx: tx, host: dispatch.Host{Name: host}, boot: boot, now: q.clock.Now(), kinds: map[runShot][]dispatch.Kind{}}
		draining, err := g.lockHost()
		if err != nil {
			return err
		}
		unknown, err := g.current(held)
		if err != nil || draining {
			out = unknown
			return err
		}
		if err := g.read(); err != nil {
			return err
		}
		if err := g.host.Choose(g, g.now); err != nil {
			return err
		}
		out, next = append(unknown, g.granted...), g.host.Next()
		return nil
	})
	return out, next, err
}

type runShot struct {
	run  uuid.UUID
	shot string
}

// granting is one host's turn, in one transaction. It is the queue that the rule asks.
type granting struct {
	q      *Queue
	tx     *gorm.DB
	host   dispatch.Host
	spec   stock.Host
	server bool // a rented one, which renders from packages
	boot   uuid.UUID
	now    time.Time

	rows    map[*dispatch.Crew]*crewRow
	kinds   map[runShot][]dispatch.Kind
	granted []api.Lease
	looks   bool // nothing is leased: it is only asked what would be
}

// lockHost reads the host, and locks it unless it is only looked at.
func (g *granting) lockHost() (draining bool, err error) {
	var boot *uuid.UUID
	lock := " FOR UPDATE"
	if g.looks {
		lock = ""
	}
	err = g.tx.Raw("SELECT draining, boot, spec, server FROM hosts WHERE name = $1"+lock, g.host.Name).Row().Scan(&draining, &boot, store.JSON(&g.spec), &g.server)
	g.host.MemoryGB = g.spec.MemoryGB
	if err == nil && !g.looks && (boot == nil || *boot != g.boot) {
		err = httpapi.Conflict("another agent reported for this host since; report its stock again")
	}
	return draining, err
}

const leaseColumns = `f.id, f.fence, f.run_id, f.shot, f.frame, f.crew, f.devices, f.memory_mode, s.spec, coalesce(jsonb_array_length(s.package), 0) > 0, f.boot`

// held is a lease with what the rule needs to know of it.
type held struct {
	api.Lease
	memoryGB float64 // of the host, that its renderer needs
	boot     uuid.UUID
}

func (g *granting) scanLease(row store.Row) (l held, err error) {
	var spec shots.Spec
	var mode string
	var packaged bool
	err = row.Scan(&l.Lease.Lease, &l.Fence, &l.Run, &l.Shot, &l.Frame, &l.Crew, store.JSON(&l.Devices), &mode, store.JSON(&spec), &packaged, &l.boot)
	l.MemoryMode, l.memoryGB = api.LeaseMemoryMode(mode), float64(spec.HostMemoryGB)
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
func (g *granting) current(known []api.Held) ([]api.Lease, error) {
	own, err := store.Rows(g.tx.Raw("SELECT "+leaseColumns+" FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = $1 AND f.state = 'rendering' ORDER BY f.id", g.host.Name), g.scanLease)
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
	unknown := []api.Lease{}
	for _, l := range own {
		g.host.Busy = append(g.host.Busy, l.Devices...)
		g.host.UsedGB += l.memoryGB
		if !slices.ContainsFunc(known, func(h api.Held) bool { return h.Lease == l.Lease.Lease && h.Fence == l.Fence }) {
			unknown = append(unknown, l.Lease)
		}
	}
	return unknown, nil
}

// read reads what the host is booked for.
func (g *granting) read() error {
	rows, err := g.q.crews(g.tx, "b.host = $1 AND b.open AND r.state = 'running'", g.host.Name)
	g.rows = map[*dispatch.Crew]*crewRow{}
	for _, c := range rows {
		g.rows[&c.Crew] = c
		if !g.looks {
			c.State, c.Said = dispatch.Ready, "" // who asks is there, whenever it was last heard of
		}
	}
	g.host.Crews = rule(rows)
	dispatch.Sort(g.host.Crews)
	return err
}

// Kinds implements dispatch.Queue.
func (g *granting) Kinds(c *dispatch.Crew) ([]dispatch.Kind, error) {
	key := runShot{g.rows[c].run, c.Shot}
	if known, ok := g.kinds[key]; ok {
		return known, nil
	}
	found, err := kinds(g.tx, key.run, key.shot)
	g.kinds[key] = found
	return found, err
}

// Others implements dispatch.Queue.
func (g *granting) Others(c *dispatch.Crew) ([]*dispatch.Crew, int, error) {
	run := g.rows[c].run
	rows, err := g.q.crews(g.tx, "b.run_id = $1 AND b.shot = $2", run, c.Shot)
	if err != nil {
		return nil, 0, err
	}
	n, err := countWaiting(g.tx, run, c.Shot)
	return rule(rows), n, err
}

// Take implements dispatch.Queue: it leases the first frame of a kind that nobody else
// is about to lease.
func (g *granting) Take(c *dispatch.Crew, k *dispatch.Kind) (bool, error) {
	b := g.rows[c]
	delete(g.kinds, runShot{b.run, c.Shot})
	if g.looks {
		return true, nil
	}
	failedOn, err := store.AsJSON(append([]string{}, k.FailedOn...))
	if err != nil {
		return false, err
	}
	onlyOn, err := store.AsJSON(append([]string{}, k.OnlyOn...))
	if err != nil {
		return false, err
	}
	which := "failures = 0"
	if k.Tried {
		which = "failures > 0"
	}
	devices, err := store.AsJSON(c.Devices)
	if err != nil {
		return false, err
	}
	l, found, err := store.First(g.tx.Raw(`
		WITH next AS (
			SELECT id FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND `+which+` AND failed_on = $3::jsonb AND only_on = $4::jsonb
			ORDER BY `+order+` LIMIT 1 FOR UPDATE SKIP LOCKED),
		leased AS (
			UPDATE frames SET state = 'rendering', fence = fence + 1, host = $5, crew = $6, devices = $7::jsonb, booking_id = $8,
			       boot = $9, leased_at = $10, lease_until = $11, progress = 0, sha256 = NULL, bytes = NULL,
			       memory_mode = CASE WHEN $12 <> '' THEN $12 ELSE memory_mode END
			FROM next WHERE frames.id = next.id RETURNING frames.*),
		counted AS (UPDATE bookings SET taken = taken + 1 WHERE id = $8 AND EXISTS (SELECT FROM next))
		SELECT `+leaseColumns+` FROM leased f JOIN run_shots s USING (run_id, shot)`,
		b.run, c.Shot, failedOn, onlyOn, g.host.Name, c.Name, devices, c.ID, g.boot, g.now, g.q.clock.WallNow().Add(LeaseLife), b.mode), g.scanLease)
	if err != nil || !found {
		return false, err
	}
	if c.Licence != "" {
		if err := g.takeSeat(b); err != nil {
			return false, err
		}
	}
	g.granted = append(g.granted, l.Lease)
	return true, g.q.feed.Write(g.tx, events.Event{
		Kind: events.Frame, At: g.now, Run: l.Run.String(), Shot: l.Shot, Frame: l.Frame, Host: g.host.Name, Crew: l.Crew, State: Rendering,
	})
}

// byLease sorts held leases, so that two transactions lock rows in the same order.
func byLease(held []api.Held) {
	slices.SortFunc(held, func(a, b api.Held) int { return cmp.Compare(a.Lease, b.Lease) })
}
