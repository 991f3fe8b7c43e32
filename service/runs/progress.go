package runs

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/accounts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/standing"
)

// state is a run with everything that belongs to it, read at one time.
type state struct {
	Run
	accounts.Account
	shots   []Shot
	leased  []queue.Frame
	waiting standing.Waiting
	outlook standing.Outlook
	recent  []time.Time // when the last frames were done, newest first
}

// The present speed is taken over so many finished frames, and from fewestRecent on it says when the run will be over.
const (
	recentFrames = 40
	fewestRecent = 8
)

func (q *Runs) read(ctx context.Context, run Run) (s state, err error) {
	s.Run = run
	id := run.ID
	if s.Account, err = q.accounts.Of(ctx, id); err != nil {
		return s, err
	}
	db := q.store.WithContext(ctx)
	err = errors.Join(db.Where("run_id = ?", id).Order("shot").Find(&s.shots).Error, db.Where("run_id = ? AND state = 'rendering'", id).Find(&s.leased).Error)
	if err != nil {
		return s, err
	}
	if s.recent, err = standing.LastDone(db, id, recentFrames); err != nil {
		return s, err
	}
	if s.outlook, err = standing.ReadOutlook(db, id); err != nil {
		return s, err
	}
	s.waiting, err = q.standing.Waits(ctx, id, s.State)
	return s, err
}

// until is now, or when the run ended.
func (s state) until() time.Time {
	if s.EndedAt != nil {
		return *s.EndedAt
	}
	return s.Now
}

// pace returns how many frames an hour were finished of late.
func (s state) pace() float64 {
	if len(s.recent) < 2 {
		return 0
	}
	first := s.recent[len(s.recent)-1]
	// Up to now, not to the last frame: a run that stands still slows down.
	hours := s.until().Sub(first).Hours()
	if hours <= 0 {
		return 0
	}
	return float64(len(s.recent)-1) / hours
}

// page returns a page of runs, newest first.
func (q *Runs) page(ctx context.Context, priority *dispatch.Priority, archived bool, cursor *string, limit *int) ([]Run, string, error) {
	query := q.store.WithContext(ctx).Where("kind = 'run' AND (NOT archived OR ?)", archived)
	if priority != nil {
		query = query.Where("priority = ?", *priority)
	}
	return httpapi.Newest(query, "created_at", "id", func(x Run) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
}
