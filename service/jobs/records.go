package jobs

import (
	"errors"

	"gorm.io/gorm"
)

// freeOwn lets the jobs that a service of that name was doing when it died be done again.
func freeOwn(tx *gorm.DB, name string) error {
	return tx.Exec("UPDATE river_job SET state = 'available', scheduled_at = now() WHERE state = 'running' AND attempted_by[array_upper(attempted_by, 1)] = $1", name).Error
}

// Restored lets the jobs of a backup that were under way be done again.
func Restored(tx *gorm.DB) error {
	return errors.Join(tx.Exec("UPDATE river_job SET state = 'available', scheduled_at = now() WHERE state = 'running'").Error, tx.Exec("DELETE FROM river_leader").Error)
}
