// Package alerts tells of a run whose servers and farms have come to a share of what they may cost.
package alerts

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/accounts"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/runs"
	"rotanex.example/service/store"
)

// Alerts tells.
type Alerts struct {
	store    *store.Store
	clock    clock.Clock
	feed     *events.Feed
	runs     *runs.Runs
	accounts *accounts.Accounts
	log      *slog.Logger
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, r *runs.Runs, a *accounts.Accounts, log *slog.Logger) *Alerts {
	return &Alerts{s, c, f, r, a, log}
}

// Sweep tells where servers and farms have come to a share of what a run may cost.
// Each share is told once.
func (a *Alerts) Sweep(ctx context.Context) error {
	capped, err := runs.ToAlert(a.store.WithContext(ctx), a.clock.Now().Add(-lately))
	for _, id := range capped {
		err = errors.Join(err, a.alert(ctx, id))
	}
	return err
}

// lately is for how long after a run's end its last charges are awaited, by the
// service's clock.
const lately = 2 * time.Hour

func (a *Alerts) alert(ctx context.Context, id uuid.UUID) error {
	run, err := a.runs.Find(ctx, id)
	if err != nil {
		return err
	}
	s, err := a.accounts.Of(ctx, id)
	if err != nil {
		return err
	}
	spent, limit, passed, err := s.ShareSpent()
	if err != nil {
		return err
	}
	if passed <= run.Alerted {
		return nil
	}
	err = a.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if first, err := runs.SetAlerted(tx, id, passed); err != nil || !first {
			return err
		}
		return a.feed.Write(tx, events.Event{Kind: events.Money, Run: id.String(), State: fmt.Sprint(passed), Cause: fmt.Sprintf("%s %s of %s, %d %% of the cap, are spent outside", s.Currency, spent, limit, passed)})
	})
	if err == nil {
		a.log.Warn("money", "run", id, "spent", spent.String(), "cap", limit.String(), "percent", passed)
		a.feed.Wake(events.Changes)
	}
	return err
}
