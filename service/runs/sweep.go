package runs

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
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
	open, err := anyWaits(q.store.WithContext(ctx), run, shot)
	if err != nil || open {
		return err
	}
	return q.closeRuns(ctx, &run)
}

// closeRuns ends the given run, or all, that has no frame waiting or leased.
func (q *Runs) closeRuns(ctx context.Context, only *uuid.UUID) error {
	closed := 0
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		ended, err := endFinished(tx, only, q.clock.Now())
		if closed = len(ended); err != nil || closed == 0 {
			return err
		}
		for _, r := range ended {
			if err := bookings.SetOpen(tx, false, r.ID); err != nil {
				return err
			}
			if err := q.feed.Write(tx, events.Event{Kind: kindOf(r.Kind), Run: r.ID.String(), State: string(r.State)}); err != nil {
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
