package runs

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/store"
)

// Sweep closes runs without open frames. Any number of services may do so at once.
func (q *Runs) Sweep(ctx context.Context) error { return q.closeRuns(ctx, nil) }

// tryEnded looks at a run of which a try of a frame has ended: it is over if that was its
// last frame. Two last frames that end at once may each see the other open; Sweep closes
// such a run.
func (q *Runs) tryEnded(ctx context.Context, run uuid.UUID, shot string, trial bool) error {
	if trial && q.TrialFrameDone != nil {
		if err := q.TrialFrameDone(ctx, run); err != nil {
			q.log.Warn("looking whether a trial knows enough", "run", run, "error", err)
		}
	}
	var open bool
	err := q.store.WithContext(ctx).Raw("SELECT EXISTS (SELECT 1 FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting')", run, shot).Row().Scan(&open)
	if err != nil || open {
		return err
	}
	return q.closeRuns(ctx, &run)
}

// closeRuns ends the given run, or all, that has no frame waiting or leased.
func (q *Runs) closeRuns(ctx context.Context, only *uuid.UUID) error {
	closed := 0
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		ended, err := store.Rows(tx.Raw(`
			UPDATE runs r SET ended_at = $1, state = CASE WHEN EXISTS (
				SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'failed') THEN 'incomplete' ELSE 'complete' END
			WHERE r.state IN ('running', 'paused') AND ($2::uuid IS NULL OR r.id = $2)
			  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'waiting')
			  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'rendering')
			RETURNING r.id, r.kind, r.state`, q.clock.Now(), only), func(row store.Row) (r Run, err error) {
			return r, row.Scan(&r.ID, &r.Kind, &r.State)
		})
		if closed = len(ended); err != nil || closed == 0 {
			return err
		}
		for _, r := range ended {
			if err := bookings.SetOpen(tx, false, r.ID); err != nil {
				return err
			}
			if err := q.feed.Write(tx, events.Event{Kind: kindOf(r.Kind), Run: r.ID.String(), State: r.State}); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && closed > 0 {
		q.feed.Wake(events.Changes)
	}
	return err
}
