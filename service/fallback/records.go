package fallback

import (
	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// specOf reads a shot as it was when its run began.
func specOf(tx *gorm.DB, run uuid.UUID, shot string) (spec shots.Spec, err error) {
	return spec, tx.Raw("SELECT spec FROM run_shots WHERE run_id = $1 AND shot = $2", run, shot).Row().Scan(store.JSON(&spec))
}
