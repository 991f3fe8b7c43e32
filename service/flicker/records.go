package flicker

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/queue"
	"rotanex.example/service/store"
)

// afterwards is for how long a run that is over is looked at still.
const afterwards = time.Hour

// lately lists the twenty newest runs that go on or ended a while ago, the newest first.
func lately(tx *gorm.DB, now time.Time) ([]uuid.UUID, error) {
	return store.Column[uuid.UUID](tx.Raw(`SELECT id FROM runs WHERE kind = 'run' AND (state IN ('running', 'paused') OR state IN ('complete', 'incomplete') AND ended_at > $1)
		ORDER BY created_at DESC LIMIT 20`, now.Add(-afterwards)))
}

// finished reads the finished frames of a shot, in their order.
func finished(tx *gorm.DB, run uuid.UUID, shot string) (out []queue.Frame, err error) {
	return out, tx.Where("run_id = ? AND shot = ? AND state = 'done' AND NOT warm_up AND repeat = 0", run, shot).Order("frame").Find(&out).Error
}
