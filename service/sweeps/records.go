package sweeps

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Sweep is the record of one.
type Sweep struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Shot      string
	Request   []byte
	State     string
	Why       string
	BudgetS   float64
	Goal      float64
	Frames    int
	Beyond    []beyond `gorm:"serializer:json"`
	CreatedAt time.Time
	EndedAt   *time.Time
}

// beyond is a crew that a sweep cannot time within its budget.
type beyond struct {
	Crew string `json:"crew"`
	Why  string `json:"why"`
}

// end ends a sweep that is running; false: it is over already.
func end(tx *gorm.DB, id uuid.UUID, state, why string, at time.Time) (bool, error) {
	done := tx.Exec("UPDATE sweeps SET state = ?, why = ?, ended_at = ? WHERE id = ? AND state = 'running'", state, why, at, id)
	return done.RowsAffected > 0, done.Error
}

// claim makes a sweep the transaction's own, unless another service looks at it.
func claim(tx *gorm.DB, id uuid.UUID) (mine bool, err error) {
	return mine, tx.Raw("SELECT pg_try_advisory_xact_lock(hashtextextended(?, 0))", "sweep "+id.String()).Scan(&mine).Error
}
