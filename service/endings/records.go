package endings

import (
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/forecast"
	"rotanex.example/service/states"
)

// forecasted is what was forecast of a run at a time.
type forecasted struct {
	RunID   uuid.UUID `gorm:"primaryKey"`
	Later   bool      `gorm:"primaryKey"` // half-way
	ToldAt  time.Time
	Waiting int               // frames
	Told    []forecast.Ending `gorm:"serializer:json"`
	EndedAt *time.Time
}

// halfDone reports whether at most half of the frames wait that did then.
func (f forecasted) halfDone(waiting int) bool { return 2*waiting <= f.Waiting }

// TableName is GORM's hook.
func (forecasted) TableName() string { return "endings" }

func firstOf(tx *gorm.DB, run uuid.UUID) (out forecasted, found bool, err error) {
	err = tx.Where("run_id = ? AND NOT later", run).Limit(1).Find(&out).Error
	return out, out.RunID != uuid.Nil, err
}

// keep stores what was forecast, unless there is one of the run so late.
func keep(tx *gorm.DB, f forecasted) error {
	return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&f).Error
}

func forget(tx *gorm.DB, run uuid.UUID) error {
	return tx.Where("run_id = ? AND ended_at IS NULL", run).Delete(&forecasted{}).Error
}

// newest is how many forecasts of runs that ended are learnt from: two of each run.
const newest = 200

func ended(tx *gorm.DB) (out []forecasted, err error) {
	return out, tx.Where("ended_at IS NOT NULL").Order("ended_at DESC, run_id").Limit(newest).Find(&out).Error
}

// drop forgets runs that tell nothing, and the oldest beyond those that are learnt from.
func drop(tx *gorm.DB) error {
	return tx.Exec(`DELETE FROM endings e WHERE ended_at IS NULL AND NOT EXISTS (SELECT FROM runs r WHERE r.id = e.run_id AND r.policy = 'auto' AND r.state IN (?, ?, ?))
		OR ended_at < (SELECT ended_at FROM endings WHERE ended_at IS NOT NULL ORDER BY ended_at DESC OFFSET ? LIMIT 1)`,
		states.RunRunning, states.RunPaused, states.RunComplete, newest).Error
}

// atOnce is how many forecasts of runs that ended are finished in one sweep.
const atOnce = 20

func overNow(tx *gorm.DB) (out []forecasted, err error) {
	return out, tx.Where("ended_at IS NULL AND run_id IN (SELECT id FROM runs WHERE state = ? AND ended_at IS NOT NULL)", states.RunComplete).Order("run_id, later").Limit(atOnce).Find(&out).Error
}

// end writes down when a run's shots ended.
func end(tx *gorm.DB, f forecasted) error {
	var last []struct {
		Shot string
		At   time.Time
	}
	if err := tx.Raw("SELECT shot, max(done_at) AS at FROM frames WHERE run_id = ? AND state = 'done' AND done_at IS NOT NULL GROUP BY 1", f.RunID).Scan(&last).Error; err != nil {
		return err
	}
	by := map[string]time.Time{}
	var over time.Time
	for _, l := range last {
		if by[l.Shot] = l.At; l.At.After(over) {
			over = l.At
		}
	}
	by[""] = over
	f.Told = slices.DeleteFunc(f.Told, func(e forecast.Ending) bool { return by[e.Shot].IsZero() })
	for i, e := range f.Told {
		f.Told[i].Ended = by[e.Shot].Sub(f.ToldAt).Seconds()
	}
	f.EndedAt = &over
	return tx.Model(&forecasted{}).Where("run_id = ? AND later = ?", f.RunID, f.Later).Select("Told", "EndedAt").Updates(&f).Error
}
