package runs

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/accounts"
	"rotanex.example/service/bookings"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
	"rotanex.example/service/standing"
)

// state is a run with everything that belongs to it, read at one time.
type state struct {
	Run
	accounts.Account
	shots   []Shot
	counts  []shotCount
	crews   []crewWork
	leased  []queue.Frame
	waiting standing.Waiting
	outlook outlook
	recent  []time.Time // when the last frames were done, newest first
}

// recentFrames is over how many finished frames the present speed is taken.
const recentFrames = 40

func (q *Runs) read(ctx context.Context, id uuid.UUID) (s state, err error) {
	if s.Run, err = q.find(ctx, id); err != nil {
		return s, err
	}
	if s.Account, err = q.accounts.Of(ctx, id); err != nil {
		return s, err
	}
	db := q.store.WithContext(ctx)
	for _, query := range []error{
		db.Where("run_id = ?", id).Order("shot").Find(&s.shots).Error,
		db.Where("run_id = ? AND state = 'rendering'", id).Find(&s.leased).Error,
		readCounts(db, id, &s),
		readOutlook(db, id, &s.outlook),
	} {
		if query != nil {
			return s, query
		}
	}
	s.waiting, err = q.standing.Waits(ctx, id, s.State)
	return s, err
}

// fewestRecent is how many frames have to be finished before their pace says when the
// run will be over.
const fewestRecent = 8

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

// expectedOf is what the frames that a crew has done were expected to take there, in
// seconds for one: drift is held against that, not against other shots. While it has done
// none it is what its first booking says.
func (s state) expectedOf(host, crew string, first float64) float64 {
	seconds, frames := 0.0, 0
	for _, w := range s.Work {
		at := slices.IndexFunc(s.Bookings, func(b bookings.Booking) bool { return b.Host == w.Host && b.Crew == w.Crew && b.Shot == w.Shot })
		if w.Host == host && w.Crew == crew && at >= 0 {
			seconds, frames = seconds+float64(w.Done)*s.Bookings[at].FrameS, frames+w.Done
		}
	}
	if frames == 0 {
		return first
	}
	return seconds / float64(frames)
}

// page returns a page of runs as they stand, newest first.
func (q *Runs) page(ctx context.Context, priority *dispatch.Priority, archived bool, cursor *string, limit *int) (out []state, next string, err error) {
	query := q.store.WithContext(ctx).Where("kind = 'run' AND (NOT archived OR ?)", archived)
	if priority != nil {
		query = query.Where("priority = ?", *priority)
	}
	found, next, err := httpapi.Newest(query, "created_at", "id", func(x Run) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
	for _, run := range found {
		s, err := q.read(ctx, run.ID)
		if err != nil {
			return nil, "", err
		}
		out = append(out, s)
	}
	return out, next, err
}
