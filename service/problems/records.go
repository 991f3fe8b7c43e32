package problems

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/replan"
	"rotanex.example/service/accounts"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// hired is how many extra seats of a pool open runs have hired.
func (p *Problems) hired(ctx context.Context, pool string) (seats int, err error) {
	return seats, p.Store.WithContext(ctx).Raw(`SELECT coalesce(sum(h.seats), 0) FROM hired_seats h JOIN runs r ON r.id = h.run_id
		WHERE h.pool = ? AND r.state IN ('running', 'paused')`, pool).Scan(&seats).Error
}

// taken is a stretch of time in which a host has work of another run.
type taken struct {
	Host   string
	Begins time.Time // as booked; long ago for what is being rendered, which waits for nobody
	Since  time.Time // not before now
	Until  time.Time
	Run    uuid.UUID // whose that is
}

// takenUntil is until when a host that is not free at a time has work of other runs, and the
// run whose is the last of it; false: it is free then.
func takenUntil(all []taken, at time.Time) (last taken, is bool) {
	for _, t := range all { // by when they begin
		if !t.Since.After(at) && t.Until.After(at) {
			last, is, at = t, true, t.Until
		}
	}
	return last, is
}

// words say why a host is not free at once, and what would free it.
func (t taken) words() (why, fix string) {
	until, run := t.Until.Format("2006-01-02 15:04 MST"), t.Run.String()[:8]
	return fmt.Sprintf("until %s it has work of run %s", until, run), fmt.Sprintf("rotanex pause %s frees it, once the frame in hand is done", run)
}

// takenByOthers returns, of each host, when it has what other runs have booked on it, or
// renders for them, by when that begins. A host is taken whole then, though some of its
// devices may be free. A run that is paused, less urgent than this priority, or one of those
// that are planned together with this one, takes no host but for the frames that are in hand.
// What a run has booked later than this one waits until this one is through.
func (p *Problems) takenByOthers(ctx context.Context, but *uuid.UUID, priority dispatch.Priority, with []uuid.UUID) (map[string][]taken, error) {
	var rows []taken
	now := p.Clock.Now()
	err := p.Store.WithContext(ctx).Raw(`
		SELECT b.host, b.start_at AS begins, greatest(b.start_at, ?::timestamptz) AS since, r.id AS run,
			greatest(b.end_at, greatest(b.start_at, ?::timestamptz) + make_interval(secs => (b.frames - b.taken) * b.frame_s)) AS until
		FROM bookings b JOIN runs r ON r.id = b.run_id
		WHERE b.open AND r.kind = 'run' AND r.state = 'running' AND b.taken < b.frames AND b.excluded = '' AND r.priority >= ? AND r.id NOT IN ?
		UNION ALL
		SELECT f.host, 'epoch', f.leased_at, r.id, f.leased_at + make_interval(secs => b.frame_s)
		FROM frames f JOIN bookings b ON b.id = f.booking_id JOIN runs r ON r.id = f.run_id
		WHERE f.state = 'rendering' AND r.kind = 'run' AND (f.begun OR r.priority >= ?)`, now, now, priority, append([]uuid.UUID{uuid.Nil}, with...), priority).Scan(&rows).Error
	return behind(rows, but), err
}

// behind is what others have booked, of each host: what they begin later than a run of one's
// own waits until that is through.
func behind(rows []taken, own *uuid.UUID) map[string][]taken {
	out := map[string][]taken{}
	for _, t := range rows {
		if own != nil && t.Run == *own {
			continue
		}
		since := t.Since
		for _, o := range rows {
			if own != nil && o.Run == *own && o.Host == t.Host && o.Begins.Before(t.Begins) && o.Until.After(since) {
				since = o.Until
			}
		}
		t.Since, t.Until = since.UTC(), t.Until.Add(since.Sub(t.Since)).UTC()
		out[t.Host] = append(out[t.Host], t)
	}
	for _, all := range out {
		slices.SortFunc(all, func(a, b taken) int { return a.Since.Compare(b.Since) })
	}
	return out
}

// excludedIn lists the crews that get no more frames of a shot in a run, with why, by
// BasisKey.
func (p *Problems) excludedIn(ctx context.Context, run uuid.UUID) (map[string]string, error) {
	var rows []struct{ Shot, Host, Crew, Excluded string }
	err := p.Store.WithContext(ctx).Raw("SELECT shot, host, crew, excluded FROM bookings WHERE run_id = ? AND excluded <> ''", run).Scan(&rows).Error
	out := map[string]string{}
	for _, r := range rows {
		out[accounts.BasisKey(r.Shot, r.Host, r.Crew)] = r.Excluded
	}
	return out, err
}

func (p *Problems) runKind(ctx context.Context, run uuid.UUID) (state states.Run, kind string, priority dispatch.Priority, err error) {
	return state, kind, priority, p.Store.WithContext(ctx).Raw("SELECT state, kind, priority FROM runs WHERE id = ?", run).Row().Scan(&state, &kind, &priority)
}

// waitingOf counts a run's waiting frames by shot.
func (p *Problems) waitingOf(ctx context.Context, run uuid.UUID) (map[string]int, error) {
	var rows []struct {
		Shot    string
		Waiting int
	}
	err := p.Store.WithContext(ctx).Raw("SELECT shot, count(*) AS waiting FROM frames WHERE run_id = ? AND state IN ('waiting', 'blocked') GROUP BY shot", run).Scan(&rows).Error
	out := map[string]int{}
	for _, r := range rows {
		out[r.Shot] = r.Waiting
	}
	return out, err
}

// leasedOf lists the frames of a run that are being rendered, those of one start together: that began with the one in hand, or as
// soon as the scene is open.
func (p *Problems) leasedOf(ctx context.Context, run uuid.UUID) ([]replan.InHand, error) {
	return store.Rows(p.Store.WithContext(ctx).Raw(`SELECT f.shot, f.host, f.crew,
			coalesce(min(f.leased_at) FILTER (WHERE f.begun), min(f.leased_at)) + make_interval(secs => CASE WHEN bool_or(f.begun AND f.id = f.start) THEN coalesce(max(b.opening_s), 0) ELSE 0 END),
			count(*) * coalesce(max(b.frame_s), 0), max(jsonb_array_length(coalesce(f.devices, '[]'))), CASE WHEN max(j.id::text) IS NULL THEN 0 ELSE max(b.nodes) END
		FROM frames f LEFT JOIN bookings b ON b.id = f.booking_id LEFT JOIN farm_jobs j ON j.booking_id = b.id WHERE f.run_id = $1 AND f.state = 'rendering'
		GROUP BY f.shot, f.host, f.crew, CASE WHEN f.start = 0 THEN f.id ELSE f.start END`, run), func(row store.Row) (x replan.InHand, err error) {
		var seconds float64
		err = row.Scan(&x.Shot, &x.Host, &x.Crew, &x.Began, &seconds, &x.Devices, &x.Nodes)
		x.Takes = time.Duration(seconds * float64(time.Second))
		return x, err
	})
}

// paidServers lists the servers of a run that are paid for beyond a time.
func (p *Problems) paidServers(ctx context.Context, run uuid.UUID, now time.Time) (out []replan.Paid, err error) {
	return out, p.Store.WithContext(ctx).Raw(`SELECT host, offer, from_at AS "from", paid_at AS until FROM servers
		WHERE run_id = ? AND state IN ('requested', 'starting', 'up') AND paid_at > ? ORDER BY host`, run, now).Scan(&out).Error
}

// plannedServers lists the servers of a run that nobody has asked for yet.
func (p *Problems) plannedServers(ctx context.Context, run uuid.UUID) (out []replan.ToCome, err error) {
	return out, p.Store.WithContext(ctx).Raw("SELECT id, offer, host, from_at, to_at FROM servers WHERE run_id = ? AND state = 'planned' ORDER BY id", run).Scan(&out).Error
}

// recent lists the frames of a run that were done since, the last few hundred.
func (p *Problems) recent(ctx context.Context, run uuid.UUID, since time.Time) (out []replan.Finished, err error) {
	return out, p.Store.WithContext(ctx).Raw(`SELECT f.shot, a.host, a.crew, extract(epoch FROM a.ended_at - a.started_at)::float8 AS seconds, a.ended_at AS ended
		FROM tries a JOIN frames f ON f.id = a.frame_id WHERE a.run_id = ? AND a.outcome = 'done' AND a.ended_at > ? ORDER BY a.id DESC LIMIT 500`, run, since).Scan(&out).Error
}
