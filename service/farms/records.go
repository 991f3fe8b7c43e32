package farms

import (
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/bookings"
	"rotanex.example/service/httpapi"
)

// Job is frames of one booking at a farm, as it is stored.
type Job struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	RunID     uuid.UUID
	OrderID   uuid.UUID // the same for all jobs of one plan of the run
	BookingID int64
	Shot      string
	Farm      string
	Source    string
	Crew      string
	Frames    int
	State     string
	FromAt    time.Time
	Accepted  *bool
	Findings  []string `gorm:"serializer:json;default:[]"`
	Queue     int
	Trouble   string
	SentAt    *time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
	Committed string `gorm:"default:0"`
	NodeS     float64
}

// TableName is GORM's hook.
func (Job) TableName() string { return "farm_jobs" }

// Add stores jobs that a run plans, in its transaction. Each is tied to one of the
// bookings, which are stored already: jobs and farms' bookings are in the same order.
func Add(tx *gorm.DB, jobs []Job, booked []bookings.Booking) error {
	at := 0
	for _, b := range booked {
		if b.Farm {
			jobs[at].BookingID = b.ID
			at++
		}
	}
	if len(jobs) == 0 {
		return nil
	}
	return tx.CreateInBatches(jobs, 2000).Error
}

// DropPlanned forgets the jobs of a run that were not begun.
func DropPlanned(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("DELETE FROM farm_jobs WHERE run_id = $1 AND state = 'planned'", run).Error
}

// Judge accepts or refuses the proof frames of a job.
func Judge(db *gorm.DB, id uuid.UUID, accept bool) (job Job, err error) {
	found := db.Where("id = ?", id).Limit(1).Find(&job)
	switch {
	case found.Error != nil:
		return job, found.Error
	case found.RowsAffected == 0:
		return job, httpapi.NotFound(fmt.Sprintf("there is no job %s; rotanex farms jobs RUN shows them", id))
	case job.Accepted != nil && *job.Accepted == accept:
		return job, nil
	case job.State != "held" || job.Accepted != nil:
		return job, httpapi.Conflict(fmt.Sprintf("the job is %s: only proof frames that wait for a person can be judged", job.State))
	}
	job.Accepted = &accept
	return job, db.Exec("UPDATE farm_jobs SET accepted = $1, look_at = NULL WHERE id = $2", accept, id).Error
}
