package runs

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
)

// look is how often a waiting agent's question is asked again without a wake-up.
const look = 4 * time.Second

// Lease answers an agent with frames to render. It waits until there are some,
// the agent's patience ends or the request does.
func (q *Runs) Lease(w http.ResponseWriter, r *http.Request) {
	body, err := edge.Body[api.LeaseRequest](r)
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
	edge.Answer(w, r, http.StatusOK, leases, err)
}

// booked is a booking of the host that may give a frame now.
type booked struct {
	Booking
	trial  bool
	mode   string  // of memory, that its frames are rendered in
	memory float64 // gigabytes of host memory that a renderer of its shot needs

	licence string // the pool of which its shot takes a seat; "" is none
}

// grant leases what the host's free devices can take, and returns it with what
// the host holds without knowing: leases whose answer got lost on the way. Next
// is when the host's next booking starts, or zero. All granting for one host goes
// one after another, under the lock of its row.
func (q *Runs) grant(ctx context.Context, host string, boot uuid.UUID, held []api.Held) (out []api.Lease, next time.Time, err error) {
	err = pgx.BeginFunc(ctx, q.store.Pool, func(tx pgx.Tx) error {
		g := granting{q: q, tx: tx, host: host, boot: boot, now: q.clock.Now()}
		draining, err := g.lockHost(ctx)
		if err != nil {
			return err
		}
		if out, err = g.current(ctx, held); err != nil || draining {
			return err
		}
		bookings, err := g.bookings(ctx)
		if err != nil {
			return err
		}
		for _, helping := range []bool{false, true} {
			for _, b := range bookings {
				switch {
				case b.StartAt.After(g.now):
					if next.IsZero() || b.StartAt.Before(next) {
						next = b.StartAt
					}
				case helping && b.trial, !helping && b.Taken >= b.Frames:
				case g.occupied(b.Devices):
					if !helping {
						g.busy = append(g.busy, b.Devices...) // its turn comes first, once they are free
					}
				default:
					lease, err := g.take(ctx, b)
					if err != nil {
						return err
					}
					if lease != nil {
						out, g.busy = append(out, *lease), append(g.busy, b.Devices...)
						g.memory += b.memory
					}
				}
			}
		}
		return nil
	})
	if out == nil {
		out = []api.Lease{}
	}
	return out, next, err
}

type granting struct {
	q    *Runs
	tx   pgx.Tx
	host string
	spec stock.Host
	boot uuid.UUID

	server bool // a rented one, which renders from packages

	now  time.Time
	busy []string // devices

	memory, memoryLimit float64 // host memory in use by what is rendered there, and all of it, in gigabytes
}

func (g *granting) occupied(devices []string) bool {
	return slices.ContainsFunc(devices, func(d string) bool { return slices.Contains(g.busy, d) })
}

func (g *granting) lockHost(ctx context.Context) (draining bool, err error) {
	var boot *uuid.UUID
	err = g.tx.QueryRow(ctx, "SELECT draining, boot, spec, server FROM hosts WHERE name = $1 FOR UPDATE", g.host).Scan(&draining, &boot, &g.spec, &g.server)
	g.memoryLimit = g.spec.MemoryGB
	if err == nil && (boot == nil || *boot != g.boot) {
		err = edge.Conflict("another agent reported for this host since; report its stock again")
	}
	return draining, err
}

const leaseColumns = `f.id, f.fence, f.run_id, f.shot, f.frame, f.crew, f.devices, f.memory_mode, s.spec, coalesce(jsonb_array_length(s.package), 0) > 0`

// scanLease returns a lease and the host memory that it needs, in gigabytes.
func (g *granting) scanLease(row pgx.CollectableRow) (api.Lease, float64, error) {
	var l api.Lease
	var spec api.ShotSpec
	var mode string
	var packaged bool
	err := row.Scan(&l.Lease, &l.Fence, &l.Run, &l.Shot, &l.Frame, &l.Crew, &l.Devices, &mode, &spec, &packaged)
	l.MemoryMode = api.LeaseMemoryMode(mode)
	l.Package = g.server && packaged
	l.Scene, l.Width, l.Height, l.Launcher, l.Settings = spec.Scene, spec.Width, spec.Height, spec.Launcher, spec.Settings
	if l.Settings == nil {
		l.Settings = map[string]string{}
	}
	if c, ok := g.spec.FindCrew(l.Crew); ok {
		l.Backend = hosts.Backend(c, spec.Backend)
	}
	return l, float64(spec.HostMemoryGb), err
}

// current looks at the leases that the host has: those of an agent that ran
// before this one are lost, those that this agent does not know are returned.
func (g *granting) current(ctx context.Context, held []api.Held) ([]api.Lease, error) {
	rows, err := g.tx.Query(ctx, "SELECT "+leasedColumns+" FROM frames WHERE host = $1 AND state = 'leased' AND boot <> $2 FOR UPDATE", g.host, g.boot)
	if err != nil {
		return nil, err
	}
	stale, err := pgx.CollectRows(rows, scanLeased)
	if err != nil {
		return nil, err
	}
	for _, l := range stale {
		if err := g.q.lose(ctx, g.tx, l, "the agent was started again"); err != nil {
			return nil, err
		}
	}
	rows, err = g.tx.Query(ctx, "SELECT "+leaseColumns+" FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = $1 AND f.state = 'leased' ORDER BY f.id", g.host)
	if err != nil {
		return nil, err
	}
	own, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (api.Lease, error) {
		l, needs, err := g.scanLease(row)
		g.memory += needs
		return l, err
	})
	var unknown []api.Lease
	for _, l := range own {
		g.busy = append(g.busy, l.Devices...)
		if !slices.ContainsFunc(held, func(h api.Held) bool { return h.Lease == l.Lease && h.Fence == l.Fence }) {
			unknown = append(unknown, l)
		}
	}
	return unknown, err
}

// bookings lists the host's open bookings, trials first, then by their start.
func (g *granting) bookings(ctx context.Context) ([]booked, error) {
	rows, err := g.tx.Query(ctx, `
		SELECT b.id, b.run_id, b.shot, b.crew, b.devices, b.frames, b.taken, b.start_at, b.end_at, b.close_at, b.frame_s, r.kind = 'trial',
		       coalesce((s.spec->>'host_memory_gb')::float8, 0), b.memory_mode, coalesce(s.spec->>'licence', '')
		FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
		WHERE b.host = $1 AND b.open AND b.barred = '' AND r.state = 'running'
		ORDER BY r.kind DESC, b.start_at, b.id`, g.host)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (b booked, err error) {
		err = row.Scan(&b.ID, &b.RunID, &b.Shot, &b.Crew, &b.Devices, &b.Frames, &b.Taken, &b.StartAt, &b.EndAt, &b.CloseAt, &b.FrameS, &b.trial, &b.memory, &b.mode, &b.licence)
		b.Host = g.host
		return b, err
	})
}

// take leases one frame to the booking's crew, or returns nil if it may have none.
func (g *granting) take(ctx context.Context, b booked) (*api.Lease, error) {
	if b.CloseAt != nil && g.now.Add(time.Duration(b.FrameS*float64(time.Second))).After(*b.CloseAt) {
		return nil, nil // it would run past the open hours
	}
	if g.memory+b.memory > g.memoryLimit && g.memory > 0 {
		return nil, nil // the host's memory holds no further renderer
	}
	place := g.host + "/" + b.Crew
	for _, which := range []string{
		"AND failures > 0 AND NOT failed_on @> ARRAY[$3]", // failed elsewhere: here is elsewhere
		"AND NOT failed_on @> ARRAY[$3]",
		"AND failed_on @> ARRAY[$3]",
	} {
		next, err := g.nextFrame(ctx, b, place, which)
		if err != nil {
			return nil, err
		}
		if next.id == 0 {
			continue
		}
		may, err := g.may(ctx, b, place, next)
		if err != nil {
			return nil, err
		}
		if !may {
			continue
		}
		if seated, err := g.seat(ctx, b); err != nil || !seated {
			return nil, err // it waits for a seat, or the frame goes elsewhere
		}
		return g.leaseFrame(ctx, b, next.id)
	}
	return nil, nil
}

// waiting is a frame that could be leased.
type waiting struct {
	id       int64
	failedOn []string // host/crew
	onlyOn   []string // that may have it; none: any
}

// nextFrame locks the next waiting frame of a kind; its id is 0 if there is none.
func (g *granting) nextFrame(ctx context.Context, b booked, place, which string) (next waiting, err error) {
	err = g.tx.QueryRow(ctx, `
		SELECT id, failed_on, only_on FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND $3 <> '' `+which+`
		  AND (only_on = '{}' OR only_on @> ARRAY[$3])
		ORDER BY warm_up DESC, repeat, frame LIMIT 1 FOR UPDATE SKIP LOCKED`, b.RunID, b.Shot, place).Scan(&next.id, &next.failedOn, &next.onlyOn)
	if err == pgx.ErrNoRows {
		err = nil
	}
	return next, err
}

// may decides whether the crew may have a frame. One that failed is left to crews on which it did not, while one of them
// is up. Beyond its booking, a crew only helps: see core/dispatch.
func (g *granting) may(ctx context.Context, b booked, place string, f waiting) (bool, error) {
	failedHere := slices.Contains(f.failedOn, place)
	if b.Taken < b.Frames && !failedHere {
		return true, nil
	}
	others, waiting, err := g.others(ctx, b)
	if err != nil {
		return false, err
	}
	if len(f.failedOn)+len(f.onlyOn) > 0 {
		// Of this frame alone, and of those who can still have it.
		others = slices.DeleteFunc(others, func(o rival) bool {
			return slices.Contains(f.failedOn, o.place) || len(f.onlyOn) > 0 && !slices.Contains(f.onlyOn, o.place)
		})
		waiting = 1
	}
	if failedHere {
		return b.trial || !slices.ContainsFunc(others, func(o rival) bool { return o.Live }), nil
	}
	rivals := make([]dispatch.Booking, len(others))
	for i, o := range others {
		rivals[i] = o.Booking
	}
	own := dispatch.Booking{Frames: b.Frames, Taken: b.Taken, Start: b.StartAt, End: b.EndAt}
	return dispatch.MayTake(own, rivals, waiting, g.now), nil
}

// rival is another crew's booking of the same shot.
type rival struct {
	dispatch.Booking
	place string
}

// others returns the other bookings of the shot in the run, and how many of its
// frames wait.
func (g *granting) others(ctx context.Context, b booked) ([]rival, int, error) {
	rows, err := g.tx.Query(ctx, `
		SELECT b.host || '/' || b.crew, b.frames, b.taken, b.start_at, b.end_at, b.frame_s / b.nodes,
		       (h.agent_seen > $4 AND NOT h.draining) OR EXISTS (
		           SELECT 1 FROM servers s WHERE s.run_id = b.run_id AND s.host = b.host AND s.state IN ('planned', 'asked', 'starting'))
		       OR EXISTS (SELECT 1 FROM farm_jobs j WHERE j.booking_id = b.id AND j.state NOT IN ('rejected', 'refused', 'closing', 'ended', 'never'))
		FROM bookings b LEFT JOIN hosts h ON h.name = b.host
		WHERE b.run_id = $1 AND b.shot = $2 AND b.id <> $3 AND b.barred = '' ORDER BY b.id`,
		b.RunID, b.Shot, b.ID, g.q.clock.WallNow().Add(-hosts.Lost))
	if err != nil {
		return nil, 0, err
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (o rival, err error) {
		var seconds float64
		var live *bool
		err = row.Scan(&o.place, &o.Frames, &o.Taken, &o.Start, &o.End, &seconds, &live)
		o.Frame, o.Live = time.Duration(seconds*float64(time.Second)), live != nil && *live
		return o, err
	})
	if err != nil {
		return nil, 0, err
	}
	var waiting int
	err = g.tx.QueryRow(ctx, "SELECT count(*) FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'", b.RunID, b.Shot).Scan(&waiting)
	return out, waiting, err
}

func (g *granting) leaseFrame(ctx context.Context, b booked, id int64) (*api.Lease, error) {
	rows, err := g.tx.Query(ctx, `
		WITH leased AS (
			UPDATE frames SET state = 'leased', fence = fence + 1, host = $2, crew = $3, devices = $4, booking_id = $5,
			       boot = $6, leased_at = $7, lease_until = $8, progress = 0, sha256 = NULL, bytes = NULL,
			       memory_mode = CASE WHEN $9 <> '' THEN $9 ELSE memory_mode END
			WHERE id = $1 RETURNING *),
		counted AS (UPDATE bookings SET taken = taken + 1 WHERE id = $5)
		SELECT `+leaseColumns+` FROM leased f JOIN run_shots s USING (run_id, shot)`,
		id, g.host, b.Crew, b.Devices, b.ID, g.boot, g.now, g.q.clock.WallNow().Add(LeaseLife), b.mode)
	if err != nil {
		return nil, err
	}
	l, err := pgx.CollectExactlyOneRow(rows, func(row pgx.CollectableRow) (api.Lease, error) {
		l, _, err := g.scanLease(row)
		return l, err
	})
	if err != nil {
		return nil, err
	}
	var events pgx.Batch
	if err := g.q.feed.Insert(&events, api.Event{
		Kind: api.EventKindFrame, At: g.now, Run: l.Run.String(), Shot: l.Shot, Frame: l.Frame, Host: g.host, Crew: l.Crew, State: "leased",
	}); err != nil {
		return nil, err
	}
	return &l, g.tx.SendBatch(ctx, &events).Close()
}

// leased is a frame under lease, as it is ended.
type leased struct {
	id, fence int64
	run       uuid.UUID
	shot      string
	frame     int
	host      string
	crew      string
	booking   int64
	since     time.Time
	warmUp    bool
	sha256    *string
	tries     int
	trial     bool
	devices   []string
	mode      string // of memory, see Lease
}

const leasedColumns = `id, fence, run_id, shot, frame, host, crew, booking_id, leased_at, warm_up, sha256,
	(SELECT tries FROM runs WHERE runs.id = frames.run_id), (SELECT kind = 'trial' FROM runs WHERE runs.id = frames.run_id), devices, memory_mode`

func scanLeased(row pgx.CollectableRow) (l leased, err error) {
	err = row.Scan(&l.id, &l.fence, &l.run, &l.shot, &l.frame, &l.host, &l.crew, &l.booking, &l.since, &l.warmUp, &l.sha256, &l.tries, &l.trial, &l.devices, &l.mode)
	return l, err
}

// order sorts held leases, so that two transactions lock rows in the same order.
func order(held []api.Held) {
	slices.SortFunc(held, func(a, b api.Held) int { return cmp.Compare(a.Lease, b.Lease) })
}
