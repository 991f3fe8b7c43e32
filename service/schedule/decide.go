package schedule

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/service/httpapi"
)

// decide accepts or declines a proposal. To accept one lets the run go by it, and spend what
// that takes beyond the cap; a second time it changes nothing.
func (s *Schedule) decide(ctx context.Context, run, id uuid.UUID, accept bool, by string) (Change, error) {
	c, err := s.change(ctx, run, id)
	if err != nil {
		return c, err
	}
	as := Declined
	if accept {
		as = Made
	}
	switch {
	case c.State == as:
		return c, nil
	case c.State != Proposed:
		return c, httpapi.Conflict(fmt.Sprintf("the proposal is %s: it cannot be decided any more; rotanex replan %s plans what is left as it is now", c.State, run.String()[:8]))
	}
	take := func(tx *gorm.DB) error {
		first, err := settle(tx, id, as, by)
		if err == nil && !first {
			err = httpapi.Conflict("somebody else has decided the proposal meanwhile")
		}
		return err
	}
	if !accept {
		err = s.Store.WithContext(ctx).Transaction(take)
	} else {
		var spend string
		if spend, err = s.spend(ctx, c); err == nil {
			err = s.Runs.ChangeOver(ctx, run, c.PlanID, spend, take)
		}
	}
	if err != nil {
		return c, err
	}
	return s.change(ctx, run, id)
}

// spend is the cap of the run once it goes by a proposal; "" for the one that it has.
func (s *Schedule) spend(ctx context.Context, c Change) (string, error) {
	more, err := pricing.ParseMoney(c.More)
	if err != nil || more.IsZero() {
		return "", err
	}
	run, err := s.Runs.Find(ctx, c.RunID)
	if err != nil {
		return "", err
	}
	limit := pricing.Money{}
	if run.Cap != nil {
		if limit, err = pricing.ParseMoney(*run.Cap); err != nil {
			return "", err
		}
	}
	return limit.Plus(more).String(), nil
}
