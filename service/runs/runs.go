// Package runs carries plans out. It holds the queue of frames, grants leases to
// agents, takes frames in, and says how a run stands and what it cost.
//
// What it guarantees: a frame is leased to at most one agent at a time, and is
// done exactly once, when its checked picture is stored. Whatever dies, a lease
// that is not renewed ends, and its frame waits again. An answer that comes after
// that carries an old fence number and changes nothing.
package runs

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"gocloud.dev/blob"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/providers"
	"rotanex.example/service/clock"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
	"rotanex.example/service/store"
)

// Kinds of runs.
const (
	KindRun   = "run"
	KindTrial = "trial"
)

// Real time of leases: LeaseLife is how long one lasts without being renewed,
// Beat how often agents renew.
const (
	LeaseLife = 15 * time.Second
	Beat      = 3 * time.Second
)

// Run is the record of one.
type Run struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Kind      string
	PlanID    *uuid.UUID
	Request   []byte
	State     string
	Tries     int
	CreatedAt time.Time
	EndedAt   *time.Time

	Cap          *string // what servers, farms and seats may cost at most
	AcceptProofs bool    // of farms, by check alone
	Alerted      int     // the share of the cap that was passed last, in percent
}

// Shot is a shot as it was when the run began.
type Shot struct {
	RunID uuid.UUID    `gorm:"primaryKey"`
	Shot  string       `gorm:"primaryKey"`
	Spec  api.ShotSpec `gorm:"serializer:json"`

	Package []providers.PackageFile `gorm:"serializer:json"` // its files as they were then
}

// TableName is GORM's hook.
func (Shot) TableName() string { return "run_shots" }

// Booking is what a plan gave one crew to do. One of no frames is a reserve: a
// crew that the plan does not need, and that helps when others fail.
type Booking struct {
	ID      int64 `gorm:"primaryKey"`
	RunID   uuid.UUID
	Shot    string
	Host    string
	Crew    string
	Devices []string `gorm:"serializer:json"`
	Frames  int
	Taken   int
	StartAt time.Time
	EndAt   time.Time
	CloseAt *time.Time
	FrameS  float64
	Nodes   int `gorm:"default:1"` // of a farm, that work side by side
	Planned int // frames as they were planned, whatever was changed since
	Open    bool
	Barred  string // why it gets no more frames; "" is not barred
	farm    bool   // its frames are rendered by a farm
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
	Format   string `gorm:"default:png"`
}

// blobKey is where the picture of a lease is stored. Each lease has a key of its
// own, so that a late answer cannot touch the picture that counts.
func blobKey(f Frame, fence int64) string {
	key := fmt.Sprintf("runs/%s/%s/%06d-%d", f.RunID, f.Shot, f.Frame, fence)
	if f.Repeat > 0 {
		key += fmt.Sprintf(".%d", f.Repeat)
	}
	return key
}

// Attempt is one try of a frame.
type Attempt struct {
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
	Measured  *api.Measured `gorm:"serializer:json"`
}

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

// FarmJob is frames of one booking at a farm: what is stored of it, for what looks
// after it see service/farms.
type FarmJob struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	RunID     uuid.UUID
	OrderID   uuid.UUID // the same for all jobs of one plan of the run
	BookingID int64
	Shot      string
	Farm      string
	Source    string
	Crew      string
	Frames    int
	State     string
	FromAt    time.Time
	Accepted  *bool
	Findings  []string `gorm:"serializer:json;default:[]"`
	Queue     int
	Trouble   string
	SentAt    *time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
	Committed string `gorm:"default:0"`
	NodeS     float64
}

// jobsOf ties jobs at farms to the bookings that they are for: those of the same
// shot, place and start, once these are stored.
func jobsOf(jobs []FarmJob, bookings []Booking) []FarmJob {
	at := 0
	for _, b := range bookings {
		if b.farm {
			jobs[at].BookingID = b.ID
			at++
		}
	}
	return jobs
}

// Runs looks after them.
type Runs struct {
	store *store.Store
	clock clock.Clock
	feed  *events.Feed
	blobs *blob.Bucket
	log   *slog.Logger

	inputFiles wantedInputs
	accounts   sync.Map // of runs that are over and settled, by id

	// TrialFrameDone is called after a frame of a trial is done, if set.
	TrialFrameDone func(ctx context.Context, run uuid.UUID) error
	// Sampled is called with what an agent's devices do, if set.
	Sampled func(ctx context.Context, host string, devices []api.DeviceSample) error
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, b *blob.Bucket, log *slog.Logger) *Runs {
	return &Runs{store: s, clock: c, feed: f, blobs: b, log: log}
}

// Beginning is everything that a new run consists of.
type Beginning struct {
	Run      Run
	Shots    []Shot
	Frames   []Frame
	Bookings []Booking
	Servers  []Server
	FarmJobs []FarmJob
	Hired    []HiredSeats
	Also     func(tx *gorm.DB) error // what belongs into the same transaction
}

// Begin stores a new run and opens it for work. A run of that id that stands
// already is left as it is, if it was asked for in the same words.
func (q *Runs) Begin(ctx context.Context, b Beginning) error {
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		made := tx.Exec(`INSERT INTO runs (id, kind, plan_id, request, state, tries, created_at, cap, accept_proofs)
			VALUES (?, ?, ?, ?, 'running', ?, ?, CAST(? AS numeric), ?) ON CONFLICT DO NOTHING`,
			b.Run.ID, b.Run.Kind, b.Run.PlanID, b.Run.Request, b.Run.Tries, b.Run.CreatedAt, b.Run.Cap, b.Run.AcceptProofs)
		if made.Error != nil {
			return made.Error
		}
		if made.RowsAffected == 0 {
			var old Run
			if err := tx.Take(&old, "id = ?", b.Run.ID).Error; err != nil {
				return err
			}
			return SameRequest(old.Request, b.Run.Request)
		}
		const rows = 2000
		for i := range b.Bookings {
			b.Bookings[i].Open, b.Bookings[i].Planned = true, b.Bookings[i].Frames
		}
		for _, insert := range []func() error{
			func() error { return create(tx, b.Shots, rows) },
			func() error { return create(tx, b.Frames, rows) },
			func() error { return create(tx, b.Bookings, rows) },
			func() error { return create(tx, b.Servers, rows) },
			func() error { return create(tx, jobsOf(b.FarmJobs, b.Bookings), rows) },
			func() error { return create(tx, b.Hired, rows) },
		} {
			if err := insert(); err != nil {
				return err
			}
		}
		if b.Also != nil {
			if err := b.Also(tx); err != nil {
				return err
			}
		}
		return q.feed.Write(tx, api.Event{Kind: kindOf(b.Run.Kind), Run: b.Run.ID.String(), State: "running"})
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

func create[T any](tx *gorm.DB, rows []T, batch int) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(rows, batch).Error
}

// SameRequest compares what was asked under an Idempotency-Key before and now.
func SameRequest(before, now []byte) error {
	if string(before) != string(now) {
		return edge.Conflict("the Idempotency-Key was used before with another request; use a new key")
	}
	return nil
}

func kindOf(kind string) api.EventKind {
	if kind == KindTrial {
		return api.EventKindTrial
	}
	return api.EventKindRun
}

// find returns a run of a kind, or a problem that names it.
func (q *Runs) find(ctx context.Context, id uuid.UUID) (Run, error) {
	var run Run
	err := q.store.WithContext(ctx).Take(&run, "id = ?", id).Error
	if store.Missing(err) {
		err = edge.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", id))
	}
	return run, err
}

// SetState pauses, resumes or cancels a run. To resume one that is incomplete is
// to try its failed frames again, on every crew, as if they had not failed. Paused and cancelled runs grant no
// leases; what is being rendered for a cancelled one is given up.
func (q *Runs) SetState(ctx context.Context, id uuid.UUID, state string) error {
	err := q.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var run Run
		if err := tx.Raw("SELECT * FROM runs WHERE id = ? FOR UPDATE", id).Scan(&run).Error; err != nil {
			return err
		}
		if run.ID == uuid.Nil {
			return edge.NotFound(fmt.Sprintf("there is no run %s", id))
		}
		if run.State == state {
			return nil
		}
		again := run.State == "incomplete" && state == "running"
		if again {
			if err := tryAgain(tx, id); err != nil {
				return err
			}
		}
		if run.State != "running" && run.State != "paused" && !again {
			return edge.Conflict(fmt.Sprintf("the run is %s, which is final", run.State))
		}
		var ended *time.Time
		if state == "cancelled" {
			now := q.clock.Now()
			ended = &now
			if err := q.giveUpLeases(tx, id); err != nil {
				return err
			}
			if err := tx.Exec("UPDATE bookings SET open = false WHERE run_id = ?", id).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE runs SET state = ?, ended_at = ? WHERE id = ?", state, ended, id).Error; err != nil {
			return err
		}
		return q.feed.Write(tx, api.Event{Kind: kindOf(run.Kind), Run: id.String(), State: state})
	})
	if err == nil {
		q.feed.Wake(events.Changes, events.Work)
	}
	return err
}

// tryAgain lets the failed frames of a run wait again and opens its bookings.
func tryAgain(tx *gorm.DB, run uuid.UUID) error {
	if err := tx.Exec("UPDATE frames SET state = 'waiting', failures = 0, failed_on = '{}', only_on = '{}', memory_mode = '' WHERE run_id = ? AND state = 'failed'", run).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE bookings SET open = true, barred = '' WHERE run_id = ?", run).Error
}

// giveUpLeases ends all leases of a run; its agents learn of it at their next heartbeat.
func (q *Runs) giveUpLeases(tx *gorm.DB, run uuid.UUID) error {
	now := q.clock.Now()
	if err := tx.Exec(`
		INSERT INTO attempts (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds, booking_id)
		SELECT id, run_id, fence, host, crew, 'revoked', leased_at, ?, greatest(0, extract(epoch FROM CAST(? AS timestamptz) - leased_at)), booking_id
		FROM frames WHERE run_id = ? AND state = 'leased'`, now, now, run).Error; err != nil {
		return err
	}
	return tx.Exec(`UPDATE frames SET state = 'waiting', lease_until = NULL, boot = NULL, progress = 0 WHERE run_id = ? AND state = 'leased'`, run).Error
}
