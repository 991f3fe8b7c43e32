package queue

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/timing"
	"rotanex.example/service/store"
)

// Booking is what a plan gave one crew to do. One of no frames is a reserve: a
// crew that the plan does not need, and that helps when others fail.
type Booking struct {
	ID       int64 `gorm:"primaryKey"`
	RunID    uuid.UUID
	Shot     string
	Host     string
	Crew     string
	Devices  []string `gorm:"serializer:json"`
	Frames   int
	Taken    int
	StartAt  time.Time
	EndAt    time.Time
	CloseAt  *time.Time
	FrameS   float64
	Nodes    int `gorm:"default:1"` // of a farm, that work side by side
	Planned  int // frames as they were planned, whatever was changed since
	Open     bool
	Excluded string // why it gets no more frames; "" is not excluded
	Farm     bool   `gorm:"-"` // its frames are rendered by a farm
}

// Frame is one frame of a run.
type Frame struct {
	ID       int64 `gorm:"primaryKey"`
	RunID    uuid.UUID
	Shot     string
	Frame    int
	WarmUp   bool
	Repeat   int
	State    string `gorm:"default:waiting"`
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

func create[T any](tx *gorm.DB, rows []T) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(rows, batch).Error
}

// Add stores frames and bookings of a run in its transaction. Bookings get their ids.
func Add(tx *gorm.DB, frames []Frame, bookings []Booking) error {
	for i := range bookings {
		bookings[i].Planned = bookings[i].Frames
	}
	if err := create(tx, frames); err != nil {
		return err
	}
	return create(tx, bookings)
}

// TakeOver adds frames to a run that another run has done, as they are; it returns how many
// of them it found done.
func TakeOver(tx *gorm.DB, run, from uuid.UUID, shot string, numbers []int) (int, error) {
	done := tx.Exec(`INSERT INTO frames (run_id, shot, frame, state, fence, host, crew, done_at, seconds, sha256, bytes, format, from_run)
		SELECT $1, shot, frame, 'done', fence, host, crew, done_at, seconds, sha256, bytes, format, coalesce(from_run, run_id) FROM frames
		WHERE run_id = $2 AND shot = $3 AND frame = ANY($4) AND state = 'done' AND NOT warm_up AND repeat = 0`, run, from, shot, numbers)
	return int(done.RowsAffected), done.Error
}

// SetOpen opens or closes the bookings of runs: only open ones are leased for.
func SetOpen(tx *gorm.DB, open bool, runs ...uuid.UUID) error {
	return tx.Model(&Booking{}).Where("run_id IN ?", runs).Update("open", open).Error
}

// OweNothing lets the bookings of a run keep what they have taken and owe no more.
func OweNothing(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("UPDATE bookings SET frames = taken WHERE run_id = $1 AND frames > taken", run).Error
}

// BookingOwesNothing is OweNothing for one booking.
func BookingOwesNothing(tx *gorm.DB, booking int64) error {
	return tx.Exec("UPDATE bookings SET frames = taken WHERE id = $1", booking).Error
}

// Postpone moves the bookings of a host in a run, for it begins so much later.
func Postpone(tx *gorm.DB, run uuid.UUID, host string, by time.Duration) error {
	return tx.Exec("UPDATE bookings SET start_at = start_at + $3, end_at = end_at + $3, close_at = close_at + $3 WHERE run_id = $1 AND host = $2", run, host, by).Error
}

// CloseAt says until when a host takes frames in a run.
func CloseAt(tx *gorm.DB, run uuid.UUID, host string, at time.Time) error {
	return tx.Exec("UPDATE bookings SET close_at = $3 WHERE run_id = $1 AND host = $2", run, host, at).Error
}

// Owed is how long what a host still owes in a run takes its busiest crew.
func Owed(tx *gorm.DB, run uuid.UUID, host string) (time.Duration, error) {
	var seconds float64
	err := tx.Raw(`SELECT coalesce(max(t), 0) FROM (SELECT sum((frames - taken) * frame_s) AS t FROM bookings
		WHERE run_id = $1 AND host = $2 AND taken < frames AND excluded = '' GROUP BY crew) x`, run, host).Row().Scan(&seconds)
	return time.Duration(seconds * float64(time.Second)), err
}

// Replace books on another host what one still owes in a run.
func Replace(tx *gorm.DB, run uuid.UUID, host, by string, start, end, closes time.Time) error {
	err := tx.Exec(`INSERT INTO bookings (run_id, shot, host, crew, devices, frames, start_at, end_at, close_at, frame_s, open)
		SELECT run_id, shot, $3, crew, devices, frames - taken, $4, $5, $6, frame_s, open FROM bookings WHERE run_id = $1 AND host = $2 AND taken < frames AND excluded = ''`,
		run, host, by, start, end, closes).Error
	if err != nil {
		return err
	}
	return tx.Exec("UPDATE bookings SET frames = taken WHERE run_id = $1 AND host = $2 AND taken < frames", run, host).Error
}

// ForgetSeats takes back the seats of a host that is no more.
func ForgetSeats(tx *gorm.DB, host string) error {
	return tx.Exec("DELETE FROM seats WHERE host = $1", host).Error
}

// TryAgain lets the failed frames of a run wait again, on every crew, as if they had
// never failed, and opens its bookings.
func TryAgain(tx *gorm.DB, run uuid.UUID) error {
	if err := tx.Exec("UPDATE frames SET state = 'waiting', failures = 0, failed_on = '[]', only_on = '[]', memory_mode = '' WHERE run_id = $1 AND state = 'failed'", run).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE bookings SET open = true, excluded = '' WHERE run_id = $1", run).Error
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

// order is that in which frames of a shot are taken.
const order = "warm_up DESC, repeat, frame"

// kinds reads what waits of a shot, alike to the rule, the first frame's kind first.
// How many of those never tried wait is left out: it takes counting them.
func kinds(tx *gorm.DB, run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	type first struct {
		dispatch.Kind
		warmUp        bool
		repeat, frame int
	}
	found, err := store.Rows(tx.Raw(`
		SELECT * FROM (
			(SELECT id, false AS tried, failed_on, only_on, 1 AS n, warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND failures = 0 ORDER BY `+order+` LIMIT 1)
			UNION ALL
			(SELECT DISTINCT ON (failed_on, only_on) id, true, failed_on, only_on, count(*) OVER (PARTITION BY failed_on, only_on), warm_up, repeat, frame FROM frames
			 WHERE run_id = $1 AND shot = $2 AND state = 'waiting' AND failures > 0 ORDER BY failed_on, only_on, `+order+`)) k
		ORDER BY `+order, run, shot), func(row store.Row) (f first, err error) {
		return f, row.Scan(&f.First, &f.Tried, store.JSON(&f.FailedOn), store.JSON(&f.OnlyOn), &f.Waiting, &f.warmUp, &f.repeat, &f.frame)
	})
	out := make([]dispatch.Kind, len(found))
	for i, f := range found {
		out[i] = f.Kind
	}
	return out, err
}

// countWaiting is how many frames of a shot wait.
func countWaiting(tx *gorm.DB, run uuid.UUID, shot string) (n int, err error) {
	return n, tx.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND shot = $2 AND state = 'waiting'", run, shot).Row().Scan(&n)
}

// crewRow is a booking with what is known of its machine.
type crewRow struct {
	dispatch.Crew
	run    uuid.UUID
	mode   string  // of memory, that its frames are rendered in
	pace   float64 // seconds a frame, of one node
	seen   *time.Time
	server *string // the state of the rented server that it is on
	job    *string // the state of the farm's job that it is
	known  bool    // its host is in the stock
	drains bool
}

const crewColumns = `b.id, b.run_id, b.shot, b.host, b.crew, b.devices, b.frames, b.taken, b.start_at, b.end_at, b.close_at, b.frame_s, b.frame_s / b.nodes,
	r.kind = 'trial', coalesce((s.spec->>'host_memory_gb')::float8, 0), b.memory_mode, coalesce(s.spec->>'licence', ''), b.excluded,
	h.name IS NOT NULL, coalesce(h.draining, false), h.agent_seen, v.state, j.state
	FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot LEFT JOIN hosts h ON h.name = b.host
	LEFT JOIN servers v ON v.run_id = b.run_id AND v.host = b.host LEFT JOIN farm_jobs j ON j.booking_id = b.id`

// crews reads bookings as the rule looks at them.
func (q *Queue) crews(tx *gorm.DB, where string, args ...any) ([]*crewRow, error) {
	wall := q.clock.WallNow()
	return store.Rows(tx.Raw("SELECT "+crewColumns+" WHERE "+where+" ORDER BY b.id", args...), func(row store.Row) (*crewRow, error) {
		c := &crewRow{}
		var closes *time.Time
		var frame float64
		err := row.Scan(&c.ID, &c.run, &c.Shot, &c.Host, &c.Name, store.JSON(&c.Devices), &c.Frames, &c.Taken, &c.Start, &c.End, &closes, &c.pace, &frame,
			&c.Trial, &c.MemoryGB, &c.mode, &c.Licence, &c.Excluded, &c.known, &c.drains, &c.seen, &c.server, &c.job)
		if err != nil {
			return nil, err
		}
		if closes != nil {
			c.Close = *closes
		}
		c.Frame = time.Duration(frame * float64(time.Second))
		c.Place, c.Farm = dispatch.Place(c.Host, c.Name), c.job != nil
		c.State, c.Said = c.stands(wall)
		return c, nil
	})
}

// rule lists crews as the rule takes them.
func rule(all []*crewRow) []*dispatch.Crew {
	out := make([]*dispatch.Crew, len(all))
	for i, c := range all {
		out[i] = &c.Crew
	}
	return out
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

// shotsState tells one state of all shots from another, and when it began.
func (q *Queue) shotsState(ctx context.Context) (state string, at time.Time, err error) {
	return state, at, q.store.WithContext(ctx).Raw("SELECT concat(count(*), ' ', max(updated_at)), coalesce(max(updated_at), 'epoch') FROM shots").Row().Scan(&state, &at)
}

// shotsFiles lists the scenes and inputs of all shots.
func (q *Queue) shotsFiles(ctx context.Context) ([]string, error) {
	return store.Column[string](q.store.WithContext(ctx).Raw(`
		SELECT DISTINCT file FROM (SELECT spec->>'scene' AS file FROM shots
			UNION SELECT jsonb_array_elements_text(coalesce(spec->'inputs', '[]')) FROM shots) AS files ORDER BY 1`))
}
