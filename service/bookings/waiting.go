package bookings

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
)

// WaitingKinds lists what waits of a shot, alike to the rule, with how many there are of each.
func WaitingKinds(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	all, err := Kinds(tx, run, shot)
	if err != nil || len(all) == 0 {
		return all, err
	}
	fresh, err := CountWaiting(tx, run, shot, 0)
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
