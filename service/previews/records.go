package previews

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/queue"
	"rotanex.example/service/store"
)

// lately lists the twenty newest runs that go on or are over, the newest first.
func lately(tx *gorm.DB) ([]uuid.UUID, error) {
	return store.Column[uuid.UUID](tx.Raw("SELECT id FROM runs WHERE kind = 'run' AND state IN ('running', 'paused', 'complete', 'incomplete') ORDER BY created_at DESC LIMIT 20"))
}

// doneSince reads finished frames behind a mark, in the order in which they were done.
func doneSince(tx *gorm.DB, run uuid.UUID, at mark, most int) (out []queue.Frame, err error) {
	return out, tx.Where("run_id = ? AND state = 'done' AND (done_at, id) > (?, ?) AND NOT warm_up AND repeat = 0", run, at.done, at.id).Order("done_at, id").Limit(most).Find(&out).Error
}
