package schedule

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/plans"
)

// decide accepts or declines a proposal. To accept one lets the run go by it, and spend what
// that takes beyond the cap; a second time it changes nothing. To decline one that was made
// is to undo it.
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
	case c.State == as, c.State == Undone && !accept:
		return c, nil
	case c.State == Made:
		return s.undo(ctx, c, by)
	case c.State != Proposed:
		return c, httpapi.Conflict(fmt.Sprintf("the proposal is %s: it cannot be decided any more; rotanex replan %s plans what is left as it is now", c.State, run.String()[:8]))
	}
	take := func(tx *gorm.DB) error {
		first, err := settle(tx, id, Proposed, as, by, s.Clock.Now())
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

// undo lets a run go by the schedule again that it had before its last change, as far as that
// can be: what is left goes to the crews that had it then, in the same proportions.
func (s *Schedule) undo(ctx context.Context, c Change, by string) (Change, error) {
	run, err := s.Runs.Find(ctx, c.RunID)
	if err != nil {
		return c, err
	}
	goesBy, err := s.Runs.GoesBy(ctx, run)
	if err != nil {
		return c, err
	}
	if goesBy != c.PlanID || len(c.Before.Plan.Bookings) == 0 {
		return c, httpapi.Conflict("only the last change of a run can be undone, and only one that Rotanex made; rotanex runs changes lists them")
	}
	seen, err := s.expect(ctx, run)
	if err != nil {
		return c, err
	}
	plan, without := replan.Again(seen.Problem, c.Before.Plan, planning.MillisOf(seen.Problem.Start.Sub(c.Before.At)))
	if len(without) > 0 {
		return c, httpapi.Conflict(fmt.Sprintf("of %s nobody is there any more who had it before; rotanex replan %s plans what is left", strings.Join(without, ", "), run.ID.String()[:8]))
	}
	solved := plans.Solved{Problem: seen.Problem, Plan: plan}
	if err := s.Plans.Record(ctx, &solved, seen.notes, seen.Uncertainty, replan.Outlooks, silent); err != nil {
		return c, err
	}
	if err := s.Plans.Keep(ctx, solved.Record); err != nil {
		return c, err
	}
	err = s.Runs.ChangeOver(ctx, run.ID, solved.Record.ID, "", func(tx *gorm.DB) error {
		first, err := settle(tx, c.ID, Made, Undone, by, s.Clock.Now())
		if err == nil && !first {
			err = httpapi.Conflict("somebody else has undone the change meanwhile")
		}
		return err
	})
	if err != nil {
		return c, err
	}
	return s.change(ctx, c.RunID, c.ID)
}
