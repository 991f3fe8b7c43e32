package queue

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/licences"
	"rotanex.example/service/store"
)

// WaitingKinds lists what waits of a shot, alike to the rule, with how many there are of each.
func WaitingKinds(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	all, err := kinds(tx, run, shot)
	if err != nil || len(all) == 0 {
		return all, err
	}
	fresh, err := countWaiting(tx, run, shot)
	for _, k := range all {
		if k.Tried {
			fresh -= k.Waiting
		}
	}
	for i := range all {
		if !all[i].Tried {
			all[i].Waiting = fresh
		}
	}
	return all, err
}

// Untie lets frames of a run that ran out of memory go to whom a new plan books, where
// nobody is left of those that they were tied to: the plan knows by now what they need.
func (q *Queue) Untie(tx *gorm.DB, run uuid.UUID) error {
	all, err := bookings.OfRun(tx, q.clock.WallNow(), run, "")
	if err != nil {
		return err
	}
	done := map[string]bool{}
	for _, c := range all {
		shot := c.Shot
		if done[shot] {
			continue
		}
		done[shot] = true
		waiting, err := kinds(tx, run, shot)
		if err != nil {
			return err
		}
		for _, k := range waiting {
			if left, _ := dispatch.Left(&k, bookings.OfShot(all, shot), q.clock.Now()); left || len(k.OnlyOn) == 0 {
				continue
			}
			tied, err := store.AsJSON(k.OnlyOn)
			if err != nil {
				return err
			}
			err = tx.Exec("UPDATE frames SET only_on = '[]' WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND only_on = $3::jsonb", run, shot, tied).Error
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// order is that in which frames of a shot are taken.
const order = "warm_up DESC, repeat, frame"

// kinds reads what waits of a shot, alike to the rule, the first frame's kind first.
// How many of those never tried wait is left out: it takes counting them.
func kinds(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	type first struct {
		dispatch.Kind
		warmUp        bool
		repeat, frame int
	}
	found, err := store.Rows(tx.Raw(`
		SELECT * FROM (
			(SELECT id, false AS tried, failed_on, only_on, 1 AS n, warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND failures = 0 ORDER BY `+order+` LIMIT 1)
			UNION ALL
			(SELECT DISTINCT ON (failed_on, only_on) id, true, failed_on, only_on, count(*) OVER (PARTITION BY failed_on, only_on), warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND failures > 0 ORDER BY failed_on, only_on, `+order+`)) k
		ORDER BY `+order, run, shot), func(row store.Row) (f first, err error) {
		return f, row.Scan(&f.First, &f.Tried, store.JSON(&f.FailedOn), store.JSON(&f.OnlyOn), &f.Waiting, &f.warmUp, &f.repeat, &f.frame)
	})
	out := make([]dispatch.Kind, len(found))
	for i, f := range found {
		out[i] = f.Kind
	}
	return out, err
}

// countWaiting is how many frames of a shot wait.
func countWaiting(tx *gorm.DB, run uuid.UUID, shot string) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'", run, shot).Row().Scan(&n)
}

// kinds reads what waits of shots, each once.
func (q *Queue) kinds(tx *gorm.DB) licences.Waiting {
	g := &granting{q: q, tx: tx, kinds: map[runShot][]dispatch.Kind{}}
	return g.known
}
