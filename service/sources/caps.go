package sources

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
)

// Room is what a cap has left for one place: a server or a farm's job.
type Room struct {
	Of         string // whose cap it is, such as "the run's cap"
	Cap, Spent pricing.Money
	Currency   string
}

// Left is what may still be spent there in all; less than nothing where the cap is exceeded.
func (r Room) Left() pricing.Money { return r.Cap.Minus(r.Spent) }

// Exceeded reports whether so much would be more than is left. Sums are rounded once, as the plan's are.
func (r Room) Exceeded(by pricing.Money) bool { return r.Spent.Plus(by).Rounded().Cmp(r.Cap) > 0 }

// String says how the cap stands.
func (r Room) String() string {
	return fmt.Sprintf("%s: %s %s are spent or committed of %s", r.Of, r.Currency, r.Spent, r.Cap)
}

// Room is how the cap stands that leaves least for a place of a run at a source, what is charged and what is committed
// elsewhere counted; nil where there is none. Expenses are weighed one after another: that of another transaction is seen.
func (s *Sources) Room(tx *gorm.DB, run uuid.UUID, source, place string) (*Room, error) {
	limit, err := lockCap(tx, run)
	if err != nil {
		return nil, err
	}
	var out *Room
	if limit != nil {
		spent, err := s.committedBy(tx, run, place)
		if err != nil {
			return nil, err
		}
		out = &Room{Of: "the run's cap", Cap: *limit, Spent: spent, Currency: s.currency}
	}
	known, _, err := spec(tx, source)
	if err != nil || known.Cap == nil {
		return out, err
	}
	spent, err := s.spent(tx, "source = $1", source, place)
	if of := (Room{Of: "the cap of " + source, Cap: *known.Cap, Spent: spent, Currency: s.currency}); out == nil || of.Left().Cmp(out.Left()) < 0 {
		out = &of
	}
	return out, err
}

// Beyond says why one more expense would be too much: more than its run, or its source over all runs, may cost; "" if it is not.
func (s *Sources) Beyond(tx *gorm.DB, run uuid.UUID, source string, cost pricing.Money, what string) (string, error) {
	room, err := s.Room(tx, run, source, "")
	if err != nil || room == nil || !room.Exceeded(cost) {
		return "", err
	}
	return fmt.Sprintf("%s for %s %s would exceed %s", what, s.currency, cost, room), nil
}

// committedBy is what a run has spent outside or is committed to, but for a place. Hired seats are of the run
// alone: for the days they were planned, or longer.
func (s *Sources) committedBy(tx *gorm.DB, run uuid.UUID, but string) (pricing.Money, error) {
	spent, err := s.spent(tx, "run_id = $1", run, but)
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
		spent, err := s.committedBy(tx, run, "")
		left := limit.Minus(spent)
		spare = &left
		return err
	})
	return spare, err
}
