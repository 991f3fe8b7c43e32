package sources

import (
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
)

// promised is money not charged yet: what a server that stands,
// or a job that a farm has, is expected to come to.
const promised = `
	SELECT s.run_id, o.source, s.host AS place, s.committed FROM servers s JOIN offers o ON o.name = s.offer
	WHERE s.state IN ('requested', 'starting', 'up', 'stopping', 'ending')
	UNION ALL SELECT run_id, source, id::text, committed FROM farm_jobs WHERE state NOT IN ('planned', 'ended', 'not-started')`

// Beyond says why one more expense would be too much: more than its run, or its
// source over all runs, may cost, what is promised already counted; "" if it is not.
// Expenses are weighed one after another: that of another transaction is seen. Sums
// are rounded once, as the plan's are.
func (s *Sources) Beyond(tx *gorm.DB, run uuid.UUID, source string, cost pricing.Money, what string) (string, error) {
	if err := tx.Exec("SELECT pg_advisory_xact_lock(7682263913)").Error; err != nil {
		return "", err
	}
	var capText *string
	if err := tx.Raw("SELECT cap::text FROM runs WHERE id = $1", run).Row().Scan(&capText); err != nil {
		return "", err
	}
	if capText != nil {
		limit, err := pricing.ParseMoney(*capText)
		if err != nil {
			return "", err
		}
		spent, err := s.spent(tx, "run_id = $1", run)
		if err != nil {
			return "", err
		}
		// Hired seats are of the run alone: for the days they were planned, or longer.
		var seats string
		err = tx.Raw(`SELECT coalesce(sum(h.seats * h.price * greatest(h.days, ceil(extract(epoch FROM $2::timestamptz - h.from_at) / 86400))), 0)::text
			FROM hired_seats h WHERE h.run_id = $1`, run, s.clock.Now()).Row().Scan(&seats)
		if err != nil {
			return "", err
		}
		hired, err := pricing.ParseMoney(seats)
		if err != nil {
			return "", err
		}
		spent = spent.Plus(hired)
		if spent.Plus(cost).Rounded().Cmp(limit) > 0 {
			return fmt.Sprintf("%s for %s %s would exceed the run's cap: %s are spent or promised of %s", what, s.currency, cost, spent, limit), nil
		}
	}
	known, _, err := spec(tx, source)
	if err != nil || known.Cap == nil {
		return "", err
	}
	spent, err := s.spent(tx, "source = $1", source)
	if err == nil && spent.Plus(cost).Rounded().Cmp(*known.Cap) > 0 {
		return fmt.Sprintf("%s for %s %s would exceed the cap of %s: %s are spent or promised of %s", what, s.currency, cost, source, spent, *known.Cap), nil
	}
	return "", err
}

// spent adds up what was charged and what is promised.
func (s *Sources) spent(tx *gorm.DB, which string, id any) (pricing.Money, error) {
	var sum string
	err := tx.Raw(`SELECT (coalesce((SELECT sum(cost) FROM charges WHERE `+which+`), 0)
		+ coalesce((SELECT sum(p.committed) FROM (`+promised+`) p WHERE `+which+` AND NOT EXISTS (SELECT FROM charges c WHERE c.place = p.place)), 0))::text`, id).Row().Scan(&sum)
	if err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(sum)
}
