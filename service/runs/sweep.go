package runs

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"rotanex.example/api"
	"rotanex.example/service/events"
)

// Sweep does what time brings about: leases that were not renewed end, and runs
// without open frames close. Any number of services may do so at once.
//
// With lenient set leases are left alone: after the service or the database was
// away, agents first get the time to renew what they could not.
func (q *Runs) Sweep(ctx context.Context, lenient bool) error {
	if !lenient {
		if err := q.expire(ctx); err != nil {
			return err
		}
	}
	if err := q.returnSeats(ctx); err != nil {
		return err
	}
	return q.closeRuns(ctx, nil)
}

func (q *Runs) expire(ctx context.Context) error {
	freed := 0
	err := pgx.BeginFunc(ctx, q.store.Pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+leasedColumns+" FROM frames WHERE state = 'leased' AND lease_until < $1 ORDER BY id FOR UPDATE SKIP LOCKED",
			q.clock.WallNow())
		if err != nil {
			return err
		}
		over, err := pgx.CollectRows(rows, scanLeased)
		if err != nil {
			return err
		}
		for _, l := range over {
			q.log.Warn("lease not renewed", "run", l.run, "shot", l.shot, "frame", l.frame, "host", l.host)
			if err := q.lose(ctx, tx, l, "the agent did not renew its lease"); err != nil {
				return err
			}
		}
		freed = len(over)
		return nil
	})
	if err == nil && freed > 0 {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// closeRuns ends the given run, or all, that has no frame waiting or leased.
func (q *Runs) closeRuns(ctx context.Context, only *uuid.UUID) error {
	closed := 0
	err := pgx.BeginFunc(ctx, q.store.Pool, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `
			UPDATE runs r SET ended_at = $1, state = CASE WHEN EXISTS (
				SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'failed') THEN 'incomplete' ELSE 'complete' END
			WHERE r.state IN ('running', 'paused') AND ($2::uuid IS NULL OR r.id = $2)
			  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'waiting')
			  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'leased')
			RETURNING r.id, r.kind, r.state`, q.clock.Now(), only)
		if err != nil {
			return err
		}
		type ended struct {
			ID          uuid.UUID
			Kind, State string
		}
		runs, err := pgx.CollectRows(rows, pgx.RowToStructByPos[ended])
		if err != nil {
			return err
		}
		var b pgx.Batch
		for _, r := range runs {
			b.Queue("UPDATE bookings SET open = false WHERE run_id = $1", r.ID)
			if err := q.feed.Insert(&b, api.Event{Kind: kindOf(r.Kind), Run: r.ID.String(), State: r.State}); err != nil {
				return err
			}
		}
		if closed = len(runs); closed == 0 {
			return nil
		}
		return tx.SendBatch(ctx, &b).Close()
	})
	if err == nil && closed > 0 {
		q.feed.Wake(events.Changes)
	}
	return err
}
