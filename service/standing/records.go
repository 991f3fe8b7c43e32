package standing

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/frames"
	"rotanex.example/service/endings"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Known answers with a problem if there is no such run.
func (s *Standing) Known(ctx context.Context, run uuid.UUID) error {
	var there bool
	err := s.store.WithContext(ctx).Raw("SELECT EXISTS (SELECT FROM runs WHERE id = $1 AND kind IN ('run', 'trial'))", run).Row().Scan(&there)
	if err == nil && !there {
		err = httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", run))
	}
	return err
}

// paces is what finished frames took a host's crews in a run, by shot and crew.
func paces(tx *gorm.DB, run uuid.UUID, host string) (map[string]float64, error) {
	type pace struct {
		key     string
		seconds float64
	}
	all, err := store.Rows(tx.Raw(`SELECT f.shot || ' ' || a.crew, avg(a.seconds) FROM tries a JOIN frames f ON f.id = a.frame_id
		WHERE a.run_id = $1 AND a.host = $2 AND a.outcome = 'done' GROUP BY 1`, run, host), func(row store.Row) (p pace, err error) {
		return p, row.Scan(&p.key, &p.seconds)
	})
	out := map[string]float64{}
	for _, p := range all {
		out[p.key] = p.seconds
	}
	return out, err
}

func runState(tx *gorm.DB, run uuid.UUID) (state states.Run, err error) {
	return state, tx.Raw("SELECT state FROM runs WHERE id = $1", run).Row().Scan(&state)
}

// neverTried counts the waiting frames of a shot that were never tried.
func neverTried(tx *gorm.DB, run uuid.UUID, shot string) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND NOT tried", run, shot).Row().Scan(&n)
}

// place counts the waiting frames that are alike to a frame, and those before it.
func place(tx *gorm.DB, frame int64) (alike, ahead int, err error) {
	return alike, ahead, tx.Raw(`
		SELECT count(*) FILTER (WHERE (f.failures > 0, f.failed_on, f.only_on) = (own.failures > 0, own.failed_on, own.only_on)),
		       count(*) FILTER (WHERE f.failures > 0 AND own.failures = 0 OR (f.failures > 0) = (own.failures > 0) AND (f.repeat, f.frame) < (own.repeat, own.frame))
		FROM frames f, frames own WHERE own.id = $1 AND f.run_id = own.run_id AND f.shot = own.shot AND f.state = 'waiting'`, frame).Row().Scan(&alike, &ahead)
}

// pausedRuns lists the paused runs that have a host booked.
func pausedRuns(tx *gorm.DB, host string) ([]string, error) {
	return store.Column[string](tx.Raw("SELECT DISTINCT r.id::text FROM bookings b JOIN runs r ON r.id = b.run_id WHERE b.host = $1 AND b.open AND r.state = 'paused'", host))
}

// alike reads finished frames of a holder's shot, with the same settings, that were rendered
// elsewhere, the nearest to a frame first.
func alike(tx *gorm.DB, h queue.Holder, frame, n int) ([]queue.Frame, error) {
	return store.Rows(tx.Raw(`
		WITH own AS (SELECT spec FROM run_shots WHERE run_id = $1 AND shot = $2)
		SELECT f.run_id, f.shot, f.frame, f.repeat, f.fence, f.host, f.picture FROM frames f JOIN run_shots s USING (run_id, shot), own
		WHERE f.shot = $2 AND f.state = 'done' AND f.from_run IS NULL AND NOT f.warm_up AND (f.format <> 'exr' OR jsonb_exists(f.seen, 'layers')) AND f.host <> $3
		  AND (s.spec->>'scene', s.spec->>'width', s.spec->>'height', coalesce(s.spec->'settings', '{}')) = (own.spec->>'scene', own.spec->>'width', own.spec->>'height', coalesce(own.spec->'settings', '{}'))
		ORDER BY abs(f.frame - $4), f.done_at DESC LIMIT $5`, h.Run, h.Shot, h.Place, frame, n), func(row store.Row) (f queue.Frame, err error) {
		err = row.Scan(&f.RunID, &f.Shot, &f.Frame, &f.Repeat, &f.Fence, &f.Host, &f.Picture)
		return f, err
	})
}

// needed is a frame of another shot that one needs, and that is not done.
type needed struct {
	Shot  string
	State queue.State
}

// needs lists what a blocked frame waits for.
func needs(tx *gorm.DB, f queue.Frame) (out []needed, err error) {
	return out, tx.Raw(`SELECT i.shot, i.state FROM run_shots s, jsonb_array_elements_text(s.spec->'after') WITH ORDINALITY AS a (shot, n), frames i
		WHERE s.run_id = ? AND s.shot = ? AND i.run_id = s.run_id AND i.shot = a.shot AND i.frame = ? AND i.state <> 'done' ORDER BY a.n`, f.RunID, f.Shot, f.Frame).Scan(&out).Error
}

// OpenFrames counts the frames of open runs by state.
func (s *Standing) OpenFrames(ctx context.Context) (map[queue.State]int, error) {
	var found []struct {
		State queue.State
		N     int
	}
	err := s.store.WithContext(ctx).Raw(`
		SELECT f.state, count(*) AS n FROM frames f JOIN runs r ON r.id = f.run_id WHERE r.state IN ('running', 'paused') GROUP BY 1`).Scan(&found).Error
	out := map[queue.State]int{}
	for _, f := range found {
		if f.State == queue.Blocked {
			f.State = queue.Waiting
		}
		out[f.State] += f.N
	}
	return out, err
}

// openRun is a run that has not ended.
type openRun struct {
	ID    uuid.UUID
	State states.Run
}

// openRuns lists them, the oldest first.
func openRuns(tx *gorm.DB) (out []openRun, err error) {
	return out, tx.Raw("SELECT id, state FROM runs WHERE kind = 'run' AND state IN ? ORDER BY created_at, id", []states.Run{states.RunRunning, states.RunPaused}).Scan(&out).Error
}

// proposals counts the changes of a run's schedule that wait for a person.
func proposals(tx *gorm.DB, run uuid.UUID) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM schedule_changes WHERE run_id = ? AND state = 'proposed'", run).Scan(&n).Error
}

// heldJob is a job at a farm whose proof frames nobody has looked at.
type heldJob struct {
	ID         uuid.UUID
	Shot, Farm string
	Frames     int
}

func heldJobs(tx *gorm.DB, run uuid.UUID) (out []heldJob, err error) {
	return out, tx.Raw("SELECT id, shot, farm, frames FROM farm_jobs WHERE run_id = ? AND state = ? AND accepted IS NULL ORDER BY shot, farm", run, states.JobHeld).Scan(&out).Error
}

// Outlook is what is expected of a run's schedule, as package schedule found when it looked
// last; nothing before it has.
type Outlook struct {
	LookedAt *time.Time
	Chance   *float64
	Finish   *time.Time
	MayLet   *string
	Kept     *endings.Kept `gorm:"serializer:json"`
	Asks     int           // proposals that wait for a person
}

// ReadOutlook reads a run's.
func ReadOutlook(tx *gorm.DB, run uuid.UUID) (o Outlook, err error) {
	return o, tx.Raw(`SELECT s.looked_at, s.chance, s.finish, s.may_let, s.kept, (SELECT count(*) FROM schedule_changes c WHERE c.run_id = r.id AND c.state = 'proposed') AS asks
		FROM runs r LEFT JOIN schedules s ON s.run_id = r.id WHERE r.id = ?`, run).Scan(&o).Error
}

// InHand is frames of one shot that one crew renders now.
type InHand struct {
	RunID      uuid.UUID
	Shot, Host string
	Crew       string
	Devices    []string `gorm:"serializer:json"`
	Frames     int
	Since      time.Time
	FrameS     float64
	Nodes      int
	Farm       bool
}

// Rendering reads what of runs is being rendered, by crew.
func Rendering(tx *gorm.DB) (out []InHand, err error) {
	return out, tx.Raw(`SELECT f.run_id, f.shot, f.host, f.crew, coalesce(f.devices, '[]') AS devices, count(*) AS frames, min(f.leased_at) AS since,
			coalesce(max(b.frame_s), 0) AS frame_s, coalesce(max(b.nodes), 1) AS nodes, j.id IS NOT NULL AS farm
		FROM frames f JOIN runs r ON r.id = f.run_id LEFT JOIN bookings b ON b.id = f.booking_id LEFT JOIN farm_jobs j ON j.booking_id = f.booking_id
		WHERE f.state = 'rendering' AND r.kind = 'run' GROUP BY 1, 2, 3, 4, 5, j.id ORDER BY 3, 4`).Scan(&out).Error
}

// LastDone is when a run's last frames were done, so many of them, newest first.
func LastDone(tx *gorm.DB, run uuid.UUID, most int) ([]time.Time, error) {
	return store.Column[time.Time](tx.Raw("SELECT done_at FROM frames WHERE run_id = ? AND state = 'done' AND from_run IS NULL ORDER BY done_at DESC LIMIT ?", run, most))
}

// shotsOfMap reads how all frames of a run are, by shot.
func shotsOfMap(tx *gorm.DB, run uuid.UUID) ([]shotStates, error) {
	return store.Rows(tx.Raw(`SELECT shot, string_agg(CASE state WHEN 'blocked' THEN 'w' ELSE left(state, 1) END, '' ORDER BY frame), json_agg(frame ORDER BY frame) FROM frames
		WHERE run_id = $1 AND NOT warm_up AND repeat = 0 GROUP BY 1 ORDER BY 1`, run), func(row store.Row) (x shotStates, err error) {
		var numbers []int
		var states string
		err = row.Scan(&x.shot, &states, store.JSON(&numbers))
		x.states, x.numbers = []byte(states), frames.Of(numbers...)
		return x, err
	})
}

// failedFrames reads what of a run failed for good, by cause and shot, the most first.
func failedFrames(tx *gorm.DB, run uuid.UUID) ([]FailedFrames, error) {
	return store.Rows(tx.Raw(`SELECT cause, shot, json_agg(frame ORDER BY frame) FROM frames WHERE run_id = $1 AND state = 'failed' AND NOT warm_up AND repeat = 0
		GROUP BY 1, 2 ORDER BY count(*) DESC, 1, 2`, run), func(row store.Row) (x FailedFrames, err error) {
		var numbers []int
		err = row.Scan(&x.Cause, &x.Shot, store.JSON(&numbers))
		x.Frames = frames.Of(numbers...)
		return x, err
	})
}

// markedFrames reads which finished frames of a run are to be looked at, by why and shot: those with values that are no number, and
// those that flicker.
func markedFrames(tx *gorm.DB, run uuid.UUID) ([]FailedFrames, error) {
	return store.Rows(tx.Raw(`SELECT CASE WHEN jsonb_exists(seen, 'not_finite') THEN $2 ELSE concat($3::text, seen->'flicker'->>'kind') END, shot, json_agg(frame ORDER BY frame) FROM frames
		WHERE run_id = $1 AND (jsonb_exists(seen, 'not_finite') OR jsonb_exists(seen, 'flicker')) AND state = 'done' AND NOT warm_up AND repeat = 0
		GROUP BY 1, 2 ORDER BY 2, 1`, run, NotFinite, Flickers), func(row store.Row) (x FailedFrames, err error) {
		var numbers []int
		err = row.Scan(&x.Cause, &x.Shot, store.JSON(&numbers))
		x.Frames = frames.Of(numbers...)
		return x, err
	})
}

// lastFrames are the frames of a run that were done last, newest first.
func lastFrames(tx *gorm.DB, run uuid.UUID, most int) (out []queue.Frame, err error) {
	return out, tx.Where("run_id = ? AND state = 'done' AND NOT warm_up AND repeat = 0", run).Order("done_at DESC").Limit(most).Find(&out).Error
}
