package schedule

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
	"rotanex.example/service/endings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/runs"
)

// Looked is how a run's schedule stood when it was looked at last.
type Looked struct {
	RunID    uuid.UUID `gorm:"primaryKey"`
	LookedAt time.Time
	Chance   *float64          // to be in time; nil while no frame waits
	Finish   *time.Time        // nil: never
	Wanted   *float64          // chance that was asked for
	MayLet   *string           // what the chance reckons with for servers on the way
	Kept     *endings.Kept     `gorm:"serializer:json"` // when it ends as it is planned anew; nil: it is not
	Seen     map[string]string `gorm:"serializer:json"` // see world
}

// TableName is GORM's hook.
func (Looked) TableName() string { return "schedules" }

// left is how long the run was expected to take still, as it was looked at; 0: not known.
func (l Looked) left() time.Duration {
	if l.Finish == nil {
		return 0
	}
	return l.Finish.Sub(l.LookedAt)
}

// State of a change.
type State string

// States of a change: a proposal becomes one of the others.
const (
	Proposed   State = "proposed"
	Made       State = "made"
	Declined   State = "declined"   // by a person
	Superseded State = "superseded" // by what was planned after it, or the run is over
	Undone     State = "undone"     // by a person, after it was made
)

// Change is a new schedule of what was left of a run.
type Change struct {
	ID           uuid.UUID `gorm:"primaryKey"`
	RunID        uuid.UUID
	At           time.Time
	State        State
	Cause, Gain  string
	DecidedBy    string
	DecidedAt    *time.Time // by a person
	PlanID       uuid.UUID
	ChanceBefore float64
	ChanceAfter  float64
	FinishBefore *time.Time
	FinishAfter  *time.Time
	CostBefore   string
	CostAfter    string
	More         string        // beyond the run's cap
	Moved        int           // frames that go to other crews
	Frames       int           // that were left
	Moves        []replan.Move `gorm:"serializer:json"`
	Before       Earlier       `gorm:"serializer:json"`
}

// Earlier is the schedule that a change took the place of.
type Earlier struct {
	At   time.Time     `json:"at,omitzero"` // that its plan counts from
	Plan planning.Plan `json:"plan"`
}

// TableName is GORM's hook.
func (Change) TableName() string { return "schedule_changes" }

func looked(tx *gorm.DB, run uuid.UUID) (out Looked, found bool, err error) {
	err = tx.Where("run_id = ?", run).Limit(1).Find(&out).Error
	return out, out.RunID != uuid.Nil, err
}

// note keeps how a run was seen.
func note(tx *gorm.DB, l Looked) error {
	return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "run_id"}}, DoUpdates: clause.AssignmentColumns([]string{"looked_at", "chance", "finish", "wanted", "may_let", "kept", "seen"})}).Create(&l).Error
}

// latest is the last change of a run; an empty one where there is none.
func latest(tx *gorm.DB, run uuid.UUID) (c Change, err error) {
	return c, tx.Where("run_id = ?", run).Order("at DESC, id").Limit(1).Find(&c).Error
}

// rests reports whether a schedule is left alone after its last change, which settles in a time.
func (c Change) rests(now time.Time, settles time.Duration) bool {
	if (c.State == Declined || c.State == Undone) && c.DecidedAt != nil {
		return now.Sub(*c.DecidedAt) < declined
	}
	return c.ID != uuid.Nil && now.Sub(c.At) < settles
}

// keptChanges is how many changes of a run are kept.
const keptChanges = 200

// add stores a change, and forgets the oldest of the run beyond so many.
func add(tx *gorm.DB, c Change) error {
	if err := tx.Create(&c).Error; err != nil {
		return err
	}
	newest := tx.Model(&Change{}).Select("id").Where("run_id = ?", c.RunID).Order("at DESC, id").Limit(keptChanges)
	return tx.Where("run_id = ? AND id NOT IN (?)", c.RunID, newest).Delete(&Change{}).Error
}

// supersede lets no proposal for a run stand any more.
func supersede(tx *gorm.DB, run uuid.UUID) error {
	return tx.Model(&Change{}).Where("run_id = ? AND state = ?", run, Proposed).Update("state", Superseded).Error
}

// changes lists the changes of a run, newest first.
func (s *Schedule) changes(ctx context.Context, run uuid.UUID) (out []Change, err error) {
	return out, s.Store.WithContext(ctx).Where("run_id = ?", run).Order("at DESC, id").Find(&out).Error
}

// change finds one of a run's changes.
func (s *Schedule) change(ctx context.Context, run, id uuid.UUID) (out Change, err error) {
	if err = s.Store.WithContext(ctx).Where("run_id = ? AND id = ?", run, id).Limit(1).Find(&out).Error; err == nil && out.ID == uuid.Nil {
		err = httpapi.NotFound(fmt.Sprintf("run %s has no change %s; rotanex runs changes %s lists them", run, id, run.String()[:8]))
	}
	return out, err
}

// settle moves a change from one state to another; false: somebody else has moved it.
func settle(tx *gorm.DB, id uuid.UUID, from, state State, by string, at time.Time) (bool, error) {
	done := tx.Model(&Change{}).Where("id = ? AND state = ?", id, from).Updates(map[string]any{"state": state, "decided_by": by, "decided_at": at})
	return done.RowsAffected > 0, done.Error
}

// world is what bears on a run's schedule and comes from outside of it, each thing with how
// it stands. What goes as it is planned is not in it: a server that starts when it should.
func (s *Schedule) world(tx *gorm.DB, run runs.Run) (map[string]string, error) {
	var rows []struct{ What, Stands string }
	err := tx.Raw(`
		SELECT 'host ' || h.name AS what, CASE WHEN h.draining THEN 'draining' WHEN h.trouble <> '' THEN 'lost' WHEN h.agent_seen <= ? OR h.agent_seen IS NULL THEN 'lost'
			WHEN h.desk->>'state' IN ('in-use', 'taken-back') THEN replace(h.desk->>'state', '-', ' ') ELSE 'up' END AS stands
			FROM hosts h WHERE NOT EXISTS (SELECT FROM servers s WHERE s.host = h.name)
		UNION ALL SELECT 'server ' || host, trouble FROM servers WHERE run_id = ? AND trouble <> '' AND state IN ('stopping', 'ending', 'stopped', 'not-started')
		UNION ALL SELECT 'job at ' || farm || ' for ' || shot, state FROM farm_jobs WHERE run_id = ? AND state IN ('rejected', 'refused')
		UNION ALL SELECT DISTINCT 'crew ' || host || '/' || crew || ' for ' || shot, excluded FROM bookings WHERE run_id = ? AND excluded <> ''
		UNION ALL SELECT 'run ' || left(id::text, 8), priority::text FROM runs WHERE kind = 'run' AND state = 'running' AND id <> ?
		UNION ALL SELECT 'source ' || name, md5(spec::text) FROM sources
		UNION ALL SELECT 'offer ' || name, md5(spec::text) FROM offers
		UNION ALL SELECT 'farm ' || name, md5(spec::text) FROM farms
		UNION ALL SELECT 'cap', coalesce(cap::text, 'none') FROM runs WHERE id = ?
		UNION ALL SELECT 'priority', priority::text FROM runs WHERE id = ?
		UNION ALL SELECT 'deadline', coalesce(deadline::text, 'as planned') FROM runs WHERE id = ?`,
		s.Clock.WallNow().Add(-hosts.LostLong), run.ID, run.ID, run.ID, run.ID, run.ID, run.ID, run.ID).Scan(&rows).Error
	out := map[string]string{}
	for _, r := range rows {
		out[r.What] = r.Stands
	}
	return out, err
}
