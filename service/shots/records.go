package shots

import (
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/store"
)

// lately is for how long hosts look for the input files of a shot that nobody asks about any more, unless it is rendered.
const (
	lately    = 14 * 24 * time.Hour
	toTheHour = time.Hour
)

// listed are the shots whose input files hosts look for at a time: what they may be given next.
const listed = `shots s WHERE s.asked_at > @since OR EXISTS (
	SELECT FROM run_shots x JOIN runs r ON r.id = x.run_id WHERE x.shot = s.name AND r.state IN ('running', 'paused'))`

func at(now time.Time) map[string]any { return map[string]any{"since": now.Add(-lately)} }

// Listed tells one list of input files from another, and says up to when its shots changed.
func Listed(tx *gorm.DB, now time.Time) (state string, to time.Time, err error) {
	return state, to, tx.Raw(`SELECT concat(count(*), ' ', max(greatest(updated_at, listed_at))), coalesce(max(greatest(updated_at, listed_at)), 'epoch') FROM `+listed, at(now)).Row().Scan(&state, &to)
}

// Files lists the scenes and inputs of the shots that are listed.
func Files(tx *gorm.DB, now time.Time) ([]string, error) {
	return store.Column[string](tx.Raw(`WITH listed AS (SELECT s.spec FROM `+listed+`)
		SELECT DISTINCT file FROM (SELECT spec->>'scene' AS file FROM listed
			UNION SELECT jsonb_array_elements_text(coalesce(spec->'inputs', '[]')) FROM listed) AS files ORDER BY 1`, at(now)))
}

// asked notes that somebody asked about a shot; one that was on the list no more is on it since now.
func asked(tx *gorm.DB, shot *Shot, now time.Time) error {
	return tx.Raw(`UPDATE shots SET asked_at = $2, listed_at = CASE WHEN asked_at > $3 THEN listed_at ELSE $2 END WHERE name = $1 RETURNING asked_at, listed_at`,
		shot.Name, now, now.Add(-lately)).Row().Scan(&shot.AskedAt, &shot.ListedAt)
}

// Delete deletes a shot with its passes, and reports whether there was one.
func Delete(tx *gorm.DB, name string) (bool, error) {
	done := tx.Exec("DELETE FROM shots WHERE name = $1 OR spec->>'pass_of' = $1", name)
	return done.RowsAffected > 0, done.Error
}

// deletePasses deletes the passes of a shot but for some.
func deletePasses(tx *gorm.DB, name string, but []string) error {
	return tx.Exec("DELETE FROM shots WHERE spec->>'pass_of' = $1 AND NOT name = ANY($2)", name, but).Error
}

// PassOf is the shot of which one is a pass; "": of none.
func PassOf(tx *gorm.DB, name string) (of string, err error) {
	err = tx.Raw("SELECT coalesce(spec->>'pass_of', '') FROM shots WHERE name = $1", name).Row().Scan(&of)
	return of, store.Unless(store.Missing, err)
}
