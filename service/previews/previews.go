// Package previews makes the previews of finished frames while runs go on, a little at a time, so that pictures are there when
// somebody looks. What it has not come to is made when it is asked for.
package previews

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/store"
)

const (
	// atOnce is how many frames of a run are looked up at once.
	atOnce = 50
	// share is for how long a sweep makes previews at most, of every Every: it shall not take the processor from answers.
	share = time.Second / 2
	// Every is how often it goes on.
	Every = 4 * time.Second
)

// Maker makes them.
type Maker struct {
	store    *store.Store
	pictures *pictures.Pictures
	log      *slog.Logger
	at       map[uuid.UUID]mark // how far each run that goes on is
}

// mark is a finished frame: those done before it have previews.
type mark struct {
	done time.Time
	id   int64
}

// New makes it.
func New(s *store.Store, p *pictures.Pictures, log *slog.Logger) *Maker {
	return &Maker{store: s, pictures: p, log: log, at: map[uuid.UUID]mark{}}
}

// Sweep makes previews of frames that were finished since the last time, for a short while.
func (m *Maker) Sweep(ctx context.Context) error {
	runs, err := lately(m.store.WithContext(ctx))
	if err != nil {
		return err
	}
	until := time.Now().Add(share)
	at := map[uuid.UUID]mark{}
	for _, run := range runs {
		at[run], err = m.run(ctx, run, m.at[run], until)
		if err != nil {
			return err
		}
	}
	m.at = at // runs that are over are forgotten
	return nil
}

func (m *Maker) run(ctx context.Context, run uuid.UUID, at mark, until time.Time) (mark, error) {
	for time.Now().Before(until) {
		found, err := doneSince(m.store.WithContext(ctx), run, at, atOnce)
		if err != nil || len(found) == 0 {
			return at, err
		}
		for _, f := range found {
			if !time.Now().Before(until) {
				return at, nil
			}
			if err := m.frame(ctx, f); err != nil {
				return at, err
			}
			at = mark{*f.DoneAt, f.ID}
		}
	}
	return at, nil
}

func (m *Maker) frame(ctx context.Context, f queue.Frame) error {
	if !f.Seen.Shown(f.Format) {
		return nil
	}
	has, err := m.pictures.HasPreviews(ctx, f.Key())
	if err != nil || has {
		return err
	}
	err = m.pictures.MakePreviews(ctx, f.Key())
	if errors.Is(err, pictures.ErrNoPicture) {
		m.log.Warn("no preview", "run", f.RunID, "shot", f.Shot, "frame", f.Frame, "error", err)
		return nil
	}
	return err
}
