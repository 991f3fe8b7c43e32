package runs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/events"
)

// Alert tells where servers and farms have come to a share of what a run may cost.
// Each share is told once.
func (q *Runs) Alert(ctx context.Context) error {
	capped, err := toAlert(q.store.WithContext(ctx), q.clock.Now().Add(-lately))
	for _, id := range capped {
		err = errors.Join(err, q.alert(ctx, id))
	}
	return err
}

// lately is for how long after a run's end its last charges are awaited, by the
// service's clock.
const lately = 2 * time.Hour

func (q *Runs) alert(ctx context.Context, id uuid.UUID) error {
	run, err := q.find(ctx, id)
	if err != nil {
		return err
	}
	s, err := q.read(ctx, run)
	if err != nil {
		return err
	}
	spent, limit, passed, err := s.ShareSpent()
	if err != nil {
		return err
	}
	if passed <= s.Alerted {
		return nil
	}
	err = q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if first, err := setAlerted(tx, id, passed); err != nil || !first {
			return err
		}
		return q.feed.Write(tx, events.Event{Kind: events.Money, Run: id.String(), State: fmt.Sprint(passed), Cause: fmt.Sprintf("%s %s of %s, %d %% of the cap, are spent outside", s.Currency, spent, limit, passed)})
	})
	if err == nil {
		q.log.Warn("money", "run", id, "spent", spent.String(), "cap", limit.String(), "percent", passed)
		q.feed.Wake(events.Changes)
	}
	return err
}
