package queue

import (
	"errors"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/bookings"
)

// MakeRoom ends the leases of less urgent runs on devices for which a run owes frames, and
// lets its crews there begin at once. It returns how many frames wait again for that: it is
// not their failure, and their agents learn of it at their next heartbeat.
func (q *Queue) MakeRoom(tx *gorm.DB, run uuid.UUID) (frames int, err error) {
	now := q.clock.Now()
	if err := bookings.BeginNow(tx, run, now); err != nil {
		return 0, err
	}
	all, err := leases(tx, inTheWay+" ORDER BY id FOR UPDATE", run, now)
	for _, l := range all {
		err = errors.Join(err, q.handBack(tx, l, "given back for run "+run.String()[:8]+", which is more urgent"))
	}
	return len(all), err
}
