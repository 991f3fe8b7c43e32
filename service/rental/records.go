package rental

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Server is a rented server of a run.
type Server struct {
	RunID     uuid.UUID `gorm:"primaryKey"`
	ID        string    `gorm:"primaryKey"`
	Offer     string
	Host      string
	State     string
	FromAt    time.Time
	ToAt      time.Time
	PaidAt    time.Time // until when the plan pays for it
	StartedAt *time.Time
	StoppedAt *time.Time
	Trouble   string
	Image     string
	UpAt      *time.Time
	Committed string `gorm:"default:0"`
}

// Add stores servers that a run plans, in its transaction.
func Add(tx *gorm.DB, servers []Server) error {
	if len(servers) == 0 {
		return nil
	}
	return tx.CreateInBatches(servers, 2000).Error
}

// DropPlanned forgets the servers of a run that nobody asked for yet.
func DropPlanned(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("DELETE FROM servers WHERE run_id = $1 AND state = 'planned'", run).Error
}
