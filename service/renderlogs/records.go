package renderlogs

import (
	"github.com/google/uuid"
	"gorm.io/gorm"
)

// try is whose log it is.
type try struct {
	run   uuid.UUID
	shot  string
	frame int
}

func tryOf(tx *gorm.DB, host string, frame, fence int64) (t try, err error) {
	return t, tx.Raw("SELECT f.run_id, f.shot, f.frame FROM tries a JOIN frames f ON f.id = a.frame_id WHERE a.frame_id = $1 AND a.fence = $2 AND a.host = $3", frame, fence, host).
		Row().Scan(&t.run, &t.shot, &t.frame)
}
