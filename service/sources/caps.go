package sources

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
)

// Beyond says why one more expense would be too much: more than its run, or its
// source over all runs, may cost, what is committed already counted; "" if it is not.
// Expenses are weighed one after another: that of another transaction is seen. Sums
// are rounded once, as the plan's are.
func (s *Sources) Beyond(tx *gorm.DB, run uuid.UUID, source string, cost pricing.Money, what string) (string, error) {
	limit, err := lockCap(tx, run)
	if err != nil {
		return "", err
	}
	if limit != nil {
		spent, err := s.committedBy(tx, run)
		if err != nil {
			return "", err
		}
		if spent.Plus(cost).Rounded().Cmp(*limit) > 0 {
			return fmt.Sprintf("%s for %s %s would exceed the run's cap: %s are spent or committed of %s", what, s.currency, cost, spent, *limit), nil
		}
	}
	known, _, err := spec(tx, source)
	if err != nil || known.Cap == nil {
		return "", err
	}
	spent, err := s.spent(tx, "source = $1", source)
	if err == nil && spent.Plus(cost).Rounded().Cmp(*known.Cap) > 0 {
		return fmt.Sprintf("%s for %s %s would exceed the cap of %s: %s are spent or committed of %s", what, s.currency, cost, source, spent, *known.Cap), nil
	}
	return "", err
}

// committedBy is what a run has spent outside or is committed to. Hired seats are of the run
// alone: for the days they were planned, or longer.
func (s *Sources) committedBy(tx *gorm.DB, run uuid.UUID) (pricing.Money, error) {
	spent, err := s.spent(tx, "run_id = $1", run)
	if err != nil {
		return spent, err
	}
	hired, err := hiredFor(tx, run, s.clock.Now())
	return spent.Plus(hired), err
}

// Spare is what of a run's cap is neither spent nor committed; nil where it has none.
func (s *Sources) Spare(ctx context.Context, run uuid.UUID) (spare *pricing.Money, err error) {
	err = s.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		limit, err := lockCap(tx, run)
		if err != nil || limit == nil {
			return err
		}
		spent, err := s.committedBy(tx, run)
		left := limit.Minus(spent)
		spare = &left
		return err
	})
	return spare, err
}
