package shots

import (
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// State tells one state of all shots from another, and when it began.
func State(tx *gorm.DB) (state string, at time.Time, err error) {
	return state, at, tx.Raw("SELECT concat(count(*), ' ', max(updated_at)), coalesce(max(updated_at), 'epoch') FROM shots").Row().Scan(&state, &at)
}

// Files lists the scenes and inputs of all shots.
func Files(tx *gorm.DB) ([]string, error) {
	return store.Column[string](tx.Raw(`
		SELECT DISTINCT file FROM (SELECT spec->>'scene' AS file FROM shots
			UNION SELECT jsonb_array_elements_text(coalesce(spec->'inputs', '[]')) FROM shots) AS files ORDER BY 1`))
}

// Delete deletes a shot, and reports whether there was one.
func Delete(tx *gorm.DB, name string) (bool, error) {
	done := tx.Exec("DELETE FROM shots WHERE name = $1", name)
	return done.RowsAffected > 0, done.Error
}
