package tally

import (
	"context"
	"maps"
	"slices"

	"github.com/google/uuid"

	"rotanex.example/service/store"
)

// totals counts the frames of each shot of a run.
func (t *Tallies) totals(ctx context.Context, run uuid.UUID) (map[string]total, error) {
	out := map[string]total{}
	_, err := store.Rows(t.store.WithContext(ctx).Raw("SELECT shot, count(*), count(from_run) FROM frames WHERE run_id = $1 GROUP BY 1", run), func(row store.Row) (shot string, err error) {
		var x total
		if err = row.Scan(&shot, &x.Frames, &x.TakenOver); err == nil {
			out[shot] = x
		}
		return shot, err
	})
	return out, err
}

// stored reads what was written down of a run.
func (t *Tallies) stored(ctx context.Context, run uuid.UUID, b *base) error {
	_, err := store.Rows(t.store.WithContext(ctx).Raw("SELECT mark, shots, sums FROM tallies WHERE run_id = $1", run), func(row store.Row) (none struct{}, err error) {
		var mark int64
		var shots, sums []byte
		if err = row.Scan(&mark, &shots, &sums); err != nil {
			return none, err
		}
		var all []Sum
		var totals map[string]total
		if store.Read(shots, &totals) == nil && store.Read(sums, &all) == nil { // else it is summed up anew
			b.mark, b.shots = mark, totals
			for _, s := range all {
				b.sums[s.key()] = s
			}
		}
		return none, nil
	})
	return err
}

// write writes down what was summed up of a run, unless somebody has come farther.
func (t *Tallies) write(ctx context.Context, run uuid.UUID, b *base) error {
	parameters, err := store.AllAsJSON(b.shots, slices.Collect(maps.Values(b.sums)))
	if err != nil {
		return err
	}
	return t.store.WithContext(ctx).Exec(`INSERT INTO tallies (run_id, mark, shots, sums) SELECT id, $2, $3::json, $4::json FROM runs WHERE id = $1
		ON CONFLICT (run_id) DO UPDATE SET mark = excluded.mark, shots = excluded.shots, sums = excluded.sums WHERE tallies.mark < excluded.mark`, append([]any{run, b.mark}, parameters...)...).Error
}

// last is the last try of a run that can be seen.
func (t *Tallies) last(ctx context.Context, run uuid.UUID) (try int64, err error) {
	return try, t.store.WithContext(ctx).Raw("SELECT coalesce(max(id), 0) FROM tries WHERE run_id = $1", run).Row().Scan(&try)
}

// marked is a mark at the last try of a run. Its transaction is given a number of its own, which is above those of all that have begun: what
// PostgreSQL calls a snapshot's xmax is not, it is above those that are over.
func (t *Tallies) marked(ctx context.Context, run uuid.UUID) (m mark, err error) {
	return m, t.store.WithContext(ctx).Raw("SELECT coalesce(max(id), 0), pg_current_xact_id()::text::bigint FROM tries WHERE run_id = $1", run).Row().Scan(&m.try, &m.before)
}

// oldest is the oldest transaction that is not over.
func (t *Tallies) oldest(ctx context.Context) (xid int64, err error) {
	return xid, t.store.WithContext(ctx).Raw("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint").Row().Scan(&xid)
}

const sums = `SELECT a.host, a.crew, f.shot, date_trunc('day', a.ended_at AT TIME ZONE 'UTC') AS day, coalesce(a.booking_id, f.booking_id, 0) AS booking,
	count(*) FILTER (WHERE a.outcome = 'done') AS done, count(*) FILTER (WHERE a.outcome <> 'done') AS failed,
	coalesce(sum(a.seconds) FILTER (WHERE a.outcome = 'done'), 0) AS done_s, coalesce(sum(a.seconds) FILTER (WHERE a.outcome <> 'done'), 0) AS failed_s,
	coalesce(sum(a.opening_s) FILTER (WHERE a.outcome = 'done'), 0) AS opening_s,
	coalesce(sum(greatest(a.seconds, extract(epoch FROM a.ended_at - a.started_at)::float8)) FILTER (WHERE a.outcome = 'done'), 0) AS held_s,
	coalesce(json_agg(DISTINCT a.cause) FILTER (WHERE a.cause <> ''), '[]') AS causes, min(a.started_at) AS first, max(a.ended_at) AS last
	FROM tries a, LATERAL (SELECT shot, booking_id FROM frames WHERE id = a.frame_id OFFSET 0) f WHERE a.run_id = $1 AND a.id > $2` // each frame by its number, however few or many tries are thought to be there

const bySum = " GROUP BY 1, 2, 3, 4, 5"

// scan reads a sum, and what stands before it.
func scan(row store.Row, before ...any) (s Sum, err error) {
	err = row.Scan(append(before, &s.Host, &s.Crew, &s.Shot, &s.Day, &s.Booking, &s.Done, &s.Failed, &s.DoneS, &s.FailedS, &s.OpeningS, &s.HeldS, store.JSON(&s.Causes), &s.First, &s.Last)...)
	s.Day, s.First, s.Last = s.Day.UTC(), s.First.UTC(), s.Last.UTC()
	return s, err
}

// sums sums up the tries of a run after one, up to another.
func (t *Tallies) sums(ctx context.Context, run uuid.UUID, after, upTo int64) ([]Sum, error) {
	return store.Rows(t.store.WithContext(ctx).Raw(sums+" AND a.id <= $3"+bySum, run, after, upTo), func(row store.Row) (Sum, error) { return scan(row) })
}

// present is how many frames of a shot are rendered and failed at one time.
type present struct{ rendering, failed int }

// since sums up the tries of a run after one, and counts what is rendered and has failed, all as it is at one time.
func (t *Tallies) since(ctx context.Context, run uuid.UUID, after int64) (out []Sum, now map[string]present, err error) {
	now = map[string]present{}
	_, err = store.Rows(t.store.WithContext(ctx).Raw(`WITH s AS (`+sums+bySum+`)
		SELECT false, * FROM s
		UNION ALL SELECT true, '', '', shot, now() AT TIME ZONE 'UTC', 0, count(*) FILTER (WHERE state = 'rendering'), count(*) FILTER (WHERE state = 'failed'), 0, 0, 0, 0, '[]', now(), now() FROM (
			SELECT shot, state FROM frames WHERE run_id = $1 AND state = 'rendering' UNION ALL SELECT shot, state FROM frames WHERE run_id = $1 AND state = 'failed') f GROUP BY shot`, run, after),
		func(row store.Row) (frames bool, err error) {
			s, err := scan(row, &frames)
			if frames {
				now[s.Shot] = present{rendering: s.Done, failed: s.Failed}
			} else {
				out = append(out, s)
			}
			return frames, err
		})
	return out, now, err
}
