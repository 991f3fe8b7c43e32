package standing

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/timing"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
)

// Wanted is which frames of a run a list is to have.
type Wanted struct {
	Shot   *string
	State  *string
	Cursor *string
	Limit  *int
}

// pageOf is how many frames a page has unless another number is asked for.
const pageOf = 1000

// Frames returns a page of a run's frames, and where the next begins.
func (s *Standing) Frames(ctx context.Context, run uuid.UUID, want Wanted) (page []queue.Frame, next string, err error) {
	if err := s.Known(ctx, run); err != nil {
		return nil, "", err
	}
	var shot string
	var number int32
	given, err := httpapi.Keys(want.Cursor, &shot, &number)
	if err != nil {
		return nil, "", err
	}
	limit := httpapi.Limit(want.Limit, pageOf)
	query := s.store.WithContext(ctx).Where("run_id = ? AND NOT warm_up", run).Order("shot, frame").Limit(limit + 1)
	if want.Shot != nil {
		query = query.Where("shot = ?", want.Shot)
	}
	if want.State != nil {
		states := []queue.State{queue.State(*want.State)}
		if states[0] == queue.Waiting {
			states = append(states, queue.Blocked)
		}
		query = query.Where("state IN ?", states)
	}
	if given {
		query = query.Where("(shot, frame) > (?, ?)", shot, number)
	}
	if err := query.Find(&page).Error; err != nil {
		return nil, "", err
	}
	if len(page) > limit {
		page = page[:limit]
		last := page[limit-1]
		next = httpapi.Cursor(last.Shot, last.Frame)
	}
	return page, next, nil
}

// One returns one frame of a run, or a problem that names it.
func (s *Standing) One(ctx context.Context, run uuid.UUID, shot string, number int) (queue.Frame, error) {
	var f queue.Frame
	if err := s.Known(ctx, run); err != nil {
		return f, err
	}
	done := s.store.WithContext(ctx).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0", run, shot, number).Limit(1).Find(&f)
	if done.Error == nil && done.RowsAffected == 0 {
		return f, httpapi.NotFound(fmt.Sprintf("run %s has no frame %d of %s", run, number, shot))
	}
	return f, done.Error
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
	LogBytes  int64 `gorm:"-"` // of the whole render log, as it is kept; 0: there is none
}

// TableName is GORM's hook.
func (Try) TableName() string { return "tries" }

// Frame returns a frame and every try of it.
func (s *Standing) Frame(ctx context.Context, run uuid.UUID, shot string, number int) (f queue.Frame, tries []Try, err error) {
	if f, err = s.One(ctx, run, shot, number); err == nil {
		err = s.store.WithContext(ctx).Where("frame_id = ?", f.ID).Order("fence").Find(&tries).Error
	}
	if err != nil {
		return f, tries, err
	}
	kept, err := s.logs.Sizes(ctx, run, shot, number)
	for i, t := range tries {
		tries[i].LogBytes = kept[t.Fence]
	}
	return f, tries, err
}
