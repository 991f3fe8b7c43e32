package tally

import (
	"context"

	"github.com/google/uuid"

	"rotanex.example/service/store"
)

// totals counts the frames of each shot of a run.
func (t *Tallies) totals(ctx context.Context, run uuid.UUID) (map[string]total, error) {
	out := map[string]total{}
	_, err := store.Rows(t.store.WithContext(ctx).Raw("SELECT shot, count(*), count(from_run) FROM frames WHERE run_id = $1 GROUP BY 1", run), func(row store.Row) (shot string, err error) {
		var x total
		if err = row.Scan(&shot, &x.frames, &x.takenOver); err == nil {
			out[shot] = x
		}
		return shot, err
	})
	return out, err
}

// marks is the last try, with the first transaction that has not begun yet, and the oldest that is not over.
func (t *Tallies) marks(ctx context.Context) (m mark, oldest int64, err error) {
	return m, oldest, t.store.WithContext(ctx).Raw(`SELECT coalesce((SELECT max(id) FROM tries), 0), pg_snapshot_xmax(s)::text::bigint, pg_snapshot_xmin(s)::text::bigint
		FROM pg_current_snapshot() s`).Row().Scan(&m.try, &m.before, &oldest)
}

const sums = `SELECT a.host, a.crew, f.shot, date_trunc('day', a.ended_at AT TIME ZONE 'UTC') AS day, coalesce(a.booking_id, f.booking_id, 0) AS booking,
	count(*) FILTER (WHERE a.outcome = 'done') AS done, count(*) FILTER (WHERE a.outcome <> 'done') AS failed,
	coalesce(sum(a.seconds) FILTER (WHERE a.outcome = 'done'), 0) AS done_s, coalesce(sum(a.seconds) FILTER (WHERE a.outcome <> 'done'), 0) AS failed_s,
	coalesce(sum(greatest(a.seconds, extract(epoch FROM a.ended_at - a.started_at)::float8)) FILTER (WHERE a.outcome = 'done'), 0) AS held_s,
	coalesce(json_agg(DISTINCT a.cause) FILTER (WHERE a.cause <> ''), '[]') AS causes, min(a.started_at) AS first, max(a.ended_at) AS last
	FROM tries a, LATERAL (SELECT shot, booking_id FROM frames WHERE id = a.frame_id OFFSET 0) f WHERE a.run_id = $1 AND a.id > $2` // each frame by its number, however few or many tries are thought to be there

const bySum = " GROUP BY 1, 2, 3, 4, 5"

// scan reads a sum, and what stands before it.
func scan(row store.Row, before ...any) (s Sum, err error) {
	err = row.Scan(append(before, &s.Host, &s.Crew, &s.Shot, &s.Day, &s.Booking, &s.Done, &s.Failed, &s.DoneS, &s.FailedS, &s.HeldS, store.JSON(&s.Causes), &s.First, &s.Last)...)
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
		UNION ALL SELECT true, '', '', shot, now() AT TIME ZONE 'UTC', 0, count(*) FILTER (WHERE state = 'rendering'), count(*) FILTER (WHERE state = 'failed'), 0, 0, 0, '[]', now(), now() FROM (
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
