package tries

import (
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Note keeps a try.
func Note(tx *gorm.DB, t Try) error {
	return tx.Exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, log_tail, started_at, ended_at, seconds, opening_s, measured, booking_id)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
		t.Frame, t.Run, t.Fence, t.Host, t.Crew, t.Outcome, t.Cause, strings.ToValidUTF8(strings.ReplaceAll(t.Tail, "\x00", ""), ""), t.From, t.To, t.Seconds, t.opening(), t.Measured, t.Booking).Error
}

// NoteRevoked keeps a try of each frame of a run that is being rendered, as their leases end. Frames are locked first: one
// whose lease just ended otherwise is left out.
func NoteRevoked(tx *gorm.DB, run uuid.UUID, now time.Time) error {
	return tx.Exec(`
		INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, booking_id)
		SELECT id, run_id, fence, host, crew, 'revoked', leased_at, $1, greatest(0, extract(epoch FROM $1::timestamptz - leased_at)), booking_id
		FROM (SELECT * FROM frames WHERE run_id = $2 AND state = 'rendering' ORDER BY id FOR UPDATE) f WHERE begun`, now, run).Error
}

// OutcomeOf is how the try of a lease ended.
func OutcomeOf(tx *gorm.DB, frame, fence int64) (outcome string, err error) {
	return outcome, tx.Raw("SELECT outcome FROM tries WHERE frame_id = $1 AND fence = $2", frame, fence).Row().Scan(&outcome)
}

// Causes counts tries by their cause.
type Causes struct {
	OutOfMemory int
	Unable      int // refused, or could not start
	Other       int // that it ended well among them
}

// On counts the tries of a shot of a run on a crew.
func On(tx *gorm.DB, run uuid.UUID, shot, host, crew string) (n Causes, err error) {
	return n, tx.Raw(`
		SELECT count(*) FILTER (WHERE a.cause = 'out-of-memory'), count(*) FILTER (WHERE a.cause IN ('refused', 'cannot-start')),
		       count(*) FILTER (WHERE a.cause NOT IN ('refused', 'cannot-start'))
		FROM tries a JOIN frames f ON f.id = a.frame_id WHERE a.run_id = $1 AND f.shot = $2 AND a.host = $3 AND a.crew = $4`,
		run, shot, host, crew).Row().Scan(&n.OutOfMemory, &n.Unable, &n.Other)
}

// PruneLogs empties up to so many last words of renderers of before a time, and says how many there were.
func PruneLogs(tx *gorm.DB, before time.Time, most int) (int64, error) {
	done := tx.Exec("UPDATE tries SET log_tail = '' WHERE id IN (SELECT id FROM tries WHERE ended_at < ? AND log_tail <> '' LIMIT ?)", before, most)
	return done.RowsAffected, done.Error
}
