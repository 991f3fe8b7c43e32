package queue

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/licences"
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

// kinds reads what waits of shots, each once.
func (q *Queue) kinds(tx *gorm.DB) licences.Waiting {
	g := &granting{q: q, tx: tx, kinds: map[runShot][]dispatch.Kind{}}
	return g.known
}
