package queue

import (
	"database/sql"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/timing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/store"
)

// Frame is one frame of a run.
type Frame struct {
	ID       int64 `gorm:"primaryKey"`
	RunID    uuid.UUID
	Shot     string
	Frame    int
	WarmUp   bool
	Repeat   int
	State    State `gorm:"default:waiting"`
	Failures int
	Cause    string
	Fence    int64
	Host     *string
	Crew     *string
	LeasedAt *time.Time
	Progress float64
	DoneAt   *time.Time
	Seconds  *float64
	SHA256   *string `gorm:"column:sha256"`
	Bytes    *int64
	Format   string   `gorm:"default:png"`
	FailedOn []string `gorm:"serializer:json;default:[]"` // places where it failed
	OnlyOn   []string `gorm:"serializer:json;default:[]"` // places that alone may have it; none: all
	// FromRun is the run that did it, of a frame that was taken over done.
	FromRun *uuid.UUID
}

// Key is where the picture of the frame's lease is stored. Each lease has a key of its
// own, so that a late answer cannot touch the picture that counts.
func (f Frame) Key() string {
	run := f.RunID
	if f.FromRun != nil {
		run = *f.FromRun
	}
	key := fmt.Sprintf("runs/%s/%s/%06d-%d", run, f.Shot, f.Frame, f.Fence)
	if f.Repeat > 0 {
		key += fmt.Sprintf(".%d", f.Repeat)
	}
	return key
}

// Try is one try of a frame.
type Try struct {
	ID        int64 `gorm:"primaryKey"`
	FrameID   int64
	RunID     uuid.UUID
	Fence     int64
	Host      string
	Crew      string
	Outcome   string
	Cause     string
	LogTail   string
	StartedAt time.Time
	EndedAt   time.Time
	Seconds   float64
	Measured  *timing.Measurement `gorm:"serializer:json"`
	BookingID int64
}

// TableName is GORM's hook.
func (Try) TableName() string { return "tries" }

// batch is how many rows are inserted at once.
const batch = 2000

// Add stores frames of a run in its transaction.
func Add(tx *gorm.DB, frames []Frame) error {
	if len(frames) == 0 {
		return nil
	}
	return tx.CreateInBatches(frames, batch).Error
}

// TakeOver adds frames to a run that another run has done, as they are; it returns how many
// of them it found done.
func TakeOver(tx *gorm.DB, run, from uuid.UUID, shot string, numbers []int) (int, error) {
	done := tx.Exec(`INSERT INTO frames (run_id, shot, frame, state, fence, host, crew, done_at, seconds, sha256, bytes, format, from_run)
		SELECT $1, shot, frame, 'done', fence, host, crew, done_at, seconds, sha256, bytes, format, coalesce(from_run, run_id) FROM frames
		WHERE run_id = $2 AND shot = $3 AND frame = ANY($4) AND state = 'done' AND NOT warm_up AND repeat = 0`, run, from, shot, numbers)
	return int(done.RowsAffected), done.Error
}

// TryAgain lets the failed frames of a run wait again, on every crew, as if they had
// never failed, and opens its bookings.
func TryAgain(tx *gorm.DB, run uuid.UUID) error {
	if err := tx.Exec("UPDATE frames SET state = 'waiting', failures = 0, failed_on = '[]', only_on = '[]', memory_mode = '' WHERE run_id = $1 AND state = 'failed'", run).Error; err != nil {
		return err
	}
	return bookings.Reopen(tx, run)
}

// Revoke ends all leases of a run; its agents learn of it at their next heartbeat. Frames
// are locked first: one whose lease just ended otherwise is left out.
func Revoke(tx *gorm.DB, run uuid.UUID, now time.Time) error {
	if err := tx.Exec(`
		INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, booking_id)
		SELECT id, run_id, fence, host, crew, 'revoked', leased_at, $1, greatest(0, extract(epoch FROM $1::timestamptz - leased_at)), booking_id
		FROM (SELECT * FROM frames WHERE run_id = $2 AND state = 'rendering' ORDER BY id FOR UPDATE) f`, now, run).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE frames SET state = 'waiting', lease_until = NULL, boot = NULL, progress = 0 WHERE run_id = $1 AND state = 'rendering'", run).Error
}

// DropWaiting forgets the frames of a trial that wait: it knows enough.
func DropWaiting(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("DELETE FROM frames WHERE run_id = $1 AND state = 'waiting' AND NOT warm_up", run).Error
}

const leasedColumns = `id, fence, run_id, shot, frame, host, crew, booking_id, leased_at, warm_up, sha256,
	(SELECT tries FROM runs WHERE runs.id = frames.run_id), (SELECT kind = 'trial' FROM runs WHERE runs.id = frames.run_id), devices, memory_mode, boot`

// leased is a frame under lease, as it is ended.
type leased struct {
	id, fence int64
	run       uuid.UUID
	shot      string
	frame     int
	host      string
	crew      string
	booking   int64
	since     time.Time
	warmUp    bool
	sha256    *string
	tries     int
	trial     bool
	devices   []string
	mode      string // of memory, see Lease
	boot      uuid.UUID
}

func scanLeased(row store.Row) (l leased, err error) {
	return l, row.Scan(&l.id, &l.fence, &l.run, &l.shot, &l.frame, &l.host, &l.crew, &l.booking, &l.since, &l.warmUp, &l.sha256, &l.tries, &l.trial,
		store.JSON(&l.devices), &l.mode, &l.boot)
}

// leases reads and locks frames under lease.
func leases(tx *gorm.DB, where string, args ...any) ([]leased, error) {
	return store.Rows(tx.Raw("SELECT "+leasedColumns+" FROM frames WHERE state = 'rendering' AND "+where, args...), scanLeased)
}

// How a lease ended, as it is stored of a try.
const (
	triedDone   = "done"
	triedFailed = "failed"
	triedLost   = "lost"
)

// note keeps how a try ended.
func note(tx *gorm.DB, l leased, outcome, cause, tail string, now time.Time, seconds float64, m *timing.Measurement) error {
	return tx.Exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, log_tail, started_at, ended_at, seconds, measured, booking_id)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
		l.id, l.run, l.fence, l.host, l.crew, outcome, cause, strings.ToValidUTF8(strings.ReplaceAll(tail, "\x00", ""), ""), l.since, now, seconds, m, l.booking).Error
}

// missing reports whether a row was not there.
func missing(err error) bool { return err == sql.ErrNoRows }
