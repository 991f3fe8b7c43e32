package farms

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/bookings"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
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
	State     states.Job
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
	case job.State != states.JobHeld || job.Accepted != nil:
		return job, httpapi.Conflict(fmt.Sprintf("the job is %s: only proof frames that wait for a person can be judged", job.State))
	}
	job.Accepted = &accept
	return job, db.Exec("UPDATE farm_jobs SET accepted = $1, look_at = NULL WHERE id = $2", accept, id).Error
}

func (f *Farms) find(ctx context.Context, id string) (job, bool, error) {
	return store.First(f.store.WithContext(ctx).Raw(`
		SELECT j.id, j.run_id, j.order_id, j.booking_id, j.shot, j.farm, j.source, j.crew, j.frames, j.state, to_json(j.proofs), j.seen_at, j.begun, j.accepted, r.state, r.accept_proofs, f.spec, s.spec,
		       coalesce(s.package, '[]'), coalesce((SELECT kind FROM licences WHERE pool = s.spec->>'licence'), '')
		FROM farm_jobs j JOIN runs r ON r.id = j.run_id JOIN farms f ON f.name = j.farm JOIN run_shots s ON s.run_id = j.run_id AND s.shot = j.shot
		WHERE j.id = $1::uuid`, id), func(row store.Row) (j job, err error) {
		return j, row.Scan(&j.id, &j.run, &j.order, &j.booking, &j.shot, &j.farm, &j.source, &j.crew, &j.frames, &j.state, store.JSON(&j.proofs), &j.seenAt, store.JSON(&j.begun), &j.accepted, &j.runState, &j.accepts,
			store.JSON(&j.tier), store.JSON(&j.shotSpec), store.JSON(&j.files), &j.licence)
	})
}

// set moves a job on from the state in which it was found; also may change more.
func (f *Farms) set(ctx context.Context, j job, state states.Job, trouble string, also func(tx *gorm.DB) error) error {
	moved := false
	err := f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE farm_jobs SET state = $3, trouble = CASE WHEN $4 = '' THEN trouble ELSE $4 END, look_at = NULL WHERE id = $1 AND state = $2", j.id, j.state, state, trouble)
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		moved = true
		if also != nil {
			if err := also(tx); err != nil {
				return err
			}
		}
		return f.feed.Write(tx, events.Event{Kind: events.Farm, Run: j.run.String(), Shot: j.shot, Host: j.farm, State: string(state), Cause: trouble})
	})
	if moved && err == nil {
		f.log.Info("farm job", "farm", j.farm, "shot", j.shot, "state", state, "trouble", trouble)
		f.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// working are the states in which a job holds frames.
const working = "'sending', 'analysing', 'queued', 'proofing', 'held', 'rendering'"

// holding lists the jobs that hold frames.
func holding(tx *gorm.DB) ([]uuid.UUID, error) {
	return store.Column[uuid.UUID](tx.Raw("SELECT id FROM farm_jobs WHERE state IN (" + working + ")"))
}

// takeDue lists the jobs whose turn it is, and puts off their next one. Of services that
// ask at once each job comes to one.
func takeDue(tx *gorm.DB, now, wall time.Time) ([]string, error) {
	return store.Column[string](tx.Raw(`UPDATE farm_jobs SET look_at = $2 WHERE id IN (
		SELECT j.id FROM farm_jobs j JOIN runs r ON r.id = j.run_id
		WHERE CASE WHEN j.state = 'planned' THEN j.from_at <= $1 AND r.state <> 'paused' OR r.state NOT IN ('running', 'paused')
		      ELSE j.state NOT IN ('ended', 'not-started') END AND coalesce(j.look_at, '-infinity') <= $3
		FOR UPDATE OF j SKIP LOCKED) RETURNING id::text`, now, wall.Add(lookEvery), wall))
}

// begun notes the frames that a job holds, its proof frames and what it is expected to come to.
func begun(tx *gorm.DB, job uuid.UUID, frames int, proofs []int, cost pricing.Money, at time.Time) error {
	return tx.Exec("UPDATE farm_jobs SET frames = $2, proofs = $3, committed = $4::numeric, sent_at = $5 WHERE id = $1", job, frames, proofs, cost.Rat().FloatString(12), at).Error
}

// noteCost notes what a job may come to, and since when its frames are in work.
func noteCost(tx *gorm.DB, job uuid.UUID, cost pricing.Money, since map[int]time.Time, at time.Time) error {
	begun, err := store.AsJSON(since)
	if err != nil {
		return err
	}
	return tx.Exec("UPDATE farm_jobs SET committed = $2::numeric, begun = coalesce(nullif($3::jsonb, 'null'), '{}'), seen_at = $4 WHERE id = $1", job, cost.Rat().FloatString(12), begun, at).Error
}

func noteTrouble(tx *gorm.DB, job uuid.UUID, trouble string) error {
	return tx.Exec("UPDATE farm_jobs SET trouble = $2 WHERE id = $1", job, trouble).Error
}

func handed(tx *gorm.DB, job uuid.UUID, at time.Time) error {
	return tx.Exec("UPDATE farm_jobs SET handed_at = $2 WHERE id = $1", job, at).Error
}

func accept(tx *gorm.DB, job uuid.UUID) error {
	return tx.Exec("UPDATE farm_jobs SET accepted = true WHERE id = $1 AND accepted IS NULL", job).Error
}

// noteSeen notes what a farm says of a job, and when its first frame began.
func noteSeen(tx *gorm.DB, job uuid.UUID, seen providers.JobStatus, at time.Time) error {
	findings, err := store.AsJSON(append([]string{}, seen.Findings...))
	if err != nil {
		return err
	}
	begun := seen.State != providers.Analysing && seen.State != providers.Queued && seen.State != providers.Rejected
	return tx.Exec(`UPDATE farm_jobs SET findings = $2, queue = $3, node_s = $4, started_at = CASE WHEN started_at IS NULL AND $5 THEN $6 ELSE started_at END WHERE id = $1`,
		job, findings, seen.Queue, seen.NodeSeconds, begun, at).Error
}

// committedOf is what the other jobs of a job's order at its farm are expected to come to.
func committedOf(tx *gorm.DB, j job) (pricing.Money, error) {
	var others string
	if err := tx.Raw("SELECT coalesce(sum(committed), 0)::text FROM farm_jobs WHERE order_id = $1 AND farm = $2 AND id <> $3", j.order, j.farm, j.id).Row().Scan(&others); err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(others)
}

// othersOpen reports whether other jobs of a job's order at its farm are still open.
func othersOpen(tx *gorm.DB, j job) (open bool, err error) {
	return open, tx.Raw(`SELECT EXISTS (SELECT FROM farm_jobs WHERE order_id = $1 AND farm = $2 AND id <> $3 AND (state IN (`+working+`) OR state = 'planned' AND EXISTS (
		SELECT FROM runs WHERE id = $4 AND state IN ('running', 'paused'))))`, j.order, j.farm, j.id, j.run).Row().Scan(&open)
}

func ended(tx *gorm.DB, job uuid.UUID, at time.Time, nodeSeconds float64) error {
	return tx.Exec("UPDATE farm_jobs SET ended_at = $2, node_s = $3 WHERE id = $1", job, at, nodeSeconds).Error
}

// holds lists the frames that a job has under lease.
func (f *Farms) holds(ctx context.Context, j job) ([]int, error) {
	return store.Column[int](f.store.WithContext(ctx).Raw("SELECT frame FROM frames WHERE boot = $1 AND state = 'rendering' ORDER BY frame", j.holder().ID))
}
